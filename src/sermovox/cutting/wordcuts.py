"""What can be done to a page by its words: each is one change that can be undone, as any other edit is."""

from collections.abc import Iterable, Sequence
from pathlib import PurePath

from mastering.editing import markup
from mastering.editing.markkinds import PICKUP, STRIKE, Mark
from mastering.editing.pieces import BadCut
from mastering.said import Said
from mastering.words.brought import heard_of
from mastering.words.kept import as_bytes
from mastering.words.lines import script_lines
from mastering.words.proof import not_counting, set_apart
from mastering.words.readings import Reading
from mastering.words.spoken import languages
from mastering.words.timed import read_timed
from sermovox.cutting.edits import commands, whole_value
from sermovox.cutting.models import Page
from sermovox.cutting.sectioning import clock_of, sections_on
from sermovox.cutting.texts import Words
from sermovox.history.changing import changing
from sermovox.keeping.apart import text_in
from sermovox.scripts.models import Script

LARGEST_TEXT_BYTES = 16 << 20
_MOST_LETTERS = 4_000_000
_TIMED = (".vtt", ".srt", ".json")
_ELSEWHERE = Said("words-page-were-found-anew-meanwhile")


def give_text(page: Page, user, *, text: str, data: bytes, name: str, language: str) -> None:
    """Give a page a text: what was written, or what a file holds, with its times where that is of another recogniser.
    Raises MasteringError, and nothing is changed.
    """
    if data:
        text = text_in(data)
    if language not in languages():
        raise BadCut(Said("choose-language-text-written"))
    if not script_lines(text):
        raise BadCut(Said("there-no-words-text-choose"))
    if len(text) > _MOST_LETTERS:
        raise BadCut(Said("text-more-than-letters-give", most_letters=_MOST_LETTERS))
    timed = ""
    if PurePath(name).suffix.lower() in _TIMED:
        duration_s = page.recording.frames / page.sample_rate_hz
        heard = heard_of(read_timed(text, duration_s=duration_s), duration_s=duration_s)
        text, timed = "\n".join(heard.lines), as_bytes(heard).decode()
    script = Script.objects.create(
        production=page.production, name=name[:200] if data else "", text=text, language=language, timed=timed
    )
    with changing(page.production, user, Said("give-page-text"), beside=[page]):
        page.set_facts(script=script.pk)


@commands("text-away")
def _text_away(page: Page, values: dict) -> str:
    page.set_facts(script=None)
    return Said("take-text-page-away")


@commands("false-starts")
def _false_starts(page: Page, values: dict) -> str:
    """Strike out every reading that does not count."""
    words = Words(page)
    readings = not_counting(words.remaining, words.put_in)
    if not readings:
        raise BadCut(Said("nothing-read-twice-not-struck"))
    _strike(page, words, readings)
    if len(readings) == 1:
        return Said("strike-out-1-reading-does")
    return Said("strike-out-readings-do-not", count=len(readings))


@commands("keep-reading")
def _keep_reading(page: Page, values: dict) -> str:
    """Of all readings of a line keep one, and strike out the others."""
    words = Words(page)
    reading = reading_of(words, values)
    start, end = _samples_apart(page, words, (reading.start_s, reading.end_s), _edges(page))
    page.set_marks(markup.cleared(page.mark_list, start, end, kinds=(STRIKE,)))
    others = [each for each in words.certainly_heard.readings if each.line == reading.line and each is not reading]
    _strike(page, words, others)
    return Said("keep-reading", page=clock_of(page, round(reading.start_s * page.sample_rate_hz)))


def reading_of(words: Words, values: dict) -> Reading:
    """The reading that is meant by its number. Raises BadCut where the words are others by now."""
    readings = words.certainly_heard.readings
    number = whole_value(values, "reading")
    if values.get("key") != words.key or not 0 <= number < len(readings):
        raise BadCut(_ELSEWHERE)
    return readings[number]


def _strike(page: Page, words: Words, readings: Iterable[Reading]) -> None:
    strike_said(page, words, [(reading.start_s, reading.end_s) for reading in readings])


def strike_said(page: Page, words: Words, places: Iterable[tuple[float, float]]) -> None:
    """Strike out what is said from one time to another, seconds, with the pause after it."""
    marks = []
    edges = _edges(page)
    for place in places:
        start, end = _samples_apart(page, words, place, edges)
        marks.append(Mark(id=0, kind=STRIKE, start_sample=start, end_sample=end))
    page.set_marks(markup.set_marks(page.mark_list, marks, length_samples=page.recording.frames))


def _edges(page: Page) -> list[int]:
    """What no cut by words goes beyond: edges of sections, and of what replaces something, samples."""
    edges = [edge for _, _, stretch in sections_on(page) for edge in (stretch.start_sample, stretch.end_sample)]
    pickups = [mark for mark in page.mark_list if mark.kind == PICKUP]
    return edges + [edge for mark in pickups for edge in (mark.start_sample, mark.end_sample)]


def _samples_apart(page: Page, words: Words, place: tuple[float, float], edges: Sequence[int]) -> tuple[int, int]:
    """Where to cut out what is said, in samples, not beyond an edge."""
    start_s, end_s = set_apart(words.certainly_heard, *place)
    rate_hz, frames = page.sample_rate_hz, page.recording.frames
    start, end = round(start_s * rate_hz), min(frames, round(end_s * rate_hz))
    first, last = round(place[0] * rate_hz), min(frames, round(place[1] * rate_hz))
    start = max([start, *(edge for edge in edges if edge <= first)])
    return start, min([end, *(edge for edge in edges if edge >= last)])
