"""Sections out of the text of a page in one go: proposed with how sure each edge is, then made as one change."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from mastering.editing.pieces import BadCut
from mastering.editing.scripts import Entry
from mastering.said import Said
from mastering.words.lines import script_entries
from mastering.words.proof import APART, readings_that_count, spans_of_lines, with_room
from mastering.words.readings import Reading
from sermovox.cutting.edits import MOST_SECTIONS, commands
from sermovox.cutting.models import Page
from sermovox.cutting.sectioning import fill, overlap, parts_of, refuse_overlaps, sections_on
from sermovox.cutting.texts import Words, sentences_in
from sermovox.productions import order
from sermovox.productions.models import Section

_ROOM_S = 1.0
_EDGE_WORDS = 4
_ELSEWHERE = Said("words-page-were-found-anew")


@dataclass(frozen=True)
class Proposed:
    """A section that the text has: where it was read, samples, or None; and what is unsure about that."""

    entry: Entry
    span: tuple[int, int] | None
    unsure: tuple[str, ...]


def proposed(words: Words) -> list[Proposed]:
    """The sections of the text that was given to a page, in its order. Raises BadCut where that is not possible."""
    if words.text is None or words.text.script is None or words.text.script.timed:
        raise BadCut(Said("give-page-text-all-first"))
    heard, page = words.remaining, words.page
    found = script_entries(words.text.script.text)
    if len(found) > MOST_SECTIONS:
        raise BadCut(Said("these-would-more-than-sections", most_sections=MOST_SECTIONS))
    own = [[sentence for line in lines for sentence in sentences_in(line)] for _, lines in found]
    at = len(words.text.sentences) - sum(map(len, own))
    parts = []
    for sentences in own:
        parts.append(range(at, at + len(sentences)))
        at += len(sentences)
    spans, counted = spans_of_lines(heard, parts), readings_that_count(heard)
    rate_hz, frames = page.sample_rate_hz, page.recording.frames
    told = []
    for (entry, _), part, span in zip(found, parts, spans, strict=True):
        if span is None:
            told.append(Proposed(entry, None, (Said("not-read"),)))
            continue
        start_s, end_s = with_room(heard, span, room_s=_ROOM_S)
        samples = (round(start_s * rate_hz), min(frames, round(end_s * rate_hz)))
        told.append(Proposed(entry, samples, _unsure(counted, part)))
    return told


def _unsure(counted: Sequence[Reading | None], part: range) -> tuple[str, ...]:
    told = []
    for at, words, missing, otherwise in (
        (
            part[0],
            slice(_EDGE_WORDS),
            Said("beginning-unsure-sentence-not-found"),
            Said("beginning-unsure-sentence-sounds-otherwise"),
        ),
        (
            part[-1],
            slice(-_EDGE_WORDS, None),
            Said("end-unsure-sentence-not-found"),
            Said("end-unsure-sentence-sounds-otherwise"),
        ),
    ):
        reading = counted[at]
        if reading is None:
            told.append(missing)
        elif not reading.whole or replace(reading, words=reading.words[words]).apart > APART:
            told.append(otherwise)
    return tuple(told)


@commands("split-by-text")
def _split_by_text(page: Page, values: dict) -> str:
    words = Words(page)
    if not words.key or values.get("key") != words.key:
        raise BadCut(_ELSEWHERE)
    wanted = [each for each in proposed(words) if each.span]
    if not wanted:
        raise BadCut(Said("nothing-text-found-recording"))
    spans = [each.span for each in wanted if each.span]
    refuse_overlaps(page, spans)
    alone = _alone(page)
    if not alone and (clash := _clash(page, spans)):
        raise BadCut(Said("lies-there-already-free-stretch", title=clash.title))
    parts = parts_of(page, spans)
    fill(page, _sections_for(page, wanted, alone), parts, [])
    return Said("make-sections-text", count=len(wanted))


def _alone(page: Page) -> Section | None:
    """The one section that a recording which came in alone is, as a whole."""
    found = [section for section, _, _ in sections_on(page) if section.role != Section.Role.SAMPLE]
    return found[0] if len(found) == 1 and not found[0].is_cut else None


def _clash(page: Page, spans: Sequence[tuple[int, int]]) -> Section | None:
    there = [each for each in sections_on(page) if each[0].role != Section.Role.SAMPLE]
    return next((section for section, _, stretch in there if any(overlap(stretch, span) for span in spans)), None)


def _sections_for(page: Page, wanted: Sequence[Proposed], alone: Section | None) -> list[Section]:
    """A section for each: one that waits and is the same by its dictated name, its text, or its role and title; else
    the one that was all of the recording; else a new one, beside those before and after it.
    """
    waiting = list(page.production.sections.waiting())
    found: list[Section | None] = []
    for each in wanted:
        section = next((section for section in waiting if _is_same(section, each.entry)), None)
        if section:
            waiting.remove(section)
        found.append(section)
    if alone and None in found:
        found[found.index(None)] = alone
    elif alone:
        alone.removed = True
        alone.save(update_fields=["removed"])
        order.place(page.production, list(page.production.sections.values_list("pk", flat=True)))
    known = {section.pk for section in found if section and section is not alone}
    made = _with_new(page, found)
    rows = [_facts(section, each.entry, section.pk in known) for section, each in zip(made, wanted, strict=True)]
    order.write(page.production, rows)
    return made


def _is_same(section: Section, entry: Entry) -> bool:
    if entry.name or section.exact_name:
        return section.exact_name == entry.name
    if entry.text and section.script:
        return section.script.split() == entry.text.split()
    return (section.role, section.title.casefold()) == (entry.role, entry.title.casefold())


def _with_new(page: Page, found: Sequence[Section | None]) -> list[Section]:
    """The same with new sections where there is none, each run of them in one go."""
    made: list[Section] = []
    at = 0
    while at < len(found):
        if section := found[at]:
            made.append(section)
            at += 1
            continue
        stop = next((place for place in range(at, len(found)) if found[place]), len(found))
        new = [Section() for _ in range(at, stop)]
        following = found[stop] if stop < len(found) else None
        before = following.pk if following and not made else None
        order.insert(page.production, new, after=made[-1].pk if made else None, before=before)
        made += new
        at = stop
    return made


def _facts(section: Section, entry: Entry, is_known: bool) -> dict:
    """What a section is called and reads: its own where it waited for this, else what the text says."""
    section.script = section.script or entry.text
    section.exact_name = section.exact_name or entry.name
    if not is_known:
        section.title = (entry.title or entry.name)[:200]
        section.role, section.number = entry.role, entry.number
    told = ("title", "script", "exact_name", "role", "number")
    return {"pk": section.pk} | {name: getattr(section, name) for name in told}
