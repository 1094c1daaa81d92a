"""Texts that were read, shown to others by a link, and what these remark."""

import secrets
from datetime import datetime

from django.conf import settings
from django.db import models
from django.urls import reverse
from django.utils import timezone

from mastering.said import Said
from sermovox.cutting.models import Page

MOST_REMARKS = 500


def _new_key() -> str:
    return secrets.token_urlsafe(24)


class Shared(models.Model):
    """A page that whoever has its link may read and hear, and remark on, until `ends_at`."""

    page = models.ForeignKey(Page, on_delete=models.CASCADE, related_name="shared")
    key = models.CharField(max_length=64, unique=True, default=_new_key, editable=False)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    whom = models.CharField(max_length=100, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    ends_at = models.DateTimeField()

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return self.whom or Said("whoever-link")

    def get_absolute_url(self) -> str:
        return reverse("proofing:read", args=[self.key])

    @property
    def works(self) -> bool:
        """Whether it can still be read."""
        recording = self.page.recording
        is_here = recording.ready or recording.measuring
        return self.ends_at > timezone.now() and is_here and self.page.production.deleted_at is None

    def end(self) -> None:
        """Let nobody read it any more; what was remarked stays."""
        ended: datetime = min(self.ends_at, timezone.now())
        Shared.objects.filter(pk=self.pk).update(ends_at=ended)


class Remark(models.Model):
    """What somebody else has to say about a word. `called` is how they call themselves."""

    shared = models.ForeignKey(Shared, on_delete=models.CASCADE, related_name="remarks")
    called = models.CharField(max_length=60)
    text = models.CharField(max_length=500)
    place = models.JSONField(default=dict)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.text
