"""The text of a page, and its words where they were spoken."""

from collections import Counter
from dataclasses import dataclass
from functools import cached_property

from mastering.editing.markkinds import PICKUP, STRIKE
from mastering.editing.pieces import BadCut
from mastering.meters.speech import spoken_level
from mastering.said import Said
from mastering.words.hearing import HeardScript
from mastering.words.kept import from_bytes, row_of
from mastering.words.lines import in_sentences, script_lines, word_texts
from mastering.words.proof import readings_that_count, remaining, words_said
from mastering.words.timed import TimedText
from sermovox.cutting.models import Page
from sermovox.cutting.sectioning import sections_on
from sermovox.productions.models import Section
from sermovox.scripts.models import Hearing, Script, tag_of
from sermovox.scripts.tasks import queue_hearing
from sermovox.ui.words import said as told

_UNSPOKEN = Said("language-production-none-whose-words")
_ANOTHER = Said("hardly-anything-said-here-stands")
TIMED_KINDS = (("vtt", "WebVTT"), ("srt", "SRT"), ("json", Said("transcript-json")), ("txt", "labels"))
"""The formats that words with their times are taken out in, by their endings."""
_MS = 1000


@dataclass(frozen=True)
class Text:
    """What was to be read on a page: its sentences in order, `sections` that each belongs to where they are those of
    sections, and the tag of their language, empty where it is none that is spoken here. `script` is the text that was
    given to the page.
    """

    sentences: list[str]
    sections: list[int]
    language: str
    script: Script | None


def text_of(page: Page) -> Text | None:
    """The text that was given to a page, else those of the sections on it in the order of the recording; None where
    there is no word in them.
    """
    script = script_of(page)
    if script:
        # What another recogniser heard goes by its cues.
        sentences = script.text.split("\n") if script.timed else sentences_in(script.text)
        return Text(sentences, [], script.language, script) if sentences else None
    keys = [section.pk for section, _, _ in sections_on(page) if section.role != Section.Role.SAMPLE]
    scripts = dict(page.production.sections.filter(pk__in=keys).exclude(script="").values_list("pk", "script"))
    sentences_of_all: list[str] = []
    owners: list[int] = []
    for key in dict.fromkeys(keys):
        sentences = sentences_in(scripts.get(key, ""))
        sentences_of_all += sentences
        owners += [key] * len(sentences)
    language = tag_of(page.production.language)
    return Text(sentences_of_all, owners, language, None) if sentences_of_all else None


def sentences_in(text: str) -> list[str]:
    """What of a text is read, sentence by sentence."""
    return in_sentences([line.text for line in script_lines(text)], together=0)[0]


def script_of(page: Page) -> Script | None:
    """The text that was given to a page."""
    key = page.facts.get("script")
    return page.production.scripts.filter(pk=key).first() if key else None


class Words:
    """A page with what is heard of its text."""

    def __init__(self, page: Page):
        self.page = page
        self.text = text_of(page)

    @cached_property
    def hearing(self) -> Hearing | None:
        """How far it is heard; None where there is nothing to be heard."""
        if self.text is None or not self.text.language or self._brought:
            return None
        return Hearing.of(self.page.recording, self.text.sentences, self.text.language)

    def queue(self) -> None:
        """Have it heard, if it waits for that."""
        if self.hearing and self.hearing.state == Hearing.State.WAITING:
            queue_hearing(self.hearing)

    @property
    def _brought(self) -> str:
        """The times of the words, where they were brought in with the text."""
        return self.text.script.timed if self.text and self.text.script else ""

    @property
    def key(self) -> str:
        """Tells these words from others; empty where there are none to be found."""
        if self.text and self.text.script and self._brought:
            return f"script {self.text.script.pk}"
        return self.hearing.key if self.hearing else ""

    @cached_property
    def heard(self) -> HeardScript | None:
        """What was heard; None while it is not known, and where it is another text."""
        if self._brought:
            return from_bytes(self._brought.encode())
        found = self.hearing.heard() if self.hearing else None
        return None if found is None or found.is_another else found

    @property
    def heard_so_far(self) -> HeardScript | None:
        """What is heard of the beginning while the rest is looked for: to be looked at, not to cut by."""
        found = self.hearing.heard_so_far() if self.hearing else None
        return None if found is None or found.is_another else found

    @property
    def is_another(self) -> bool:
        """Whether the recording was found to hold another text."""
        found = self.hearing.heard() if self.hearing else None
        return bool(found and found.is_another)

    @property
    def remaining(self) -> HeardScript:
        """What was heard and is neither struck out nor replaced. Raises BadCut where nothing is heard yet."""
        return remaining(self.certainly_heard, gone(self.page))

    @property
    def put_in(self) -> set[int]:
        """The lines that a pickup sounds for: those it replaces the reading of, and those it was put in for."""
        page, heard = self.page, self.certainly_heard
        rate_hz = page.sample_rate_hz
        marks = [mark for mark in page.mark_list if mark.kind == PICKUP]
        replaced = [(mark.start_sample / rate_hz, mark.end_sample / rate_hz) for mark in marks]
        left = {(each.line, each.end_s) for each in remaining(heard, replaced).readings}
        found = {each.line for each in heard.readings if each.whole and (each.line, each.end_s) not in left}
        places = {mark.start_sample for mark in marks}
        return found | {row["line"] for row in page.proof.values() if row.get("at") in places and "line" in row}

    def said(self) -> list[list[TimedText]]:
        """What remains, reading by reading, word by word, at its times in the recording."""
        heard = self.remaining
        return [words_said(heard, reading) for reading in heard.readings]

    @property
    def certainly_heard(self) -> HeardScript:
        """What was heard. Raises BadCut where that is not known yet."""
        if self.heard is None:
            raise BadCut(Said("words-recording-not-found-yet"))
        return self.heard


