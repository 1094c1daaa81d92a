"""What can be done to a running order: each is one change that can be undone."""

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from typing import Any

from django.db import connection

from mastering.certain import certain
from mastering.editing.assembly import BUTT, Stretch, of_kinds
from mastering.editing.pieces import BadCut
from mastering.editing.roles import rank_of
from mastering.editing.scripts import Entry
from mastering.errors import MasteringError
from mastering.naming.described import plain_title
from mastering.said import Said
from mastering.shaping.treatment import Treatment
from sermovox.history.changing import changing
from sermovox.productions.models import Piece, Production, Section, content_of, pieces_of, write_pieces

LengthFinder = Callable[[Production, Iterable[Section]], dict[int, float | None]]
_length_finders: list[LengthFinder] = []


def finds_lengths(find: LengthFinder) -> LengthFinder:
    """Register what tells how long sections sound, by their keys; None where that is the length of the recording."""
    _length_finders.append(find)
    return find


def refresh_lengths(production: Production, sections: Iterable[Section]) -> None:
    """Keep how long these sections sound, after they or what they are made of was changed."""
    asked = list(sections)
    for find in _length_finders if asked else ():
        write(production, [{"pk": pk, "length_s": length_s} for pk, length_s in find(production, asked).items()])


def move(production: Production, user, sections: Sequence[int], before: int | None) -> None:
    """Put sections, in the order they have, before another one, or at the end."""
    moved = set(sections)
    order = list(production.sections.values_list("pk", flat=True))
    titles = dict(production.sections.filter(pk__in=moved).values_list("pk", "title"))
    moving = [pk for pk in order if pk in moved]
    if not moving or before in moved:
        return
    what = Said("sections-3", titles=titles[moving[0]], count=len(moving))
    with changing(production, user, Said("move-label", what=what)):
        rest = [pk for pk in order if pk not in moved]
        at = rest.index(before) if before in rest else len(rest)
        place(production, [*rest[:at], *moving, *rest[at:]])


def add(production: Production, user, after: int | None, *, title: str = "") -> Section:
    """Add an empty section after another one, or at the end."""
    with changing(production, user, Said("add-section")):
        section = Section(title=title or Said("new-section"))
        insert(production, [section], after=after)
    return section


def insert(
    production: Production, sections: Sequence[Section], *, after: int | None = None, before: int | None = None
) -> None:
    """Put new sections after or before another one, or at the end; no change of its own."""
    neighbour = production.sections.filter(pk=after or before or 0).first() or production.sections.last()
    role = neighbour.role if neighbour and neighbour.is_of_a_run else Section.Role.CHAPTER
    order = list(production.sections.values_list("pk", flat=True))
    for at, section in enumerate(sections, len(order) + 1):
        section.production, section.position, section.role = production, at, role
    Section.objects.bulk_create(sections)
    at = order.index(before) if before in order else order.index(after) + 1 if after in order else len(order)
    place(production, [*order[:at], *(section.pk for section in sections), *order[at:]])


def remove(production: Production, user, section: Section) -> None:
    """Take a section out. Its recording is kept, and undo brings it back with its files."""
    with changing(production, user, Said("take-out", title=section.title)):
        section.removed = True
        section.save(update_fields=["removed"])
        place(production, list(production.sections.values_list("pk", flat=True)))


def merge(production: Production, user, section: Section, *, as_treated: int | None = None) -> Section | None:
    """Make one section of a section and the next. Returns the one that is left, or None when there is no next.

    The first's facts stay. Where only the second has a dictated name, it comes along; recordings are put together,
    one after the other, and each piece holds what it held. `as_treated` is the key of the one of which both are to have
    the treatment. Raises BadCut where both have a recording and one of them cannot be used yet, TreatedOtherwise where
    they are not treated alike and it is not said which treatment is to hold.
    """
    following = production.sections.filter(position__gt=section.position).first()
    if following is None:
        return None
    recorded = [each for each in (section, following) if each.made_of]
    if len(recorded) > 1 and (silent := next((each for each in recorded if not each.stretches()), None)):
        recording = certain(silent.recording)
        name = recording.name
        state = Said("still-being-measured") if recording.measuring else Said("cannot-used")
        raise BadCut(Said("cannot-merged-yet-nothing-changed", title=silent.title, name=name, state=state))
    alike = elsewhere(section.wishes) == elsewhere(following.wishes)
    if len(recorded) > 1 and not alike and as_treated not in (section.pk, following.pk):
        raise TreatedOtherwise(section, following)
    with changing(production, user, Said("merge", title=section.title, title_2=following.title)):
        if len(recorded) > 1:
            own, others = of_kinds([(each.stretches(), each.content_kind) for each in recorded])
            section.content_kind = content_of(recorded)
            if as_treated == following.pk:
                section.treatment = elsewhere(following.wishes)
            section.set_stretches([*own, *_after_another(others)])
        elif following in recorded:
            write_pieces(production.pk, {section.pk: pieces_of(production)[following.pk]})
            section.forget_pieces()
            section.length_s = None
            section.content_kind, section.treatment = following.content_kind, following.treatment
        section.exact_name = section.exact_name or following.exact_name
        section.script = "\n\n".join(text for text in (section.script, following.script) if text)
        section.part = None if following.part else section.part
        section.save()
        following.removed = True
        following.save(update_fields=["removed"])
        place(production, list(production.sections.values_list("pk", flat=True)))
    return section


class TreatedOtherwise(MasteringError):
    """Two sections are to be one and are not treated alike; nothing was changed."""

    def __init__(self, first: Section, second: Section):
        super().__init__(Said("treated-otherwise-choose-how-they", title=first.title, title_2=second.title))
        self.sections = (first, second)


