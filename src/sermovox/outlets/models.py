"""Rule sheets of people's own, and shipped ones they changed, with all their versions."""

from collections.abc import Iterable

from django.conf import settings
from django.db import models, transaction
from django.urls import reverse
from django.utils.text import slugify

from mastering.naming.patterns import plain
from mastering.outlets.outlet import BadOutlet, Outlet, parse, shipped, shipped_text, written

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
                    raise BadOutlet(f"There are {_MOST_SHEETS} rule sheets of your own. Remove one first.")
                sheet = cls.objects.create(owner=user, key=outlet.key, toml=text)
                if outlet.key in shipped():
                    sheet.versions.create(number=1, toml=shipped_text(outlet.key), words="As it was shipped")
            sheet.toml, sheet.removed = text, False
            sheet.save()
            last = sheet.versions.aggregate(last=models.Max("number"))["last"] or 0
            sheet.versions.create(number=last + 1, toml=text, words=words[:300])
        return sheet


class SheetVersion(models.Model):
    """How a rule sheet was at one time, and what was changed then."""

    sheet = models.ForeignKey(RuleSheet, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveIntegerField()
    toml = models.TextField()
    words = models.CharField(max_length=300)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["sheet", "number"], name="one_version_of_a_number")]

    def __str__(self) -> str:
        return f"{self.sheet}, version {self.number}"

    @property
    def outlet(self) -> Outlet:
        return parse(self.toml)


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
