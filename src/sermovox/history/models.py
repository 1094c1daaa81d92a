"""Changes of productions: what was done, by whom, and what it takes to undo and to redo it."""

from django.conf import settings
from django.db import models

from sermovox.keeping.sentences import SaidField


class Change(models.Model):
    """One change of all that is kept in a production's history.

    `before` and `after` hold changed fields by the key of what has them, with the prefix of who tracks it.
    """

    production = models.ForeignKey("productions.Production", on_delete=models.CASCADE, related_name="changes")
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    made_at = models.DateTimeField(auto_now_add=True)
    words = SaidField()
    before = models.JSONField()
    after = models.JSONField()
    undone = models.BooleanField(default=False)

    class Meta:
        db_table = "productions_change"
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.words