def _after_another(stretches: Sequence[Stretch]) -> list[Stretch]:
    """The stretches of a section where another comes before it: the first has nothing of its own to join."""
    first, *rest = stretches
    return [replace(first, join=BUTT, join_s=0.0), *rest]


def split(production: Production, user, section: Section) -> Section:
    """Make two parts of a section; the second comes below it and waits for a recording. Returns the second."""
    with changing(production, user, Said("split", title=section.title)):
        part = section.part or 1
        section.part = part
        section.save(update_fields=["part"])
        second = production.add_section(
            title=section.title, role=section.role, number=section.number, part=part + 1, **handed_on(section)
        )
        order = [pk for pk in production.sections.values_list("pk", flat=True) if pk != second.pk]
        at = order.index(section.pk) + 1
        place(production, [*order[:at], second.pk, *order[at:]])
    return second


def handed_on(section: Section, to: Section | None = None) -> dict[str, Any]:
    """What comes of a section has from it: what it holds, and how it is treated. Another section that something of it
    is given to keeps what it has of its own.
    """
    if to is not None and (to.pk == section.pk or to.treatment or to.content_kind != Section.Content.SPEECH):
        return {}
    return {"content_kind": section.content_kind, "treatment": elsewhere(section.wishes)}


def elsewhere(treatment: Treatment) -> dict[str, Any]:
    """A treatment as plain values for another sound: a place that noise is learned from is none there."""
    return replace(treatment, noise_s=None).as_dict()


def build(production: Production, user, entries: Sequence[Entry], *, instead: bool) -> int:
    """Make sections of what a script holds, at the end or instead of all there are. Returns how many."""
    with changing(production, user, Said("make-sections", count=len(entries))):
        if instead:
            production.sections.update(removed=True)
        last = 0 if instead else production.sections.count()
        Section.objects.bulk_create(
            Section(
                production=production,
                position=last + place,
                role=entry.role,
                number=entry.number,
                title=entry.title or entry.name or Said("section-2", last=last + place),
                exact_name=entry.name,
                script=entry.text,
            )
            for place, entry in enumerate(entries, 1)
        )
    return len(entries)


def assign(production: Production, user, recordings: dict[int, int | None], words: str) -> None:
    """Give sections their recordings: recording (or None for none) by section, both by primary key."""
    own = set(production.recordings.filter(pk__in=filter(None, recordings.values())).values_list("pk", flat=True))
    rows: list[dict[str, Any]] = [
        {"pieces": [{"recording_id": recording}] if recording else [], "length_s": None, "pk": section}
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
    with changing(production, user, Said("set-exact-names", count=len(names))):
        write(production, [{"exact_name": name[:255], "pk": pk} for pk, name in names.items()])


def place_among(production: Production, section: Section, batch: str, rank: int, *, by_role: bool) -> None:
    """Put a section that came in with others where it belongs among them: by its rank, or first by its role, where the
    names say nothing of order.
    """
    if not batch:
        return
    others = production.sections.exclude(pk=section.pk)
    first = Piece.objects.filter(section__in=others, place=0, recording__batch=batch)
    fellows = list(first.values_list("section_id", "section__role", "recording__rank"))
    if not fellows:
        return

    def where(role: str, rank: int) -> tuple[int, int]:
        return (rank_of(role) if by_role else 0, rank)

    order = [pk for pk in production.sections.values_list("pk", flat=True) if pk != section.pk]
    own = where(section.role, rank)
    earlier = [order.index(pk) for pk, role, other in fellows if where(role, other) < own]
    at = max(earlier) + 1 if earlier else min(order.index(pk) for pk, *_ in fellows)
    place(production, [*order[:at], section.pk, *order[at:]])


def call_as_files(production: Production, user, sections: Sequence[int]) -> int:
    """Call sections as the files of their recordings are called, in the order these came in. Returns how many."""
    first = Piece.objects.filter(section__production=production, section__in=sections, section__removed=False, place=0)
    named = list(first.order_by("recording__rank").values_list("section_id", "recording__name"))
    with changing(production, user, Said("call-sections-files-called", count=len(named))):
        plain = {"role": Section.Role.CHAPTER, "number": None, "part": None}
        write(production, [{"pk": pk, "title": plain_title(name)} | plain for pk, name in named])
        every = list(production.sections.values_list("pk", flat=True))
        own = dict(named)
        moved = iter(own)
        place(production, [next(moved) if pk in own else pk for pk in every])
    return len(named)


def place(production: Production, order: Sequence[int]) -> None:
    """Number the sections anew; only those that move are written."""
    positions = dict(production.sections.values_list("pk", "position"))
    moved = [{"position": at, "pk": pk} for at, pk in enumerate(order, 1) if positions[pk] != at]
    write(production, moved)


def write(production: Production, rows: Sequence[dict]) -> None:
    """Write rows of fields with their pk, and what their sections are made of as plain `pieces`. Django's bulk_update
    takes ten times as long for a whole running order.
    """
    groups = defaultdict(list)
    for row in rows:
        groups[tuple(sorted(name for name in row if name not in ("pk", "pieces")))].append(row)
    groups.pop((), None)
    if pieces := {row["pk"]: row["pieces"] for row in rows if "pieces" in row}:
        write_pieces(production.pk, pieces)
    table = Section._meta.db_table
    with connection.cursor() as cursor:
        for names, group in groups.items():
            fields: dict[str, Any] = {name: Section._meta.get_field(name) for name in names}
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
