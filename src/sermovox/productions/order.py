"""Changes of a running order, each of which can be undone and redone, across reloads and restarts."""

from collections import defaultdict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from django.db import connection, transaction

from mastering.editing.scripts import Entry
from sermovox.productions.models import Change, Production, Section

_TRACKED = (
    "position",
    "role",
    "number",
    "part",
    "title",
    "content_kind",
    "exact_name",
    "script",
    "recording_id",
    "removed",
)
_KEPT_CHANGES = 500


@contextmanager
def changing(production: Production, user, words: str) -> Iterator[None]:
    """Whatever is done to the sections inside becomes one change; nothing of it stays if it fails."""
    with transaction.atomic():
        before = _snapshot(production)
        yield
        after = _snapshot(production)
        old, new = _difference(before, after)
        if not new:
            return
        production.changes.filter(undone=True).delete()
        production.changes.create(made_by=user, words=words[:300], before=old, after=new)
        kept = production.changes.order_by("-pk").values("pk")[:_KEPT_CHANGES]
        production.changes.exclude(pk__in=kept).delete()


def last_change(production: Production) -> Change | None:
    """What undo would undo."""
    return production.changes.filter(undone=False).last()


def next_change(production: Production) -> Change | None:
    """What redo would redo."""
    return production.changes.filter(undone=True).first()


def undo(production: Production) -> Change | None:
    """Take back the last change. Returns it, or None when there is none."""
    with transaction.atomic():
        change = last_change(production)
        if change:
            _apply(production, change.before)
            Change.objects.filter(pk=change.pk).update(undone=True)
        return change


def redo(production: Production) -> Change | None:
    """Make the change that was last taken back again."""
    with transaction.atomic():
        change = next_change(production)
        if change:
            _apply(production, change.after)
            Change.objects.filter(pk=change.pk).update(undone=False)
        return change


def move(production: Production, user, sections: Sequence[int], before: int | None) -> None:
    """Put sections, in the order they have, before another one, or at the end."""
    moved = set(sections)
    order = list(production.sections.values_list("pk", flat=True))
    titles = dict(production.sections.filter(pk__in=moved).values_list("pk", "title"))
    moving = [pk for pk in order if pk in moved]
    if not moving or before in moved:
        return
    what = f"“{titles[moving[0]]}”" if len(moving) == 1 else f"{len(moving)} sections"
    with changing(production, user, f"Move {what}"):
        rest = [pk for pk in order if pk not in moved]
        at = rest.index(before) if before in rest else len(rest)
        _place(production, [*rest[:at], *moving, *rest[at:]])


def add(production: Production, user, after: int | None, *, title: str = "") -> Section:
    """Add an empty section after another one, or at the end."""
    neighbour = production.sections.filter(pk=after).first() or production.sections.last()
    in_runs = (Section.Role.EPISODE, Section.Role.SEGMENT, Section.Role.LINE)
    role = neighbour.role if neighbour and neighbour.role in in_runs else Section.Role.CHAPTER
    with changing(production, user, "Add a section"):
        section = production.add_section(title=title or "New section", role=role)
        if after is not None:
            order = [pk for pk in production.sections.values_list("pk", flat=True) if pk != section.pk]
            at = order.index(after) + 1 if after in order else len(order)
            _place(production, [*order[:at], section.pk, *order[at:]])
    return section


def remove(production: Production, user, section: Section) -> None:
    """Take a section out. Its recording is kept, and undo brings it back with its files."""
    with changing(production, user, f"Take out “{section.title}”"):
        section.removed = True
        section.save(update_fields=["removed"])
        _place(production, list(production.sections.values_list("pk", flat=True)))


def merge(production: Production, user, section: Section) -> Section | None:
    """Make one section of a section and the next. Returns the one that is left, or None when there is no next.

    The first's facts stay. Where only the second has a recording or a dictated name, it comes along; a second
    recording becomes unused and is shown as such.
    """
    following = production.sections.filter(position__gt=section.position).first()
    if following is None:
        return None
    with changing(production, user, f"Merge “{section.title}” with “{following.title}”"):
        section.recording = section.recording or following.recording
        section.exact_name = section.exact_name or following.exact_name
        section.script = "\n\n".join(text for text in (section.script, following.script) if text)
        section.part = None if following.part else section.part
        section.save()
        following.removed = True
        following.save(update_fields=["removed"])
        _place(production, list(production.sections.values_list("pk", flat=True)))
    return section


