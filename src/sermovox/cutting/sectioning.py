"""Which stretches of a page belong to which sections, and what comes of cutting them."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from django.db.models import Exists, Prefetch, Q

from mastering.clock import clock
from mastering.editing import giving
from mastering.editing.assembly import BUTT, Stretch, divided
from mastering.editing.pieces import BadCut, Span, check_span
from mastering.said import Said
from sermovox.cutting.models import Page
from sermovox.productions import order
from sermovox.productions.models import Piece, Section, SectionQuerySet, plain_pieces


@dataclass(frozen=True)
class Part:
    """A stretch that a section is made of, and the section that it is taken from, if any."""

    stretch: Stretch
    of: Section | None = None

    @property
    def span(self) -> tuple[int, int]:
        return self.stretch.start_sample, self.stretch.end_sample


def sections_on(
    page: Page, among: SectionQuerySet | None = None, within: tuple[int, int] | None = None
) -> list[tuple[Section, int, Stretch]]:
    """The sections that this page's recording is in, each with the number of the stretch and the stretch, by time.

    `among` looks at some of the running order's sections alone, `within` at those that a span has samples of.
    """
    key = page.recording_id
    found = []
    sections = page.production.sections.all() if among is None else among
    pieces = Piece.of_each().filter(recording=key)
    if within:
        pieces = pieces.filter(Q(end_sample=None) | Q(end_sample__gt=within[0]), start_sample__lt=within[1])
    for section in (
        sections.filter(Exists(pieces)).prefetch_related(Prefetch("pieces", to_attr="read_pieces")).defer("script")
    ):
        for piece in section.made_of:
            if piece.recording_id == key:
                piece.recording = page.recording
        for at, stretch in enumerate(section.stretches()):
            if stretch.recording == str(key):
                found.append((section, at, stretch))
    return sorted(found, key=lambda each: (each[2].start_sample, each[2].end_sample, each[0].position))


def cut_at(page: Page, cuts: Sequence[int], *, from_end: bool) -> list[Section]:
    """Cut the sections of the page at these samples, or the whole recording where there are none yet.

    Returns the sections that come of it, by time. The first part stays with its section, the others go to sections
    that wait, in order, or new ones; from the end, the other way round.
    """
    frames = page.recording.frames
    found = sections_on(page)
    plain = [each for each in found if each[0].role != Section.Role.SAMPLE]
    parts: list[Part] = []
    owners: list[tuple[int, Section]] = []
    wanted = sorted(set(cuts))
    for cut in wanted:
        if not 0 < cut < frames:
            raise BadCut(Said("section-cannot-begin-there-lies"))
    covered: set[int] = set()
    whole: list[None] = [None]
    for owner in plain or whole:
        start, end = (owner[2].start_sample, owner[2].end_sample) if owner else (0, frames)
        inside = [cut for cut in wanted if start < cut < end and cut not in covered]
        covered.update(inside)
        if not inside:
            continue
        if owner and len(owner[0].stretches()) > 1:
            raise BadCut(Said("put-together-several-pieces-cut", title=owner[0].title))
        own = divided(owner[2] if owner else _plain(page, (start, end)), inside)
        if owner:
            stays = own.pop(-1 if from_end else 0)
            if from_end:
                treated = order.elsewhere(owner[0].wishes)
                order.write(page.production, [{"pk": owner[0].pk, "treatment": treated}])
            replace_stretch(owner[0], owner[1], stays)
            owners.append((stays.start_sample, owner[0]))
        parts += [Part(stretch, owner[0] if owner else None) for stretch in own]
    for cut in wanted:
        # Where nothing is a section yet, one begins and runs to the next.
        if cut not in covered and not any(s.start_sample == cut for _, _, s in plain):
            later = [s.start_sample for _, _, s in plain if s.start_sample > cut]
            parts.append(Part(_plain(page, (cut, min(later, default=frames)))))
            covered.add(cut)
    if not parts:
        raise BadCut(Said("section-begins-there-already"))
    made = give(page, parts, from_end=from_end, titles=[])
    both = [*owners, *((part.stretch.start_sample, section) for part, section in zip(parts, made, strict=True))]
    return [section for _, section in sorted(both, key=lambda each: each[0])]


def parts_of(page: Page, spans: Sequence[tuple[int, int]]) -> list[Part]:
    """Stretches of a page, each as a part of the section that it lies in as a whole, if there is one."""
    found = [each for each in sections_on(page) if each[0].role != Section.Role.SAMPLE]
    parts = []
    for start, end in spans:
        around = [each for each in found if each[2].start_sample <= start and end <= each[2].end_sample]
        part = Part(_plain(page, (start, end)))
        for section, _, stretch in around[:1]:
            own = next(each for each in divided(stretch, (start, end)) if each.start_sample == start)
            # It has nothing before it to join.
            part = Part(replace(own, join=BUTT, join_s=0.0), section)
        parts.append(part)
    return parts


def _plain(page: Page, span: tuple[int, int]) -> Stretch:
    return Stretch(recording=str(page.recording_id), start_sample=span[0], end_sample=span[1])


def give(page: Page, parts: Sequence[Part], *, from_end: bool, titles: Sequence[str]) -> list[Section]:
    """Give stretches to sections that wait, in order, or to new ones. Returns the section of each."""
    frames, spans = page.recording.frames, [part.span for part in parts]
    for span in spans:
        check_span(Span("", *span), frames)
    refuse_overlaps(page, spans)
    found = [each for each in sections_on(page) if each[0].role != Section.Role.SAMPLE]
    lying = [
        giving.Lies(each.pk, each.position, (s.start_sample, s.end_sample), not each.is_cut) for each, _, s in found
    ]
    known = {section.pk: section for section in page.production.sections.waiting().defer("script")}
    samples = [section for section in known.values() if section.role == Section.Role.SAMPLE]
    in_place_of = giving.placeholder(spans, lying, frames)
    if not in_place_of and (there := giving.clash(spans, lying)):
        if samples and len(spans) == 1:
            # A sample is taken from what belongs to another section.
            fill(page, [samples[0]], parts, titles)
            return samples[:1]
        title = next(section.title for section, *_ in found if section.pk == there.key)
        raise BadCut(
            Said(
                "overlaps-which-runs-from-choose",
                title=title,
                page=clock_of(page, there.span[0]),
                page_2=clock_of(page, there.span[1]),
            )
        )
    waiting = [giving.Waits(each.pk, each.position) for each in known.values() if each not in samples]
    given = giving.give(spans, lying, waiting, frames=frames, from_end=from_end)
    known |= {section.pk: section for section, *_ in found}
    count = page.production.sections.count()
    new = [Section(title=Said("section-label", count=count + at)) for at in range(1, given.keys.count(None) + 1)]
    if new:
        order.insert(page.production, new, before=given.before, after=given.after)
    rest = iter(new)
    by_time = sorted(range(len(spans)), key=lambda at: spans[at])
    owners = {at: next(rest) if (key := given.keys[at]) is None else known[key] for at in by_time}
    sections = [owners[at] for at in range(len(spans))]
    fill(page, sections, parts, titles)
    return sections


def refuse_overlaps(page: Page, spans: Sequence[tuple[int, int]]) -> None:
    """Raise BadCut where two of these stretches have samples in common."""
    for one, other in pairwise(sorted(spans)):
        if other[0] < one[1]:
            raise BadCut(Said("two-these-sections-overlap-nothing", page=clock_of(page, other[0])))


def overlap(stretch: Stretch, span: tuple[int, int]) -> bool:
    """Whether a stretch and a span have samples in common."""
    return stretch.start_sample < span[1] and span[0] < stretch.end_sample


def fill(page: Page, sections: Sequence[Section], parts: Sequence[Part], titles: Sequence[str]) -> None:
    """Make sections of stretches, each by its own; those that `titles` has no name for keep theirs. What a stretch is
    taken from hands on what it holds and how it is treated, where its section has nothing of that.
    """
    known = {page.recording_id: page.recording}
    rows = []
    for at, (section, part) in enumerate(zip(sections, parts, strict=True)):
        (start, end), stretch = part.span, part.stretch
        section.title = (titles[at][:200] if at < len(titles) else "") or section.title
        pieces = plain_pieces([stretch], known)
        # So long it is where nothing is marked; where something is, that is looked at afterwards.
        section.length_s = (end - start) / page.sample_rate_hz if "end_sample" in pieces[0] else None
        section.forget_pieces()
        row = {"pk": section.pk, "title": section.title, "length_s": section.length_s, "pieces": pieces}
        rows.append(row | (order.handed_on(part.of, section) if part.of else {}))
    order.write(page.production, rows)


def replace_stretch(section: Section, number: int, stretch: Stretch) -> None:
    """Give a section another stretch in place of one it has; saves."""
    stretches = list(section.stretches())
    stretches[number] = stretch
    section.set_stretches(stretches)


def touched_by(page: Page, before: tuple[list, dict]) -> list[Section]:
    """The sections that sound otherwise after a change of marks or facts."""
    if page.facts != before[1]:
        return [section for section, _, _ in sections_on(page)]
    was, now = ({row["id"]: row for row in rows} for rows in (before[0], page.marks))
    changed = [row for key in was | now if was.get(key) != now.get(key) for row in (was.get(key), now.get(key)) if row]
    if not changed:
        return []
    start, end = min(row["start_sample"] for row in changed), max(row["end_sample"] for row in changed)
    return [section for section, _, s in sections_on(page, within=(start, end)) if overlap(s, (start, end))]


def in_the_way(other: Section, moving: Section) -> bool:
    """Whether two sections may not share samples; a sample may be taken from any other."""
    return Section.Role.SAMPLE not in (other.role, moving.role)


def clock_of(page: Page, sample: int) -> str:
    """A place on a page as h:mm:ss."""
    return clock(sample / page.sample_rate_hz)
