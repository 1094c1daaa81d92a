"""Head and tail of a section brought into the outlet's range with its own room tone, and what stands in the way."""

from dataclasses import dataclass, field, fields

import numpy as np

from mastering.meters.envelope import CELLS_PER_SECOND, Envelope, is_silent
from mastering.meters.meter import Levels
from mastering.meters.speech import head_and_tail
from mastering.outlets.demands import Demand, Range, range_of
from mastering.outlets.rules.levels import HEAD, TAIL
from mastering.said import Said
from mastering.shaping.edges import Edges, edged_cells

_INSIDE_S = 0.1
_ENOUGH_S = 0.4
_LEAST_S = 0.1
_LOOKS = 4
_WORDS = {HEAD: Said("before-first-word"), TAIL: Said("after-last-word")}


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
    silent_s = {HEAD: _silent_run(envelope.power), TAIL: _silent_run(envelope.power[::-1])}
    wanted = {name: demand for name in _WORDS if (demand := range_of(demands, name))}
    had_s = has_s = {name: float(getattr(levels, name)) for name in _WORDS}
    for _ in range(_LOOKS):
        changes: dict[str, float] = {}
        missing_s: dict[str, float] = {}
        for name, demand in wanted.items():
            end, silent = name[:4], min(silent_s[name], had_s[name]) if usable else 0.0
            cut_s, tone_s = _change(has_s[name], silent, demand)
            # Nothing that is heard is cut off, however it counts beside what is left.
            cut_s = min(cut_s, round(had_s[name], 2))
            if tone_s and not usable:
                missing_s[name], tone_s = had_s[name], 0.0
            changes |= {f"cut_{end}_s": cut_s, f"tone_{end}_s": tone_s}
            if tone_s:
                changes[f"quiet_{end}_s"] = round(had_s[name] - cut_s, 2)
        edges = Edges(**changes)
        found = _found(envelope, edges, quiet_s)
        if found is None or all(demand.meets(found[name]) for name, demand in wanted.items()):
            break
        # As what was quiet before counts there: where words begin is told by how loud all of it is.
        has_s = {HEAD: found[HEAD] - edges.head_s, TAIL: found[TAIL] - edges.tail_s}
    collisions: dict[str, str] = {
        name: Said("outlet-asks-room-tone-recording", words=wanted[name].words("s"), words_2=_WORDS[name], has_s=has_s)
        for name, has_s in missing_s.items()
    }
    remarks = []
    length_s, wanted_s = quiet_s[1] - quiet_s[0] if quiet_s else 0.0, edges.tone_head_s + edges.tone_tail_s
    if wanted_s and length_s < _ENOUGH_S:
        remarks.append(Said("there-only-s-room-tone", length_s=length_s, wanted_s=wanted_s))
    return HeadTail(edges, collisions, tuple(remarks))


def _found(envelope: Envelope, edges: Edges, quiet_s: tuple[float, float] | None) -> dict[str, float] | None:
    """Head and tail as they will be measured once they are set, seconds; None where nothing is changed or heard."""
    if edges == Edges():
        return None
    quiet = (0, 0) if quiet_s is None else (round(quiet_s[0] * CELLS_PER_SECOND), round(quiet_s[1] * CELLS_PER_SECOND))
    places = edged_cells(len(envelope), edges, quiet, CELLS_PER_SECOND)
    set_so = Envelope(*(getattr(envelope, field.name)[places] for field in fields(Envelope)))
    found = head_and_tail(set_so)
    return None if found is None else {HEAD: found[0], TAIL: found[1]}


def _left(levels: Levels, demands: dict[str, Demand]) -> dict[str, str]:
    """What stays wrong where head and tail are left alone, by rule."""
    told: dict[str, str] = {}
    for name, words in _WORDS.items():
        demand, has_s = range_of(demands, name), getattr(levels, name)
        if demand is None or has_s is None or _change(has_s, 0.0, demand) == (0.0, 0.0):
            continue
        told[name] = Said("there-s-quiet-outlet-asks", has_s=has_s, words=words, words_2=demand.words("s"))
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
