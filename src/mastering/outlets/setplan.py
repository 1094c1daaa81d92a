"""Plans for all sections of a delivery: those with one gain together, and none too far from the others."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from math import inf
from statistics import median
from typing import Any, Protocol

import numpy as np

from mastering.certain import certain
from mastering.errors import CannotMake
from mastering.meters import loudness
from mastering.meters.decibels import db_of_power
from mastering.meters.meter import Levels
from mastering.outlets.balance import with_balance
from mastering.outlets.demands import Demand, Range
from mastering.outlets.known import NOTHING_KNOWN, Known
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.outlet import Outlet
from mastering.outlets.passages import Passage, plan_parted
from mastering.outlets.planning import gain_range, needed_gain_db, plan_levels
from mastering.outlets.rules.levels import (
    CONSISTENCY,
    INTEGRATED,
    LOUDNESS_RULES,
    NOISE_FLOOR,
    PEAK_RULES,
    RMS,
    RMS_AES17,
)
from mastering.shaping.treatment import Treatment

_INSIDE_LU = 0.2
_FIGURES = (*PEAK_RULES, *LOUDNESS_RULES, NOISE_FLOOR)


class Member(Protocol):
    """A section to be planned. `levels` is asked for once in each round, so that not all need be in memory; `filtered`
    only where its rumble filter is to be on if needed, and gives its levels after that. `spans` are what it holds one
    after the other, where that is not one kind: (kind, start and end in seconds).
    """

    @property
    def content_kind(self) -> str: ...

    @property
    def treatment(self) -> Treatment: ...

    @property
    def known(self) -> Known: ...

    @property
    def passages(self) -> Sequence[Passage]: ...

    @property
    def unsteadiness_db(self) -> Callable[[], float | None] | None: ...

    @property
    def spans(self) -> Sequence[tuple[str, float, float]]: ...

    @property
    def levels(self) -> Levels: ...

    @property
    def filtered(self) -> Callable[[], Levels] | None: ...


@dataclass(frozen=True)
class Given:
    """A section whose levels are at hand."""

    levels: Levels
    content_kind: str
    treatment: Treatment
    filtered: Callable[[], Levels] | None = None
    known: Known = NOTHING_KNOWN
    passages: Sequence[Passage] = ()
    spans: Sequence[tuple[str, float, float]] = ()
    unsteadiness_db: Callable[[], float | None] | None = None


def plan_set(members: Sequence[Member], outlet: Outlet) -> list[LevelPlan | CannotMake]:
    """The plan of each section, or the reason why there is none.

    Sections whose treatment says so get one gain: the one that brings all of them together to the outlet's aim, moved
    as far as it takes to bring each into its range where that can be. Where the outlet wants sections near each other,
    those that would lie too far from the median loudness are brought nearer.
    """
    shared_db = shared_gain_db([member for member in members if member.treatment.together], outlet)
    plans = [plan_member(member, outlet, shared_db) for member in members]
    wanted = wanted_near([_loudness_of(plan) for plan in plans], outlet)
    return [
        plan if near is None else plan_member(member, outlet, shared_db, near)
        for member, plan, near in zip(members, plans, wanted, strict=True)
    ]


def plan_member(
    member: Member, outlet: Outlet, shared_db: float | None, near: Range | None = None
) -> LevelPlan | CannotMake:
    """The plan of one section, with the gain of its set and the loudness it has to lie near, where it has them."""
    levels = member.levels
    asked: dict[str, Any] = {"channels": levels.channels, "content_kind": member.content_kind}
    lossy = outlet.encoding(**asked).lossy
    try:
        if member.passages:
            wishes: dict[str, Any] = {
                "lossy": lossy,
                "treatment": member.treatment,
                "known": member.known,
                "unsteadiness_db": member.unsteadiness_db,
            }
            plan = plan_parted(levels, member.passages, outlet, **asked, **wishes)
            return with_balance(plan, levels, member.spans, outlet)
        plan = plan_levels(
            levels,
            outlet.demands(**asked),
            lossy=lossy,
            treatment=member.treatment,
            content_kind=member.content_kind,
            fixed_gain_db=shared_db if member.treatment.together else None,
            near=near,
            filtered=member.filtered,
            known=member.known,
            unsteadiness_db=member.unsteadiness_db,
        )
        return with_balance(plan, levels, member.spans, outlet)
    except CannotMake as error:
        return error


def wanted_near(reached_lufs: Sequence[float | None], outlet: Outlet) -> list[Range | None]:
    """For each section that would lie too far from the median loudness of all, the range it has to come into, LUFS."""
    rule = outlet.rule(CONSISTENCY)
    demand = rule.demands[None] if rule else None
    known = [figure for figure in reached_lufs if figure is not None]
    if not isinstance(demand, Range) or not known:
        return [None] * len(reached_lufs)
    middle, within = median(known), demand.high
    near, far = Range(low=middle - within, high=middle + within), within - _INSIDE_LU
    return [near if figure is not None and abs(figure - middle) > far else None for figure in reached_lufs]


def _loudness_of(plan: LevelPlan | CannotMake) -> float | None:
    return plan.predicted.get(INTEGRATED) if isinstance(plan, LevelPlan) else None


def shared_gain_db(members: Sequence[Member], outlet: Outlet) -> float | None:
    """One gain for all of a set, dB; None where there are none, or none that can be levelled."""
    steps, energy, frames, highest = [], 0.0, 0, dict.fromkeys(PEAK_RULES, -inf)
    lowest_db, highest_db = -inf, inf
    together: dict[str, Demand] = {}
    for member in members:
        levels = member.levels
        if levels.silent:
            continue
        demands = outlet.demands(channels=levels.channels, content_kind=member.content_kind)
        together = together or demands
        figures = {name: getattr(levels, name) for name in _FIGURES}
        try:
            low_db, high_db = gain_range(figures, demands)
        except CannotMake:
            continue
        lowest_db, highest_db = max(lowest_db, low_db), min(highest_db, high_db)
        steps.append(levels.steps)
        energy, frames = energy + 10 ** (certain(levels.rms_dbfs) / 10) * levels.frames, frames + levels.frames
        highest = {name: max(peak, figures[name]) for name, peak in highest.items()}
    if not steps:
        return None
    rms_dbfs = db_of_power(energy / frames)
    whole: dict[str, float | None] = {
        # As loud as it is to be, nothing of a voice lies below the absolute gate.
        INTEGRATED: loudness.once_raised(np.concatenate(steps), max(0.0, -max(highest.values()))),
        RMS: rms_dbfs,
        RMS_AES17: rms_dbfs + 10 * float(np.log10(2)),
    }
    gain_db = needed_gain_db({**whole, **highest}, together)
    if lowest_db <= highest_db:
        # Every section can be in its range at once: no further from the aim than that takes.
        inside_db = min(0.1, (highest_db - lowest_db) / 2)
        gain_db = min(max(gain_db, lowest_db + inside_db), highest_db - inside_db)
    return gain_db
