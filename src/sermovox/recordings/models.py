"""Recordings: imported source files, stored once under their SHA-256 and never rewritten."""

import time
import uuid
from contextlib import suppress
from datetime import timedelta
from pathlib import Path

from django.conf import settings
from django.db import models, transaction
from django.db.models import F, Q, Sum
from django.db.models.expressions import RawSQL
from django.db.models.fields.json import KeyTextTransform
from django.db.models.functions import Cast
from django.db.models.signals import post_delete
from django.dispatch import receiver
from django.urls import reverse
from django.utils import timezone

from mastering.audio.waveform import waveform_frames
from mastering.errors import MasteringError, UnreadableRecording
from mastering.meters.measurement import Measurement
from mastering.meters.remarks import remarks
from mastering.said import Said
from sermovox.keeping import caches, storage
from sermovox.keeping.room import announces
from sermovox.keeping.sentences import SaidField, SaidJSONField
from sermovox.productions import order
from sermovox.productions.models import Piece, Section
from sermovox.work.jobs import Job

_SILENT_FOR_S = 15.0
_RUNNING_FOR = timedelta(hours=1)
_PAUSES_MIN = (1, 5, 15, 60, 240, 1440)
"""How long what could not be measured for a reason outside it waits: later and later."""


_ON_PAGES = """
SELECT CAST(json_extract(mark.value, '$.recording') AS INTEGER)
  FROM cutting_page AS page, json_each(page.marks) AS mark
 WHERE page.marks LIKE '%%"recording"%%' AND json_extract(mark.value, '$.recording') IS NOT NULL
UNION SELECT CAST(json_extract(lane.value, '$.recording') AS INTEGER)
  FROM cutting_page AS page, json_each(page.facts, '$.lanes') AS lane
"""


class RecordingQuerySet(models.QuerySet):
    def of(self, user) -> "RecordingQuerySet":
        """Those in a person's productions."""
        return self.filter(production__owner=user, production__deleted_at=None)

    def usable(self) -> "RecordingQuerySet":
        return self.exclude(state=Recording.State.REFUSED)

    def holding(self) -> "RecordingQuerySet":
        """Those whose bytes are kept: that are in use, or lie in the bin."""
        in_use = Q(state__in=[Recording.State.MEASURING, Recording.State.READY])
        return self.filter(in_use | Q(binned_at__isnull=False))

    def waiting(self) -> "RecordingQuerySet":
        """Those that are to be measured now."""
        due = Q(try_at=None) | Q(try_at__lte=timezone.now())
        return self.filter(due, state=Recording.State.MEASURING, production__deleted_at=None)

    def outdated(self) -> "RecordingQuerySet":
        """Those that have lain in the bin for as long as it keeps them."""
        return self.filter(binned_at__lt=storage.binned_before())

    def with_duration(self) -> "RecordingQuerySet":
        """Each with its `duration_s`, without reading all its figures."""
        return self.annotate(duration_s=Cast(KeyTextTransform("duration_s", "figures"), models.FloatField()))

    def unused(self) -> "RecordingQuerySet":
        """Those no section of a running order uses, as a piece, a voice beside it or a pickup neither."""
        used = Piece.objects.filter(recording=models.OuterRef("pk"), section__removed=False)
        return self.filter(~models.Exists(used)).exclude(pk__in=RawSQL(_ON_PAGES, ()))


_Recordings = models.Manager.from_queryset(RecordingQuerySet)


class RecordingManager(_Recordings):
    """Recordings that are here; those that were deleted keep a row for what was made of them."""

    def get_queryset(self):
        return super().get_queryset().exclude(state=Recording.State.DELETED)


