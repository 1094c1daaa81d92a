"""The pattern language from which every name is made.

A pattern is text with fields in braces. A field may be followed by functions, each after a bar, taken from left to
right: `{place|pad}-{title|plain|lower|join:-}`. What stands in square brackets disappears when a field in it is
empty: `{role}[ {number}]`. Braces and brackets that are meant as such are written twice.
"""

import re
import unicodedata
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from functools import lru_cache
from typing import Any

from mastering.errors import MasteringError
from mastering.said import Said

FIELDS = {
    "place": Said("place-running-order-from-1"),
    "number": Said("sections-own-number"),
    "count": Said("own-number-place-where-no"),
    "role": Said("what-section-chapter-segment-line"),
    "title": Said("sections-title"),
    "part": Said("which-part-section-split"),
    "exact": Said("name-client-dictated-section"),
    "source": Said("recordings-file-name-without-ending"),
    "production": Said("title-production"),
    "subtitle": Said("its-subtitle"),
    "author": "author",
    "narrator": "narrator",
    "publisher": "publisher",
    "year": "year",
    "language": "language",
    "genre": "genre",
    "code": Said("clients-code-production"),
    "contact": "contact",
    "copyright": Said("copyright-line"),
    "description": Said("description-production"),
    "notes": Said("sections-notes"),
    "script": Said("what-spoken-section"),
    "outlet": Said("title-outlet"),
    "date": Said("day-files-made-such-2026"),
    "total": Said("how-many-sections-there"),
}
NUMBERS = ("place", "number", "count", "part", "total")

FUNCTIONS = {
    "pad": Said("noughts-front-many-book-needs"),
    "lower": Said("small-letters"),
    "upper": "capitals",
    "capitals": Said("capital-each-word"),
    "plain": Said("accents-removed"),
    "join": "words joined by a sign, other signs left out: join:- or join:_",
    "most": Said("cut-length-most-40"),
}
_WANTS_NUMBER = ("pad", "most")

_STROKED = str.maketrans(
    {
        "ß": "ss", "ẞ": "SS", "æ": "ae", "Æ": "AE", "œ": "oe", "Œ": "OE", "ø": "o", "Ø": "O", "ł": "l", "Ł": "L",
        "đ": "d", "Đ": "D", "ð": "d", "Ð": "D", "þ": "th", "Þ": "Th", "ı": "i", "ħ": "h", "Ħ": "H", "ŧ": "t", "Ŧ": "T",
    }
)  # fmt: skip
"""Latin letters that Unicode does not take apart into a letter and an accent."""

_DOUBLED = {"{{": "{", "}}": "}", "[[": "[", "]]": "]"}
_TOKENS = re.compile(r"\{\{|\}\}|\[\[|\]\]|\{[^{}]*\}|[\[\]{}]|[^\[\]{}]+")


class BadPattern(MasteringError):
    """A pattern that cannot be read; the text says where and why."""


@dataclass(frozen=True)
class Facts:
    """What is known of one section: its fields as text, and for numbers the digits the book's highest one has."""

    values: Mapping[str, str]
    widths: Mapping[str, int]


@dataclass(frozen=True)
class Field:
    """A field of a pattern with its functions, each with what stands after its colon."""

    name: str
    functions: tuple[tuple[str, str], ...]


Piece = str | Field | tuple[Any, ...]


@dataclass(frozen=True)
class Pattern:
    """A pattern that has been read."""

    text: str
    parts: tuple[Piece, ...]

    @property
    def fields(self) -> frozenset[str]:
        """The names of all fields in it."""
        return frozenset(_fields(self.parts))

    @property
    def optional(self) -> bool:
        """Whether all of it may disappear."""
        return bool(self.parts) and all(isinstance(part, tuple) for part in self.parts)

    def name(self, facts: Facts) -> str:
        """Write the name for one section, with its outer white space taken off."""
        return _written(self.parts, facts)[0].strip()


@lru_cache(maxsize=256)
def read_pattern(text: str) -> Pattern:
    """Read a pattern. Raises BadPattern.

    >>> book = facts_of([{"place": 3, "title": "The Keeper’s Wife"}, {"place": 12}])
    >>> read_pattern("{place|pad}[-{title|plain|lower|join:-}]").name(book[0])
    '03-the-keepers-wife'
    """
    stack: list[list[Piece]] = [[]]
    for token in _TOKENS.findall(text):
        if token in _DOUBLED:
            stack[-1].append(_DOUBLED[token])
        elif token == "[":
            stack.append([])
        elif token == "]":
            if len(stack) == 1:
                raise BadPattern(Said("there-without-before-write-bracket"))
            group = tuple(stack.pop())
            stack[-1].append(group)
        elif token in "{}":
            raise BadPattern(Said("there-no-partner-fields-written", token=token))
        elif token[0] == "{":
            stack[-1].append(_field(token[1:-1]))
        else:
            stack[-1].append(token)
    if len(stack) > 1:
        raise BadPattern(Said("there-without-after-write-bracket"))
    return Pattern(text, tuple(stack[0]))


