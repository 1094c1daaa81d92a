"""Changes of a running order and of its recordings' pages, each of which can be undone and redone, without limit.

They make one list for each production, so that what belongs together is taken back together.
"""

from collections import defaultdict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace

from django.db import connection, transaction

from mastering.editing.assembly import BUTT, Stretch
from mastering.editing.programme import BadCut
from mastering.editing.scripts import Entry
from mastering.shaping.treatment import Treatment
from sermovox.productions.models import Change, Production, Section
from sermovox.recordings.models import Recording

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
_PAGE = "page "


@dataclass
class Named:
    """What a change is called; may be settled while it is made."""

    words: str


@contextmanager
def changing(production: Production, user, words: str, *, pages: Sequence = ()) -> Iterator[Named]:
    """Whatever is done to the sections and these pages inside becomes one change; nothing of it stays if it fails."""
    named = Named(words)
    with transaction.atomic():
        before, pages_before = _snapshot(production), [page.state() for page in pages]
        yield named
        after = _snapshot(production)
        _find_lengths(production, before, after)
        old, new = _difference(before, after)
        for page, was in zip(pages, pages_before, strict=True):
            page_old, page_new = page.difference(was)
            if page_new:
                old[f"{_PAGE}{page.pk}"], new[f"{_PAGE}{page.pk}"] = page_old, page_new
        if not new:
            return
        _forget_undone(production)
        production.changes.create(made_by=user, words=named.words[:300], before=old, after=new)


def _find_lengths(production: Production, before: dict[int, dict], after: dict[int, dict]) -> None:
    """Find how long those sound that are made of something else now, where whoever changed them did not say."""
    from sermovox.cutting.programmes import refresh_lengths

    made_of = ("recording_id", "programme")
    empty = dict.fromkeys(made_of)
    unsure = [
        pk
        for pk, row in after.items()
        if row["length_s"] is None
        and any((before.get(pk, empty)[name] or None) != (row[name] or None) for name in made_of)
    ]
    if unsure:
        found = refresh_lengths(production, list(production.sections.filter(pk__in=unsure)))
        for pk, length_s in found.items():
            after[pk]["length_s"] = length_s


def _forget_undone(production: Production) -> None:
    """What was undone cannot be done again after a new change; sections that only it had made are gone for good."""
    undone = list(production.changes.filter(undone=True))
    made = [int(pk) for change in undone for pk, row in change.before.items() if row == {"removed": True}]
    Section.with_removed.filter(pk__in=made, removed=True, files=None).delete()
    production.changes.filter(pk__in=[change.pk for change in undone]).delete()


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
        place(production, [*rest[:at], *moving, *rest[at:]])


def add(production: Production, user, after: int | None, *, title: str = "") -> Section:
    """Add an empty section after another one, or at the end."""
    with changing(production, user, "Add a section"):
        section = Section(title=title or "New section")
        insert(production, [section], after=after)
    return section


def insert(
    production: Production, sections: Sequence[Section], *, after: int | None = None, before: int | None = None
) -> None:
    """Put new sections after or before another one, or at the end; no change of its own."""
    neighbour = production.sections.filter(pk=after or before).first() or production.sections.last()
    in_runs = (Section.Role.EPISODE, Section.Role.SEGMENT, Section.Role.LINE)
    role = neighbour.role if neighbour and neighbour.role in in_runs else Section.Role.CHAPTER
    order = list(production.sections.values_list("pk", flat=True))
    for at, section in enumerate(sections, len(order) + 1):
        section.production, section.position, section.role = production, at, role
    Section.objects.bulk_create(sections)
    at = order.index(before) if before in order else order.index(after) + 1 if after in order else len(order)
    place(production, [*order[:at], *(section.pk for section in sections), *order[at:]])


def remove(production: Production, user, section: Section) -> None:
    """Take a section out. Its recording is kept, and undo brings it back with its files."""
    with changing(production, user, f"Take out “{section.title}”"):
        section.removed = True
        section.save(update_fields=["removed"])
        place(production, list(production.sections.values_list("pk", flat=True)))


