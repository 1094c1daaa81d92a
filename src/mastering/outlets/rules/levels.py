"""Rules about levels: what is measured of the sound, what a plan predicts of it, and what it says where it misses."""

import math
from collections.abc import Callable, Mapping
from dataclasses import replace

from mastering.certain import certain
from mastering.editing.pauses import find_pauses
from mastering.meters.envelope import Envelope
from mastering.meters.offset import offset_of
from mastering.outlets.demands import Demand, Range, range_of
from mastering.outlets.rules.kind import (
    LEVELS,
    OF_DELIVERY,
    Advice,
    Examined,
    Foreseen,
    Missed,
    RuleKind,
)
from mastering.outlets.rules.making import MAKE_AGAIN

INTEGRATED, RMS, RMS_AES17, LOUDNESS_RANGE = "integrated_lufs", "rms_dbfs", "rms_aes17_dbfs", "loudness_range_lu"
SAMPLE_PEAK, TRUE_PEAK, NOISE_FLOOR = "sample_peak_dbfs", "true_peak_dbtp", "noise_floor_dbfs"
HEAD, TAIL = "head_s", "tail_s"
CONSISTENCY = "consistency_lu"
HUSH_MORE_DB = 1.0
"""How much further than just enough noise is lowered: hush lands within 2 dB of what is wanted, mostly within half."""
"""How far a file may lie from the middle of its delivery; in a plan, the range of loudness that follows from it."""
LOUDNESS_RULES = (INTEGRATED, RMS, RMS_AES17)
PEAK_RULES = (SAMPLE_PEAK, TRUE_PEAK)
_ALONE = "It has one gain with the rest of its set; levelled by itself it would do."


def _higher(level: float | None, by: float) -> float | None:
    return None if level is None else level + by


def _rms_aes17(foreseen: Foreseen) -> float:
    levels = foreseen.levels
    return foreseen.rehearsed.rms_dbfs + certain(levels.rms_aes17_dbfs) - certain(levels.rms_dbfs)


def _peak(name: str) -> Callable[[Foreseen], float]:
    return lambda foreseen: min(certain(foreseen.figures[name]) + foreseen.gain_db, foreseen.ceiling_dbtp)


def _missed_loudness(missed: Missed) -> str:
    kind, demand, figure = missed.kind, missed.demand, missed.figure
    if figure > demand.high:
        told = f"It comes to {figure:.1f} {kind.unit}; the outlet asks for {demand.high:g} or less"
        return _or_else(missed, f"{told}, {missed.by:.1f} less than that.", rivals=_rivals(missed))
    told = f"Under the peak ceiling this take reaches {figure:.1f} {kind.unit}; the outlet asks for {demand.low:g} or "
    return _or_else(missed, f"{told}more, {missed.by:.1f} more than that.", rivals=_rivals(missed))


def _missed_consistency(missed: Missed) -> str:
    low, high = missed.demand.low, missed.demand.high
    told = (
        f"It reaches {missed.figure:.1f} LUFS, {abs(missed.figure - (low + high) / 2):.1f} LU from the middle of this "
        f"delivery; the outlet allows {(high - low) / 2:g}."
    )
    return _or_else(missed, told, rivals=[])


def _rivals(missed: Missed) -> list[str]:
    """What else is asked of the level that is met, and so stands against this."""
    others = [name for name in (*LOUDNESS_RULES, *PEAK_RULES) if name in missed.demands and name not in missed.unmet]
    asked = [name for name in missed.demands if name in others]
    ranges = {name: range_of(missed.demands, name) for name in asked}
    aimed = [name for name, found in ranges.items() if name in LOUDNESS_RULES or (found and found.target is not None)]
    return [_BY_NAME[name].label.lower() for name in aimed]


def _or_else(missed: Missed, told: str, *, rivals: list[str]) -> str:
    if missed.together:
        return f"{told} {_ALONE}"
    if rivals:
        return f"{told} What it asks for {' and '.join(rivals)} stands against it: one of the two has to give."
    return f"{told} {missed.ride or 'Taking out its sharpest knocks would make room.'}"


def _missed_range(missed: Missed) -> str:
    after = " even after the ride" if missed.ridden else ""
    way = missed.ride or "Ride does not bring it closer: raise the quiet passages by hand, on the page."
    return f"Its loudness range is {missed.figure:.1f} LU{after}; the outlet allows {missed.demand.high:g}. {way}"


def _missed_peak(missed: Missed) -> str:
    kind = missed.kind
    asked, why = missed.demand.moved(0).words(), "The outlet’s other level rules leave no room for it."
    return f"Its {kind.label.lower()} comes to {missed.figure:.1f} {kind.unit}; the outlet asks for {asked}. " + (
        _ALONE if missed.together else why
    )