class Recording(Job):
    """One file in one production. Two productions that hold the same bytes share one stored file.

    Files that were sent together have the same `batch` and a `rank` in the order of their names, however they arrive.
    One that was deleted keeps its row and its page, so that what is made of it can say what is missing and the same
    bytes fill it again when they are brought in anew. Bytes of one that was deleted or refused lie in the bin since
    `binned_at`; None where they do not. What could not be measured for a reason outside it `waits_for` that until
    `try_at`; `starts` counts how often it was begun.
    """

    class State(models.TextChoices):
        MEASURING = "measuring"
        READY = "ready"
        REFUSED = "refused"
        DELETED = "deleted"

    production = models.ForeignKey("productions.Production", on_delete=models.CASCADE, related_name="recordings")
    sha256 = models.CharField(max_length=64, db_index=True)
    name = models.CharField(max_length=255)
    size_bytes = models.PositiveBigIntegerField()
    state = models.CharField(max_length=10, choices=State, default=State.MEASURING)
    share_measured = models.FloatField(default=0.0)
    refusal = SaidField(blank=True)
    figures = models.JSONField(default=dict)
    remarks = SaidJSONField(default=list)
    batch = models.CharField(max_length=36, blank=True)
    rank = models.PositiveIntegerField(default=0)
    created_at = models.DateTimeField(auto_now_add=True)
    waits_for = SaidField(blank=True)
    try_at = models.DateTimeField(null=True)
    binned_at = models.DateTimeField(null=True)

    objects = RecordingManager()
    with_deleted = RecordingQuerySet.as_manager()

    class Meta:
        ordering = ["-created_at", "-pk"]
        constraints = [
            models.UniqueConstraint(fields=["production", "sha256"], name="a_recording_once_in_a_production")
        ]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("recordings:slip", args=[self.pk])

    @property
    def path(self) -> Path:
        return storage.stored(self.sha256)

    @property
    def listening_path(self) -> Path:
        """What a browser is given to play."""
        return storage.heard(self.sha256)

    @property
    def waveform_path(self) -> Path:
        return storage.cached(self.sha256, "waveform")

    @property
    def ready(self) -> bool:
        return self.state == self.State.READY

    @property
    def measuring(self) -> bool:
        return self.state == self.State.MEASURING

    @property
    def is_due(self) -> bool:
        """Whether it is to be measured now."""
        return self.measuring and (self.try_at is None or self.try_at <= timezone.now())

    @property
    def is_deleted(self) -> bool:
        return self.state == self.State.DELETED

    @property
    def unused(self) -> bool:
        """Whether no section of the running order uses it."""
        return Recording.objects.filter(pk=self.pk).unused().exists()

    @property
    def frames(self) -> int:
        """Its exact length in samples. Raises UnreadableRecording while that is not known."""
        if "frames" in self.figures:
            return self.figures["frames"]
        # Measured before the length was kept with the slip.
        try:
            return waveform_frames(caches.judged(self.waveform_path))
        except (OSError, ValueError) as error:
            raise UnreadableRecording(Said("length-being-measured-anew-try", name=self.name)) from error

    @property
    def rate_hz(self) -> int:
        """Its samples a second. Raises UnreadableRecording while that is not known."""
        if "sample_rate_hz" not in self.figures:
            raise UnreadableRecording(Said("being-measured-try-again-minute", name=self.name))
        return self.figures["sample_rate_hz"]

    @property
    def originated_at(self) -> tuple[str, str]:
        """The day (yyyy-mm-dd) and the time (hh:mm:ss) it was recorded, as its recorder wrote; else when it came in."""
        date, _, clock = self.figures.get("originated", "").partition(" ")
        came_in = timezone.localtime(self.created_at)
        if date and clock:
            return date, clock
        return came_in.strftime("%Y-%m-%d"), came_in.strftime("%H:%M:%S")

    def duplicates(self) -> "RecordingQuerySet":
        """The same bytes in other productions of the same person."""
        same = Recording.objects.of(self.production.owner).filter(sha256=self.sha256)
        return same.exclude(pk=self.pk).select_related("production")

    def measurement_path(self, *, mono: bool = False) -> Path:
        """Where all that was measured of it is kept; with `mono`, of the mean of its two sides."""
        return storage.cached(self.sha256, "mono.npz" if mono else "measurement.npz")

    def kept_measurement(self) -> Measurement | None:
        """The whole measurement, if the cache still has it."""
        try:
            return Measurement.load(caches.judged(self.measurement_path()))
        except OSError:
            return None

    def begin(self) -> bool:
        """Claim it for measuring. False where that is not to be done now.

        One whose worker died several times while it was measured waits like everything else that did not go well.
        """
        if not self.claimed(Recording.objects.waiting(), reading=["waits_for"], share_measured=0.0):
            return False
        Recording.objects.filter(pk=self.pk).update(waits_for="")
        return True

    @property
    def is_hopeless(self) -> bool:
        # What it waited for, if anything, was no worker's death.
        return super().is_hopeless and not self.waits_for

    def give_up(self) -> None:
        self.put_off(Said("quieter-hour-measuring-broken-off", starts=self.starts - 1))

    def put_off(self, waits_for: str) -> None:
        """It could not be measured for a reason outside it: it is tried again, later and later."""
        pause = timedelta(minutes=_PAUSES_MIN[min(max(1, self.starts), len(_PAUSES_MIN)) - 1])
        self._settle(waits_for=waits_for[:200], try_at=timezone.now() + pause, share_measured=0.0)

    def try_now(self) -> None:
        """Do not wait any longer."""
        self._settle(try_at=None, starts=0, waits_for="")

    def tell_progress(self, share: float) -> bool:
        """Note how far measuring is; True when it was deleted meanwhile."""
        own = Recording.objects.filter(pk=self.pk, state=self.state, production__deleted_at=None)
        return not own.update(share_measured=share)

    def set_measured(self, measurement: Measurement) -> None:
        """Fill in the slip."""
        self._settle(
            state=self.State.READY,
            figures=measurement.figures() | measurement.origin(),
            remarks=list(remarks(measurement)),
            share_measured=1.0,
            refusal="",
            waits_for="",
            try_at=None,
            starts=0,
        )

    def refuse(self, reason: str) -> None:
        """Keep the sentence that says what is wrong with the file itself; its bytes stay in the bin."""
        self._settle(state=self.State.REFUSED, refusal=reason, binned_at=timezone.now(), waits_for="", try_at=None)

    def _settle(self, **fields) -> bool:
        """Write what measuring came to, unless the recording was deleted meanwhile. Says whether it was."""
        settled = Recording.objects.filter(pk=self.pk).update(**fields)
        for name, value in fields.items():
            setattr(self, name, value)
        return bool(settled)

    def put_away(self) -> None:
        """Delete it: its bytes lie in the bin; the row stays for what is made of it.

        A section that was made for one that was refused goes too, but for what somebody wrote into it.
        """
        with transaction.atomic():
            if self.state == self.State.REFUSED:
                own = Section.objects.whole_of(self)
                own.filter(script="", exact_name="", notes="").delete()
                Piece.objects.filter(section__in=own).delete()
            self.refusal = Said("deleted-take-back-from-bin", name=self.name)
            self.state, self.binned_at = self.State.DELETED, self.binned_at or timezone.now()
            self.save(update_fields=["state", "refusal", "binned_at"])

    def take_back(self) -> None:
        """Out of the bin again. Raises MasteringError where its bytes are not there any more."""
        with storage.held(self.sha256):
            self.refresh_from_db()
            if self.binned_at is None or not self.path.exists():
                raise MasteringError(Said("no-longer-bin-bring-again", name=self.name))
            self.state = self.State.READY if self.figures else self.State.MEASURING
            self._out_of_bin()
            self.save()
        # What was changed meanwhile could not be told how long it is without it.
        order.refresh_lengths(self.production, self.production.sections.all())

    def bring_back(self, *, name: str, size_bytes: int, batch: str, rank: int) -> None:
        """Its bytes are here again: whatever is made of it will sound once they are measured."""
        self.state, self.share_measured = self.State.MEASURING, 0.0
        self.name, self.size_bytes, self.batch, self.rank = name, size_bytes, batch, rank
        self._out_of_bin()
        self.save()

    def _out_of_bin(self) -> None:
        self.refusal, self.binned_at = "", None
        self.starts, self.waits_for, self.try_at = 0, "", None

    def empty_bin(self) -> None:
        """Let its bytes go, unless another production has them too; the row stays."""
        Recording.with_deleted.filter(pk=self.pk).update(binned_at=None)
        self.binned_at = None
        forget_unheld(self.sha256)

    def uses(self) -> list[tuple[str, str]]:
        """Where it is heard: as what a section is made of, as a pickup, or as a voice beside another; in words, with
        the address.
        """
        key, found = str(self.pk), []
        sections = self.production.sections.annotate(count=models.Count("pieces", filter=Q(pieces__recording=self)))
        for section in sections.exclude(count=0).with_pieces("figures", "remarks").defer("script"):
            if not section.is_cut:
                found.append((section.title, section.get_absolute_url()))
            else:
                count = section.count
                found.append((Said("pieces", title=section.title, count=count), section.get_absolute_url()))
        for page in self.production.pages.select_related("recording"):
            if count := sum(mark.get("recording") == key for mark in page.marks):
                words = Said("pickups-page", count=count, name=page.recording.name)
                found.append((words, page.get_absolute_url()))
            if any(lane["recording"] == self.pk for lane in page.facts.get("lanes", ())):
                found.append((Said("voice-beside", name=page.recording.name), page.get_absolute_url()))
        return found

    @property
    def file_count(self) -> int:
        """How many finished files that nothing has replaced sound from it."""
        files = self.finished_files.model.objects.standing().filter(delivery__production=self.production)
        heard = files.values_list("recording_id", "follows__recordings")
        return sum(key == self.pk or self.sha256 in (hashes or ()) for key, hashes in heard)


