"""Sentences in the database: kept by key with what they tell of, so that whoever reads them later reads her language.

Text that is no sentence, and what earlier versions wrote, stays text.
"""

from django.db import models

from mastering.said import plain, read, revived, written


class SaidField(models.TextField):
    """One sentence."""

    def from_db_value(self, value, expression, connection):
        return value if value is None else read(value)

    def get_prep_value(self, value):
        value = super().get_prep_value(value)
        return written(value) if isinstance(value, str) else value


class SaidJSONField(models.JSONField):
    """Lists and tables with sentences among them."""

    def from_db_value(self, value, expression, connection):
        return revived(super().from_db_value(value, expression, connection))

    def get_prep_value(self, value):
        return plain(super().get_prep_value(value))
