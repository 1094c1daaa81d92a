"""What the name of a recording says of its section: what it is, its number, its part and its title."""

import re
from dataclasses import dataclass
from typing import Any

from mastering.editing.roles import NUMBERED, ROLE_WORDS, SHORT, as_number
from mastering.naming.checks import split_ending
from mastering.naming.patterns import plain
from mastering.naming.revisions import is_revision, without_revisions
from mastering.said import Said

_LONGEST_TITLE = 200
_SIGNS = " .,:;_-–—()[]#"
_WORDS = "|".join(sorted((re.escape(word) for word in ROLE_WORDS), key=len, reverse=True))
_ROLE = re.compile(
    rf"^(?P<role>{_WORDS})(?P<gap>[{re.escape(_SIGNS)}]*)(?P<number>\d{{1,5}}(?!\d)|[^\W\d_]+\b)?(?P<rest>.*)$",
    re.IGNORECASE,
)
_PLACE = re.compile(r"^(?P<place>\d{1,4})(?P<sign>[ .,:;)_–—-]+)(?P<rest>\D.*)$")
_DAY = re.compile(r"^\d{4}[-._ ]?\d{2}[-._ ]?\d{2}(?!\d)")
_PART = re.compile(r"^(?:part|pt|teil|partie|parte|deel)[ .]*(\d{1,3})\b[ .:–—-]*(.*)$", re.IGNORECASE)


@dataclass(frozen=True, kw_only=True)
class Described:
    """What a name says. `role` is None where it says nothing of that; `place` is a number of order before the rest."""

    title: str
    role: str | None = None
    number: int | None = None
    part: int | None = None
    place: int | None = None

    @property
    def is_more_than_a_title(self) -> bool:
        return self.role is not None or self.number is not None or self.part is not None


def described(name: str, *, production: str = "") -> Described:
    """Read the name of a recording's file.

    Parameters
    ----------
    production
        The title of what it belongs to, which many put before all else; it is left out.

    >>> described("ch 1.wav")
    Described(title='Chapter 1', role='chapter', number=1, part=None, place=None)
    >>> described("03_Kapitel_02_Die_Furt.wav")
    Described(title='Die Furt', role='chapter', number=2, part=None, place=3)
    >>> described("04 - The Ford.wav")
    Described(title='The Ford', role=None, number=4, part=None, place=4)
    >>> described("04 - The Ford v2 (1).wav")
    Described(title='The Ford', role=None, number=4, part=None, place=4)
    >>> described("3 little pigs.wav")
    Described(title='3 little pigs', role=None, number=None, part=None, place=None)
    """
    whole = _spaced(split_ending(name)[0])
    text = without_revisions(_without(whole, production))
    place: int | None = None
    numbered = None if _DAY.match(text) else _PLACE.match(text)
    if numbered:
        rest = _without(numbered["rest"].strip(_SIGNS), production)
        said = _said(rest)
        place = int(numbered["place"])
        if said:
            return Described(place=place, **said)
        # A bare number and a space may begin a title; padded, or with a sign behind it, it is one of order.
        if rest and (numbered["place"].startswith("0") or numbered["sign"].strip()):
            return Described(title=_titled(rest), number=place or None, place=place)
        place = None
    said = _said(text)
    return Described(**said) if said else Described(title=_titled(text or whole) or Said("untitled"), place=place)


def plain_title(name: str) -> str:
    """A title that is the file's name without its ending, with underscores as spaces.

    >>> plain_title("01_the_ford.wav")
    '01 the ford'
    """
    return split_ending(name)[0].replace("_", " ").strip()[:_LONGEST_TITLE] or Said("untitled")


def _said(text: str) -> dict[str, Any] | None:
    """Role, number, part and title of a text that begins with a role; None where it does not."""
    found = _ROLE.match(text)
    if not found:
        return None
    word = found["role"].lower()
    role, number, rest = ROLE_WORDS[word], as_number(found["number"] or ""), found["rest"]
    if found["number"] and number is None:
        if not found["gap"]:
            return None
        rest = found["number"] + rest
    elif found["number"] and not found["gap"] and not found["number"].isdecimal():
        # "Chi" is no chapter.
        return None
    if number is None and (role in NUMBERED or (rest.strip(_SIGNS) and not _parted(found["gap"]))):
        return None
    if number is not None and rest[:1].isalpha():
        return None
    rest = "" if is_revision(rest := rest.strip(_SIGNS)) else rest
    if part := _PART.match(rest):
        rest = part[2].strip(_SIGNS)
    written = SHORT.get(word) or found["role"][:1].upper() + found["role"][1:].lower()
    title = _titled(rest) or (f"{written} {number}" if number is not None else written)
    return {"role": role, "number": number, "part": int(part[1]) if part else None, "title": title}


def _parted(gap: str) -> bool:
    """Whether more than a space stands between a role and what follows: "Opening tune" is a title."""
    return bool(gap.strip())


def _spaced(stem: str) -> str:
    """Words parted by spaces, as they are meant where a name has none."""
    text = stem.replace("_", " ")
    if " " not in text:
        text = text.replace("-", " ").replace(".", " ")
    return " ".join(text.split())


def _without(text: str, title: str) -> str:
    """A text without a title that stands before it, unless that is all there is."""
    told = " ".join(title.split())
    if (
        told
        and plain(text[: len(told)]).casefold() == plain(told).casefold()
        and text[len(told) : len(told) + 1] in _SIGNS
    ):
        return text[len(told) :].strip(_SIGNS) or text
    return text


def _titled(text: str) -> str:
    return text.strip(" .,:;_-–—")[:_LONGEST_TITLE]
