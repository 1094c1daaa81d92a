"""What takes the room on the disk, by production and kind, and what lies in a person's bin."""

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Protocol

from django.conf import settings
from django.db.models import BigIntegerField, Q, QuerySet, Sum
from django.db.models.fields.json import KeyTextTransform
from django.db.models.functions import Cast

from mastering.certain import certain
from mastering.errors import MasteringError
from mastering.said import Said, together
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.productions.models import Production
from sermovox.recordings.models import Recording
from sermovox.ui.numerals import whole_number


class Binned(Protocol):
    """What can be deleted: it lies in the bin for some time before its bytes go."""

    def put_away(self) -> None: ...
    def take_back(self) -> None: ...
    def empty_bin(self) -> None: ...


@dataclass(frozen=True, kw_only=True)
class Holding:
    """What one production takes: its recordings, its finished files, and what of it lies in the bin; in bytes.

    No production stands for those of other people.
    """

    production: Production | None
    recordings_bytes: int
    finished_bytes: int
    binned_bytes: int

    @property
    def whole_bytes(self) -> int:
        return self.recordings_bytes + self.finished_bytes + self.binned_bytes

    @property
    def parts(self) -> list[tuple[str, int]]:
        """What it is made of: the class of each part of its bar and its bytes."""
        named = (
            ("recordings", self.recordings_bytes),
            ("finished", self.finished_bytes),
            ("binned", self.binned_bytes),
        )
        return [(name, size) for name, size in named if size]


@dataclass(frozen=True)
class Entry:
    """One thing in the bin. `key` is how the page names it."""

    key: str
    what: str
    title: str
    was_in: str
    size_bytes: int
    since: datetime

    @property
    def until(self) -> datetime:
        return self.since + timedelta(days=settings.KEEP_BINNED_DAYS)


def holdings(user) -> list[Holding]:
    """What each production takes, the largest first; those of other people as one. Bytes that several productions share
    count for each.
    """
    recordings = Recording.with_deleted.holding()
    gone = Q(production__deleted_at__isnull=False) | Q(binned_at__isnull=False)
    kept_of = _summed(recordings.exclude(gone), "size_bytes", "production")
    binned_of = _summed(recordings.filter(gone), "size_bytes", "production")
    sized = FinishedFile.objects.kept().annotate(bytes=_SIZE)
    gone = Q(replaced_at__isnull=False) | Q(delivery__deleted_at__isnull=False)
    gone |= Q(delivery__production__deleted_at__isnull=False)
    finished_of = _summed(sized.exclude(gone), "bytes", "delivery__production")
    for key, size in _summed(sized.filter(gone), "bytes", "delivery__production").items():
        binned_of[key] = binned_of.get(key, 0) + size
    own = Production.with_deleted.filter(owner=user).in_bulk()
    found = [
        Holding(
            production=production,
            recordings_bytes=kept_of.pop(key, 0),
            finished_bytes=finished_of.pop(key, 0),
            binned_bytes=binned_of.pop(key, 0),
        )
        for key, production in own.items()
    ]
    others = [sum(left.values()) for left in (kept_of, finished_of, binned_of)]
    names = ("recordings_bytes", "finished_bytes", "binned_bytes")
    found.append(Holding(production=None, **dict(zip(names, others, strict=True))))
    return sorted((each for each in found if each.whole_bytes), key=lambda each: -each.whole_bytes)


_SIZE = Cast(KeyTextTransform("size_bytes", "figures"), BigIntegerField())


def _summed(rows: QuerySet, size: str, of: str) -> dict[int, int]:
    return {key: whole or 0 for key, whole in rows.order_by().values_list(of).annotate(whole=Sum(size))}


def sizes_of(deliveries: Collection[Delivery]) -> dict[int, int]:
    """What the files of deliveries take, in bytes, by the keys of these; nothing for those that have none."""
    return _summed(
        FinishedFile.objects.made().filter(delivery__in=deliveries).annotate(bytes=_SIZE), "bytes", "delivery"
    )


def deliveries_of(production: Production) -> list[tuple[Delivery, int]]:
    """Its deliveries with what their files take, in bytes, the largest first."""
    found = list(production.deliveries.all())
    sizes = sizes_of(found)
    return sorted(((each, sizes.get(each.pk, 0)) for each in found), key=lambda each: -each[1])


def bin_of(user) -> list[Entry]:
    """What a person has deleted, or replaced, and what can still be taken back; the newest first."""
    entries = []
    for row in Production.with_deleted.of(user).filter(deleted_at__isnull=False):
        size_bytes = size_of_production(row)
        entries.append(Entry(f"production-{row.pk}", "production", row.title, "", size_bytes, row.deleted_at))
    binned = list(Delivery.with_deleted.of(user).filter(deleted_at__isnull=False).select_related("production"))
    sizes = sizes_of(binned)
    for row in binned:
        facts = ("delivery", row.outlet.title, row.production.title, sizes.get(row.pk, 0), row.deleted_at)
        entries.append(Entry(f"delivery-{row.pk}", *facts))
    for row in Recording.with_deleted.of(user).filter(binned_at__isnull=False).select_related("production"):
        what = "recording" if row.is_deleted else Said("recording-refused")
        facts = (what, row.name, row.production.title, row.size_bytes, row.binned_at)
        entries.append(Entry(f"recording-{row.pk}", *facts))
    files = FinishedFile.objects.filter(in_bin=True, delivery__in=Delivery.objects.of(user)).annotate(bytes=_SIZE)
    for row in files.select_related("delivery__production"):
        facts = (Said("file-replaced"), row.name, str(row.delivery), row.bytes or 0, certain(row.replaced_at))
        entries.append(Entry(f"file-{row.pk}", *facts))
    return sorted(entries, key=lambda entry: entry.since, reverse=True)


def size_of_production(production: Production) -> int:
    """All that would go with a production, in bytes."""
    recordings = Recording.with_deleted.holding().filter(production=production)
    files = FinishedFile.objects.kept().filter(delivery__production=production)
    taken = recordings.aggregate(whole=Sum("size_bytes"))["whole"] or 0
    return taken + (files.aggregate(whole=Sum(_SIZE))["whole"] or 0)


def chosen(user, keys: Iterable[str], *, binned: bool) -> list[Binned]:
    """The rows that keys of the page name, as far as they are a person's: those in the bin, or those that can be put
    there by themselves.
    """
    rows: dict[str, Any]
    if binned:
        rows = {
            "production": Production.with_deleted.of(user).filter(deleted_at__isnull=False),
            "delivery": Delivery.with_deleted.of(user).filter(deleted_at__isnull=False),
            "recording": Recording.with_deleted.of(user).filter(binned_at__isnull=False),
            "file": FinishedFile.objects.filter(in_bin=True, delivery__in=Delivery.objects.of(user)),
        }
    else:
        own: dict[str, Any] = {"production": Production, "delivery": Delivery, "recording": Recording}
        rows = {kind: model.objects.of(user) for kind, model in own.items()}
    found: list[Binned] = []
    for key in dict.fromkeys(keys):
        kind, _, number = key.partition("-")
        if kind in rows and (pk := whole_number(number)) is not None:
            found += rows[kind].filter(pk=pk)
    return found


def each(rows: Iterable[Binned], do: str) -> tuple[int, list[str]]:
    """Do one thing to each row. Returns to how many it was done, and why not to the others."""
    done, refused = 0, list[str]()
    for row in rows:
        try:
            getattr(row, do)()
            done += 1
        except MasteringError as error:
            refused.append(together([str(row), str(error)], ": "))
    return done, refused
