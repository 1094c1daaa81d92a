"""What of a script is read aloud: its lines, and the sentences they are made of."""

import re
from collections.abc import Sequence
from dataclasses import dataclass

from mastering.editing.scripts import entries, recognised

_TOGETHER = 300
"""A line of no more characters than this is read in one go."""
_SENTENCE_ENDS = re.compile(r"(?:[.!?…]+[\"'”’»)\]]*(?=\s+[\"'“‘«¿¡(\[—–-]*[^\W_a-zß-ÿ]))|[。！？।۔؟]+")
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
        told = [ScriptLine(" ".join(line.lstrip("# \t").split())) for line in text.split("\n")]
    return [line for line in told if any(map(str.isalnum, line.text))]


def sentences(text: str) -> list[str]:
    """The sentences of a line; a short line is one, however many it has."""
    if len(text) <= _TOGETHER:
        return [text]
    found, start = [], 0
    for end in _SENTENCE_ENDS.finditer(text):
        if not _SHORT_FORM.search(text, start, end.end()):
            found.append(text[start : end.end()].strip())
            start = end.end()
    return [part for part in [*found, text[start:].strip()] if part]


def in_sentences(lines: Sequence[str]) -> tuple[list[str], list[range]]:
    """All sentences of some lines, and which of them make up each line."""
    told: list[str] = []
    parts = []
    for line in lines:
        own = sentences(line)
        parts.append(range(len(told), len(told) + len(own)))
        told += own
    return told, parts
