"""Runs: what would be made for chosen sections and outlets, and the making of it begun."""

import json
import uuid
from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial

from django.db import transaction

from mastering.errors import CannotMake
from mastering.naming.checks import NameProblem, numbered
from mastering.outlets.outlet import Outlet
from mastering.outlets.rulesheets import written
from mastering.said import together
from sermovox.deliveries.fingerprints import NO_DATE, UP_TO_DATE, Changes, followed_by
from sermovox.deliveries.inscriptions import Inscriptions
from sermovox.deliveries.models import (
    Delivery,
    FinishedFile,
    FinishedFileQuerySet,
    current_files,
    holding_files,
)
from sermovox.deliveries.tasks import make_files
from sermovox.productions.models import Naming, Production, Section
from sermovox.sources.names import Wanted, WantedFiles, today
from sermovox.sources.soundings import Soundings, digest
from sermovox.work.queue import enqueue


@dataclass(frozen=True)
class PlannedFile:
    """A file about to be made, and the earlier one for the same outlet that has its name already.

    `current` is the file that stands for it now, under whatever name, and `changes` what of that is no longer so;
    None where there is none, or where it does not do.
    """

    wanted: Wanted
    earlier: FinishedFile | None
    follows: dict
    said: dict
    current: FinishedFile | None
    changes: Changes

    @property
    def needed(self) -> bool:
        """Whether something is gained by making it: more than a new name or other tags."""
        if self.current is None or self.current.state == FinishedFile.State.FAILS:
            return True
        return bool(self.changes) and not self.changes.rewritable


@dataclass(frozen=True)
class Plan:
    """What a run would make, what it leaves alone because its sound is up to date, and the names that cannot be used.

    `of_all` counts the files there are of all sections that can be made. Of a file of all sections, `inside` are those
    it holds, `left_out` those it goes without because they have no recording yet, `apart` those that are heard by
    themselves.
    """

    files: list[PlannedFile]
    up_to_date: list[PlannedFile]
    problems: list[tuple[str, NameProblem]]
    of_all: int
    left_out: tuple[str, ...] = ()
    apart: tuple[str, ...] = ()
    inside: tuple[str, ...] = ()

    @property
    def conflicts(self) -> list[PlannedFile]:
        return [plan for plan in self.files if plan.earlier]

    @property
    def rewritable(self) -> list[PlannedFile]:
        """Those left alone whose name and tags are to be written again."""
        return [plan for plan in self.up_to_date if plan.changes]


def plan_run(
    production: Production,
    outlet: Outlet,
    sections: list[Section],
    *,
    some: bool = False,
    again: bool = False,
    soundings: Soundings | None = None,
) -> tuple[WantedFiles, Plan]:
    """Settle what is made for some sections, as it follows from the whole running order.

    A file of all sections takes every one that is ready, whichever are chosen, unless `some` asks for one of these
    alone, which has a name of its own. Files that are up to date are left alone unless `again` asks for them too.
    Raises CannotMake where what is chosen cannot sound.
    """
    keys = {section.pk for section in sections}
    soundings = soundings or Soundings(production)
    some_keys = keys if some and outlet.joined and keys != {each.pk for each in soundings.sections} else ()
    files = WantedFiles(production, outlet, soundings=soundings, some=some_keys)
    chosen = files.chosen(keys)
    for file in chosen:
        if file.sounding.refusal:
            raise CannotMake(together([files.outlet.title, file.sounding.title, file.sounding.refusal], ": "))
    inscriptions = Inscriptions(production, soundings)
    undated = WantedFiles(production, outlet, soundings=soundings, some=some_keys, date=NO_DATE)
    follows = followed_by(undated, inscriptions)
    earlier = {file.name.casefold(): file for file in holding_files(production, outlet.key)}
    current = {} if some_keys else current_files(production, outlet.key)
    planned = []
    for file in chosen:
        has, values = current.get(file.key), follows[file.key].values
        planned.append(
            PlannedFile(
                wanted=file,
                earlier=earlier.get(file.name.casefold()),
                follows=values,
                said=inscriptions.settled(file, files.outlet, date=today()),
                current=has,
                changes=has.changes_to(values) if has else UP_TO_DATE,
            )
        )
    told = [(file.sounding.title, problem) for file, problem in files.problems if problem.grave and file in chosen]
    done = [] if again else [plan for plan in planned if not plan.needed]
    parts = chosen[0].sounding.parts if outlet.joined and chosen and not some_keys else None
    out = [] if parts is None else [each for each in soundings.sections if each.pk not in parts]
    apart = tuple(each.title for each in out if each.stretches())
    left_out = tuple(each.title for each in out if not each.stretches())
    inside = tuple(each.title for each in soundings.sections if parts and each.pk in parts)
    of_all = sum(not file.sounding.refusal for file in files.files) if not some_keys else 0
    return files, Plan([plan for plan in planned if plan not in done], done, told, of_all, left_out, apart, inside)


