"""Passages of speech and of music in one file, each levelled to the demand of its own kind and held against it."""

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, replace
from math import inf
from typing import Any

import numpy as np

from mastering.editing.pieces import Piece
from mastering.meters.kweighting import CHANNEL_NAMES
from mastering.meters.meter import Levels, Meter
from mastering.outlets.balance import MUSIC, SPEECH, Run, runs_of
from mastering.outlets.demands import Demand, Range, range_of
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.outlet import Outlet
from mastering.outlets.planning import corrected, plan_levels
from mastering.outlets.rules.levels import LOUDNESS_RULES, PEAK_RULES
from mastering.rendering import Programme
from mastering.said import together


@dataclass(frozen=True, kw_only=True)
class Passage(Run):
    """A run with what is done to its level."""

    plan: LevelPlan
    demands: dict[str, Demand]

    def bettered(self, found: Levels) -> "Passage | None":
        """The same with a gain corrected by what the finished file has; None where that can do no better."""
        plan = corrected(self.plan, found, self.demands)
        return None if plan is None else replace(self, plan=plan)


def own_rules(outlet: Outlet, channels: int) -> frozenset[str]:
    """The level rules that ask something else of speech than of music."""
    speech, music = (outlet.demands(channels=channels, content_kind=kind) for kind in (SPEECH, MUSIC))
    names = (*LOUDNESS_RULES, *PEAK_RULES)
    return frozenset(name for name in names if speech.get(name) != music.get(name))


def passages_of(
    programme: Programme,
    outlet: Outlet,
    *,
    channels: int,
    content_kind: str,
    measured: Callable[[Programme], Levels],
) -> list[Passage]:
    """The passages of a programme with the level each gets; none where all is of one kind, or the outlet asks the same
    of both.

    `measured` gives the levels of a part in so many channels. Raises CannotMake for a silent passage.
    """
    names = own_rules(outlet, channels)
    found = []
    for run in runs_of(programme, content_kind) if names else ():
        asked = outlet.demands(channels=channels, content_kind=run.kind)
        demands = {name: demand for name, demand in asked.items() if name in names}
        pieces = programme.pieces[run.first : run.last]
        part = Programme((replace(pieces[0], overlap_samples=0), *pieces[1:]), programme.tracks)
        lossy = outlet.encoding(channels=channels, content_kind=content_kind).lossy
        plan = plan_levels(measured(part), demands, lossy=lossy, content_kind=run.kind)
        found.append(Passage(**asdict(run), plan=plan, demands=demands))
    return found


def levelled_parts(programme: Programme, passages: Sequence[Passage]) -> Programme:
    """A programme whose passages have the gains they are to have."""
    pieces: list[Piece] = list(programme.pieces)
    for passage in passages:
        for at in range(passage.first, passage.last):
            piece, gain_db = pieces[at], passage.plan.gain_db
            end_db = None if piece.gain_end_db is None else piece.gain_end_db + gain_db
            pieces[at] = replace(piece, gain_db=piece.gain_db + gain_db, gain_end_db=end_db)
    return Programme(tuple(pieces), programme.tracks)


def plan_parted(
    levels: Levels, passages: Sequence[Passage], outlet: Outlet, *, channels: int, content_kind: str, **wishes: Any
) -> LevelPlan:
    """The plan of a whole whose passages are levelled already: what is asked of all of it, with no gain of its own.

    `wishes` are those of `plan_levels`. A ceiling is the highest that any passage may have.
    """
    names = own_rules(outlet, channels)
    asked = outlet.demands(channels=channels, content_kind=content_kind)
    demands = {name: demand for name, demand in asked.items() if name not in names}
    for name in names & set(PEAK_RULES):
        ranges = [found for passage in passages if (found := range_of(passage.demands, name))]
        if ranges and (high := max(found.high for found in ranges)) < inf:
            demands[name] = Range(high=high)
    plan = plan_levels(levels, demands, content_kind=content_kind, fixed_gain_db=0.0, **wishes)
    told = [(each.kind, each.start_s, each.end_s, each.plan.gain_db) for each in passages]
    collisions = [together([each.kind.capitalize(), said], ": ") for each in passages for said in each.plan.collisions]
    return replace(
        plan,
        fixed_gain=True,
        passages=tuple(told),
        collisions=(*plan.collisions, *collisions),
        collided=(*plan.collided, *[""] * len(collisions)),
    )


class PassageMeters:
    """Measures the passages of a finished file while it is read once."""

    def __init__(self, spans: Sequence[tuple[float, float]], *, sample_rate_hz: int, channels: int):
        self._spans = [(round(start * sample_rate_hz), round(end * sample_rate_hz)) for start, end in spans]
        self._meters = [Meter(sample_rate_hz, CHANNEL_NAMES[channels], of_recording=False) for _ in spans]
        self._at = 0

    def add(self, block: np.ndarray) -> None:
        """Take the next block of the file."""
        for (start, end), meter in zip(self._spans, self._meters, strict=True):
            own = block[max(0, start - self._at) : max(0, end - self._at)]
            if len(own):
                meter.add(own)
        self._at += len(block)

    def levels(self) -> list[Levels]:
        """The figures of each passage. Call once, at the end."""
        return [meter.levels() for meter in self._meters]
