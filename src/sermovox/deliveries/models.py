"""Deliveries: one run that makes files for chosen sections, and the files it made."""

import shutil
import uuid
from collections.abc import Collection, Iterator, Mapping
from dataclasses import asdict
from datetime import datetime, timedelta
from pathlib import Path, PurePath

from django.conf import settings
from django.db import models, transaction
from django.db.models import Q
from django.db.models.signals import post_delete
from django.dispatch import receiver
from django.urls import reverse
from django.utils import timezone

from mastering.audio.placing import flushed_folder
from mastering.certain import certain
from mastering.errors import CannotMake
from mastering.making.proving import Made
from mastering.naming.checks import numbered
from mastering.naming.renaming import CannotRename, new_names
from mastering.outlets.checksheet import consistency
from mastering.outlets.findings import FAIL, PASS, REMARK, verdict_of
from mastering.outlets.outlet import Outlet
from mastering.outlets.rules.levels import CONSISTENCY
from mastering.outlets.rulesheets import parse
from mastering.outlets.sentences import steps
from mastering.said import Said
from sermovox.deliveries.fingerprints import (
    MADE_BEFORE,
    NO_DATE,
    UP_TO_DATE,
    Changes,
    changes_between,
)
from sermovox.keeping import storage
from sermovox.keeping.sentences import SaidField, SaidJSONField
from sermovox.productions.models import Production, Section
from sermovox.sources.names import WantedFiles
from sermovox.sources.soundings import digest
from sermovox.work.jobs import MOST_STARTS, Job
from sermovox.work.progress import seconds_left


def holding_files(production: Production, outlet_key: str) -> "list[FinishedFile]":
    """The files of a production for an outlet whose names are taken: those that stand, and those about to be made. In
    the order they were begun.
    """
    files = FinishedFile.objects.holding().filter(delivery__production=production, delivery__outlet_key=outlet_key)
    return list(files.only("name", "delivery_id", "state").order_by("pk"))


def names_of_others(production: Production, outlet_key: str, files: "Collection[FinishedFile]") -> set[str]:
    """The names, case-folded, that files beside these have or are to have."""
    own = {file.pk for file in files}
    return {file.name.casefold() for file in holding_files(production, outlet_key) if file.pk not in own}


def current_files(production: Production, outlet_key: str) -> "dict[tuple[int | None, str], FinishedFile]":
    """The file that stands for each section, and voice of it, for an outlet: the newest that was not replaced.

    None for a section is the file of all of them.
    """
    files = FinishedFile.objects.current().filter(delivery__production=production, delivery__outlet_key=outlet_key)
    return {(file.section_id, file.voice): file for file in files.order_by("pk")}


def counting_files(production: Production, outlet: Outlet) -> "dict[tuple[int | None, str], FinishedFile]":
    """Those of them that are wanted still: a section or a voice may have been taken away since. These are the files
    that the outlet is to have, and all that is said of files beside each other is said of them.
    """
    wanted = {file.key for file in WantedFiles(production, outlet, date=NO_DATE).files}
    return {key: file for key, file in current_files(production, outlet.key).items() if key in wanted}


class DeliveryQuerySet(models.QuerySet):
    def of(self, user) -> "DeliveryQuerySet":
        """Those of a person's productions."""
        return self.filter(production__owner=user, production__deleted_at=None)

    def outdated(self) -> "DeliveryQuerySet":
        """Those that have lain in the bin for as long as it keeps them."""
        return self.filter(deleted_at__lt=storage.binned_before())


_Deliveries = models.Manager.from_queryset(DeliveryQuerySet)


class DeliveryManager(_Deliveries):
    """Deliveries that do not lie in the bin."""

    def get_queryset(self):
        return super().get_queryset().filter(deleted_at=None)