@receiver(post_delete, sender=Recording)
def _forget_bytes(instance: Recording, **_) -> None:
    transaction.on_commit(lambda: forget_unheld(instance.sha256))


def forget_unheld(sha256: str) -> bool:
    """Delete the bytes of a recording that no row holds any more. Says whether it did.

    While a copy of everything is being made they stay; they are looked for again later.
    """
    with storage.held(sha256):
        if storage.is_being_copied() or Recording.with_deleted.holding().filter(sha256=sha256).exists():
            return False
        storage.forget(sha256)
        return True


class UploadQuerySet(models.QuerySet):
    def of(self, user) -> "UploadQuerySet":
        """Those into a person's productions."""
        return self.filter(production__owner=user, production__deleted_at=None)

    def unfinished(self) -> "UploadQuerySet":
        return self.filter(state__in=[Upload.State.ARRIVING, Upload.State.FINISHING])

    def outdated(self) -> "UploadQuerySet":
        """Those nobody has touched for so long that they will not be gone on with."""
        oldest = timezone.now() - timedelta(days=settings.KEEP_UPLOADS_DAYS)
        return self.filter(touched_at__lt=oldest)


class Upload(models.Model):
    """A file on its way in, by the tus protocol.

    Only what is on the disk, not merely on its way there, counts as arrived: `flushed_bytes`, and no more than the file
    is long. `modified_ms` is when the sender last changed the file, in milliseconds since 1970; with name and size it
    tells whether a file that is chosen again is the one that broke off. `section` is the one it is meant for, if any.
    """

    class State(models.TextChoices):
        ARRIVING = "arriving"
        FINISHING = "finishing"
        HERE = "here"
        REFUSED = "refused"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    production = models.ForeignKey("productions.Production", on_delete=models.CASCADE, related_name="uploads")
    name = models.CharField(max_length=255)
    size_bytes = models.PositiveBigIntegerField()
    batch = models.CharField(max_length=36, blank=True)
    rank = models.PositiveIntegerField(default=0)
    modified_ms = models.PositiveBigIntegerField(default=0)
    section = models.ForeignKey("productions.Section", on_delete=models.SET_NULL, null=True, related_name="+")
    state = models.CharField(max_length=10, choices=State, default=State.ARRIVING)
    said = SaidField(blank=True)
    recording = models.ForeignKey(Recording, on_delete=models.SET_NULL, null=True)
    touched_at = models.DateTimeField(auto_now=True)
    flushed_bytes = models.PositiveBigIntegerField(default=0)

    objects = UploadQuerySet.as_manager()

    class Meta:
        ordering = ["rank", "name"]

    def __str__(self) -> str:
        return self.name

    @property
    def path(self) -> Path:
        return storage.incoming() / self.pk.hex

    @property
    def offset(self) -> int:
        """How many bytes have arrived."""
        if self.state in (self.State.HERE, self.State.REFUSED):
            return self.size_bytes
        try:
            return min(self.flushed_bytes, self.path.stat().st_size)
        except FileNotFoundError:
            return 0

    def set_flushed(self, size_bytes: int) -> None:
        """Note how much of it is on the disk. Raises DoesNotExist where it was given up meanwhile."""
        self.flushed_bytes, self.touched_at = size_bytes, timezone.now()
        if not Upload.objects.filter(pk=self.pk).update(flushed_bytes=size_bytes, touched_at=self.touched_at):
            raise Upload.DoesNotExist

    @property
    def is_open(self) -> bool:
        """Whether it is not settled yet."""
        return self.state in (self.State.ARRIVING, self.State.FINISHING)

    @property
    def share(self) -> float:
        return self.offset / self.size_bytes if self.size_bytes else 1.0

    @property
    def broken_off(self) -> bool:
        """Whether it is not whole and nothing has come for some seconds."""
        if self.state != self.State.ARRIVING:
            return False
        touched_s = self.touched_at.timestamp()
        with suppress(FileNotFoundError):
            touched_s = max(touched_s, self.path.stat().st_mtime)
        return time.time() - touched_s > _SILENT_FOR_S

    def settle(self, state: str, said: str = "", recording: Recording | None = None) -> None:
        """Note what became of it; its bytes on their way in go once that is kept."""
        self.state, self.said, self.recording = state, said, recording
        self.save()
        transaction.on_commit(lambda: self.path.unlink(missing_ok=True))


