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
from mastering.said import Said, both, together, within

INTEGRATED, RMS, RMS_AES17, LOUDNESS_RANGE = "integrated_lufs", "rms_dbfs", "rms_aes17_dbfs", "loudness_range_lu"
SAMPLE_PEAK, TRUE_PEAK, NOISE_FLOOR = "sample_peak_dbfs", "true_peak_dbtp", "noise_floor_dbfs"
HEAD, TAIL = "head_s", "tail_s"
CONSISTENCY = "consistency_lu"
HUSH_MORE_DB = 1.0
"""How much further than just enough noise is lowered: hush lands within 2 dB of what is wanted, mostly within half."""
"""How far a file may lie from the middle of its delivery; in a plan, the range of loudness that follows from it."""
LOUDNESS_RULES = (INTEGRATED, RMS, RMS_AES17)
PEAK_RULES = (SAMPLE_PEAK, TRUE_PEAK)
_ALONE = Said("one-gain-rest-set-levelled")


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
        told = Said("comes-outlet-asks-less", figure=figure, unit=kind.unit, high=demand.high)
        return _or_else(missed, Said("less-than", told=told, by=missed.by), rivals=_rivals(missed))
    told = Said("under-peak-ceiling-take-reaches", figure=figure, unit=kind.unit, low=demand.low)
    return _or_else(missed, Said("more-more-than", told=told, by=missed.by), rivals=_rivals(missed))


def _missed_consistency(missed: Missed) -> str:
    low, high = missed.demand.low, missed.demand.high
    told = Said(
        "reaches-lufs-lu-from-middle",
        figure=missed.figure,
        figure_2=abs(missed.figure - (low + high) / 2),
        high=(high - low) / 2,
    )
    return _or_else(missed, told, rivals=[])


def _rivals(missed: Missed) -> list[str]:
    """What else is asked of the level that is met, and so stands against this."""
    others = [name for name in (*LOUDNESS_RULES, *PEAK_RULES) if name in missed.demands and name not in missed.unmet]
    asked = [name for name in missed.demands if name in others]
    ranges = {name: range_of(missed.demands, name) for name in asked}
    aimed = [name for name, found in ranges.items() if name in LOUDNESS_RULES or (found and found.target is not None)]
    return [within(_BY_NAME[name].label) for name in aimed]


def _or_else(missed: Missed, told: str, *, rivals: list[str]) -> str:
    if missed.together:
        return together([told, _ALONE])
    if rivals:
        return Said("what-asks-stands-against-one", told=told, rivals=both(rivals))
    return together([told, missed.ride or Said("taking-out-sharpest-knocks")])


def _missed_range(missed: Missed) -> str:
    after = Said("even-after-ride") if missed.ridden else ""
    way = missed.ride or Said("ride-does-not-bring-closer")
    return Said("loudness-range-lu-outlet-allows", figure=missed.figure, after=after, high=missed.demand.high, way=way)


def _missed_peak(missed: Missed) -> str:
    kind = missed.kind
    asked = missed.demand.moved(0).words()
    why = _ALONE if missed.together else Said("outlets-other-level-rules-leave")
    label = within(kind.label)
    return Said("comes-to-asks-for", label=label, figure=missed.figure, unit=kind.unit, asked=asked, why=why)


def _missed_noise(missed: Missed) -> str:
    figure, allowed, hush_db = missed.figure, missed.demand.high, missed.hush_db
    if missed.most_hush_db is None:
        return Said("quietest-half-second-comes-dbfs", figure=figure, allowed=allowed)
    change: str = Said("db-take-needs", gain_db=missed.gain_db) if missed.gain_db > 0 else Said("levelling")
    if hush_db:
        change = both([change, Said("db-of-hush", hush_db=hush_db)])
    told = Said("after-noise-floor", change=change, figure=figure, allowed=allowed)
    if missed.low:
        return together([told, missed.low])
    wanted_db = math.ceil(hush_db + missed.by + HUSH_MORE_DB)
    if wanted_db <= missed.most_hush_db:
        return Said("hush-db-quieter-room-would", told=told, wanted_db=wanted_db)
    return Said("db-too-much-more-than", told=told, by=missed.by)


def _longest_pause_s(envelope: Envelope) -> float:
    """The longest stretch without a word that has words on both sides; 0 where there is none of a third of a second."""
    pauses = find_pauses(envelope)
    return float(pauses.lengths_s[pauses.inner()].max(initial=0.0))


def _missed_pause(missed: Missed) -> str:
    return Said("longest-pause-lasts-s-outlet", figure=missed.figure, words=missed.demand.words("s"))


def _of_offset(examined: Examined) -> str:
    offset = offset_of(certain(examined.levels))
    if offset is None:
        return ""
    return Said("zero-line-off-full-scale-which", offset=100 * offset)