class Delivery(models.Model):
    """What one run makes for one outlet. It keeps the rules it was made under; `run` is that of the whole run.

    `whole` says whether it makes a file of every section there was, `left_out` which sections a file of all of them
    goes without. `members` are all files that its own are levelled beside, as `Sounding.settled` gives them; empty
    where each is levelled by itself. One that was deleted lies in the bin since `deleted_at`.
    """

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="deliveries")
    outlet_key = models.CharField(max_length=60)
    outlet_toml = models.TextField()
    run = models.UUIDField(default=uuid.uuid4, editable=False, db_index=True)
    created_at = models.DateTimeField(auto_now_add=True)
    cancelled_at = models.DateTimeField(null=True, blank=True)
    whole = models.BooleanField(default=True)
    left_out = models.JSONField(default=list)
    members = models.JSONField(default=list)
    deleted_at = models.DateTimeField(null=True)

    objects = DeliveryManager()
    with_deleted = DeliveryQuerySet.as_manager()

    class Meta:
        ordering = ["-created_at", "-pk"]
        verbose_name_plural = "deliveries"

    def __str__(self) -> str:
        return f"{self.production} for {self.outlet.title}"

    def get_absolute_url(self) -> str:
        return reverse("deliveries:detail", args=[self.pk])

    @property
    def outlet(self) -> Outlet:
        return parse(self.outlet_toml)

    @property
    def archive_name(self) -> str:
        return f"{self.production.key}-{self.outlet_key}.zip"

    @property
    def of_run(self) -> "DeliveryQuerySet":
        """All deliveries of its run, this one among them."""
        return Delivery.objects.filter(run=self.run).order_by("pk")

    @property
    def stands(self) -> "list[FinishedFile]":
        """Each of its files, or what took its place since; where that is gone too, the file that was replaced."""
        return [file.replaced_by or file for file in self.files.all()]

    @property
    def passes(self) -> bool:
        """Whether all that was to be made is made and passes, each file or what took its place."""
        stands = self.stands
        passing = (FinishedFile.State.PASSES, FinishedFile.State.REMARKS)
        return bool(stands) and all(file.state in passing and not file.replaced_at for file in stands)

    def cancel(self) -> None:
        """Stop what runs and what waits in the whole run; what is finished stays."""
        with transaction.atomic():
            self.of_run.update(cancelled_at=timezone.now())
            FinishedFile.objects.filter(delivery__run=self.run).waiting().update(state=FinishedFile.State.CANCELLED)

    def put_away(self) -> None:
        """Put it in the bin with its files; what is not made yet of them is not made any more."""
        with transaction.atomic():
            self.deleted_at = timezone.now()
            self.cancelled_at = self.cancelled_at or self.deleted_at
            self.save(update_fields=["cancelled_at", "deleted_at"])
            self.files.waiting().update(state=FinishedFile.State.CANCELLED)
            self.hold_together()

    def take_back(self) -> None:
        """Out of the bin again. Raises CannotMake where a name is taken by now, or it is not there any more."""
        with transaction.atomic():
            if not self._is_binned:
                raise CannotMake(Said("no-longer-bin"))
            standing = list(self.files.made().filter(replaced_at=None))
            taken = names_of_others(self.production, self.outlet_key, standing)
            for file in standing:
                if file.name.casefold() in taken:
                    raise CannotMake(Said("there-another-file-called-now", name=file.name))
            if self.cancelled_at == self.deleted_at:
                # Nobody had cancelled it: what is made is sent as was wished.
                self.cancelled_at = None
            self.deleted_at = None
            self.save(update_fields=["deleted_at", "cancelled_at"])
            self.hold_together()

    def hold_together(self) -> None:
        """Once all files are made, say of each that counts what its outlet asks of it beside the others, those of
        earlier runs too: with other files beside it, the same file may be right or wrong.
        """
        if not self.outlet.compares_files:
            return
        with transaction.atomic():
            if self.files.under_way().exists():
                return
            files = list(counting_files(self.production, self.outlet).values())
            loudness = [file.figures.get("integrated_lufs") for file in files]
            outlets = {self.pk: self.outlet}
            for at, file in enumerate(files):
                # Each by the rules that it was made by.
                if file.delivery_id not in outlets:
                    outlets[file.delivery_id] = file.delivery.outlet
                finding = consistency(loudness, outlets[file.delivery_id])[at]
                others = [each for each in file.findings if each["rule"] != CONSISTENCY]
                findings = [*others, *([asdict(finding)] if finding else [])]
                if findings != file.findings:
                    file.findings = findings
                    file.state = FinishedFile._BY_VERDICT[verdict_of(each["verdict"] for each in findings)]
                    file.save(update_fields=["findings", "state"])

    def rename(self, pairs: list[tuple[str, str]]) -> int:
        """Rename finished files by (old name, new name), all or none. Returns how many; raises CannotRename."""
        with transaction.atomic():
            files = list(self.files.standing())
            names = new_names([file.name for file in files], pairs)
            changed = [(file, name) for file, name in zip(files, names, strict=True) if file.name != name]
            self._want_free(changed)
            if changed:
                self.renamings.filter(undone=True).delete()
                self.renamings.create(pairs=[[file.name, name] for file, name in changed])
                self._take_names(changed)
        return len(changed)

    def undo_renaming(self) -> int:
        """Give back the names before the last renaming. Returns how many files were renamed; raises CannotRename."""
        with transaction.atomic():
            renaming = self.renamings.filter(undone=False).last()
            if renaming is None:
                return 0
            before = {new: old for old, new in renaming.pairs}
            changed = [(file, before[file.name]) for file in self.files.standing() if file.name in before]
            self._want_free(changed)
            renaming.undone = True
            renaming.save(update_fields=["undone"])
            self._take_names(changed)
        return len(changed)

    def _want_free(self, changed: list[tuple["FinishedFile", str]]) -> None:
        for file, _ in changed:
            if not file.is_there:
                raise CannotRename(Said("not-there-any-more-nothing", name=file.name))
        taken = names_of_others(self.production, self.outlet_key, [file for file, _ in changed])
        for _, name in changed:
            if name.casefold() in taken:
                raise CannotRename(Said("another-file-outlet-called-will", name=name))

    def _take_names(self, changed: list[tuple["FinishedFile", str]]) -> None:
        files = WantedFiles(self.production, self.outlet, date=NO_DATE).files
        now = {file.key: file.name for file in files}
        for file, name in changed:
            file.name = name
            # A name that somebody chose is right until the production asks for another than it does today.
            asked = now.get((file.section_id, file.voice)) if file.follows else None
            file.set_followed(file.follows | {"name": asked} if asked else file.follows)
            file.save(update_fields=["name", "follows", "fingerprint"])

    def empty_bin(self) -> None:
        """Delete it for good, with its files, unless it was taken back meanwhile."""
        with transaction.atomic():
            if self._is_binned:
                self.delete()

    @property
    def _is_binned(self) -> bool:
        """Whether it lies in the bin now, whatever another window has done to it since it was read."""
        return Delivery.with_deleted.filter(pk=self.pk, deleted_at__isnull=False).exists()