def _missed_noise(missed: Missed) -> str:
    figure, allowed, hush_db = missed.figure, missed.demand.high, missed.hush_db
    if missed.most_hush_db is None:
        return (
            f"Its quietest half second comes to {figure:.1f} dBFS and holds speech, so it has no noise floor to show; "
            f"the outlet allows {allowed:g}. Leave half a second of pause somewhere, or put some of the silent "
            "room there."
        )
    change = f"the {missed.gain_db:.1f} dB this take needs" if missed.gain_db > 0 else "levelling"
    told = (
        f"After {change}{f' and {hush_db:.0f} dB of hush' if hush_db else ''}, its noise floor is "
        f"at {figure:.1f} dBFS; the outlet allows {allowed:g}."
    )
    if missed.low:
        return f"{told} {missed.low}"
    wanted_db = math.ceil(hush_db + missed.by + HUSH_MORE_DB)
    if wanted_db <= missed.most_hush_db:
        return f"{told} Hush of {wanted_db} dB or a quieter room would do."
    return f"{told} That is {missed.by:.1f} dB too much, more than hush can take: the room has to be quieter."


def _longest_pause_s(envelope: Envelope) -> float:
    """The longest stretch without a word that has words on both sides; 0 where there is none of a third of a second."""
    pauses = find_pauses(envelope)
    return float(pauses.lengths_s[pauses.inner()].max(initial=0.0))


def _missed_pause(missed: Missed) -> str:
    return (
        f"Its longest pause lasts {missed.figure:.1f} s; the outlet asks for {missed.demand.words('s')}. Level cannot "
        "mend that: shorten its pauses on its page."
    )


def _of_offset(examined: Examined) -> str:
    offset = offset_of(certain(examined.levels))
    if offset is None:
        return ""
    return (
        f"The zero line is off by {100 * offset:.1f} % of full scale, which makes up most of this. Allow the rumble "
        "filter in the section’s treatment; the room may well be quiet enough."
    )


def _consistency_refused(demands: Mapping[str | None, Demand]) -> str:
    demand = demands.get(None)
    if not isinstance(demand, Range) or demand.low != Range().low or not demand.high:
        return f"The rule “{CONSISTENCY}” asks all files alike for a distance of “at_most” so many LU."
    return ""


_QUIETER = "Peaks left no room for more gain: allow --ride if-needed, or take sharp knocks out of the recording."
_LOUDER = "The file is louder than asked. " + MAKE_AGAIN
_RMS_ADVICE = Advice(
    too_low="The file is quieter than asked. Long pauses pull RMS down: shorten them, or take sharp knocks out of the "
    "recording so that there is room for more gain.",
    too_high=_LOUDER,
    terminal_too_low=_QUIETER,
)
_PEAK_LOW = "The peak is lower than asked. " + MAKE_AGAIN
_EDGES_AT_TERMINAL = "Leave --no-room-tone out, so that room tone is set as the outlet asks."

_LOUDNESS = RuleKind(
    name="",
    label="",
    group=LEVELS,
    close=0.1,
    helped_by_ride=True,
    told_always=True,
    collides=_missed_loudness,
)
_PEAK = RuleKind(name="", label="", group=LEVELS, told_always=True, collides=_missed_peak)