def start_run(
    production: Production,
    outlets: list[Outlet],
    sections: list[Section],
    *,
    existing: Mapping[str, str] | None = None,
    some: bool = False,
    again: bool = False,
) -> list[Delivery]:
    """Queue the files of some sections for one outlet or several, as `plan_run` plans them. All they follow from is
    settled now: sound, treatment, names, and what they say of themselves.

    `existing` says for each outlet's key what is done where an earlier file has the same name; where it does not,
    both are kept. An outlet for which everything is skipped or up to date has no delivery. Raises CannotMake where
    a name cannot be used.
    """
    run, deliveries, soundings = uuid.uuid4(), [], Soundings(production)
    with transaction.atomic():
        production.last_outlets = [outlet.key for outlet in outlets]
        production.save(update_fields=["last_outlets"])
        for outlet in outlets:
            choice = (existing or {}).get(outlet.key) or Naming.Existing.KEEP_BOTH
            files, plan = plan_run(production, outlet, sections, some=some, again=again, soundings=soundings)
            delivery = _settle(files, plan, choice, run, some=some)
            deliveries += [delivery] if delivery else []
        queue_files(FinishedFile.objects.filter(delivery__in=deliveries))
    return deliveries


def _settle(files: WantedFiles, plan: Plan, existing: str, run: uuid.UUID, *, some: bool) -> Delivery | None:
    production, outlet = files.production, files.outlet
    if plan.problems:
        raise CannotMake(together([outlet.title, str(plan.problems[0][0]), plan.problems[0][1].words], ": "))
    skips = existing == Naming.Existing.SKIP
    wanted = [each for each in plan.files if not (skips and each.earlier)]
    if not wanted:
        return None
    taken = {file.name.casefold() for file in holding_files(production, outlet.key)}
    taken |= {each.wanted.name.casefold() for each in plan.files}
    delivery = Delivery.objects.create(
        production=production,
        outlet_key=outlet.key,
        outlet_toml=written(outlet),
        run=run,
        whole=len(wanted) == plan.of_all,
        left_out=plan.left_out,
        members=_members(files, wanted),
    )
    for each in wanted:
        sounding, name = each.wanted.sounding, each.wanted.name
        replaces = each.earlier if existing == Naming.Existing.REPLACE else None
        if each.earlier and not replaces:
            name = numbered(name, taken)
        taken.add(name.casefold())
        delivery.files.create(
            section=sounding.section,
            title=sounding.title[:200],
            recording=sounding.recording,
            content_kind=sounding.content_kind,
            programme=sounding.programme,
            voice=sounding.voice,
            section_keys=list(sounding.parts),
            excerpt=some and outlet.joined,
            treatment=sounding.treatment.as_dict(),
            place=each.wanted.place,
            name=name,
            follows=each.follows,
            fingerprint=digest(each.follows),
            said=each.said,
            replaces=replaces,
        )
    return delivery


def run_again(delivery: Delivery) -> None:
    """Queue once more what was cancelled or could not be made in the whole run."""
    with transaction.atomic():
        delivery.of_run.update(cancelled_at=None)
        keys = list(FinishedFile.objects.filter(delivery__run=delivery.run).unmade().values_list("pk", flat=True))
        unmade = FinishedFile.objects.filter(pk__in=keys)
        for file in unmade.select_related("delivery__production", "replaces"):
            file.take_free_name()
        unmade.update(state=FinishedFile.State.WAITING, share=0.0, refusal="", starts=0)
        queue_files(unmade)


def _members(files: WantedFiles, wanted: list[PlannedFile]) -> list[dict]:
    """All that the wanted files are levelled beside; empty where each is levelled by itself."""
    together = any(each.wanted.sounding.treatment.together for each in wanted)
    if files.outlet.joined or not (together or files.outlet.compares_files):
        return []
    return [each.sounding.settled() for each in files.files if not each.sounding.refusal]


def queue_files(files: FinishedFileQuerySet) -> None:
    """Have files made once the transaction is over: those of one section for several outlets together."""
    first = files.select_related("delivery__production").first()
    if first is None:
        return
    own = FinishedFile.objects.under_way().filter(delivery__production__owner=first.delivery.production.owner_id)
    behind = own.exclude(pk__in=files.values("pk")).count()
    together: dict[str, list[int]] = {}
    rows = files.order_by("place", "pk").values_list("pk", "section_id", "recording_id", "programme", "treatment")
    # The file of all sections takes longest and is begun first, so that no worker is left alone with it.
    for key, *sound in sorted(rows, key=lambda row: row[1] is not None):
        together.setdefault(json.dumps(sound, sort_keys=True), []).append(key)
    for number, keys in enumerate(together.values()):
        transaction.on_commit(partial(enqueue, make_files, keys, behind=behind + number))