@receiver(post_delete, sender=Upload)
def _forget_arrived(instance: Upload, **_) -> None:
    path = instance.path
    transaction.on_commit(lambda: path.unlink(missing_ok=True))


class WatchedFileQuerySet(models.QuerySet):
    def of(self, user) -> "WatchedFileQuerySet":
        """Those of a person's productions."""
        return self.filter(production__owner=user, production__deleted_at=None)


class WatchedFile(models.Model):
    """A file seen in the watched folder, so that each is taken in once and what was wrong with one can be read."""

    production = models.ForeignKey("productions.Production", on_delete=models.CASCADE, related_name="watched_files")
    path = models.CharField(max_length=4096)
    size_bytes = models.PositiveBigIntegerField()
    modified_ns = models.BigIntegerField()
    refusal = SaidField(blank=True)

    objects = WatchedFileQuerySet.as_manager()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["path", "size_bytes", "modified_ns"], name="a_watched_file_once")
        ]

    def __str__(self) -> str:
        return self.path

    @property
    def name(self) -> str:
        return "".join(filter(str.isprintable, Path(self.path).name))


@announces
def _announced_bytes() -> int:
    """What uploads that are running have announced and not brought yet."""
    running = Upload.objects.unfinished().filter(touched_at__gt=timezone.now() - _RUNNING_FOR)
    return running.aggregate(left=Sum(F("size_bytes") - F("flushed_bytes")))["left"] or 0