def split(production: Production, user, section: Section) -> Section:
    """Make two parts of a section; the second comes below it and waits for a recording. Returns the second."""
    with changing(production, user, f"Split “{section.title}”"):
        part = section.part or 1
        section.part = part
        section.save(update_fields=["part"])
        second = production.add_section(
            title=section.title,
            role=section.role,
            number=section.number,
            part=part + 1,
            content_kind=section.content_kind,
        )
        order = [pk for pk in production.sections.values_list("pk", flat=True) if pk != second.pk]
        at = order.index(section.pk) + 1
        _place(production, [*order[:at], second.pk, *order[at:]])
    return second


def build(production: Production, user, entries: Sequence[Entry], *, instead: bool) -> int:
    """Make sections of what a script holds, at the end or instead of all there are. Returns how many."""
    with changing(production, user, f"Make {len(entries)} sections"):
        if instead:
            production.sections.update(removed=True)
        last = 0 if instead else production.sections.count()
        Section.objects.bulk_create(
            Section(
                production=production,
                position=last + place,
                role=entry.role,
                number=entry.number,
                title=entry.title or entry.name or f"Section {last + place}",
                exact_name=entry.name,
                script=entry.text,
            )
            for place, entry in enumerate(entries, 1)
        )
    return len(entries)


def assign(production: Production, user, recordings: dict[int, int | None], words: str) -> None:
    """Give sections their recordings: recording (or None for none) by section, both by primary key."""
    own = set(production.recordings.filter(pk__in=filter(None, recordings.values())).values_list("pk", flat=True))
    rows = [
        {"recording_id": recording, "pk": section}
        for section, recording in recordings.items()
        if recording is None or recording in own
    ]
    with changing(production, user, words):
        _write(production, rows)


def dictate(production: Production, user, names: dict[int, str]) -> None:
    """Set the exact names of sections, by primary key."""
    with changing(production, user, f"Set {len(names)} exact names"):
        _write(production, [{"exact_name": name[:255], "pk": pk} for pk, name in names.items()])


def place_among(production: Production, section: Section, batch: str, rank: int) -> None:
    """Put a section that came in with others where its name belongs among them."""
    if not batch:
        return
    fellows = list(
        production.sections.filter(recording__batch=batch).exclude(pk=section.pk).values_list("pk", "recording__rank")
    )
    if not fellows:
        return
    order = [pk for pk in production.sections.values_list("pk", flat=True) if pk != section.pk]
    earlier = [order.index(pk) for pk, other in fellows if other < rank]
    at = max(earlier) + 1 if earlier else min(order.index(pk) for pk, _ in fellows)
    _place(production, [*order[:at], section.pk, *order[at:]])


def _snapshot(production: Production) -> dict[int, dict]:
    rows = Section.with_removed.filter(production=production).values("pk", *_TRACKED)
    return {row.pop("pk"): row for row in rows}


def _difference(before: dict[int, dict], after: dict[int, dict]) -> tuple[dict, dict]:
    old, new = {}, {}
    for pk, row in after.items():
        was = before.get(pk)
        if was is None:
            # A new section goes away by being taken out, so that it can come again.
            old[str(pk)], new[str(pk)] = {"removed": True}, {"removed": row["removed"]}
        elif changed := {name for name in _TRACKED if was[name] != row[name]}:
            old[str(pk)] = {name: was[name] for name in changed}
            new[str(pk)] = {name: row[name] for name in changed}
    return old, new


def _apply(production: Production, fields: dict[str, dict]) -> None:
    recordings = set(production.recordings.values_list("pk", flat=True))
    rows = []
    for pk, row in fields.items():
        if row.get("recording_id") is not None and row["recording_id"] not in recordings:
            row = row | {"recording_id": None}
        rows.append(row | {"pk": int(pk)})
    _write(production, rows)
    # Sections that came in since have places of their own.
    _place(production, list(production.sections.values_list("pk", flat=True)))


def _place(production: Production, order: Sequence[int]) -> None:
    """Number the sections anew; only those that move are written."""
    positions = dict(production.sections.values_list("pk", "position"))
    moved = [{"position": at, "pk": pk} for at, pk in enumerate(order, 1) if positions[pk] != at]
    _write(production, moved)


def _write(production: Production, rows: Sequence[dict]) -> None:
    """Write rows of fields with their pk. Django's bulk_update takes ten times as long for a whole running order."""
    groups = defaultdict(list)
    for row in rows:
        groups[tuple(sorted(name for name in row if name != "pk"))].append(row)
    table = Section._meta.db_table
    with connection.cursor() as cursor:
        for names, group in groups.items():
            fields = ", ".join(f"{Section._meta.get_field(name).column} = %s" for name in names)
            cursor.executemany(
                f"UPDATE {table} SET {fields} WHERE id = %s AND production_id = %s",
                [[*(row[name] for name in names), row["pk"], production.pk] for row in group],
            )
