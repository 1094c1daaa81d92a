"""What has to be allowed for a section to meet an outlet's level rules: the gentlest treatment whose plan does."""

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

from mastering.outlets.outlet import Outlet
from mastering.said import Said, both
from mastering.shaping.treatment import ALWAYS, MOST_HUSH_DB, NEEDED, NEVER, Treatment
from sermovox.levelling.plans import plans_of
from sermovox.levelling.rows import Row, rows_of_section
from sermovox.productions.models import Section


@dataclass(frozen=True)
class Remedy:
    """A treatment under which the level rules are met, what it allows in words, and the row it would be."""

    treatment: Treatment
    words: str
    row: Row

    @property
    def hear_from_s(self) -> int:
        """Where to listen first: before the quiet that noise is learned from, so that words and a pause are heard."""
        plan = self.row.planned and self.row.planned.plan
        return max(0, int(plan.noise_s[0]) - 5) if plan and plan.noise_s else 0


def remedy_of(section: Section, outlet: Outlet) -> Remedy | None:
    """The gentlest of what could be allowed besides what is allowed already; None where nothing is missed, where
    nothing mends it, or where that follows from other sections too.
    """
    if outlet.joined or outlet.compares_files or section.wishes.together:
        return None
    own, row = rows_of_section(section, outlet, 0)
    if len(own) != 1 or row is None or row.planned is None or row.planned.plan is None or not row.planned.plan.unmet:
        return None
    for treatment in _gentlest_first(row.member.treatment):
        member = row.member.like(replace(row.member.sounding, treatment=treatment))
        (planned,) = plans_of([member], outlet)
        if planned is None or planned.plan is None or planned.plan.collisions:
            continue
        hush_db = planned.plan.hush_db
        allowed = replace(treatment, hush_db=max(1.0, math.ceil(hush_db))) if hush_db else treatment
        words: list[str] = [Said("hush-of-db", hush_db=allowed.hush_db)] if hush_db and treatment.hush == NEEDED else []
        words += [Said("ride")] if treatment.ride != row.member.treatment.ride else []
        return Remedy(allowed, both(words), replace(row, member=member, planned=planned))
    return None


def _gentlest_first(now: Treatment) -> Iterator[Treatment]:
    hushed = None if now.hush == ALWAYS else replace(now, hush=NEEDED, hush_db=MOST_HUSH_DB)
    if hushed:
        yield hushed
    if now.ride == NEVER:
        yield replace(now, ride=NEEDED)
        if hushed:
            yield replace(hushed, ride=NEEDED)