def facts_of(sections: Sequence[Mapping[str, str | int | None]], *, lines: bool = False) -> list[Facts]:
    """Facts for all sections of a book, in running order, from what is known of each by field name.

    `lines` keeps the line breaks of texts, which names cannot have.
    """
    widths = {
        name: max((len(str(s[name])) for s in sections if s.get(name) is not None), default=1) for name in NUMBERS
    }
    # Values of fields are titles and names: a line break or a slash in one would not be a name any more.
    write = _as_text if lines else _one_line
    return [Facts({k: write(v) for k, v in section.items()}, widths) for section in sections]


def plain(text: str) -> str:
    """Take the accents off Latin and Greek letters; other scripts stay as they are.

    >>> plain("Ærø, Łódź, Ήλιος, Ёлка")
    'AEro, Lodz, Ηλιος, Ёлка'
    """
    kept = []
    for letter in text.translate(_STROKED):
        base = unicodedata.normalize("NFD", letter)
        western = len(base) > 1 and unicodedata.name(base[0], "").startswith(("LATIN", "GREEK"))
        kept.append(base[0] if western else letter)
    return unicodedata.normalize("NFC", "".join(kept))


def joined(text: str, sign: str) -> str:
    """Join the words of a text by a sign; apostrophes close up, all other signs part words.

    >>> joined("Fog, and the Keeper’s wife", "-")
    'Fog-and-the-Keepers-wife'
    """
    words = re.findall(r"(?:[^\W_]|[\u0300-\u036f\u0900-\u0dff\u064b-\u065f])+", re.sub("['’ʼ]", "", text))
    return sign.join(words)


def _one_line(value: str | int | None) -> str:
    return "" if value is None else " ".join(str(value).split())


def _as_text(value: str | int | None) -> str:
    return "" if value is None else str(value).strip()


def _field(inside: str) -> Field:
    name, *functions = inside.split("|")
    name = name.strip()
    if name not in FIELDS:
        raise BadPattern(Said("there-no-field", name=name, perhaps=_perhaps(name, FIELDS)))
    return Field(name, tuple(_function(text) for text in functions))


def _function(text: str) -> tuple[str, str]:
    name, _, argument = text.partition(":")
    name = name.strip()
    if name not in FUNCTIONS:
        raise BadPattern(Said("there-no-function", name=name, perhaps=_perhaps(name, FUNCTIONS)))
    if name in _WANTS_NUMBER and (argument or name == "most"):
        argument = argument.strip()
        if not argument.isdecimal() or not 1 <= int(argument) <= 200:
            raise BadPattern(Said("wants-number-from-1-200", name=name, value=3))
    return name, argument


def _perhaps(name: str, known: Mapping[str, str]) -> str:
    near = get_close_matches(name, known, 1)
    return Said("did-you-mean", near=near[0]) if near else Said("there-are-these", known=", ".join(known))


def _fields(parts: tuple[Piece, ...]) -> Iterator[str]:
    for part in parts:
        if isinstance(part, Field):
            yield part.name
        elif isinstance(part, tuple):
            yield from _fields(part)


def _written(parts: tuple[Piece, ...], facts: Facts) -> tuple[str, bool]:
    """The text, and whether every field in it had something to say."""
    written, full = [], True
    for part in parts:
        if isinstance(part, str):
            written.append(part)
        elif isinstance(part, Field):
            value = _value(part, facts)
            full = full and bool(value)
            written.append(value)
        else:
            text, group_full = _written(part, facts)
            written.append(text if group_full else "")
    return "".join(written), full


def _value(field: Field, facts: Facts) -> str:
    value = facts.values.get(field.name, "")
    for function, argument in field.functions:
        value = _APPLY[function](value, argument, facts.widths.get(field.name, 1))
    return value


def _padded(value: str, argument: str, width: int) -> str:
    return value.zfill(max(width, int(argument or 1))) if value.isdecimal() else value


_APPLY: dict[str, Callable[[str, str, int], str]] = {
    "pad": _padded,
    "lower": lambda value, argument, width: value.lower(),
    "upper": lambda value, argument, width: value.upper(),
    "capitals": lambda value, argument, width: " ".join(w[:1].upper() + w[1:] for w in value.split(" ")),
    "plain": lambda value, argument, width: plain(value),
    "join": lambda value, argument, width: joined(value, argument or "-"),
    "most": lambda value, argument, width: value[: int(argument)].rstrip(" -_.,"),
}
