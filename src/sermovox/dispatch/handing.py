"""How far a production is at each of its outlets: what is owed and by when, what can go, what has arrived."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from django.utils import timezone

from mastering.outlets.outlet import Outlet
from sermovox.deliveries.bundles import Bundle, Current
from sermovox.deliveries.models import FinishedFile
from sermovox.dispatch.models import Dispatch, Heard, Part, Promise, Wish
from sermovox.outlets.models import outlets_of
from sermovox.productions.models import Production

NO_WISH, AT_ONCE, AFTER_HEARING = "when I send it", "by itself once all passes", "once all passes and was listened to"
WISHES = (NO_WISH, AT_ONCE, AFTER_HEARING)


@dataclass(frozen=True, kw_only=True)
class Owing:
    """A production at one outlet. `wanted` is how many files it asks for; `ready` are those that are made, up to date
    and pass; `gone` the keys of those that went there, `there` of those that are there, `counted` of those of them of
    which no more is known than their size.
    """

    production: Production
    outlet: Outlet
    bundle: Bundle
    wanted: int
    ready: Sequence[FinishedFile]
    gone: frozenset[int]
    there: frozenset[int]
    counted: frozenset[int]
    under_way: Dispatch | None
    promise: Promise | None
    wish: Wish | None

    @cached_property
    def to_send(self) -> list[FinishedFile]:
        """What can go and did not."""
        return [file for file in self.ready if file.pk not in self.gone]

    @property
    def wished(self) -> str:
        """When it goes there by itself, of the `WISHES`."""
        return NO_WISH if not self.wish else AFTER_HEARING if self.wish.after_hearing else AT_ONCE

    @property
    def out(self) -> int:
        """How many went there by mail, and nobody knows whether they are there."""
        return len(self.gone - self.there)

    @property
    def behind(self) -> int:
        """How many files cannot go yet: they are to be made, have changed, or fail."""
        return self.wanted - len(self.ready)

    @property
    def is_done(self) -> bool:
        return bool(self.wanted) and len(self.there) == self.wanted

    @property
    def is_late(self) -> bool:
        promise = self.promise
        return promise is not None and promise.is_late

    @property
    def unheard(self) -> int:
        """How many of those that can go nobody has listened to."""
        return len(Heard.without(self.to_send))


def owing(production: Production, outlet: Outlet) -> Owing:
    """How far a production is at an outlet, as it stands now."""
    current = Current(production, outlet)
    bundle = current.bundle
    changed = {file.pk for _, file, changes in current.rows if file and changes}
    ready = [file for file in bundle.files if file.pk not in changed and file.state != FinishedFile.State.FAILS]
    hashes = {file.pk: file.sha256 for file in ready}
    parts = Part.objects.filter(dispatch__outlet_key=outlet.key, file__in=hashes)
    states = [
        (key, state) for key, state, sha256 in parts.values_list("file", "state", "sha256") if hashes[key] == sha256
    ]
    arrived = {key for key, state in states if state == Part.State.ARRIVED}
    dispatches = Dispatch.objects.filter(production=production, outlet_key=outlet.key)
    promise = Promise.objects.filter(production=production, outlet_key=outlet.key).first()
    found = Owing(
        production=production,
        outlet=outlet,
        bundle=bundle,
        wanted=len(current.rows),
        ready=ready,
        gone=frozenset(key for key, state in states if state in Part.GONE),
        there=frozenset(key for key, state in states if state in Part.LANDED),
        counted=frozenset(key for key, state in states if state == Part.State.THERE) - arrived,
        under_way=dispatches.exclude(state__in=Dispatch.OVER).first(),
        promise=promise,
        wish=Wish.objects.filter(production=production, outlet_key=outlet.key, delivery=None).first(),
    )
    if promise and promise.kept_at is None and found.is_done:
        promise.kept_at = timezone.now()
        promise.save(update_fields=["kept_at"])
    return found


def owing_of(production: Production) -> list[Owing]:
    """At every outlet of a production: those of its running order, and those it was made or promised for."""
    known = outlets_of(production.owner)
    keys = [
        *production.outlet_keys,
        *production.deliveries.order_by("pk").values_list("outlet_key", flat=True),
        *production.promises.values_list("outlet_key", flat=True),
    ]
    return [owing(production, known[key]) for key in dict.fromkeys(keys) if key in known]


def promised(user) -> list[Owing]:
    """What is promised and has not arrived yet, the most urgent first."""
    known = outlets_of(user)
    promises = Promise.objects.filter(production__owner=user, production__deleted_at=None, kept_at=None)
    promises = promises.exclude(due_on=None)
    open_ones = [each for each in promises.select_related("production") if each.outlet_key in known]
    return [row for each in open_ones if not (row := owing(each.production, known[each.outlet_key])).is_done]
