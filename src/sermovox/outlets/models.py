"""Rule sheets of people's own, and shipped ones they changed, with all their versions."""

import uuid
from collections.abc import Iterable

from django.conf import settings
from django.db import models, transaction
from django.urls import reverse
from django.utils import timezone
from django.utils.text import slugify

from mastering.naming.patterns import plain
from mastering.outlets.findings import FAIL, CheckSheet, verdict_of
from mastering.outlets.outlet import BadOutlet, Outlet
from mastering.outlets.reports import Checked
from mastering.outlets.rulesheets import parse, shipped, shipped_text, written
from mastering.said import Said
from sermovox.keeping import storage
from sermovox.keeping.sentences import SaidField, SaidJSONField
from sermovox.work.jobs import MOST_STARTS, Job
from sermovox.work.progress import seconds_left

_LONGEST_KEY = 60
_MOST_SHEETS = 200


class RuleSheetQuerySet(models.QuerySet):
    def of(self, user) -> "RuleSheetQuerySet":
        """Those of a person that are in use."""
        return self.filter(owner=user, removed=False)


class RuleSheet(models.Model):
    """One outlet as a person wrote it. `toml` is its newest version; a removed one is kept for its deliveries' sake."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="rule_sheets")
    key = models.SlugField(max_length=_LONGEST_KEY)
    toml = models.TextField()
    removed = models.BooleanField(default=False)
    changed_at = models.DateTimeField(auto_now=True)

    objects = RuleSheetQuerySet.as_manager()

    class Meta:
        ordering = ["key"]
        constraints = [models.UniqueConstraint(fields=["owner", "key"], name="one_sheet_of_a_key")]

    def __str__(self) -> str:
        return self.key

    def get_absolute_url(self) -> str:
        return reverse("outlets:sheet", args=[self.key])

    @property
    def outlet(self) -> Outlet:
        return parse(self.toml)

    @classmethod
    def change(cls, user, outlet: Outlet, words: str) -> "RuleSheet":
        """Keep an outlet as this person's newest version of its key. Raises BadOutlet.

        The first change of a shipped outlet keeps it as it was shipped as version 1.
        """
        text = written(outlet)
        parse(text)
        with transaction.atomic():
            sheet = cls.objects.filter(owner=user, key=outlet.key).first()
            if sheet is None:
                if cls.objects.of(user).count() >= _MOST_SHEETS:
                    raise BadOutlet(Said("there-rule-sheets-your-own", most_sheets=_MOST_SHEETS))
                sheet = cls.objects.create(owner=user, key=outlet.key, toml=text)
                if outlet.key in shipped():
                    sheet.versions.create(number=1, toml=shipped_text(outlet.key), words=Said("as-it-was-shipped"))
            sheet.toml, sheet.removed = text, False
            sheet.save()
            last = sheet.versions.aggregate(last=models.Max("number"))["last"] or 0
            sheet.versions.create(number=last + 1, toml=text, words=words)
        return sheet


class SheetVersion(models.Model):
    """How a rule sheet was at one time, and what was changed then."""

    sheet = models.ForeignKey(RuleSheet, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveIntegerField()
    toml = models.TextField()
    words = SaidField()
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["sheet", "number"], name="one_version_of_a_number")]

    def __str__(self) -> str:
        return Said("version", sheet=self.sheet, number=self.number)

    @property
    def outlet(self) -> Outlet:
        return parse(self.toml)


class FileCheckQuerySet(models.QuerySet):
    def under_way(self) -> "FileCheckQuerySet":
        return self.filter(state__in=(FileCheck.State.WAITING, FileCheck.State.CHECKING))

    def last_batch(self, user, outlet_key: str) -> "FileCheckQuerySet":
        """The files a person last held against an outlet."""
        own = self.filter(owner=user, outlet_key=outlet_key)
        last = own.order_by("-pk").values_list("batch", flat=True).first()
        return own.filter(batch=last) if last else self.none()


class FileCheck(Job):
    """A file from anywhere and what an outlet says of it. The file itself goes as soon as that is known; what was found
    stays until somebody deletes it.

    `toml` is the outlet as it was, `said` why nothing could be found out.
    """

    class State(models.TextChoices):
        WAITING = "waiting"
        CHECKING = "checking"
        CHECKED = "checked"
        UNREADABLE = "cannot be checked"
        CANCELLED = "cancelled"

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="file_checks")
    batch = models.UUIDField(default=uuid.uuid4)
    outlet_key = models.SlugField(max_length=_LONGEST_KEY)
    toml = models.TextField()
    content_kind = models.CharField(max_length=10)
    name = models.CharField(max_length=255)
    state = models.CharField(max_length=20, choices=State, default=State.WAITING)
    share = models.FloatField(default=0.0)
    said = SaidField(blank=True)
    figures = SaidJSONField(default=dict)
    findings = SaidJSONField(default=list)
    created_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)

    objects = FileCheckQuerySet.as_manager()

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.name

    @property
    def path(self):
        return storage.checking(self.pk)

    @property
    def is_under_way(self) -> bool:
        return self.state in (self.State.WAITING, self.State.CHECKING)

    @property
    def seconds_left(self) -> float | None:
        return seconds_left(self.started_at, self.share)

    def as_checked(self) -> Checked:
        """The same for a report."""
        verdict = self.state if self.said else self.verdict
        return Checked(self.name, verdict, self.findings, self.figures, self.said)

    @property
    def worst(self) -> str:
        return self.as_checked().worst

    @property
    def failing(self) -> int:
        return sum(finding["verdict"] == FAIL for finding in self.findings)

    @property
    def verdict(self) -> str:
        return verdict_of(finding["verdict"] for finding in self.findings)

    def start(self) -> bool:
        """Claim it for a worker. False where it was cancelled, and for one that has ended its worker several times."""
        own = FileCheck.objects.under_way()
        return self.claimed(own, state=self.State.CHECKING, share=0.0, started_at=timezone.now())

    def give_up(self) -> None:
        said = Said("checking-file-broken-off-times", most_starts=MOST_STARTS)
        self.settle(self.State.UNREADABLE, said=said)

    def tell_progress(self, share: float) -> bool:
        """Note how far it is; True when somebody has cancelled meanwhile."""
        own = FileCheck.objects.filter(pk=self.pk, state=self.State.CHECKING)
        return not own.update(share=share)

    def settle(self, state: str, *, said: str = "", sheet: CheckSheet | None = None, figures: dict | None = None):
        """Note what came of it, unless that is settled already, and let the file go."""
        findings = sheet.as_list() if sheet else []
        own = FileCheck.objects.under_way().filter(pk=self.pk)
        own.update(state=state, said=said, figures=figures or {}, findings=findings)
        self.path.unlink(missing_ok=True)

    def delete(self, *args, **kwargs):
        self.path.unlink(missing_ok=True)
        return super().delete(*args, **kwargs)


def outlets_of(user) -> dict[str, Outlet]:
    """Every outlet a person can deliver to, by key, in the order of their titles: shipped ones and their own."""
    own = dict(RuleSheet.objects.of(user).values_list("key", "toml"))
    found = {**shipped(), **{key: parse(toml) for key, toml in own.items()}}
    return dict(sorted(found.items(), key=lambda item: item[1].title.casefold()))


def free_key(title: str, taken: Iterable[str]) -> str:
    """A key for an outlet of this title that is not taken."""
    base = slugify(plain(title))[: _LONGEST_KEY - 4].strip("-") or "outlet"
    taken, key, number = set(taken), base, 1
    while key in taken:
        number += 1
        key = f"{base}-{number}"
    return key