def merge(production: Production, user, section: Section) -> Section | None:
    """Make one section of a section and the next. Returns the one that is left, or None when there is no next.

    The first's facts stay. Where only the second has a dictated name, it comes along; recordings are put together,
    one after the other. Raises BadCut where both have one and one of them cannot be used yet.
    """
    following = production.sections.filter(position__gt=section.position).first()
    if following is None:
        return None
    recorded = [each for each in (section, following) if each.recording or each.programme]
    if len(recorded) > 1 and (silent := next((each for each in recorded if not each.stretches()), None)):
        name = silent.recording.name
        state = "is still being measured" if silent.recording.measuring else "cannot be used"
        raise BadCut(f"“{silent.title}” cannot be merged yet: {name} {state}. Nothing was changed.")
    with changing(production, user, f"Merge “{section.title}” with “{following.title}”"):
        if len(recorded) > 1:
            section.set_programme([*section.stretches(), *_after_another(following.stretches())])
        elif following in recorded:
            section.recording, section.programme = following.recording, following.programme
            section.length_s = None
        section.exact_name = section.exact_name or following.exact_name
        section.script = "\n\n".join(text for text in (section.script, following.script) if text)
        section.part = None if following.part else section.part
        section.save()
        following.removed = True
        following.save(update_fields=["removed"])
        place(production, list(production.sections.values_list("pk", flat=True)))
    return section


def _after_another(stretches: Sequence[Stretch]) -> list[Stretch]:
    """The stretches of a section where another comes before it: the first has nothing of its own to join."""
    first, *rest = stretches
    return [replace(first, join=BUTT, join_s=0.0), *rest]


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
            treatment=section.treatment,
        )
        order = [pk for pk in production.sections.values_list("pk", flat=True) if pk != second.pk]
        at = order.index(section.pk) + 1
        place(production, [*order[:at], second.pk, *order[at:]])
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
        {"recording_id": recording, "programme": [], "length_s": None, "pk": section}
        for section, recording in recordings.items()
        if recording is None or recording in own
    ]
    with changing(production, user, words):
        write(production, rows)


def treat(production: Production, user, treatments: dict[int, Treatment], words: str) -> None:
    """Give sections their treatments, by primary key."""
    with changing(production, user, words):
        write(production, [{"treatment": treatment.as_dict(), "pk": pk} for pk, treatment in treatments.items()])


def dictate(production: Production, user, names: dict[int, str]) -> None:
    """Set the exact names of sections, by primary key."""
    with changing(production, user, f"Set {len(names)} exact names"):
        write(production, [{"exact_name": name[:255], "pk": pk} for pk, name in names.items()])


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
    place(production, [*order[:at], section.pk, *order[at:]])


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
    recordings = set(Recording.with_deleted.filter(production=production).values_list("pk", flat=True))
    rows = []
    pages = {pk.removeprefix(_PAGE): row for pk, row in fields.items() if pk.startswith(_PAGE)}
    for page in production.pages.filter(pk__in=pages):
        page.take_back(pages[str(page.pk)])
    for pk, row in fields.items():
        if pk.startswith(_PAGE):
            continue
        if row.get("recording_id") is not None and row["recording_id"] not in recordings:
            row = row | {"recording_id": None}
        rows.append(row | {"pk": int(pk)})
    write(production, rows)
    # Sections that came in since have places of their own.
    place(production, list(production.sections.values_list("pk", flat=True)))


def place(production: Production, order: Sequence[int]) -> None:
    """Number the sections anew; only those that move are written."""
    positions = dict(production.sections.values_list("pk", "position"))
    moved = [{"position": at, "pk": pk} for at, pk in enumerate(order, 1) if positions[pk] != at]
    write(production, moved)


def write(production: Production, rows: Sequence[dict]) -> None:
    """Write rows of fields with their pk. Django's bulk_update takes ten times as long for a whole running order."""
    groups = defaultdict(list)
    for row in rows:
        groups[tuple(sorted(name for name in row if name != "pk"))].append(row)
    table = Section._meta.db_table
    with connection.cursor() as cursor:
        for names, group in groups.items():
            fields = {name: Section._meta.get_field(name) for name in names}
            setting = ", ".join(f"{field.column} = %s" for field in fields.values())
            cursor.executemany(
                f"UPDATE {table} SET {setting} WHERE id = %s AND production_id = %s",
                [
                    [
                        *(f.get_db_prep_save(row[name], connection) for name, f in fields.items()),
                        row["pk"],
                        production.pk,
                    ]
                    for row in group
                ],
            )
