"""What a finished file is made of, what its format allows, and how large it will be."""

from collections.abc import Iterable
from dataclasses import dataclass

from mastering.audio.formats import (
    AVERAGE,
    BYTES,
    CODECS,
    CONSTANT,
    FLOAT_32,
    INT_16,
    MP3_KBPS,
    VARIABLE,
    written_in,
)
from mastering.certain import certain
from mastering.said import Said, either, word

LARGEST_RIFF_BYTES = (4 << 30) - (1 << 20)
"""A RIFF counts its bytes in 32 bits; something is left for tags. Longer files are RF64 (EBU Tech 3306)."""

MP3_HEADER_BYTES = 156
"""From "Xing" to the end of LAME's addition, in the frame that heads an MP3."""

_PACKED_SHARE = (0.2, 0.8)
"""What is left of speech after lossless packing (common practice, no source)."""
_LEAST_QUALITY, _MOST_QUALITY = 0, 9


@dataclass(frozen=True, kw_only=True)
class Encoding:
    """What a finished file is made of.

    `sample_format` is None for lossy codecs. `bit_rate_kbps` holds for a constant or an average bitrate, `lowest_kbps`
    and `highest_kbps` for a variable one, `quality` (0 best, 9 smallest) where the bitrate follows from it.
    `joint` says whether two channels may share what they have in common. `broadcast` asks for the description of a BWF.
    """

    container: str
    sample_rate_hz: int
    channels: int
    codec: str = ""
    sample_format: str | None = None
    mode: str | None = None
    bit_rate_kbps: int | None = None
    lowest_kbps: int | None = None
    highest_kbps: int | None = None
    quality: int | None = None
    joint: bool = True
    broadcast: bool = False

    def __post_init__(self) -> None:
        if not self.codec:
            object.__setattr__(self, "codec", next(iter(written_in(self.container).codecs)))
        if self.lossy and self.mode is None:
            object.__setattr__(self, "mode", CODECS[self.codec].modes[0])
        if not self.lossy and self.sample_format is None:
            object.__setattr__(self, "sample_format", INT_16)

    @property
    def extension(self) -> str:
        container = written_in(self.container)
        return container.ends.get(self.codec, container.endings[0])

    @property
    def lossy(self) -> bool:
        return bool(CODECS[self.codec].modes)

    @property
    def holds(self) -> str:
        """The samples its writer takes: int16, int32 (24 bits in the upper three bytes) or float32."""
        if self.codec == "mp3":
            return INT_16
        return FLOAT_32 if self.lossy else certain(self.sample_format)


def objections(encoding: Encoding) -> list[str]:
    """Why such a file cannot be, each with the nearest that can; empty when it can."""
    container, rate_hz = written_in(encoding.container), encoding.sample_rate_hz
    if encoding.codec not in container.codecs:
        known = CODECS.get(encoding.codec)
        name = known.words if known else encoding.codec
        fit = either(CODECS[each].words for each in container.codecs)
        return [Said("codec-does-not-go-into", codec=name, container=container.name, listed=fit)]
    codec, depths = CODECS[encoding.codec], container.codecs[encoding.codec]
    name, told = codec.words, list[str]()
    if rate_hz not in codec.rates_hz:
        near = _nearest(rate_hz, codec.rates_hz)
        told.append(Said("no-sample-rate-hz-nearest", name=name, rate_hz=rate_hz, near=near))
    if depths and encoding.sample_format not in depths:
        told.append(
            Said(
                "holds-not",
                name=name,
                name_2=container.name,
                listed=either(map(word, depths)),
                sample_format=word(encoding.sample_format or ""),
            )
        )
    if not encoding.lossy:
        return told
    if encoding.mode not in codec.modes:
        told.append(
            Said(
                "bitrate-can-here-not", name=name, listed=either(map(word, codec.modes)), mode=word(encoding.mode or "")
            )
        )
    elif encoding.mode in (CONSTANT, AVERAGE):
        told += _of_bit_rate(encoding, encoding.bit_rate_kbps, "")
    elif encoding.mode == VARIABLE:
        told += _of_bit_rate(encoding, encoding.lowest_kbps, Said("lowest"))
        told += _of_bit_rate(encoding, encoding.highest_kbps, Said("highest"))
    elif encoding.quality not in range(_LEAST_QUALITY, _MOST_QUALITY + 1):
        told.append(
            Said(
                "quality-whole-number-from-best",
                least_quality=_LEAST_QUALITY,
                most_quality=_MOST_QUALITY,
                quality=encoding.quality,
            )
        )
    return told


