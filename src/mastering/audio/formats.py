"""Every format there is to know here: one table of codecs, one of containers. What a format cannot do, they say.

A new container is one new entry; where its tags are written in a way of their own, that is added to
`tagging.writing`.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from mastering.errors import CannotMake
from mastering.said import Said

CONSTANT, AVERAGE, VARIABLE, QUALITY = "constant", "average", "variable", "quality"
BIT_RATE_MODES = (CONSTANT, AVERAGE, VARIABLE, QUALITY)
INT_16, INT_24, INT_32, FLOAT_32 = "16-bit integer", "24-bit integer", "32-bit integer", "32-bit float"
BYTES = {INT_16: 2, INT_24: 3, INT_32: 4, FLOAT_32: 4}
"""Bytes of a sample."""

_MPEG_1_KBPS = (32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320)
_MPEG_2_KBPS = (8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160)
_MPEG_25_KBPS = (8, 16, 24, 32, 40, 48, 56, 64)
MP3_KBPS = {
    **dict.fromkeys((32000, 44100, 48000), _MPEG_1_KBPS),
    **dict.fromkeys((16000, 22050, 24000), _MPEG_2_KBPS),
    **dict.fromkeys((8000, 11025, 12000), _MPEG_25_KBPS),
}
"""Bitrates of layer III by sample rate: ISO/IEC 11172-3, 2.4.2.3, and 13818-3, 2.4.2.3 (from memory); the lowest three
rates are an extension everybody decodes (common practice, no source)."""


@dataclass(frozen=True, kw_only=True)
class Codec:
    """One way of encoding sound.

    `words` is what it is called, `modes` how its bitrate may be chosen, the usual one first; none for one without loss.
    `kbps` are its bitrates for a sample rate in Hz and a number of channels. `encoder` is libav's, `settings` what that
    is told in each mode, `samples` the format of samples it takes; `speed` how many times faster than it sounds a file
    is made, measured by bin/bench on two cores. `seeks` says whether libav lands on the same sample after a jump as
    when it reads from the start (found by comparing them: Vorbis and Windows Media do not always; the samples are the
    same too, but for AAC that has noise filled in at random). `said` is what is to be known of every file.
    """

    name: str
    words: str
    rates_hz: tuple[int, ...]
    modes: tuple[str, ...] = ()
    kbps: Callable[[int, int], Sequence[int]] = lambda rate_hz, channels: range(24, 192 * channels + 1)
    encoder: str = ""
    settings: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    samples: str = "fltp"
    speed: float
    seeks: bool = False
    said: str = ""


@dataclass(frozen=True, kw_only=True)
class Container:
    """One kind of file.

    `endings` are those its files may have, their own first (common practice, no source); `ends` is the own one of a
    codec in it that has another. `codecs` are what is written into it, the usual one first, each with the depths of its
    samples; none where it is only read. `muxer` is libav's name for writing it, `reader` for reading it where that is
    another, `writer` what writes it in `audio.writers` where libav does not; `pcm` how libav calls plain
    samples in it, by their bits. `tags` names the way its tags are written, in `tagging.writing`; `called` are those
    that libav reads under other names. `pictures`, `chapters` and `broadcast` say what it has a place for; `played`
    which of libav's decoders browsers have for it, `media_type` what it is sent as.
    """

    name: str
    endings: tuple[str, ...]
    ends: dict[str, str] = field(default_factory=dict)
    codecs: dict[str, tuple[str, ...]] = field(default_factory=dict)
    muxer: str = ""
    reader: str = ""
    writer: str = "libav"
    pcm: str = "pcm_s{}le"
    tags: str
    called: dict[str, str] = field(default_factory=dict)
    pictures: bool = True
    chapters: bool = True
    broadcast: bool = False
    played: tuple[str, ...] = ()
    media_type: str = "application/octet-stream"

    @property
    def is_mp4(self) -> bool:
        """Whether it is a file of boxes, whose chapters are written with the sound."""
        return self.muxer == "mp4"


_ANY_RATE_HZ = (8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000, 88200, 96000, 176400, 192000)

CODECS = {
    each.name: each
    for each in (
        Codec(
            name="mp3",
            words="MP3",
            rates_hz=tuple(sorted(MP3_KBPS)),
            modes=BIT_RATE_MODES,
            kbps=lambda rate_hz, channels: MP3_KBPS[min(MP3_KBPS, key=lambda known: (abs(known - rate_hz), known))],
            encoder="libmp3lame",
            settings=dict.fromkeys(BIT_RATE_MODES, {"joint_stereo": "0"}),
            samples="s16p",
            speed=45,
            seeks=True,
        ),
        # ISO/IEC 14496-3, table 1.18 (from memory), as far as it is read here.
        Codec(
            name="aac",
            words="AAC",
            rates_hz=(8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000, 64000, 88200, 96000),
            modes=(AVERAGE,),
            # At most 6144 bits a frame of 1024 samples and channel: ISO/IEC 14496-3, 4.5.3 (from memory).
            kbps=lambda rate_hz, channels: range(8 * channels, int(6.144 * rate_hz / 1024 * channels) + 1),
            encoder="aac",
            speed=22,
            seeks=True,
        ),
        Codec(name="alac", words="ALAC", rates_hz=_ANY_RATE_HZ, encoder="alac", samples="s{}p", speed=100, seeks=True),
        Codec(name="pcm", words="PCM", rates_hz=_ANY_RATE_HZ, samples="s{}", speed=130),
        Codec(name="flac", words="FLAC", rates_hz=_ANY_RATE_HZ, encoder="flac", samples="s{}", speed=110, seeks=True),
        Codec(
            name="vorbis",
            words="Vorbis",
            rates_hz=(8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000, 96000),
            modes=(QUALITY,),
            speed=50,
        ),
        # RFC 6716, section 2: it always plays at 48 kHz.
        Codec(
            name="opus",
            words="Opus",
            rates_hz=(48000,),
            modes=(CONSTANT, AVERAGE),
            # RFC 6716, section 2.1.1.
            kbps=lambda rate_hz, channels: range(6, 256 * channels + 1),
            encoder="libopus",
            settings={CONSTANT: {"vbr": "off"}, AVERAGE: {"vbr": "on"}},
            samples="flt",
            speed=35,
            seeks=True,
        ),
        Codec(
            name="wmav2",
            words="Windows Media Audio",
            rates_hz=(8000, 11025, 16000, 22050, 32000, 44100, 48000),
            modes=(CONSTANT,),
            encoder="wmav2",
            speed=90,
            said=Said("windows-media-no-place-say"),
        ),
    )
}
"""Codecs by the names rules have for them."""

CONTAINERS: dict[str, Container] = {}
"""Every container by its name."""
WRITTEN: dict[str, Container] = {}
"""Those that files are written in."""


def register(container: Container) -> None:
    """Add a container."""
    CONTAINERS[container.name] = container
    if container.codecs:
        WRITTEN[container.name] = container


def written_in(name: str) -> Container:
    """A container that files are written in. Raises CannotMake for any other."""
    if name not in WRITTEN:
        raise CannotMake(Said("sermovox-does-not-write-files", name=name, written=", ".join(WRITTEN)))
    return WRITTEN[name]


for _container in (
    Container(
        name="mp3",
        endings=("mp3",),
        codecs={"mp3": ()},
        muxer="mp3",
        writer="mp3",
        tags="ID3",
        played=("mp3",),
        media_type="audio/mpeg",
    ),
    Container(name="m4a", endings=("m4a",), codecs={"aac": (), "alac": (INT_16, INT_24)}, muxer="mp4", tags="MP4"),
    Container(name="m4b", endings=("m4b",), codecs={"aac": ()}, muxer="mp4", tags="MP4"),
    # Of another brand, or before its brand is known.
    Container(
        name="mp4",
        endings=("mp4", "m4a", "m4b"),
        muxer="mp4",
        tags="MP4",
        played=("aac",),
        media_type="audio/mp4",
    ),
    Container(
        name="wav",
        endings=("wav", "wave", "bwf", "rf64"),
        codecs={"pcm": (INT_16, INT_24, INT_32, FLOAT_32)},
        writer="wav",
        tags="RIFF INFO",
        pictures=False,
        chapters=False,
        broadcast=True,
        played=("pcm_u8", "pcm_s16le", "pcm_s24le", "pcm_f32le", "pcm_mulaw", "pcm_alaw"),
        media_type="audio/wav",
    ),
    Container(
        name="aiff",
        endings=("aiff", "aif"),
        codecs={"pcm": (INT_16, INT_24, INT_32)},
        muxer="aiff",
        pcm="pcm_s{}be",
        tags="ID3",
        chapters=False,
    ),
    Container(
        name="flac",
        endings=("flac",),
        codecs={"flac": (INT_16, INT_24)},
        muxer="flac",
        tags="Vorbis comments",
        played=("flac",),
        media_type="audio/flac",
    ),
    Container(
        name="ogg",
        endings=("ogg", "oga", "opus"),
        ends={"opus": "opus"},
        codecs={"vorbis": (), "opus": ()},
        muxer="ogg",
        tags="Vorbis comments",
        played=("vorbis", "opus", "flac"),
        media_type="audio/ogg",
    ),
    Container(
        name="wma",
        endings=("wma",),
        codecs={"wmav2": ()},
        muxer="asf",
        tags="ASF",
        called={
            "WM/Year": "year",
            "WM/Lyrics": "lyrics",
            "WM/SubTitleDescription": "description",
            "WM/AuthorURL": "contact",
            "WM/EncodingSettings": "encoder",
        },
        pictures=False,
        chapters=False,
    ),
    Container(
        name="caf",
        endings=("caf",),
        codecs={"pcm": (INT_16, INT_24, INT_32), "alac": (INT_16, INT_24)},
        muxer="caf",
        pcm="pcm_s{}be",
        tags="CAF",
        called={"track number": "track", "comments": "comment", "encoding application": "encoder"},
        pictures=False,
        chapters=False,
        media_type="audio/x-caf",
    ),
    # A bare stream, only ever read.
    Container(name="aac", endings=("aac",), tags="", pictures=False, chapters=False, played=("aac",)),
):
    register(_container)


def found_as(name: str, brand: str = "") -> str:
    """What is called so here that libav calls so when it reads a file; `brand` is that of an MP4."""
    if name.startswith("mov,"):
        own = brand.strip().lower()
        return own if own in CONTAINERS and CONTAINERS[own].is_mp4 else "mp4"
    known = (each.name for each in CONTAINERS.values() if name in (each.reader or each.muxer,))
    return next(known, _FOUND_AS.get(name, name))


_FOUND_AS = {"matroska,webm": "matroska", "mp2": "mpeg"}
"""What is only ever read, and has nothing else to be said of it."""


def fits_ending(ending: str, *, container: str, codec: str) -> bool:
    """Whether a file with these bytes may end so. Of containers that are not known here nothing is said.

    >>> fits_ending("mp3", container="wav", codec="pcm_s16le"), fits_ending("WAV", container="wav", codec="pcm_s16le")
    (False, True)
    """
    if container not in CONTAINERS:
        return True
    endings = CONTAINERS[container].endings
    others = {end for name, end in CONTAINERS[container].ends.items() if name != codec}
    return ending.lower() in {*endings} - others


def plays(container: str, codec: str) -> bool:
    """Whether browsers play this as it is."""
    return container in CONTAINERS and codec in CONTAINERS[container].played
