"""Recordings: imported source files, stored once under their SHA-256 and never rewritten."""

import os
from pathlib import Path

from django.db import models, transaction
from django.urls import reverse

from mastering.meters.measurement import Measurement
from mastering.meters.remarks import remarks
from sermovox import storage

PLAYABLE = {"wav", "flac", "mp3", "ogg"}
"""Containers a browser plays as they are; for the rest a copy for listening is kept in the cache."""


class RecordingQuerySet(models.QuerySet):
    def of(self, user) -> "RecordingQuerySet":
        """Those in a person's productions."""
        return self.filter(production__owner=user)


class Recording(models.Model):
    """One file in one production. Two productions that hold the same bytes share one stored file."""

    class State(models.TextChoices):
        MEASURING = "measuring"
        READY = "ready"
        REFUSED = "refused"

    production = models.ForeignKey("productions.Production", on_delete=models.CASCADE, related_name="recordings")
    sha256 = models.CharField(max_length=64, db_index=True)
    name = models.CharField(max_length=255)
    size_bytes = models.PositiveBigIntegerField()
    state = models.CharField(max_length=10, choices=State, default=State.MEASURING)
    share_measured = models.FloatField(default=0.0)
    refusal = models.TextField(blank=True)
    figures = models.JSONField(default=dict)
    remarks = models.JSONField(default=list)
    created_at = models.DateTimeField(auto_now_add=True)

    objects = RecordingQuerySet.as_manager()

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
        preview = storage.cached(self.sha256, "preview.flac")
        return preview if preview.exists() else self.path

    @property
    def waveform_path(self) -> Path:
        return storage.cached(self.sha256, "waveform")

    @property
    def ready(self) -> bool:
        return self.state == self.State.READY

    @property
    def measuring(self) -> bool:
        return self.state == self.State.MEASURING

    def kept_measurement(self) -> Measurement | None:
        """The whole measurement, if the cache still has it."""
        try:
            return Measurement.load(storage.cached(self.sha256, "measurement.npz"))
        except (OSError, ValueError, KeyError, TypeError):
            return None

    def set_measured(self, measurement: Measurement) -> None:
        """Fill in the slip."""
        self.figures = measurement.figures()
        self.remarks = list(remarks(measurement))
        self.state, self.share_measured, self.refusal = self.State.READY, 1.0, ""
        self.save(update_fields=["figures", "remarks", "state", "share_measured", "refusal"])

    def refuse(self, reason: str) -> None:
        """Keep the sentence that says why, and let go of the bytes."""
        with transaction.atomic():
            self.state, self.refusal = self.State.REFUSED, reason
            self.save(update_fields=["state", "refusal"])
            self._forget_bytes()

    def delete(self, *args, **kwargs):
        with transaction.atomic():
            result = super().delete(*args, **kwargs)
            self._forget_bytes()
        return result

    def _forget_bytes(self) -> None:
        """Delete the stored file unless another production uses it."""
        users = Recording.objects.filter(sha256=self.sha256).exclude(pk=self.pk)
        if not users.exclude(state=self.State.REFUSED).exists():
            self.path.unlink(missing_ok=True)
            for leftover in self.waveform_path.parent.glob(f"{self.sha256}.*"):
                leftover.unlink(missing_ok=True)


def keep(arrived: Path, sha256: str) -> None:
    """Move a file that has arrived to its place under its hash, read-only; one already there stays."""
    target = storage.stored(sha256)
    if target.exists():
        arrived.unlink()
        return
    arrived.chmod(0o444)
    os.replace(arrived, target)