def said_of(encoding: Encoding) -> tuple[str, ...]:
    """What is to be known of every file of such a format."""
    said = CODECS[encoding.codec].said
    return (said,) if said else ()


def nearest_kbps(encoding: Encoding, kbps: float) -> int:
    """The bitrate nearest to this that such a file can have, kbit/s."""
    known = CODECS[encoding.codec].kbps(encoding.sample_rate_hz, encoding.channels)
    if isinstance(known, range):
        return round(min(max(kbps, known.start), known.stop - 1))
    return _nearest(kbps, known)


def size_range_bytes(encoding: Encoding, duration_s: float) -> tuple[float, float]:
    """The least and the most bytes of such a file, without its tags; for PCM and constant MP3 they are one figure."""
    rate_hz, frames = encoding.sample_rate_hz, duration_s * encoding.sample_rate_hz
    if not encoding.lossy:
        plain = frames * encoding.channels * BYTES[certain(encoding.sample_format)]
        if encoding.codec == "pcm":
            return plain + 44, plain + 44
        return plain * _PACKED_SHARE[0], plain * _PACKED_SHARE[1]
    if encoding.mode in (CONSTANT, AVERAGE):
        kbps = certain(encoding.bit_rate_kbps)
        whole = kbps * 125 * duration_s
        if encoding.codec == "mp3" and encoding.mode == CONSTANT:
            # The encoder's own delay and the end of its last frame; the frame that tells of them.
            whole += 1.5 * frame_bytes(kbps, rate_hz) + frame_bytes(header_kbps(encoding), rate_hz)
            return whole, whole
        if encoding.codec == "mp3":
            # What LAME aims at on average it misses by up to a third, more so for noise (measured on speech and noise).
            return whole * 0.7, whole * 1.35
        # Their containers add up to 1.5 kbit/s, Windows Media's a tenth.
        return whole * 0.85, whole * 1.1 + 250 * duration_s + 4096
    if encoding.mode == VARIABLE:
        edges_kbps = certain(encoding.lowest_kbps), certain(encoding.highest_kbps)
        return edges_kbps[0] * 125 * duration_s, edges_kbps[1] * 125 * duration_s
    # Of speech in one channel, from the best to the smallest quality (common practice, no source).
    a_channel = rate_hz / 44100 * (140 - 11 * certain(encoding.quality)) * 125 * duration_s
    return a_channel * 0.4, a_channel * encoding.channels * 1.2


def frame_bytes(kbps: int, rate_hz: int) -> int:
    """Bytes of an MP3 frame, not padded: 144 (72 below 32 kHz) × bitrate / rate (ISO/IEC 11172-3, 2.4.3.1)."""
    return (144 if rate_hz >= 32000 else 72) * kbps * 1000 // rate_hz


def header_kbps(encoding: Encoding) -> int:
    """The bitrate of the frame that heads an MP3: its own, or the lowest that leaves room."""
    wanted = certain(encoding.bit_rate_kbps) if encoding.mode == CONSTANT else 0
    room = _side_bytes(encoding) + 4 + MP3_HEADER_BYTES
    rate_hz = encoding.sample_rate_hz
    return next(k for k in MP3_KBPS[rate_hz] if k >= wanted and frame_bytes(k, rate_hz) >= room)


def header_at(encoding: Encoding) -> int:
    """Where "Xing" or "Info" stands in that frame: after its header and the room for side information, bytes."""
    return 4 + _side_bytes(encoding)


def _side_bytes(encoding: Encoding) -> int:
    """ISO/IEC 11172-3 and 13818-3, 2.4.1.7."""
    mono = encoding.channels == 1
    return (17 if mono else 32) if encoding.sample_rate_hz >= 32000 else (9 if mono else 17)


def _of_bit_rate(encoding: Encoding, kbps: int | None, which: str) -> list[str]:
    name, rate_hz = CODECS[encoding.codec].words, encoding.sample_rate_hz
    if kbps is None:
        return [Said("bitrate-needs-one", name=name, mode=word(encoding.mode or ""), which=which)]
    if kbps in CODECS[encoding.codec].kbps(rate_hz, encoding.channels):
        return []
    near = nearest_kbps(encoding, kbps)
    sides = word("mono" if encoding.channels == 1 else "stereo")
    return [Said("no-kbit-s-hz-nearest", name=name, kbps=kbps, which=which, rate_hz=rate_hz, sides=sides, near=near)]


def _nearest(value: float, known: Iterable[int]) -> int:
    return min(known, key=lambda each: (abs(each - value), each))
