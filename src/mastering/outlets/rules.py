"""The kinds of rule an outlet may state: what each is called, how its figure is found and what mends it.

A new kind of rule is one new entry of RULE_KINDS.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from mastering.audio.encodings import (
    BIT_RATE_MODES,
    CODECS,
    CONSTANT,
    FLOAT_32,
    INT_16,
    INT_24,
    INT_32,
)
from mastering.audio.facts import FileFacts
from mastering.meters.meter import Levels
from mastering.meters.offset import offset_of
from mastering.tagging.artwork import ArtworkFacts, BadArtwork, inspect
from mastering.tagging.carried import Carried
from mastering.tagging.inscription import TAGS

MONO, STEREO, AS_SOURCE = "mono", "stereo", "as recorded"
JOINT, SEPARATE = "joint stereo", "separate stereo"
ONE_EACH, JOINED = "one for each section", "one of all sections"
FROM_SECTIONS, FROM_MARKS = "from sections", "from marks"
ASKED, LEFT_OUT = "there", "left out"
NOT_CONSTANT = "not constant"
"""The bitrate mode of a file that does not say more of it."""
UNTOLD = "not told by the file"
"""What a format has no place to say."""
EXTRAS = ("manifest.csv", "manifest.json", "cover.jpg", "chapters.json", "chapters.txt", "check-sheets.html")
"""Files that can go with a delivery."""
ROLES = ("opening credits", "dedication", "foreword", "afterword", "closing credits", "sample")
"""Sections an outlet may want to be there."""
GROUPS = ("Format", "Bitrate", "Levels", "Length and size", "Files and delivery", "Tags", "Artwork and chapters")
CHOICE, NUMBER, RANGE, PATTERN, LIST = "choice", "number", "range", "pattern", "list"


@dataclass(frozen=True, kw_only=True)
class Demand:
    """What is asked: one exact value or one of several, or a range open or closed at either end, perhaps with an aim.

    `exactly` is a pattern for rules about texts, and all of a tuple for rules about lists.
    """

    exactly: str | int | float | tuple[str, ...] | None = None
    one_of: tuple[str | int | float, ...] = ()
    low: float | None = None
    high: float | None = None
    target: float | None = None

    @property
    def first(self) -> str | int | float | tuple[str, ...] | None:
        """The value to make a file with, where values are named."""
        return self.one_of[0] if self.one_of else self.exactly


@dataclass(frozen=True)
class Advice:
    """What to do when a figure is too low, too high, or simply another; `none` is what to know where there is none and
    that passes.
    """

    too_low: str = ""
    too_high: str = ""
    other: str = ""
    none: str = ""


@dataclass(frozen=True, kw_only=True)
class Examined:
    """One finished file as it was found. `texts` holds what rules about texts expect of this very file, by rule.

    Without `levels` only rules of BESIDE_SOUND can be held against it.
    """

    facts: FileFacts
    carried: Carried
    levels: Levels | None = None
    name: str = ""
    texts: Mapping[str, str] | None = None
    artwork: ArtworkFacts | None = field(init=False, default=None)

    def __post_init__(self):
        if self.carried.picture:
            try:
                object.__setattr__(self, "artwork", inspect(self.carried.picture))
            except BadArtwork:
                # What is no picture counts as none.
                return

    @property
    def frame_kbps(self) -> tuple[float, float] | None:
        """The lowest and the highest bitrate of the frames of an MP3, kbit/s."""
        return self.facts.frame_kbps


Figure = str | float | None


@dataclass(frozen=True)
class RuleKind:
    """One kind of rule. `figure` returns what a finished file has; `unit` and `digits` say how it is written.

    `takes` is how a demand of this kind is written, `choices` what it may name, `least` and `most` what its numbers may
    be. `hint` tells somebody who writes a rule what it means.
    """

    label: str
    figure: Callable[[Examined], Figure]
    advice: Advice
    unit: str = ""
    digits: int = 1
    close: float = 0.0
    """A figure that passes by less than this is passed with a remark."""
    slack: float = 0.005
    """By so much a figure may lie beyond what is asked, as it is measured no finer than it is shown."""
    group: str = "Levels"
    takes: str = RANGE
    choices: tuple[str, ...] = ()
    least: float = -200.0
    most: float = 1e9
    hint: str = ""
    advises: "Callable[[Examined], str]" = lambda examined: ""
    """What mends this very file where more is known of it than whether the figure is too high; else nothing."""


def _channels(examined: Examined) -> str:
    count = examined.facts.channels
    if count == 2 and examined.carried.joint is not None:
        return JOINT if examined.carried.joint else SEPARATE
    return {1: MONO, 2: STEREO}.get(count, f"{count} channels")


def _container(examined: Examined) -> str:
    return examined.carried.container or examined.facts.container


def _bit_rate_mode(examined: Examined) -> str | None:
    constant, said = examined.facts.constant_bit_rate, examined.carried.mode
    if constant is None:
        return None
    if said and (constant or said != CONSTANT):
        # An even sound may well get the same bitrate throughout; what the file says of its making tells more.
        return said
    return CONSTANT if constant else NOT_CONSTANT


def _quality(examined: Examined) -> str | int | None:
    found = examined.carried.quality
    return UNTOLD if found is None and examined.facts.codec == "vorbis" else found


def _sample_format(examined: Examined) -> str:
    facts = examined.facts
    if facts.bit_depth is None:
        return "lossy"
    return f"{facts.bit_depth}-bit {'float' if facts.floating_point else 'integer'}"


def _level(name: str) -> Callable[[Examined], float | None]:
    return lambda examined: getattr(examined.levels, name)


def _tag(name: str) -> Callable[[Examined], str | None]:
    return lambda examined: examined.carried.tags.get(name)


def _encoder(examined: Examined) -> str:
    return ASKED if examined.carried.tags.get("encoder") else LEFT_OUT


def _artwork_px(examined: Examined) -> str | float | None:
    picture = examined.artwork
    if picture and picture.width_px != picture.height_px:
        return f"{picture.width_px} × {picture.height_px} px"
    return picture.width_px if picture else None


def _artwork_format(examined: Examined) -> str | None:
    return examined.artwork.format if examined.artwork else None


def _chapters(examined: Examined) -> str:
    """Whether there are chapter marks, and any that cannot be right."""
    marks = examined.carried.chapters
    if not marks:
        return "none"
    if any(not mark.title.strip() for mark in marks):
        return "one without a title"
    starts = [mark.start_s for mark in marks]
    if starts[0] > _FIRST_CHAPTER_S or starts != sorted(set(starts)) or starts[-1] >= examined.facts.duration_s:
        return "out of order"
    return ASKED


_FIRST_CHAPTER_S = 0.5
"""A chapter that begins later leaves the start of the file without one."""


def _of_offset(examined: Examined) -> str:
    offset = offset_of(examined.levels)
    if offset is None:
        return ""
    return (
        f"The zero line is off by {100 * offset:.1f} % of full scale, which makes up most of this. Allow the rumble "
        "filter in the section’s treatment; the room may well be quiet enough."
    )


_MAKE_AGAIN = "Make the file again for this outlet from its recording."

_RMS_ADVICE = Advice(
    too_low="The file is quieter than asked. Long pauses pull RMS down: shorten them, or take sharp knocks out of the "
    "recording so that there is room for more gain.",
    too_high="The file is louder than asked. " + _MAKE_AGAIN,
)

_AGAIN = Advice(other=_MAKE_AGAIN)
_FACTS = "Give it to the production under “Facts and artwork”, then write the tags again."
_TAG_ADVICE = {
    "title": "Give the section a title in the running order, then write the tags again.",
    "track": "The place in the running order goes here. Write the tags again.",
    "lyrics": "Give the section its text or notes, then write the tags again.",
}
_PICTURE = "Give the production a square picture under “Facts and artwork”, then make the file again."


def _tag_kind(name: str) -> RuleKind:
    label = TAGS[name]
    return RuleKind(
        f"Tag: {label}",
        _tag(name),
        Advice(other=_TAG_ADVICE.get(name, _FACTS)),
        group="Tags",
        takes=PATTERN,
        hint="A pattern, as for names: {title}, {production}, {narrator}, …",
    )


def _format_kind(
    label: str, figure: Callable[[Examined], Figure], choices: tuple[str, ...], hint: str = ""
) -> RuleKind:
    return RuleKind(label, figure, _AGAIN, group="Format", takes=CHOICE, choices=choices, hint=hint)


RULE_KINDS: dict[str, RuleKind] = {
    "container": _format_kind("Container", _container, tuple(CODECS)),
    "codec": _format_kind(
        "Codec",
        lambda e: e.facts.codec,
        ("mp3", "aac", "alac", "pcm", "pcm_s16le", "flac", "vorbis", "opus", "wmav2"),
        "Where the container leaves it open: “pcm” is any uncompressed sound, “pcm_s16le” that of a plain 16-bit WAV.",
    ),
    "channels": _format_kind("Channels", _channels, (MONO, STEREO, JOINT, SEPARATE, AS_SOURCE)),
    "sample_rate_hz": RuleKind(
        "Sample rate",
        lambda e: e.facts.sample_rate_hz,
        _AGAIN,
        unit="Hz",
        digits=0,
        group="Format",
        takes=NUMBER,
        least=8000,
        most=192000,
    ),
    "sample_format": _format_kind("Bit depth", _sample_format, (INT_16, INT_24, INT_32, FLOAT_32)),
    "broadcast_wave": _format_kind(
        "BWF description",
        # Only the "bext" chunk states when a recording begins.
        lambda e: "none" if e.facts.time_reference_frames is None else ASKED,
        (ASKED,),
        "The “bext” chunk of a WAV.",
    ),
    "bit_rate_kbps": RuleKind(
        "Bitrate",
        lambda e: e.facts.bit_rate_kbps,
        _AGAIN,
        unit="kbit/s",
        digits=0,
        slack=0.5,
        group="Bitrate",
        takes=NUMBER,
        least=6,
        most=512,
        hint="One value, several, or for a variable bitrate the lowest and the highest.",
    ),
    "bit_rate_mode": RuleKind(
        "Bitrate mode", _bit_rate_mode, _AGAIN, group="Bitrate", takes=CHOICE, choices=BIT_RATE_MODES
    ),
    "quality": RuleKind(
        "Encoder’s quality",
        _quality,
        _AGAIN,
        digits=0,
        group="Bitrate",
        takes=NUMBER,
        least=0,
        most=9,
        hint="0 is the best, 9 the smallest; for the bitrate mode “quality”.",
    ),
    "integrated_lufs": RuleKind(
        "Integrated loudness",
        _level("integrated_lufs"),
        Advice(
            too_low="The file is quieter than asked: peaks left no room for more gain. Allow ride in its treatment, or "
            "take sharp knocks and plosives out on its page, then make the file again.",
            too_high="The file is louder than asked. " + _MAKE_AGAIN,
        ),
        unit="LUFS",
        close=0.1,
    ),
    "rms_dbfs": RuleKind(
        "RMS",
        _level("rms_dbfs"),
        _RMS_ADVICE,
        unit="dBFS",
        close=0.1,
    ),
    "rms_aes17_dbfs": RuleKind(
        "RMS (AES17)",
        _level("rms_aes17_dbfs"),
        _RMS_ADVICE,
        unit="dBFS",
        close=0.1,
    ),
    "loudness_range_lu": RuleKind(
        "Loudness range",
        _level("loudness_range_lu"),
        Advice(
            too_high="Loud and quiet passages lie too far apart. Allow ride in the section’s treatment, or raise the "
            "quiet passages on its page.",
        ),
        unit="LU",
        close=0.5,
    ),
    "sample_peak_dbfs": RuleKind(
        "Sample peak",
        _level("sample_peak_dbfs"),
        Advice(
            too_low="The peak is lower than asked. " + _MAKE_AGAIN,
            too_high="The peak is higher than asked. " + _MAKE_AGAIN,
        ),
        unit="dBFS",
    ),
    "true_peak_dbtp": RuleKind(
        "True peak",
        _level("true_peak_dbtp"),
        Advice(
            too_low="The peak is lower than asked. " + _MAKE_AGAIN,
            too_high="The peak between the samples is higher than asked. " + _MAKE_AGAIN,
        ),
        unit="dBTP",
    ),
    "noise_floor_dbfs": RuleKind(
        "Noise floor",
        _level("noise_floor_dbfs"),
        Advice(
            too_high="The pauses are too loud. Allow hush in the section’s treatment, or record in a quieter room or "
            "nearer to the microphone; gain lifts the room together with the voice.",
            none="There is no room to be heard in its pauses, only digital silence or none at all. Some outlets refuse "
            "digital silence: let room tone be put there on its page.",
        ),
        advises=_of_offset,
        unit="dBFS",
        close=1.0,
    ),
    "head_s": RuleKind(
        "Silence before",
        _level("head_s"),
        Advice(
            too_low="Speech starts too soon. Let room tone be set as the outlet asks in the section’s treatment, or "
            "leave more before the first word of the recording.",
            too_high="Speech starts too late. Take away some of the quiet before the first word.",
        ),
        unit="s",
        digits=2,
    ),
    "tail_s": RuleKind(
        "Silence after",
        _level("tail_s"),
        Advice(
            too_low="The file ends too soon after the last word. Let room tone be set as the outlet asks in the "
            "section’s treatment, or leave more at the end of the recording.",
            too_high="The file goes on too long after the last word. Take away some of the quiet at the end.",
        ),
        unit="s",
        digits=2,
    ),
    "duration_s": RuleKind(
        "Length",
        lambda e: e.facts.duration_s,
        Advice(
            too_low="The file is too short. Join the section with the next on its row of the running order.",
            too_high="The file is too long. Split the section in two on its page.",
        ),
        unit="s",
        digits=0,
        group="Length and size",
        least=0,
    ),
    "size_mb": RuleKind(
        "Size of a file",
        lambda e: e.facts.size_bytes / 1e6,
        Advice(
            too_low="The file is smaller than asked.",
            too_high="The file is too large. Split the section on its page, or ask for a lower bitrate on the rule "
            "sheet.",
        ),
        unit="MB",
        group="Length and size",
        least=0,
    ),
    "delivery_mb": RuleKind(
        "Size of the delivery",
        lambda e: None,
        Advice(too_high="All files together are too large. Deliver fewer sections at a time, or at a lower bitrate."),
        unit="MB",
        group="Length and size",
        least=0,
    ),
    "consistency_lu": RuleKind(
        "From the middle of the delivery",
        lambda e: None,
        Advice(
            too_high="It is louder or quieter than the other files of this delivery. Make them again together; if it "
            "stays, see its plan.",
        ),
        unit="LU",
        close=0.1,
        least=0,
    ),
    "channels_alike": RuleKind(
        "Channels of all files",
        lambda e: None,
        Advice(other="Some files are mono and some are stereo. Make all of them again in one run."),
        group="Files and delivery",
        takes=CHOICE,
        choices=("all alike",),
    ),
    "files": RuleKind(
        "Files",
        lambda e: None,
        Advice(),
        group="Files and delivery",
        takes=CHOICE,
        choices=(ONE_EACH, JOINED),
    ),
    "sections_required": RuleKind(
        "Sections required",
        lambda e: None,
        Advice(other="Add the missing sections to the running order and deliver them too."),
        group="Files and delivery",
        takes=LIST,
        choices=ROLES,
    ),
    "order": RuleKind(
        "Order of the names",
        lambda e: None,
        Advice(
            other="Sorted by name, the files are not in running order. Begin their names with {place|pad} on “Names”."
        ),
        group="Files and delivery",
        takes=CHOICE,
        choices=("as the running order",),
    ),
    "names": RuleKind(
        "File name",
        lambda e: e.name or None,
        Advice(other="Rename the file on its delivery’s page, or change the pattern on “Names”."),
        group="Files and delivery",
        takes=PATTERN,
        hint="A pattern; each production may still choose its own.",
    ),
    "folder": RuleKind(
        "Folder",
        lambda e: None,
        Advice(),
        group="Files and delivery",
        takes=PATTERN,
        hint="Where the files lie in what is handed over, such as mp3 or masters.",
    ),
    "extra_files": RuleKind(
        "Files beside them",
        lambda e: None,
        Advice(other="What is missing is made from the production’s facts, artwork and chapter marks; give it those."),
        group="Files and delivery",
        takes=LIST,
        choices=EXTRAS,
    ),
    "tag_form": RuleKind(
        "Way of tagging",
        lambda e: e.carried.form,
        Advice(other="Write the tags again."),
        group="Tags",
        takes=CHOICE,
        choices=("ID3v2.3", "ID3v2.4"),
    ),
    **{f"tag_{name}": _tag_kind(name) for name in TAGS if name != "encoder"},
    "tag_encoder": RuleKind(
        "Tag: encoder",
        _encoder,
        Advice(other="Write the tags again."),
        group="Tags",
        takes=CHOICE,
        choices=(LEFT_OUT, ASKED),
    ),
    "artwork_px": RuleKind(
        "Artwork, each side",
        _artwork_px,
        Advice(too_low=_PICTURE, too_high=_PICTURE, other=_PICTURE),
        unit="px",
        digits=0,
        group="Artwork and chapters",
        least=1,
        most=8000,
        hint="A square picture in every file; larger ones are scaled down.",
    ),
    "artwork_kb": RuleKind(
        "Artwork, weight",
        lambda e: e.artwork and e.artwork.size_bytes / 1000,
        Advice(too_high=_PICTURE, other=_PICTURE),
        unit="kB",
        digits=0,
        group="Artwork and chapters",
        least=1,
        most=32000,
    ),
    "artwork_format": RuleKind(
        "Artwork, format",
        _artwork_format,
        Advice(other=_PICTURE),
        group="Artwork and chapters",
        takes=CHOICE,
        choices=("JPEG", "PNG"),
    ),
    "chapters": RuleKind(
        "Chapter marks",
        _chapters,
        Advice(other="Give every section, or every mark on its page, a title; then make the file again."),
        group="Artwork and chapters",
        takes=CHOICE,
        choices=(FROM_SECTIONS, FROM_MARKS),
    ),
}

PEAK_RULES = ("sample_peak_dbfs", "true_peak_dbtp")
LOUDNESS_RULES = ("integrated_lufs", "rms_dbfs", "rms_aes17_dbfs")
CONSISTENCY = "consistency_lu"
OF_DELIVERIES = (
    CONSISTENCY,
    "delivery_mb",
    "channels_alike",
    "sections_required",
    "order",
    "extra_files",
)
"""Rules about all files of a delivery together; one file alone has no figure for them."""
BESIDE_SOUND = tuple(
    name for name, kind in RULE_KINDS.items() if kind.group in ("Tags", "Artwork and chapters") or name == "size_mb"
)
"""Rules about what stands in a file beside its sound."""
OF_MAKING = ("files", "folder")
"""Rules that say how files are made and where they go; there is nothing in a file to hold against them."""


def same_for_all(name: str) -> bool:
    """Whether a rule cannot differ between mono and stereo, speech and music."""
    return name in (*OF_DELIVERIES, *OF_MAKING, "names", "chapters") or name.startswith(("tag_", "artwork_"))


def meets(figure: float, demand: Demand, slack: float = 0.005) -> bool:
    """Whether a figure lies in the range, to half of the last place shown."""
    return (demand.low is None or figure >= demand.low - slack) and (
        demand.high is None or figure <= demand.high + slack
    )
