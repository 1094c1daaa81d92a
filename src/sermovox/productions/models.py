"""A production and its running order."""

from django.conf import settings
from django.db import models, transaction
from django.urls import reverse


class ProductionQuerySet(models.QuerySet):
    def of(self, user) -> "ProductionQuerySet":
        """Those that belong to a person."""
        return self.filter(owner=user)


class Production(models.Model):
    """One book, series or set of lines."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="productions")
    title = models.CharField(max_length=200)
    author = models.CharField(max_length=200, blank=True)
    narrator = models.CharField(max_length=200, blank=True)
    year = models.PositiveSmallIntegerField(null=True, blank=True)
    language = models.CharField(max_length=40, blank=True, default="English")
    last_outlet = models.CharField(max_length=60, blank=True, editable=False)
    created_at = models.DateTimeField(auto_now_add=True)

    objects = ProductionQuerySet.as_manager()

    class Meta:
        ordering = ["-created_at", "-pk"]

    def __str__(self) -> str:
        return self.title

    def get_absolute_url(self) -> str:
        return reverse("productions:running-order", args=[self.pk])

    def add_section(self, **facts) -> "Section":
        """Put a section at the end of the running order."""
        with transaction.atomic():
            last = self.sections.aggregate(last=models.Max("position"))["last"] or 0
            return self.sections.create(position=last + 1, **facts)


class Section(models.Model):
    """One unit that becomes one file."""

    class Role(models.TextChoices):
        OPENING = "opening credits"
        DEDICATION = "dedication"
        FOREWORD = "foreword"
        CHAPTER = "chapter"
        INTERLUDE = "interlude"
        AFTERWORD = "afterword"
        CLOSING = "closing credits"
        SAMPLE = "sample"
        EPISODE = "episode"
        SEGMENT = "segment"
        LINE = "line"

    class Content(models.TextChoices):
        SPEECH = "speech"
        MUSIC = "music"
        MIXED = "mixed"

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="sections")
    position = models.PositiveIntegerField()
    role = models.CharField(max_length=20, choices=Role, default=Role.CHAPTER)
    number = models.PositiveIntegerField(null=True, blank=True)
    title = models.CharField(max_length=200)
    content_kind = models.CharField(max_length=10, choices=Content, default=Content.SPEECH)
    recording = models.ForeignKey(
        "recordings.Recording", on_delete=models.SET_NULL, null=True, blank=True, related_name="sections"
    )

    class Meta:
        ordering = ["position", "pk"]

    def __str__(self) -> str:
        return self.title

    def get_absolute_url(self) -> str:
        return reverse("productions:section", args=[self.pk])
