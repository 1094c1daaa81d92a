"""Sections in the history of their production."""

from collections.abc import Sequence

from sermovox.history.changing import Rows, tracks
from sermovox.history.models import Change
from sermovox.productions.models import Production, Section
from sermovox.productions.order import place, refresh_lengths, write

_TRACKED = (
    "position",
    "role",
    "number",
    "part",
    "title",
    "content_kind",
    "exact_name",
    "script",
    "notes",
    "link",
    "picture",
    "recording_id",
    "programme",
    "length_s",
    "treatment",
    "removed",
)
_MADE_OF = ("recording_id", "programme")


class _Sections:
    """All sections of a running order, those taken out of it among them."""

    prefix = ""

    def state(self, production: Production, beside: Sequence = ()) -> dict[int, dict]:
        rows = Section.with_removed.filter(production=production).values("pk", *_TRACKED)
        return {row.pop("pk"): row for row in rows}

    def difference(self, production: Production, was: dict[int, dict], beside: Sequence) -> tuple[Rows, Rows]:
        now = self.state(production)
        _find_lengths(production, was, now)
        old, new = {}, {}
        for pk, row in now.items():
            before = was.get(pk)
            if before is None:
                # A new section goes away by being taken out, so that it can come again.
                old[str(pk)], new[str(pk)] = {"removed": True}, {"removed": row["removed"]}
            elif changed := {name for name in _TRACKED if before[name] != row[name]}:
                old[str(pk)] = {name: before[name] for name in changed}
                new[str(pk)] = {name: row[name] for name in changed}
        return old, new

    def apply(self, production: Production, rows: Rows) -> None:
        recordings = set(production.recordings(manager="with_deleted").values_list("pk", flat=True))
        written = []
        for pk, row in rows.items():
            if row.get("recording_id") is not None and row["recording_id"] not in recordings:
                row = row | {"recording_id": None}
            written.append(row | {"pk": int(pk)})
        write(production, written)
        # Sections that came in since have places of their own.
        place(production, list(production.sections.values_list("pk", flat=True)))

    def forget(self, production: Production, changes: Sequence[Change]) -> None:
        made = [int(pk) for change in changes for pk, row in change.before.items() if row == {"removed": True}]
        Section.with_removed.filter(pk__in=made, removed=True, files=None).delete()


def _find_lengths(production: Production, before: dict[int, dict], after: dict[int, dict]) -> None:
    """Find how long those sound that are made of something else now, where whoever changed them did not say."""
    empty = dict.fromkeys(_MADE_OF)
    unsure = [
        pk
        for pk, row in after.items()
        if row["length_s"] is None
        and any((before.get(pk, empty)[name] or None) != (row[name] or None) for name in _MADE_OF)
    ]
    if unsure:
        found = refresh_lengths(production, list(production.sections.filter(pk__in=unsure)))
        for pk, length_s in found.items():
            after[pk]["length_s"] = length_s


tracks(_Sections())