def gone(page: Page) -> list[tuple[float, float]]:
    """What of a page is struck out or replaced, in order, seconds."""
    rate_hz = page.sample_rate_hz
    found: list[tuple[float, float]] = []
    for mark in page.mark_list:
        if mark.kind in (STRIKE, PICKUP):
            start_s, end_s = mark.start_sample / rate_hz, mark.end_sample / rate_hz
            if found and start_s <= found[-1][1]:
                start_s, end_s = found[-1][0], max(end_s, found.pop()[1])
            found.append((start_s, end_s))
    return found


def state_of(found: Words) -> dict:
    """How far the words of a page are found: `state` is one of Hearing.State, "none", "unspoken" or "another"."""
    hearing = found.hearing
    if found.heard is not None:
        return {"state": Hearing.State.HEARD, "key": found.key, "said": ""}
    if hearing is None:
        unspoken = found.text is not None
        said = told(_UNSPOKEN) if unspoken else ""
        return {"state": "unspoken" if unspoken else "none", "key": "", "said": said}
    if found.is_another:
        return {"state": "another", "key": hearing.key, "said": told(_ANOTHER)}
    return {
        "state": hearing.state,
        "key": hearing.key,
        "share": hearing.share,
        "left_s": hearing.seconds_left if hearing.is_under_way else None,
        "said": told(hearing.said) if hearing.said else "",
    }


def rows_of(heard: HeardScript, *, until_s: float | None = None) -> dict:
    """The words as a page draws them: of each reading its line, whether it is whole and whether it counts, and of each
    word its number in the line, start and end in ms, and how far it lies apart, in hundredths. The lines are lists of
    words. `until_s` stops there.
    """
    counted = {id(reading) for reading in readings_that_count(heard) if reading}
    readings = [each for each in heard.readings if until_s is None or each.start_s < until_s]
    lines = {reading.line: word_texts(heard.lines[reading.line]) for reading in readings}
    return {
        "lines": lines,
        "readings": [
            [
                reading.line,
                int(reading.whole),
                int(id(reading) in counted),
                [number for word in reading.words for number in row_of(word)],
            ]
            for reading in readings
        ],
        "outside": [[round(each.start_s * _MS), round(each.end_s * _MS)] for each in heard.outside],
    }


def levels_of(page: Page, heard: HeardScript) -> dict[int, float]:
    """How loud each reading is of the lines that were read more than once, dB, by its number; none of it while the
    recording is measured anew.
    """
    measured = page.recording.kept_measurement()
    times = Counter(reading.line for reading in heard.readings)
    if measured is None or max(times.values(), default=0) < 2:
        return {}
    found = {
        number: spoken_level(measured.levels.envelope, reading.start_s, reading.end_s)
        for number, reading in enumerate(heard.readings)
        if times[reading.line] > 1
    }
    return {number: round(level_db, 1) for number, level_db in found.items() if level_db is not None}
