"""What a run will make, before it is begun: names, sizes and how long it will take."""

import os
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from django.db.models import F

from mastering.audio.encodings import size_range_bytes
from mastering.audio.formats import CODECS
from mastering.certain import certain
from mastering.outlets.demands import Range
from mastering.outlets.outlet import Outlet
from mastering.outlets.rules.artwork import FROM_MARKS
from sermovox.cutting.models import Page
from sermovox.cutting.oddities import oddity
from sermovox.deliveries.models import FinishedFile
from sermovox.deliveries.runs import PlannedFile, plan_run
from sermovox.keeping import storage
from sermovox.productions.models import Production, Section
from sermovox.sources.names import naming_for
from sermovox.sources.soundings import Soundings

_TAGS_BYTES = 4000
_RUNS_LOOKED_AT = 20


@dataclass(frozen=True)
class Estimate:
    """One file that would be made: its length and the least and most bytes it will have."""

    file: PlannedFile
    duration_s: float
    low_bytes: float
    high_bytes: float
    odd: str = ""
    """What looks wrong about its length."""


class Proposed:
    """What a run would make for one outlet. Sizes and time are worked out when somebody looks at them.

    `wishes` are those of `plan_run`. Raises CannotMake.
    """

    def __init__(self, production: Production, outlet: Outlet, sections: list[Section], **wishes):
        self._production = production
        files, self.plan = plan_run(production, outlet, sections, **wishes)
        self.outlet, self._sections = files.outlet, files.soundings.sections
        self.naming = naming_for(production, outlet)

    @cached_property
    def files(self) -> list[Estimate]:
        return [_estimated(self.outlet, file, self._sections) for file in self.plan.files]

    @property
    def making_s(self) -> float:
        return sum(each.duration_s for each in self.files) / _speed(self._production, self.outlet)

    @property
    def low_bytes(self) -> float:
        return sum(each.low_bytes for each in self.files)

    @property
    def high_bytes(self) -> float:
        return sum(each.high_bytes for each in self.files)

    @property
    def too_large(self) -> str:
        """What is sure to be larger than the outlet takes, in a sentence; else nothing."""
        sizes_mb = [each.low_bytes / 1e6 for each in self.files]
        for rule in self.outlet.rules:
            foretells, demand = rule.kind.foretells, rule.demands.get(None)
            if foretells and isinstance(demand, Range) and (told := foretells(demand, sizes_mb)):
                return told
        return ""


def proposed_for(
    production: Production, outlets: Sequence[Outlet], sections: list[Section], **wishes
) -> list[Proposed]:
    """What a run would make for each outlet. Raises CannotMake."""
    soundings = Soundings(production)
    return [Proposed(production, outlet, sections, soundings=soundings, **wishes) for outlet in outlets]


def is_to_be_seen(proposed: Sequence[Proposed], existing: str) -> bool:
    """Whether somebody has to look before it is made: names cannot be used, or were used before and nobody said what
    then, or nothing would be made.
    """
    unsettled = any(
        each.plan.problems or (each.plan.conflicts and not existing and not each.naming.existing) for each in proposed
    )
    return unsettled or not any(each.plan.files for each in proposed)


def settled_existing(proposed: Sequence[Proposed], existing: str, *, remember: bool) -> dict[str, str]:
    """What is done for each outlet about files of the same names; kept for later runs where that is wished."""
    if existing and remember:
        for each in proposed:
            each.naming.existing = existing
            each.naming.save()
    return {each.outlet.key: existing or each.naming.existing for each in proposed}


class Together:
    """All outlets of a run together."""

    def __init__(self, wanted: Sequence[Proposed]):
        self.files = sum(len(each.files) for each in wanted)
        self.low_bytes = sum(each.low_bytes for each in wanted)
        self.high_bytes = sum(each.high_bytes for each in wanted)
        workers = min(self.files or 1, os.cpu_count() or 1)
        self.making_s = sum(each.making_s for each in wanted) / workers
        self.conflicts = sum(len(each.plan.conflicts) for each in wanted)
        self.to_come = any(not certain(file.earlier).is_made for each in wanted for file in each.plan.conflicts)
        self.problems = sum(len(each.plan.problems) for each in wanted)
        self.up_to_date = sum(len(each.plan.up_to_date) for each in wanted)
        self.rewritable = sum(len(each.plan.rewritable) for each in wanted)


def _estimated(outlet: Outlet, file: PlannedFile, sections: list[Section]) -> Estimate:
    sounding = file.wanted.sounding
    parts = [section for section in sections if section.pk in sounding.parts] or [certain(sounding.section)]
    duration_s = sum(_duration_s(section) for section in parts)
    low, high = size_range_bytes(file.wanted.encoding, duration_s)
    around = _TAGS_BYTES if outlet.tag_patterns else 0
    picture = outlet.artwork.at_most_bytes if outlet.artwork else 0
    picture += sum(len(storage.picture(sha256)) for sha256 in _chapter_pictures(outlet, parts))
    odd = oddity(duration_s, sounding.section.script) if sounding.section else ""
    return Estimate(file, duration_s, low + around, high + around + picture, odd)


def _chapter_pictures(outlet: Outlet, sections: list[Section]) -> list[str]:
    """The pictures that chapter marks of a file show, by their hashes; perhaps a few more."""
    if not outlet.chapters:
        return []
    shown = [section.picture for section in sections]
    if outlet.chapters == FROM_MARKS:
        pages = Page.objects.filter(recording__in={section.recording_id for section in sections} - {None})
        shown += [mark.picture for page in pages for mark in page.mark_list]
    return [sha256 for sha256 in shown if sha256]


def _duration_s(section: Section) -> float:
    if section.length_s is not None:
        return section.length_s
    return (section.recording.figures.get("duration_s") or 0.0) if section.recording else 0.0


def _speed(production: Production, outlet: Outlet) -> float:
    """How many times faster than it sounds a file for this outlet is made: as the last ones were."""
    codec = outlet.encodings()[0].codec
    made = FinishedFile.objects.made().filter(
        delivery__production__owner=production.owner, delivery__outlet_key=outlet.key, finished_at__gt=F("started_at")
    )
    rows = list(
        made.order_by("-pk").values_list(
            "delivery__run", "section_id", "figures__duration_s", "started_at", "finished_at"
        )[:_RUNS_LOOKED_AT]
    )
    runs = FinishedFile.objects.made().filter(delivery__run__in={row[0] for row in rows})
    # The files of one section are made together: each has its share of the time.
    together = Counter(runs.values_list("delivery__run", "section_id"))
    took_s = sum((end - start).total_seconds() / together[run, section] for run, section, _, start, end in rows)
    sounded_s = sum(duration_s or 0.0 for _, _, duration_s, _, _ in rows)
    return sounded_s / took_s if sounded_s and took_s else CODECS[codec].speed