def _consistency_refused(demands: Mapping[str | None, Demand]) -> str:
    demand = demands.get(None)
    if not isinstance(demand, Range) or demand.low != Range().low or not demand.high:
        return Said("all-files-alike-distance", name=CONSISTENCY)
    return ""


_QUIETER = Said("quieter-terminal")
_LOUDER = Said("louder-than-asked", again=MAKE_AGAIN)
_RMS_ADVICE = Advice(
    too_low=Said("file-quieter-than-asked-long"),
    too_high=_LOUDER,
    terminal_too_low=_QUIETER,
)
_PEAK_LOW = Said("peak-lower-than-asked", again=MAKE_AGAIN)
_EDGES_AT_TERMINAL = Said("room-tone-terminal")

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
        label=Said("integrated-loudness"),
        unit="LUFS",
        advice=Advice(
            too_low=Said("file-quieter-than-asked-peaks"),
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
        label=Said("loudness-range"),
        unit="LU",
        close=0.5,
        advice=Advice(
            too_high=Said("loud-quiet-passages-lie-too"),
            terminal=Said("allow-ride-terminal"),
        ),
        measured=lambda levels: levels.loudness_range_lu,
        predicts=lambda foreseen: foreseen.rehearsed.loudness_range_lu,
        collides=_missed_range,
    ),
    replace(
        _PEAK,
        name=SAMPLE_PEAK,
        label=Said("sample-peak"),
        unit="dBFS",
        advice=Advice(too_low=_PEAK_LOW, too_high=Said("peak-higher-than-asked", again=MAKE_AGAIN)),
        measured=lambda levels: levels.sample_peak_dbfs,
        predicts=_peak(SAMPLE_PEAK),
    ),
    replace(
        _PEAK,
        name=TRUE_PEAK,
        label=Said("true-peak"),
        unit="dBTP",
        advice=Advice(too_low=_PEAK_LOW, too_high=Said("true-peak-higher-than-asked", again=MAKE_AGAIN)),
        measured=lambda levels: levels.true_peak_dbtp,
        predicts=_peak(TRUE_PEAK),
    ),
    RuleKind(
        name=NOISE_FLOOR,
        label=Said("noise-floor"),
        group=LEVELS,
        unit="dBFS",
        close=1.0,
        told_always=True,
        advice=Advice(
            too_high=Said("pauses-too-loud-allow-hush"),
            none=Said("there-no-room-heard-pauses"),
            terminal=Said("allow-hush-terminal"),
        ),
        measured=lambda levels: levels.noise_floor_dbfs,
        predicts=lambda foreseen: _higher(foreseen.figures[NOISE_FLOOR], foreseen.gain_db),
        collides=_missed_noise,
        advises=_of_offset,
    ),
    RuleKind(
        name=HEAD,
        label=Said("silence-before"),
        group=LEVELS,
        unit="s",
        digits=2,
        told_always=True,
        advice=Advice(
            too_low=Said("speech-starts-too-soon-let"),
            too_high=Said("speech-starts-too-late-take"),
            terminal=_EDGES_AT_TERMINAL,
        ),
        measured=lambda levels: levels.head_s,
        predicts=lambda foreseen: _higher(foreseen.levels.head_s, foreseen.edges.head_s),
    ),
    RuleKind(
        name=TAIL,
        label=Said("silence-after"),
        group=LEVELS,
        unit="s",
        digits=2,
        told_always=True,
        advice=Advice(
            too_low=Said("file-ends-too-soon-after"),
            too_high=Said("file-goes-too-long-after"),
            terminal=_EDGES_AT_TERMINAL,
        ),
        measured=lambda levels: levels.tail_s,
        predicts=lambda foreseen: _higher(foreseen.levels.tail_s, foreseen.edges.tail_s),
    ),
    RuleKind(
        name="longest_pause_s",
        label=Said("longest-pause"),
        group=LEVELS,
        unit="s",
        least=0,
        close=0.1,
        slack=0.05,
        hint=Said("between-words-what-stands-before"),
        advice=Advice(
            too_low=Said("no-pause-long-asked-put"),
            too_high=Said("pause-longer-than-asked-shorten"),
            terminal=Said("find-pause-terminal"),
        ),
        measured=lambda levels: _longest_pause_s(levels.envelope),
        predicts=lambda foreseen: _longest_pause_s(foreseen.envelope),
        collides=_missed_pause,
    ),
    RuleKind(
        name=CONSISTENCY,
        label=Said("from-middle-delivery"),
        group=LEVELS,
        unit="LU",
        close=0.1,
        least=0,
        scope=OF_DELIVERY,
        same_for_all=True,
        wants_whole=True,
        helped_by_ride=True,
        advice=Advice(
            too_high=Said("louder-quieter-than-other-files"),
        ),
        refuses=_consistency_refused,
        predicts=lambda foreseen: foreseen.rehearsed.integrated_lufs,
        collides=_missed_consistency,
    ),
]
_BY_NAME = {kind.name: kind for kind in KINDS}
