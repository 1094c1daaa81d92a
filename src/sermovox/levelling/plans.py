"""Plans of the files of a production for an outlet, worked out once for what they follow from."""

import json
import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass

from mastering.certain import certain
from mastering.errors import CannotMake, UnreadableRecording
from mastering.meters.measurement import Progress
from mastering.outlets.curves import Bar, bar_after, bar_before
from mastering.outlets.demands import Range
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.outlet import Outlet
from mastering.outlets.setplan import plan_member, shared_gain_db, wanted_near
from mastering.said import Said, plain, revived
from sermovox.keeping import caches, storage
from sermovox.levelling.members import Member, NotMeasured
from sermovox.sources.soundings import digest

_NOTHING_NEW = -1.0


@dataclass(frozen=True)
class Planned:
    """A plan with how loud the section is before and after it, or the reason why there is none."""

    plan: LevelPlan | None = None
    before: Bar | None = None
    after: Bar | None = None
    refusal: str = ""


def plans_of(members: Sequence[Member], outlet: Outlet, *, within_s: float | None = None) -> list[Planned | None]:
    """The plan of each file beside the others; None for those whose levels, or whose set's levels, are not known yet.

    Nothing new is begun once `within_s` seconds have passed, and None stands for what is left.
    """
    until = None if within_s is None else time.monotonic() + within_s
    try:
        shared_db = _shared(members, outlet)
    except NotMeasured:
        shared_db = None
        waiting = True
    else:
        waiting = False
    found: list[Planned | None] = []
    for member in members:
        if member.refusal:
            found.append(Planned(refusal=member.refusal))
            continue
        late = until is not None and time.monotonic() > until
        held_up = waiting and member.treatment.together or not member.is_measured
        found.append(None if held_up else _planned(member, outlet, shared_db, None, only_kept=late))
    known = [each for each in found if each is not None]
    if len(known) < len(found):
        return found
    reached = [each.plan.predicted.get("integrated_lufs") if each.plan else None for each in known]
    wanted = wanted_near(reached, outlet)
    return [
        each if near is None else _planned(member, outlet, shared_db, near, only_kept=False)
        for member, each, near in zip(members, known, wanted, strict=True)
    ]


def known_to_miss(members: Sequence[Member], outlet: Outlet) -> list[Member]:
    """Those of which a plan that was worked out before says that they will miss a rule, or cannot be made."""
    planned = plans_of(members, outlet, within_s=_NOTHING_NEW)
    return [member for member, each in zip(members, planned, strict=True) if each and _misses(each)]


def _misses(planned: Planned) -> bool:
    return planned.plan is None or bool(planned.plan.collisions)


def plan_beside(
    member: Member, everyone: Sequence[Member], outlet: Outlet, progress: Progress | None = None
) -> LevelPlan | None:
    """The plan of one of several files, measuring what is not measured yet; None where it needs no other's.

    What cannot be measured of the others is left out. Raises CannotMake, UnreadableRecording, or what `progress` does.
    """
    if not member.treatment.together and not outlet.compares_files:
        return None
    if member.refusal:
        raise CannotMake(member.refusal)
    member.measure(progress)
    for other in everyone:
        try:
            other.measure(progress)
        except UnreadableRecording as error:
            other.refuse(str(error))
    at = next(at for at, each in enumerate(everyone) if each.key == member.key)
    planned = certain(plans_of(everyone, outlet)[at])
    if planned.plan is None:
        raise CannotMake(planned.refusal)
    return planned.plan


def _shared(members: Sequence[Member], outlet: Outlet) -> float | None:
    """The gain of those that are levelled together, kept once it is found."""
    # In an order of their own: which of them a plan is for changes nothing.
    together = sorted(
        (member for member in members if member.treatment.together and not member.refusal),
        key=lambda member: (member.key, repr(member.facts)),
    )
    if not together:
        return None
    path = storage.cached(digest(["gain", [member.facts for member in together], repr(outlet)]), "gain.json")
    with suppress(FileNotFoundError):
        return json.loads(caches.read(path))
    if not all(member.is_measured for member in together):
        raise NotMeasured(Said("section-set-being-measured"))
    gain_db = shared_gain_db(together, outlet)
    caches.keep(path, json.dumps(gain_db).encode())
    return gain_db


def _planned(
    member: Member, outlet: Outlet, shared_db: float | None, near: Range | None, *, only_kept: bool
) -> Planned | None:
    gain_db = shared_db if member.treatment.together else None
    path = storage.cached(digest([member.facts, repr(outlet), gain_db, repr(near)]), "planned.json")
    with suppress(FileNotFoundError):
        return _read(revived(json.loads(caches.read(path))))
    if only_kept:
        return None
    planned = _made(member, outlet, shared_db, near)
    caches.keep(path, json.dumps(plain(asdict(planned))).encode())
    return planned


def _made(member: Member, outlet: Outlet, shared_db: float | None, near: Range | None) -> Planned:
    plan = plan_member(member, outlet, shared_db, near)
    levels = member.levels
    before = bar_before(levels)
    if not isinstance(plan, LevelPlan):
        return Planned(before=before, refusal=str(plan))
    return Planned(plan, before, bar_after(levels, plan))


def _read(values: dict) -> Planned:
    bars = {name: Bar(**values[name]) if values[name] else None for name in ("before", "after")}
    plan = LevelPlan.from_dict(values["plan"]) if values["plan"] else None
    return Planned(plan, bars["before"], bars["after"], values["refusal"])
