"""What Python says, in the reader's language.

Python speaks English throughout, and English is what is kept and exported: a sentence that was written while a file
was made may be read months later, by somebody else. So it is put into the reader's language where it is shown. The
catalogue `said` holds each sentence as it stands in the code, with names for what varies:
"{count} files fail: the check sheet says why." A sentence that is shown is held against these.
"""

import re
from collections.abc import Callable, Iterable, Iterator
from functools import cache, lru_cache
from pathlib import Path
from string import Formatter
from typing import NamedTuple

from babel import Locale
from babel.messages.pofile import read_po
from django.utils.translation import get_language

LOCALE_DIR = Path(__file__).parent / "locale"
_LEAST_LETTERS = 4
"""A sentence of fewer letters beside what varies would be found in anything."""
_FIGURE = re.compile(r"(?<![\w.:/-])([−+-]?\d+)\.(\d+)(?![\w.]*[\d.]|\w)")
_QUOTED = re.compile(r"(“[^”]*”)")
_SENTENCES = re.compile(r"(?<=[.;:?!]) ")
_BETWEEN = (": ", "; ", ", ", " and ", " or ")


class Varying(NamedTuple):
    """A sentence in which something varies: the longest part that does not, all of it, the translation, and what of it
    stands in quotation marks: names that people gave, which are no words of ours.
    """

    longest: str
    pattern: re.Pattern
    other: str
    names: frozenset[str]


def said(text):
    """A sentence of Python's in the reader's language; as it is where there is no other, or where it is markup."""
    language = get_language() or "en"
    if language.startswith("en") or not text or hasattr(text, "__html__"):
        return text
    return _said(str(text), language)


def said_each(texts: Iterable) -> list:
    """Several sentences of Python's, as `said`."""
    return [said(text) for text in texts or ()]


def decimals(figure: str) -> str:
    """A figure written with a point, as the reader's language writes it."""
    symbol = _decimal_symbol(get_language() or "en")
    return figure if symbol == "." else figure.replace(".", symbol)


@cache
def page_words(language: str) -> dict[str, str]:
    """What the scripts of the pages say: English, and the same in another language."""
    return {} if language.startswith("en") else dict(_catalogue("djangojs", language))


@cache
def _decimal_symbol(language: str) -> str:
    return Locale.parse(language, sep="-").number_symbols["latn"]["decimal"]


def _catalogue(domain: str, language: str) -> Iterator[tuple[str, str]]:
    path = LOCALE_DIR / language.split("-")[0] / "LC_MESSAGES" / f"{domain}.po"
    if not path.exists():
        return
    with path.open("rb") as file:
        for message in read_po(file):
            if message.id and message.string:
                yield str(message.id), str(message.string)


@cache
def _book(language: str) -> tuple[dict[str, str], list[Varying]]:
    """Sentences that always read the same, and those in which something varies, the longest first."""
    plain, varying = {}, []
    for english, other in _catalogue("said", language):
        pieces = list(Formatter().parse(english))
        letters = sum(character.isalpha() for literal, *_ in pieces for character in literal)
        if all(name is None for _, name, *_ in pieces):
            plain["".join(literal for literal, *_ in pieces)] = "".join(each[0] for each in Formatter().parse(other))
        else:
            longest = max((literal.strip() for literal, *_ in pieces), key=len)
            names = frozenset(re.findall(r"“\{(\w+)\}”", english))
            varying.append((letters, Varying(longest, _pattern(pieces, letters), other, names)))
    return plain, [each for _, each in sorted(varying, key=lambda each: -each[0])]


def _pattern(pieces: list, letters: int) -> re.Pattern:
    # Where next to nothing is said but what varies, that is a figure.
    varies = ".*?" if letters >= _LEAST_LETTERS else r"[-−]?\d[\d.]*"
    written, seen = "", set()
    for literal, name, *_ in pieces:
        written += re.escape(literal)
        if name is not None:
            written += f"(?P={name})" if name in seen else f"(?P<{name}>{varies})"
            seen.add(name)
    return re.compile(written, re.DOTALL)


@lru_cache(maxsize=8192)
def _said(english: str, language: str) -> str:
    """The first that there is: the sentence, its sentences one by one, one that holds several, what it lists."""
    for saying in (_as_it_stands, _by_sentences, _around_sentences, _by_words):
        if (other := saying(english, language)) is not None:
            return other
    parts = _QUOTED.split(english)
    # Every other one is a name.
    parts[::2] = [_FIGURE.sub(rf"\1{_decimal_symbol(language)}\2", part) for part in parts[::2]]
    return "".join(parts)


def _as_it_stands(english: str, language: str) -> str | None:
    plain, _ = _book(language)
    if (other := plain.get(english)) is not None:
        return other
    return _around(english, language, lambda value: not _SENTENCES.search(value))


def _around_sentences(english: str, language: str) -> str | None:
    return _around(english, language, lambda value: True)


def _around(english: str, language: str, fits: Callable[[str], bool]) -> str | None:
    for longest, pattern, other, names in _book(language)[1]:
        if longest not in english:
            continue
        # What goes on from a sentence before may stand without it.
        found = pattern.fullmatch(english) or pattern.fullmatch(f" {english}")
        if found and all(map(fits, found.groupdict().values())):
            said_of = {
                name: value if name in names or not value else _said(value, language)
                for name, value in found.groupdict().items()
            }
            return other.format(**said_of).strip() if english.strip() == english else other.format(**said_of)
    return None


def _by_sentences(english: str, language: str) -> str | None:
    """Where it begins with what is known, that and the rest."""
    for end in reversed([match.start() for match in _SENTENCES.finditer(english)]):
        if (first := _as_it_stands(english[:end], language)) is not None:
            return f"{first} {_said(english[end:].lstrip(), language)}"
    return None


def _by_words(english: str, language: str) -> str | None:
    """What is listed, with commas or one of two words between."""
    for between in _BETWEEN:
        parts = english.split(between)
        if len(parts) == 1:
            continue
        other = [_said(part, language) for part in parts]
        word = between.strip()
        if not word.isalpha():
            return between.join(other)
        # Names may hold such a word as well.
        if all(part != was for part, was in zip(other, parts, strict=True)):
            return f" {_said(word, language)} ".join(other)
    return None
