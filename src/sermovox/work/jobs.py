"""Long work that a row of the database stands for."""

from collections.abc import Sequence

from django.db import models

MOST_STARTS = 3
"""So many workers may die of one job; what killed three kills the next."""


class Job(models.Model):
    """Work that one worker at a time takes in hand, and that is not begun for ever where its workers die of it."""

    starts = models.PositiveSmallIntegerField(default=0)

    class Meta:
        abstract = True

    @property
    def is_hopeless(self) -> bool:
        """Whether it has ended its worker too often."""
        return self.starts > MOST_STARTS

    def give_up(self) -> None:
        """Note that it is hopeless, and what to do."""
        raise NotImplementedError

    def claimed(self, waiting: models.QuerySet, *, reading: Sequence[str] = (), **claim) -> bool:
        """Take it in hand, where it is among those `waiting` at this very moment: `claim` is what it is then, `reading`
        what else is to be known of it as it is. False where it was cancelled, is another's or nobody's by now, or is
        hopeless.
        """
        if not waiting.filter(pk=self.pk).update(starts=models.F("starts") + 1, **claim):
            return False
        self.refresh_from_db(fields=[*claim, *reading, "starts"])
        if self.is_hopeless:
            self.give_up()
            return False
        return True
