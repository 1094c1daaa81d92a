"""Deliveries: one run that makes files for chosen sections, and the files it made."""

import shutil
from pathlib import Path

from django.db import models, transaction
from django.urls import reverse
from django.utils import timezone

from mastering.naming.filenames import file_name, plain_words
from mastering.outlets.checksheet import FAIL, PASS, REMARK
from mastering.outlets.outlet import Outlet, parse, shipped, shipped_text
from mastering.pipeline import Made
from sermovox import storage
from sermovox.productions.models import Production, Section

_MOST_STARTS = 3


class DeliveryQuerySet(models.QuerySet):
    def of(self, user) -> "DeliveryQuerySet":
        """Those of a person's productions."""
        return self.filter(production__owner=user)


class Delivery(models.Model):
    """One run for one outlet. It keeps the rules it was made under."""

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="deliveries")
    outlet_key = models.CharField(max_length=60)
    outlet_toml = models.TextField()
    created_at = models.DateTimeField(auto_now_add=True)
    cancelled_at = models.DateTimeField(null=True, blank=True)

    objects = DeliveryQuerySet.as_manager()

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
        return f"{plain_words(self.production.title) or 'production'}-{self.outlet_key}.zip"

    @classmethod
    def start(cls, production: Production, outlet_key: str, sections: list[Section]) -> "Delivery":
        """Queue a file for each section. The names are settled now, so that they sort in running order."""
        from sermovox.deliveries.tasks import make_file

        outlet = shipped()[outlet_key]
        total = production.sections.count()
        places = {pk: place for place, pk in enumerate(production.sections.values_list("pk", flat=True), 1)}
        with transaction.atomic():
            production.last_outlet = outlet_key
            production.save(update_fields=["last_outlet"])
            delivery = cls.objects.create(
                production=production, outlet_key=outlet_key, outlet_toml=shipped_text(outlet_key)
            )
            for section in sections:
                extension = outlet.encoding(channels=1, content_kind=section.content_kind).extension
                name = file_name(position=places[section.pk], total=total, title=section.title, extension=extension)
                made = delivery.files.create(
                    section=section,
                    title=section.title,
                    recording=section.recording,
                    content_kind=section.content_kind,
                    place=places[section.pk],
                    name=name,
                )
                transaction.on_commit(lambda pk=made.pk: make_file.enqueue(pk))
        return delivery

    def cancel(self) -> None:
        """Stop what runs and what waits; what is finished stays."""
        with transaction.atomic():
            self.cancelled_at = timezone.now()
            self.save(update_fields=["cancelled_at"])
            self.files.waiting().update(state=FinishedFile.State.CANCELLED)

    def run_again(self) -> None:
        """Queue once more what was cancelled or could not be made."""
        from sermovox.deliveries.tasks import make_file

        with transaction.atomic():
            self.cancelled_at = None
            self.save(update_fields=["cancelled_at"])
            unmade = self.files.unmade()
            keys = list(unmade.values_list("pk", flat=True))
            unmade.update(state=FinishedFile.State.WAITING, share=0.0, refusal="", starts=0)
            for key in keys:
                transaction.on_commit(lambda pk=key: make_file.enqueue(pk))

    def delete(self, *args, **kwargs):
        folder = storage.finished(self.pk, 0).parent
        result = super().delete(*args, **kwargs)
        shutil.rmtree(folder, ignore_errors=True)
        return result


class FinishedFileQuerySet(models.QuerySet):
    def waiting(self) -> "FinishedFileQuerySet":
        return self.filter(state=FinishedFile.State.WAITING)

    def under_way(self) -> "FinishedFileQuerySet":
        return self.filter(state__in=[FinishedFile.State.WAITING, FinishedFile.State.MAKING])

    def made(self) -> "FinishedFileQuerySet":
        return self.filter(state__in=FinishedFile.MADE)

    def unmade(self) -> "FinishedFileQuerySet":
        return self.filter(state__in=[FinishedFile.State.CANCELLED, FinishedFile.State.REFUSED])


class FinishedFile(models.Model):
    """One file of a delivery, from waiting to checked."""

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
    place = models.PositiveIntegerField()
    name = models.CharField(max_length=255)
    state = models.CharField(max_length=24, choices=State, default=State.WAITING)
    stage = models.CharField(max_length=60, blank=True)
    share = models.FloatField(default=0.0)
    starts = models.PositiveSmallIntegerField(default=0)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)
    refusal = models.TextField(blank=True)
    sha256 = models.CharField(max_length=64, blank=True)
    figures = models.JSONField(default=dict)
    findings = models.JSONField(default=list)
    remarks = models.JSONField(default=list)
    gain_db = models.FloatField(null=True)
    ceiling_dbtp = models.FloatField(null=True)
    attempts = models.PositiveSmallIntegerField(default=0)

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
        return self.folder / self.name

    @property
    def waveform_path(self) -> Path:
        return self.folder / "waveform"

    @property
    def is_made(self) -> bool:
        return self.state in self.MADE

    @property
    def seconds_left(self) -> float | None:
        """From the share done and the time it took; None while there is too little to go by."""
        if self.state != self.State.MAKING or not self.started_at or self.share < 0.02:
            return None
        elapsed_s = (timezone.now() - self.started_at).total_seconds()
        return elapsed_s * (1 - self.share) / self.share

    def begin(self) -> bool:
        """Claim the file for making. False when it is no longer waiting.

        What a killed worker left in its folder is cleared away. A file whose worker died several times is
        not tried for ever.
        """
        waiting = FinishedFile.objects.filter(pk=self.pk, state=self.State.WAITING)
        claim = {"state": self.State.MAKING, "started_at": timezone.now(), "share": 0.0, "stage": ""}
        if not waiting.update(starts=models.F("starts") + 1, **claim):
            return False
        self.refresh_from_db()
        if self.starts > _MOST_STARTS:
            self.set_refused(
                f"Making this file was broken off {_MOST_STARTS} times. The machine may be short of memory; "
                "run it again when less is going on."
            )
            return False
        shutil.rmtree(self.folder, ignore_errors=True)
        self.folder.mkdir(parents=True)
        return True

    def tell_progress(self, stage: str, share: float) -> bool:
        """Note how far it is; True when somebody has cancelled meanwhile."""
        FinishedFile.objects.filter(pk=self.pk).update(stage=stage, share=share)
        return Delivery.objects.filter(pk=self.delivery_id, cancelled_at__isnull=False).exists()

    def set_made(self, made: Made, sha256: str) -> None:
        self.state = self._BY_VERDICT[made.sheet.verdict]
        self.sha256 = sha256
        self.figures = made.found.figures()
        self.findings = made.sheet.as_list()
        self.remarks = list(made.remarks)
        self.gain_db = round(made.plan.gain_db, 2)
        self.ceiling_dbtp = made.plan.ceiling_dbtp
        self.attempts = made.attempts
        self.share, self.stage, self.refusal, self.finished_at = 1.0, "", "", timezone.now()
        self.save()

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