@receiver(post_delete, sender=Delivery)
def _forget_files(instance: Delivery, **_) -> None:
    folder = storage.finished(instance.pk, 0).parent
    transaction.on_commit(lambda: storage.forget_folder(folder))


class FinishedFileQuerySet(models.QuerySet):
    def of(self, user) -> "FinishedFileQuerySet":
        """Those of a person's deliveries, but for those in the bin."""
        return self.filter(delivery__in=Delivery.objects.of(user))

    def waiting(self) -> "FinishedFileQuerySet":
        return self.filter(state=FinishedFile.State.WAITING)

    def under_way(self) -> "FinishedFileQuerySet":
        return self.filter(state__in=[FinishedFile.State.WAITING, FinishedFile.State.MAKING])

    def tell_progress(self, stage: str, share: float) -> bool:
        """Note how far files that are made together are; True when somebody has cancelled one of them meanwhile."""
        self.update(stage=stage, share=share)
        return self.filter(delivery__cancelled_at__isnull=False).exists()

    def made(self) -> "FinishedFileQuerySet":
        return self.filter(state__in=FinishedFile.MADE)

    def holding(self) -> "FinishedFileQuerySet":
        """Those whose names are taken: that stand, or are about to be made."""
        about = Q(state__in=[FinishedFile.State.WAITING, FinishedFile.State.MAKING])
        return self.filter(about | Q(state__in=FinishedFile.MADE, replaced_at=None), delivery__deleted_at=None)

    def standing(self) -> "FinishedFileQuerySet":
        """Those made that nothing has replaced."""
        return self.made().filter(replaced_at=None, delivery__deleted_at=None)

    def kept(self) -> "FinishedFileQuerySet":
        """Those made whose bytes are kept: that stand, or lie in the bin."""
        return self.made().filter(Q(replaced_at=None) | Q(in_bin=True))

    def current(self) -> "FinishedFileQuerySet":
        """Those that can stand for their section, or for all of them; of several the newest does."""
        return self.standing().filter(Q(section__removed=False) | Q(section=None), excerpt=False)

    def outdated(self) -> "FinishedFileQuerySet":
        """Those that have lain in the bin for as long as it keeps them."""
        return self.filter(replaced_at__lt=storage.binned_before(), in_bin=True)

    def unmade(self) -> "FinishedFileQuerySet":
        return self.filter(state__in=[FinishedFile.State.CANCELLED, FinishedFile.State.REFUSED])


