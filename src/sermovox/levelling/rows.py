"""Files beside each other with their plans, as the Levels screens show them."""

from dataclasses import dataclass, replace
from enum import StrEnum

from mastering.outlets.outlet import Outlet
from mastering.shaping.treatment import Treatment
from sermovox.levelling.members import Member, members_of
from sermovox.levelling.plans import Planned, plans_of
from sermovox.levelling.tasks import measure_sections
from sermovox.productions.models import Production, Section
from sermovox.sources.soundings import Soundings
from sermovox.work.queue import enqueue_once

_WITHIN_S = 0.6
"""So long a page may take over plans; what is left comes with the next look at the rows."""


class State(StrEnum):
    """What a plan comes to; called as finished files are."""

    WAITING = "waiting"
    PASSES = "passes"
    REMARKS = "passes with a remark"
    FAILS = "fails"
    REFUSED = "cannot be made"


@dataclass(frozen=True)
class Row:
    """One file, planned or waiting."""

    place: int
    member: Member
    planned: Planned | None
    rough: bool = False
    """Whether it is planned from levels without the rumble filter, while those with it are being measured."""

    @property
    def measuring(self) -> bool:
        """Whether it waits for its levels; else for no more than the next look."""
        return self.planned is None and not self.member.is_measured

    @property
    def state(self) -> State:
        if self.planned is None:
            return State.WAITING
        if self.planned.plan is None:
            return State.REFUSED
        if self.planned.plan.collisions:
            return State.FAILS
        return State.REMARKS if self.planned.plan.remarks or self.planned.plan.uneven else State.PASSES

    @property
    def badness(self) -> tuple:
        """What is worst comes first: what cannot be made, what misses most, what asks for most limiting and gain."""
        if self.planned is None:
            return (1, 0.0, 0.0)
        plan = self.planned.plan
        if plan is None:
            return (4, 0.0, 0.0)
        rank = 3 if plan.collisions else 2 if plan.remarks or plan.uneven else 0
        return (rank, sum(plan.unmet.values()), plan.limited_db + abs(plan.gain_db))


def rows_of(members: list[Member], outlet: Outlet, production: Production) -> list[Row]:
    """A row for each file, planned or waiting; what is not measured yet is queued."""
    if any(not member.refusal and not member.is_measured for member in members):
        enqueue_once(measure_sections, production.pk, outlet.key)
    return _rows(members, outlet)


def _rows(members: list[Member], outlet: Outlet) -> list[Row]:
    planned = plans_of(members, outlet, within_s=_WITHIN_S)
    return [Row(place, *each) for place, each in enumerate(zip(members, planned, strict=True), 1)]


def rows_of_section(
    found: Section, outlet: Outlet, voice: int, tried: Treatment | None = None
) -> tuple[list[Row], Row | None]:
    """The rows of a section, one for each of its voices, and the one that is looked at; as they would be with a
    treatment that is `tried`.
    """
    production = found.production
    alone = not (tried or found.wishes).together and not outlet.compares_files
    soundings = Soundings(production)
    members = members_of(soundings, [found] if alone else soundings.sections, outlet)
    if tried is None:
        everyone = rows_of(members, outlet, production)
    else:
        everyone = _rows([_with(member, found, tried) for member in members], outlet)
    own = [row for row in everyone if row.member.sounding.section and row.member.sounding.section.pk == found.pk]
    if not own:
        return own, None
    row = own[min(voice, len(own) - 1)]
    return own, _roughly(row, outlet) if row.planned is None and row.member.treatment.measured_hz else row


def _with(member: Member, section: Section, tried: Treatment) -> Member:
    own = member.sounding.section and member.sounding.section.pk == section.pk
    return member.like(replace(member.sounding, treatment=tried)) if own else member


def _roughly(row: Row, outlet: Outlet) -> Row:
    """A row planned from what is known already, so that the rumble filter can be heard at once."""
    wanted = row.member.treatment
    sounding = replace(row.member.sounding, treatment=replace(wanted, rumble_hz=0.0, together=False))
    member = row.member.like(sounding)
    planned = plans_of([member], outlet)[0]
    if planned is None or planned.plan is None:
        return row
    plan = replace(planned.plan, rumble_hz=wanted.rumble_hz)
    return replace(row, member=member, planned=replace(planned, plan=plan), rough=True)
