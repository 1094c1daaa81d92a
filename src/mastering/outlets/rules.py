"""The kinds of rule an outlet may state: what each is called, how its figure is found and what mends it.

A new kind of rule is one new entry of RULE_KINDS.
"""

from collections.abc import Callable
from dataclasses import dataclass

from mastering.meters.measurement import Measurement

MONO, STEREO, AS_SOURCE = "mono", "stereo", "as recorded"
_CHANNEL_WORDS = {1: MONO, 2: STEREO}


@dataclass(frozen=True, kw_only=True)
class Demand:
    """What is asked: one exact value, or a range open or closed at either end, perhaps with an aim in it."""

    exactly: str | int | None = None
    low: float | None = None
    high: float | None = None
    target: float | None = None


@dataclass(frozen=True)
class Advice:
    """What to do when a figure is too low, too high, or simply another."""

    too_low: str = ""
    too_high: str = ""
    other: str = ""


@dataclass(frozen=True)
class RuleKind:
    """One kind of rule. `figure` returns what a finished file has; `unit` and `digits` say how it is written."""

    label: str
    figure: Callable[[Measurement], str | float | None]
    advice: Advice
    unit: str = ""
    digits: int = 1
    close: float = 0.0
    """A figure that passes by less than this is passed with a remark."""


def _channels(measurement: Measurement) -> str:
    count = measurement.facts.channels
    return _CHANNEL_WORDS.get(count, f"{count} channels")


def _bit_rate_mode(measurement: Measurement) -> str | None:
    constant = measurement.facts.constant_bit_rate
    return None if constant is None else "constant" if constant else "variable"


def _sample_format(measurement: Measurement) -> str:
    facts = measurement.facts
    if facts.bit_depth is None:
        return "lossy"
    return f"{facts.bit_depth}-bit {'float' if facts.floating_point else 'integer'}"


def _level(name: str) -> Callable[[Measurement], float | None]:
    return lambda measurement: getattr(measurement.levels, name)


_MAKE_AGAIN = "Make the file again for this outlet from its recording."

_RMS_ADVICE = Advice(
    too_low="The file is quieter than asked. Long pauses pull RMS down: shorten them, or take sharp knocks out of the "
    "recording so that there is room for more gain.",
    too_high="The file is louder than asked. " + _MAKE_AGAIN,
)

RULE_KINDS: dict[str, RuleKind] = {
    "container": RuleKind("Container", lambda m: m.facts.container, Advice(other=_MAKE_AGAIN)),
    "codec": RuleKind("Codec", lambda m: m.facts.codec, Advice(other=_MAKE_AGAIN)),
    "channels": RuleKind("Channels", _channels, Advice(other=_MAKE_AGAIN)),
    "sample_rate_hz": RuleKind(
        "Sample rate", lambda m: m.facts.sample_rate_hz, Advice(other=_MAKE_AGAIN), unit="Hz", digits=0
    ),
    "sample_format": RuleKind("Bit depth", _sample_format, Advice(other=_MAKE_AGAIN)),
    "bit_rate_kbps": RuleKind(
        "Bitrate", lambda m: m.facts.bit_rate_kbps, Advice(other=_MAKE_AGAIN), unit="kbit/s", digits=0
    ),
    "bit_rate_mode": RuleKind("Bitrate mode", _bit_rate_mode, Advice(other=_MAKE_AGAIN)),
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
        ),
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
        lambda m: m.facts.duration_s,
        Advice(too_low="The file is too short.", too_high="The file is too long. Split the section in two."),
        unit="s",
        digits=0,
    ),
    "consistency_lu": RuleKind(
        "From the middle of the delivery",
        lambda m: None,
        Advice(
            too_high="It is louder or quieter than the other files of this delivery. Make them again together; if it "
            "stays, see its plan.",
        ),
        unit="LU",
        close=0.1,
    ),
}

PEAK_RULES = ("sample_peak_dbfs", "true_peak_dbtp")
LOUDNESS_RULES = ("integrated_lufs", "rms_dbfs", "rms_aes17_dbfs")
OF_DELIVERIES = ("consistency_lu",)
"""Rules about all files of a delivery together; one file alone has no figure for them."""


def meets(figure: float, demand: Demand) -> bool:
    """Whether a figure lies in the range, to half of the last place shown."""
    slack = 0.005
    return (demand.low is None or figure >= demand.low - slack) and (
        demand.high is None or figure <= demand.high + slack
    )
