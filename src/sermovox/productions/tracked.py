"""Sections in the history of their production."""

from collections.abc import Collection, Sequence

from django.db.models import Exists, Q

from sermovox.history.changing import Rows, tracks
from sermovox.history.models import Change
from sermovox.productions.models import Piece, Production, Section, piece_rows, plain_rows
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
    "treatment",
    "removed",
)


class _Sections:
    """All sections of a running order and their pieces, those taken out of it among them."""

    prefix = ""

    def state(self, production: Production, beside: Sequence = ()) -> dict[int, dict]:
        rows = Section.with_removed.filter(production=production).values("pk", *_TRACKED)
        pieces = piece_rows(production)
        return {(key := row.pop("pk")): row | {"pieces": pieces.get(key, [])} for row in rows}

    def difference(self, production: Production, was: dict[int, dict], beside: Sequence) -> tuple[Rows, Rows]:
        now = self.state(production)
        old, new = {}, {}
        for pk, row in now.items():
            before = was.get(pk)
            if before is None:
                # A new section goes away by being taken out, so that it can come again.
                old[str(pk)], new[str(pk)] = {"removed": True}, {"removed": row["removed"]}
            elif changed := {name for name in row if before[name] != row[name]}:
                old[str(pk)], new[str(pk)] = _kept(before, changed), _kept(row, changed)
        # Whatever is cut and was written without its length, be it of the same pieces; whoever changed a page has found
        # how long it sounds.
        cut = Exists(Piece.of_each().filter(end_sample__isnull=False))
        others = [pk for pk, row in now.items() if row["pieces"] != was.get(pk, {"pieces": []})["pieces"]]
        refresh_lengths(production, production.sections.filter(Q(pk__in=others) | cut, length_s=None))
        return old, new

    def apply(self, production: Production, rows: Rows) -> None:
        recordings = set(production.recordings(manager="with_deleted").values_list("pk", flat=True))
        written, sounding_otherwise = [], []
        for pk, row in rows.items():
            pieces = [
                piece if piece.get("recording_id") in recordings else piece | {"recording_id": None}
                for piece in row.get("pieces", ())
            ]
            written.append(row | ({"pieces": pieces} if "pieces" in row else {}) | {"pk": int(pk)})
            if not {"pieces", "removed"}.isdisjoint(row):
                sounding_otherwise.append(int(pk))
        write(production, written)
        # Sections that came in since have places of their own.
        place(production, list(production.sections.values_list("pk", flat=True)))
        refresh_lengths(production, production.sections.filter(pk__in=sounding_otherwise))

    def forget(self, production: Production, changes: Sequence[Change]) -> None:
        made = [int(pk) for change in changes for pk, row in change.before.items() if row == {"removed": True}]
        Section.with_removed.filter(pk__in=made, removed=True, files=None).delete()


def _kept(row: dict, names: Collection[str]) -> dict:
    """These fields of a row as the history keeps them."""
    return {name: plain_rows(row[name]) if name == "pieces" else row[name] for name in names}


tracks(_Sections())
