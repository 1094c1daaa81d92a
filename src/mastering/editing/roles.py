"""What a section can be, the words people write for that, and the numbers they write beside it."""

import re

ROLES = (
    "opening credits", "dedication", "foreword", "chapter", "interlude", "afterword", "closing credits", "sample",
    "episode", "segment", "line",
)  # fmt: skip
_WORDS = {
    "opening credits": "opening credits, opening, vorspann, ansage, générique de début, créditos iniciales, "
    "créditos de apertura, titoli di testa, begintitels",
    "dedication": "dedication, widmung, dédicace, dedicatoria, dedica, opdracht",
    "foreword": "foreword, preface, prologue, introduction, vorwort, prolog, einleitung, avant-propos, préface, "
    "prólogo, prefacio, introducción, prefazione, prologo, voorwoord, proloog, inleiding",
    "chapter": "chapter, chap, ch, kapitel, kap, chapitre, capítulo, capitolo, cap, hoofdstuk, rozdział, kapitola, "
    "kapittel, luku",
    "interlude": "interlude, zwischenspiel, intermède, interludio, intermezzo",
    "afterword": "afterword, epilogue, postscript, nachwort, epilog, postface, épilogue, epílogo, posfacio, "
    "postfazione, epilogo, nawoord, epiloog",
    "closing credits": "closing credits, closing, end credits, credits, abspann, absage, générique de fin, "
    "créditos finales, titoli di coda, aftiteling",
    "sample": "sample, retail sample, hörprobe, extrait, muestra, estratto, luisterfragment",
    "episode": "episode, ep, folge, épisode, episodio, aflevering, odcinek",
    "segment": "segment, beitrag, segmento",
    "line": "line",
}
ROLE_WORDS = {word: role for role, words in _WORDS.items() for word in words.split(", ")}
"""Roles by small words for them, in the languages audiobooks are mostly read in. Common practice, no source."""
SHORT = {"chap": "Chapter", "ch": "Chapter", "kap": "Kapitel", "ep": "Episode"}
"""Words that are shortened, and whole."""
NUMBERED = ("chapter", "episode", "segment", "line")
"""Roles that come in runs: without a number, their word begins a title rather than saying what the section is."""
APART = ("sample",)
"""Roles of what is heard by itself: it is no part of a file of all sections, unless it is said to be."""
_BEFORE = ("opening credits", "dedication", "foreword")
_AFTER = ("afterword", "closing credits", "sample")
_NUMBER_WORDS = {
    word: number
    for number, word in enumerate(
        "one two three four five six seven eight nine ten eleven twelve thirteen fourteen fifteen sixteen seventeen "
        "eighteen nineteen twenty".split(),
        1,
    )
}


def rank_of(role: str) -> int:
    """Where sections of a role belong while nothing says their order: below nought before all others, above it after
    them.
    """
    if role in _BEFORE:
        return _BEFORE.index(role) - len(_BEFORE)
    return _AFTER.index(role) + 1 if role in _AFTER else 0


def as_number(word: str) -> int | None:
    """The number that digits, an English word or a Roman number stand for; None for anything else.

    >>> as_number("07"), as_number("seven"), as_number("VII."), as_number("sieben")
    (7, 7, 7, None)
    """
    word = word.strip().lower().rstrip(".")
    if word.isdecimal():
        return int(word) if len(word) <= 5 else None
    return _NUMBER_WORDS.get(word) or _roman(word)


def _roman(word: str) -> int | None:
    values = {"i": 1, "v": 5, "x": 10, "l": 50, "c": 100}
    if not word or not re.fullmatch(r"(?:xc|xl|l?x{0,3})(?:ix|iv|v?i{0,3})", word):
        return None
    digits = [values[letter] for letter in word]
    return sum(-d if d < following else d for d, following in zip(digits, [*digits[1:], 0], strict=True))