class FinishedFile(Job):
    """One file of a delivery, from waiting to checked.

    `programme` is what it is made of, settled when the run begins; null where that is the whole of `recording`. `voice`
    is the name of the voice where each of its section's has a file of its own. The file of several sections has none of
    its own; `section_keys` says which they were, empty for all, and `excerpt` whether a few were asked for by
    themselves. `treatment` is its section's when the run begins, `steps` what was done in the end: (what it is called,
    what it does here), `later_s` by how much later a word stands in it than before.

    `follows` is what it followed from (see `fingerprints`), `fingerprint` the hash of that, and `said` what it was to
    say of itself (see `inscriptions`); empty where an earlier version made it. One that was replaced stays, with the
    time; its bytes are kept for some time, while `in_bin` is set. `name` is what it is called; its bytes lie in its
    folder as `stored_as`. Names, bin and tags change by one row: no byte is moved, and what is written anew gets a
    name of its own on the disk until the row names that.
    """

    class State(models.TextChoices):
        WAITING = "waiting"
        MAKING = "making"
        PASSES = "passes"
        REMARKS = "passes with a remark"
        FAILS = "fails"
        REFUSED = "cannot be made"
        CANCELLED = "cancelled"

    MADE = (State.PASSES, State.REMARKS, State.FAILS)
    _BY_VERDICT = {PASS: State.PASSES, REMARK: State.REMARKS, FAIL: State.FAILS}

    delivery = models.ForeignKey(Delivery, on_delete=models.CASCADE, related_name="files")
    section = models.ForeignKey(Section, on_delete=models.SET_NULL, null=True, related_name="files")
    recording = models.ForeignKey(
        "recordings.Recording", on_delete=models.SET_NULL, null=True, related_name="finished_files"
    )
    title = models.CharField(max_length=200)
    content_kind = models.CharField(max_length=10)
    programme = models.JSONField(null=True)
    section_keys = models.JSONField(default=list)
    voice = models.CharField(max_length=255, blank=True)
    excerpt = models.BooleanField(default=False)
    follows = models.JSONField(default=dict)
    fingerprint = models.CharField(max_length=64, blank=True)
    said = models.JSONField(default=dict)
    treatment = models.JSONField(default=dict)
    place = models.PositiveIntegerField()
    name = models.CharField(max_length=255)
    state = models.CharField(max_length=24, choices=State, default=State.WAITING)
    stage = SaidField(blank=True)
    share = models.FloatField(default=0.0)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)
    refusal = SaidField(blank=True)
    sha256 = models.CharField(max_length=64, blank=True)
    figures = SaidJSONField(default=dict)
    findings = SaidJSONField(default=list)
    remarks = SaidJSONField(default=list)
    steps = SaidJSONField(default=list)
    later_s = models.FloatField(default=0.0)
    gain_db = models.FloatField(null=True)
    ceiling_dbtp = models.FloatField(null=True)
    attempts = models.PositiveSmallIntegerField(default=0)
    replaces = models.ForeignKey("self", on_delete=models.SET_NULL, null=True, related_name="successors")
    replaced_at = models.DateTimeField(null=True)
    in_bin = models.BooleanField(default=False)
    stored_as = models.CharField(max_length=255, blank=True)

    objects = FinishedFileQuerySet.as_manager()

    class Meta:
        ordering = ["place", "pk"]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("deliveries:check-sheet", args=[self.pk])

    @property
    def folder(self) -> Path:
        return storage.finished(self.delivery_id, self.pk)

    @property
    def path(self) -> Path:
        return self.folder / self.stored_as

    @property
    def waveform_path(self) -> Path:
        return self.folder / "waveform"

    @property
    def is_made(self) -> bool:
        return self.state in self.MADE

    @property
    def seconds_left(self) -> float | None:
        return seconds_left(self.started_at, self.share) if self.state == self.State.MAKING else None

    @property
    def sound(self) -> dict:
        """What it sounds from, as `Sounding.settled` gives it."""
        return {
            "title": self.title,
            "content_kind": self.content_kind,
            "treatment": self.treatment,
            "recording": self.recording.sha256 if self.recording else "",
            "programme": self.programme,
        }

    def begin(self) -> bool:
        """Claim the file for making. False when it is no longer waiting.

        What a killed worker left in its folder is cleared away. A file whose worker died several times is
        not tried for ever.
        """
        if not self.claimed(
            FinishedFile.objects.waiting(),
            state=self.State.MAKING,
            started_at=timezone.now(),
            share=0.0,
            stage="",
            stored_as=f"sound{PurePath(self.name).suffix}",
        ):
            return False
        shutil.rmtree(self.folder, ignore_errors=True)
        flushed_folder(self.folder)
        return True

    def give_up(self) -> None:
        self.set_refused(Said("making-file-broken-off-times", most_starts=MOST_STARTS))

    def set_made(self, made: Made, sha256: str) -> None:
        self.state = self._BY_VERDICT[made.sheet.verdict]
        self.sha256 = sha256
        self.figures = made.found.figures()
        self.findings = made.sheet.as_list()
        self.remarks = list(made.remarks)
        self.steps, self.later_s = steps(made.plan), made.plan.edges.head_s
        self.gain_db = round(made.plan.gain_db, 2)
        self.ceiling_dbtp = made.plan.ceiling_dbtp
        self.attempts = made.attempts
        self.share, self.stage, self.refusal, self.finished_at = 1.0, "", "", timezone.now()
        # Another worker may be done at the same time with the one it replaces, or with the one that replaces it.
        with transaction.atomic():
            self.save()
            if not Delivery.objects.filter(pk=self.delivery_id).exists():
                return  # Deleted meanwhile: it takes nobody's place.
            for earlier in self.earlier_ones():
                if earlier.is_made and earlier.replaced_at is None:
                    earlier.put_in_bin()
            if self.later_one:
                self.put_in_bin()

    def set_checked(self, figures: dict, findings: list[dict]) -> None:
        """Keep what was found when it was checked again."""
        self.figures, self.findings = figures, findings
        self.state = self._BY_VERDICT[verdict_of(finding["verdict"] for finding in findings)]
        written = ("sha256", "said", "title", "follows", "fingerprint", "stored_as")
        self.save(update_fields=["figures", "findings", "state", *written])

    def earlier_ones(self) -> "Iterator[FinishedFile]":
        """The file it replaces, the one that was to replace before it, and so on."""
        earlier = self.replaces
        while earlier:
            yield earlier
            earlier = earlier.replaces

    @property
    def later_one(self) -> "FinishedFile | None":
        """The newest made file that was to replace it, or to replace one that was to."""
        for each in self.successors.order_by("-pk"):
            if found := each if each.is_made else each.later_one:
                return found
        return None

    @property
    def replaced_by(self) -> "FinishedFile | None":
        """The file that took its place."""
        return self.later_one if self.replaced_at else None

    def take_free_name(self) -> None:
        """Take another name where somebody has given this one away meanwhile, but for those it replaces."""
        own = [self, *self.earlier_ones()]
        taken = names_of_others(self.delivery.production, self.delivery.outlet_key, own)
        self.name = numbered(self.name, taken)
        self.save(update_fields=["name"])

    @property
    def is_there(self) -> bool:
        """Whether its bytes are on the disk."""
        return self.is_made and self.path.exists()

    @property
    def binned_until(self) -> datetime | None:
        """When the bin lets go of it; None where it does not lie there."""
        return certain(self.replaced_at) + timedelta(days=settings.KEEP_BINNED_DAYS) if self.in_bin else None

    def set_followed(self, follows: dict) -> None:
        """Note what it follows from; saves nothing."""
        self.follows, self.fingerprint = follows, digest(follows) if follows else ""

    def changes_to(self, follows: Mapping) -> Changes:
        """What of it is no longer as its production asks now."""
        if not self.follows:
            return MADE_BEFORE
        return UP_TO_DATE if self.fingerprint == digest(follows) else changes_between(self.follows, follows)

    def put_in_bin(self) -> None:
        """Take it out of the way for its successor: the record stays, and the bytes for some time."""
        self.replaced_at, self.in_bin = timezone.now(), True
        self.save(update_fields=["replaced_at", "in_bin"])

    def take_back(self) -> None:
        """Let it stand again in place of the one that replaced it, which goes to the bin. Raises CannotMake."""
        with transaction.atomic():
            self.refresh_from_db(fields=["replaced_at", "in_bin", "stored_as"])
            if not self.in_bin or not self.is_there:
                raise CannotMake(Said("bytes-no-longer-bin"))
            successor = self.replaced_by
            if successor and not successor.replaced_at:
                successor.put_in_bin()
            if self.name.casefold() in names_of_others(self.delivery.production, self.delivery.outlet_key, [self]):
                raise CannotMake(Said("there-another-file-called-now", name=self.name))
            self.replaced_at, self.in_bin = None, False
            self.save(update_fields=["replaced_at", "in_bin"])
            self.delivery.hold_together()

    def empty_bin(self) -> None:
        """Let its bytes go, unless it was taken back meanwhile; the record stays."""
        self.in_bin = False
        if FinishedFile.objects.filter(pk=self.pk, in_bin=True).update(in_bin=False):
            storage.forget_folder(self.folder)

    def set_refused(self, reason: str) -> None:
        self.state, self.refusal, self.stage, self.finished_at = (
            self.State.REFUSED,
            reason,
            "",
            timezone.now(),
        )
        self.save(update_fields=["state", "refusal", "stage", "finished_at"])

    def set_cancelled(self) -> None:
        self.state, self.stage, self.finished_at = self.State.CANCELLED, "", timezone.now()
        self.save(update_fields=["state", "stage", "finished_at"])

    def failures(self) -> list[dict]:
        """The findings that fail."""
        return [finding for finding in self.findings if finding["verdict"] == FAIL]


class Renaming(models.Model):
    """Files of a delivery renamed together, and how they were called before: (old name, new name)."""

    delivery = models.ForeignKey(Delivery, on_delete=models.CASCADE, related_name="renamings")
    made_at = models.DateTimeField(auto_now_add=True)
    pairs = models.JSONField()
    undone = models.BooleanField(default=False)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return Said("files-renamed", count=len(self.pairs))
