"""Head and tail of a section brought into the outlet's range with its own room tone, and what stands in the way."""

from dataclasses import dataclass, field

import numpy as np

from mastering.meters.envelope import CELLS_PER_SECOND, is_silent
from mastering.meters.meter import Levels
from mastering.outlets.demands import Demand, Range, range_of
from mastering.outlets.rules.levels import HEAD, TAIL
from mastering.shaping.edges import Edges

_INSIDE_S = 0.1
_ENOUGH_S = 0.4
_LEAST_S = 0.1
_WORDS = {HEAD: "before the first word", TAIL: "after the last word"}


@dataclass(frozen=True)
class HeadTail:
    """What is done at either end, what cannot be, by rule, and what is to be said about it."""

    edges: Edges
    collisions: dict[str, str] = field(default_factory=dict)
    remarks: tuple[str, ...] = ()


def left_alone(levels: Levels, demands: dict[str, Demand]) -> HeadTail:
    """Head and tail as they are, and what is wrong with that."""
    return HeadTail(Edges(), _left(levels, demands))


def plan_edges(levels: Levels, demands: dict[str, Demand], quiet_s: tuple[float, float] | None) -> HeadTail:
    """Bring head and tail into the range that is asked, and no further.

    Digital silence at either end goes too where room tone can stand for it. `quiet_s` is the stretch room tone is made
    from, None where there is none.
    """
    if levels.head_s is None or not demands.keys() & _WORDS.keys():
        return HeadTail(Edges())
    envelope, usable = levels.envelope, quiet_s is not None
    length_s = quiet_s[1] - quiet_s[0] if quiet_s else 0.0
    changes: dict[str, float] = {}
    collisions: dict[str, str] = {}
    wanted_s = 0.0
    for name, silent in ((HEAD, _silent_run(envelope.power)), (TAIL, _silent_run(envelope.power[::-1]))):
        demand, has_s = range_of(demands, name), getattr(levels, name)
        end = name[:4]
        if demand is None:
            continue
        cut_s, tone_s = _change(has_s, min(silent, has_s) if usable else 0.0, demand)
        if tone_s and not usable:
            collisions[name] = (
                f"The outlet asks for {demand.words('s')} of room tone {_WORDS[name]}; this recording has "
                f"{has_s:.2f} s and no pause to make more from. Record some seconds of the silent room and put them "
                "there."
            )
            tone_s = 0.0
        changes |= {f"cut_{end}_s": cut_s, f"tone_{end}_s": tone_s}
        wanted_s += tone_s
    remarks = []
    if wanted_s and length_s < _ENOUGH_S:
        remarks.append(
            f"There are only {length_s:.2f} s of room tone to make {wanted_s:.2f} s from; the repetition may be heard. "
            "Half a minute of the silent room, recorded once, is enough for a whole book."
        )
    return HeadTail(Edges(**changes), collisions, tuple(remarks))


def _left(levels: Levels, demands: dict[str, Demand]) -> dict[str, str]:
    """What stays wrong where head and tail are left alone, by rule."""
    told = {}
    for name, words in _WORDS.items():
        demand, has_s = range_of(demands, name), getattr(levels, name)
        if demand is None or has_s is None or _change(has_s, 0.0, demand) == (0.0, 0.0):
            continue
        told[name] = (
            f"There are {has_s:.2f} s of quiet {words}; the outlet asks for {demand.words('s')}. Room tone “as the "
            "outlet asks” would see to it."
        )
    return told


def _change(has_s: float, silent_s: float, demand: Range) -> tuple[float, float]:
    """Seconds to cut and seconds of tone to put there, whole hundredths; what is in range already stays as it is."""
    inside, wanted_s = demand.inside(_INSIDE_S), has_s
    if has_s < demand.low:
        wanted_s = demand.low + inside
    elif has_s > demand.high:
        wanted_s = demand.high - inside
    cut_s = max(silent_s, has_s - wanted_s)
    return round(cut_s, 2), round(wanted_s - (has_s - cut_s), 2)


def _silent_run(levels: np.ndarray) -> float:
    """How long it is digitally silent from its start, seconds; a moment of it, as codecs leave, is none."""
    sounding = ~is_silent(levels)
    run_s = float(sounding.argmax() if sounding.any() else len(levels)) / CELLS_PER_SECOND
    return run_s if run_s >= _LEAST_S else 0.0
