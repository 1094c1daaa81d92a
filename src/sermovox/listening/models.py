"""What is compared at the listening desk, and what listeners answered."""

from django.conf import settings
from django.db import models

from sermovox.productions.models import Production, Section

LONGEST_LABEL = 120
MOST_TRIALS = 6


class TrialQuerySet(models.QuerySet):
    def of(self, user) -> "TrialQuerySet":
        """Those of a person's productions."""
        return self.filter(production__in=Production.objects.of(user))


class Trial(models.Model):
    """A bitrate that is tried for an outlet, kbit/s. Nothing is delivered: a stretch is encoded when it is heard."""

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="trials")
    outlet_key = models.SlugField(max_length=60)
    kbps = models.PositiveIntegerField()

    objects = TrialQuerySet.as_manager()

    class Meta:
        ordering = ["-kbps"]
        constraints = [
            models.UniqueConstraint(fields=["production", "outlet_key", "kbps"], name="one_trial_of_a_bitrate")
        ]

    def __str__(self) -> str:
        return f"{self.outlet_key} at {self.kbps} kbit/s"


class AnswerQuerySet(models.QuerySet):
    def take_back(self, user, version: str, against: str) -> None:
        """Forget the last answer a listener gave, if there is one."""
        given = self.filter(by=user, version=version, against=against).values_list("pk", flat=True)
        self.filter(pk__in=given.order_by("-pk")[:1]).delete()

    def tallied(self) -> dict[tuple[str, str], tuple[int, int]]:
        """How many answers were right, and how many there were, by what was told from what."""
        rows = (
            self.order_by()
            .values("version", "against")
            .annotate(given=models.Count("pk"), correct=models.Count("pk", filter=models.Q(right=True)))
        )
        return {(row["version"], row["against"]): (row["correct"], row["given"]) for row in rows}


class Answer(models.Model):
    """One round with hidden names: whether the listener told a version from the one it was held against.

    `version` and `against` are what both are called in every section, `label` what `version` was called there.
    """

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="answers")
    section = models.ForeignKey(Section, on_delete=models.SET_NULL, null=True, related_name="answers")
    version = models.CharField(max_length=LONGEST_LABEL)
    against = models.CharField(max_length=LONGEST_LABEL)
    label = models.CharField(max_length=LONGEST_LABEL)
    start_s = models.FloatField()
    length_s = models.FloatField()
    right = models.BooleanField()
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True, related_name="answers")
    at = models.DateTimeField(auto_now_add=True)

    objects = AnswerQuerySet.as_manager()

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"{self.label} {'told' if self.right else 'not told'} from {self.against}"
