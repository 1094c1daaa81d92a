"""What of a script is read aloud: its lines, and the sentences they are made of."""

import re
from collections.abc import Sequence
from dataclasses import dataclass

from mastering.editing.scripts import Entry, entries, recognised
from mastering.words.spoken import words_of

_TOGETHER = 300
"""A line of no more characters than this is read in one go."""
_FEWEST_WORDS = 3
_SENTENCE_ENDS = re.compile(r"(?:[.!?…]+[\"'”’»)\]]*(?=\s+[\"'“‘«¿¡(\[—–-]*[^\W_a-zß-ÿ]))|[。！？।۔؟]+")
_OPENS = "\"'“‘«¿¡([—–"
_SHORT_FORM = re.compile(r"\b(?:\w|[A-Z][a-z]{0,2})\.$")
"""“Dr.”, “St.”, “J.”: no sentence ends there."""


@dataclass(frozen=True)
class ScriptLine:
    """One line of a script; `name` is the file name that a client wants for it, or empty."""

    text: str
    name: str = ""


def script_lines(text: str) -> list[ScriptLine]:
    """The lines that are read aloud: of a table or of pairs the spoken texts, of anything else each line with words."""
    layout = recognised(text)
    if layout.kind in ("columns", "pairs"):
        told = [
            ScriptLine(" ".join((entry.text or entry.title).split()), entry.name) for entry in entries(text, layout)
        ]
    else:
        told = [_as_read(line) for line in text.split("\n")]
    return [line for line in told if _is_read(line)]


def _as_read(line: str) -> ScriptLine:
    return ScriptLine(" ".join(line.lstrip("# \t").split()))


def _is_read(line: ScriptLine) -> bool:
    return any(map(str.isalnum, line.text))


def script_entries(text: str) -> list[tuple[Entry, list[str]]]:
    """What of a script becomes sections, each with the lines of it that are read aloud, its heading among them. What
    stands above the first heading belongs to none.
    """
    layout = recognised(text)
    told = []
    for entry in entries(text, layout):
        own = [entry.text or entry.title] if layout.kind in ("columns", "pairs") else [entry.heading, entry.text]
        lines = [line.text for part in own for line in map(_as_read, part.split("\n")) if _is_read(line)]
        told.append((entry, lines))
    return [(entry, lines) for entry, lines in told if lines]


def sentences(text: str, *, together: int = _TOGETHER) -> list[str]:
    """The sentences of a line; one of no more characters than `together` is one, however many it has. What is as short
    as “No.” goes with its neighbour.
    """
    if len(text) <= together:
        return [text]
    found, start = [], 0
    for end in _SENTENCE_ENDS.finditer(text):
        if not _SHORT_FORM.search(text, start, end.end()) and len(words_of(text[start : end.end()])) >= _FEWEST_WORDS:
            found.append(text[start : end.end()].strip())
            start = end.end()
    rest = text[start:].strip()
    if rest and found and len(words_of(rest)) < _FEWEST_WORDS:
        found[-1] += f" {rest}"
        rest = ""
    return [part for part in [*found, rest] if part]


def in_sentences(lines: Sequence[str], *, together: int = _TOGETHER) -> tuple[list[str], list[range]]:
    """All sentences of some lines, as of `sentences`, and which of them make up each line."""
    told: list[str] = []
    parts = []
    for line in lines:
        own = sentences(line, together=together)
        parts.append(range(len(told), len(told) + len(own)))
        told += own
    return told, parts


def word_texts(line: str) -> list[str]:
    """Each word of a line as it is read: with the signs that stand beside it and do not make a word."""
    starts = [start for start, _ in words_of(line)]
    if not starts:
        return []
    # An opening sign goes with the word after it, every other with the word before.
    starts = [0, *(_begin(line, start) for start in starts[1:])]
    return [line[start:end].strip() for start, end in zip(starts, [*starts[1:], len(line)], strict=True)]


def _begin(line: str, start: int) -> int:
    while start and line[start - 1] in _OPENS:
        start -= 1
    return start