KINDS = [
    replace(
        _LOUDNESS,
        name=INTEGRATED,
        label="Integrated loudness",
        unit="LUFS",
        advice=Advice(
            too_low="The file is quieter than asked: peaks left no room for more gain. Allow ride in its treatment, or "
            "take sharp knocks and plosives out on its page, then make the file again.",
            too_high=_LOUDER,
            terminal_too_low=_QUIETER,
        ),
        measured=lambda levels: levels.integrated_lufs,
        predicts=lambda foreseen: foreseen.rehearsed.integrated_lufs,
    ),
    replace(
        _LOUDNESS,
        name=RMS,
        label="RMS",
        unit="dBFS",
        advice=_RMS_ADVICE,
        measured=lambda levels: levels.rms_dbfs,
        predicts=lambda foreseen: foreseen.rehearsed.rms_dbfs,
    ),
    replace(
        _LOUDNESS,
        name=RMS_AES17,
        label="RMS (AES17)",
        unit="dBFS",
        advice=_RMS_ADVICE,
        measured=lambda levels: levels.rms_aes17_dbfs,
        predicts=_rms_aes17,
    ),
    replace(
        _LOUDNESS,
        name=LOUDNESS_RANGE,
        label="Loudness range",
        unit="LU",
        close=0.5,
        advice=Advice(
            too_high="Loud and quiet passages lie too far apart. Allow ride in the section’s treatment, or raise the "
            "quiet passages on its page.",
            terminal="Allow --ride if-needed.",
        ),
        measured=lambda levels: levels.loudness_range_lu,
        predicts=lambda foreseen: foreseen.rehearsed.loudness_range_lu,
        collides=_missed_range,
    ),
    replace(
        _PEAK,
        name=SAMPLE_PEAK,
        label="Sample peak",
        unit="dBFS",
        advice=Advice(too_low=_PEAK_LOW, too_high="The peak is higher than asked. " + MAKE_AGAIN),
        measured=lambda levels: levels.sample_peak_dbfs,
        predicts=_peak(SAMPLE_PEAK),
    ),
    replace(
        _PEAK,
        name=TRUE_PEAK,
        label="True peak",
        unit="dBTP",
        advice=Advice(too_low=_PEAK_LOW, too_high="The peak between the samples is higher than asked. " + MAKE_AGAIN),
        measured=lambda levels: levels.true_peak_dbtp,
        predicts=_peak(TRUE_PEAK),
    ),
    RuleKind(
        name=NOISE_FLOOR,
        label="Noise floor",
        group=LEVELS,
        unit="dBFS",
        close=1.0,
        told_always=True,
        advice=Advice(
            too_high="The pauses are too loud. Allow hush in the section’s treatment, or record in a quieter room or "
            "nearer to the microphone; gain lifts the room together with the voice.",
            none="There is no room to be heard in its pauses, only digital silence or none at all. Some outlets refuse "
            "digital silence: let room tone be put there on its page.",
            terminal="Allow --hush if-needed, and --rumble if-needed where the zero line is off or it rumbles; or "
            "record in a quieter room.",
        ),
        measured=lambda levels: levels.noise_floor_dbfs,
        predicts=lambda foreseen: _higher(foreseen.figures[NOISE_FLOOR], foreseen.gain_db),
        collides=_missed_noise,
        advises=_of_offset,
    ),
    RuleKind(
        name=HEAD,
        label="Silence before",
        group=LEVELS,
        unit="s",
        digits=2,
        told_always=True,
        advice=Advice(
            too_low="Speech starts too soon. Let room tone be set as the outlet asks in the section’s treatment, or "
            "leave more before the first word of the recording.",
            too_high="Speech starts too late. Take away some of the quiet before the first word.",
            terminal=_EDGES_AT_TERMINAL,
        ),
        measured=lambda levels: levels.head_s,
        predicts=lambda foreseen: _higher(foreseen.levels.head_s, foreseen.edges.head_s),
    ),
    RuleKind(
        name=TAIL,
        label="Silence after",
        group=LEVELS,
        unit="s",
        digits=2,
        told_always=True,
        advice=Advice(
            too_low="The file ends too soon after the last word. Let room tone be set as the outlet asks in the "
            "section’s treatment, or leave more at the end of the recording.",
            too_high="The file goes on too long after the last word. Take away some of the quiet at the end.",
            terminal=_EDGES_AT_TERMINAL,
        ),
        measured=lambda levels: levels.tail_s,
        predicts=lambda foreseen: _higher(foreseen.levels.tail_s, foreseen.edges.tail_s),
    ),
    RuleKind(
        name="longest_pause_s",
        label="Longest pause",
        group=LEVELS,
        unit="s",
        least=0,
        close=0.1,
        slack=0.05,
        hint="Between words: what stands before the first and after the last has rules of its own.",
        advice=Advice(
            too_low="No pause is as long as asked. Put room tone between sections that are read without one.",
            too_high="A pause is longer than asked. Shorten its pauses on its page, then make the file again.",
            terminal="Find it with sermovox pauses, and cut it shorter with sermovox cut.",
        ),
        measured=lambda levels: _longest_pause_s(levels.envelope),
        predicts=lambda foreseen: _longest_pause_s(foreseen.envelope),
        collides=_missed_pause,
    ),
    RuleKind(
        name=CONSISTENCY,
        label="From the middle of the delivery",
        group=LEVELS,
        unit="LU",
        close=0.1,
        least=0,
        scope=OF_DELIVERY,
        same_for_all=True,
        wants_whole=True,
        helped_by_ride=True,
        advice=Advice(
            too_high="It is louder or quieter than the other files of this delivery. Make them again together; if it "
            "stays, see its plan.",
        ),
        refuses=_consistency_refused,
        predicts=lambda foreseen: foreseen.rehearsed.integrated_lufs,
        collides=_missed_consistency,
    ),
]
_BY_NAME = {kind.name: kind for kind in KINDS}
