"""Sentences as values: a key, and what it tells of; English by itself, any other language when it is spoken.

A sentence that is written while a file is made may be read months later by somebody else, in another language. So what
is said travels as `Said`: text to whoever only wants English, and a key with parameters to `speak`, `plain` and
`revived`. Each package has catalogues of its own, gettext's, one for each language, English among them:

    #: levels: the noise floor
    msgid "noise-floor-high"
    msgstr "Its noise floor is at {found_db:.1f} dBFS; {limit_db:.1f} is allowed."

What a parameter is tells how it is spoken: a number as the language writes numbers, another `Said` in that language,
any other text (names, times) as it is. A parameter called `count` chooses between one and more.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from functools import cache, lru_cache
from gettext import GNUTranslations, NullTranslations
from math import isfinite
from numbers import Integral, Real
from pathlib import Path
from string import Formatter
from typing import Any

ENGLISH = "en"
_SAY, _WITH, _PARTS, _BETWEEN, _TEXT = "say", "with", "parts", "between", "text"
_HOW, _FIGURE, _WITHIN = "how", "figure", "within"
_CAPITALS = "de"
"""German writes its nouns with capitals wherever they stand."""
_FOLDERS = [Path(__file__).parent / "sentences"]


class UnknownSentence(KeyError):
    """No catalogue holds the key."""


class Said(str):
    """A sentence: `key` and `params` (numbers, names, other sentences); as text it is English.

    >>> Said("silent-throughout-microphone-right-track").key
    'silent-throughout-microphone-right-track'
    """

    key: str
    params: dict[str, Any]

    def __new__(cls, key: str, /, **params: object) -> Said:
        told: dict[str, object] = {name: _told(value) for name, value in params.items()}
        return cls._of(key, told, _formed(ENGLISH, key, told))

    @classmethod
    def _of(cls, key: str, params: dict[str, object], text: str) -> Said:
        made = super().__new__(cls, text)
        made.key, made.params = key, params
        return made

    def __str__(self) -> str:
        return self

    def __add__(self, other: str) -> Said:
        return together([self, other], "")

    def __radd__(self, other: str) -> Said:
        return together([other, self], "")

    def __reduce__(self) -> tuple[Any, ...]:
        return revived, (plain(self),)


def together(parts: Iterable[str], between: str = " ") -> Said:
    """Sentences, and names among them, one after the other with the same text between them."""
    parts = list(parts)
    return Said._of("", {_PARTS: parts, _BETWEEN: between}, between.join(parts))


def word(identifier: str) -> str:
    """What the code calls something by, such as "joint stereo", as a word to speak; any other text as it is."""
    return Said(identifier) if _is_word(identifier) and not isinstance(identifier, Said) else identifier


def either(parts: Iterable[str]) -> str:
    """Two or more of which one is meant: "a, b or c"."""
    return _listed("or-last", parts)


def both(parts: Iterable[str]) -> str:
    """Two or more that all are meant: "a, b and c"."""
    return _listed("and-last", parts)


def figured(text: str) -> Said:
    """A figure with its unit, written as English does: "-22.5 dBFS"."""
    return Said._of("", {_PARTS: [text], _BETWEEN: "", _HOW: _FIGURE}, text)


def within(text: str) -> str:
    """What stands at the head of a line, such as "Noise floor", as it is written within a sentence."""
    return Said._of("", {_PARTS: [text], _BETWEEN: "", _HOW: _WITHIN}, text.lower()) if isinstance(text, Said) else text


def _told(value: object) -> str | int | float:
    """What is kept of a parameter: text, a whole number or another. JSON knows no infinite ones: they are text."""
    if isinstance(value, str | int):
        return value
    if isinstance(value, Integral):
        return int(value)
    return float(value) if isinstance(value, Real) and isfinite(value) else str(value)


def _listed(key: str, parts: Iterable[str]) -> str:
    *others, last = parts
    return Said(key, first=together(others, ", "), last=last) if others else last


def known(folder: Path) -> None:
    """Sentences of a package that stand in `folder`, as one `.mo` for each language, from here on."""
    if folder not in _FOLDERS:
        _FOLDERS.append(folder)
        _catalogues.cache_clear()
        _template.cache_clear()
        _is_word.cache_clear()


def speak(text: str, language: str) -> str:
    """What is said in a language such as "de" or "pt-BR"; English where that language lacks it.

    Text that is no sentence is nobody's to translate and comes back as it is.
    """
    if not isinstance(text, Said):
        return text
    if not text.key:
        spoken = str.join(text.params[_BETWEEN], [speak(part, language) for part in text.params[_PARTS]])
        match text.params.get(_HOW):
            case "figure":
                return figure(spoken, language)
            case "within" if not language.startswith(_CAPITALS):
                return spoken.lower()
        return spoken
    return _formed(language.split("-")[0].lower(), text.key, text.params)


def language_of(environment: Mapping[str, str]) -> str:
    """The language of a terminal, such as "de": of the first that is set of LC_ALL, LC_MESSAGES and LANG (POSIX.1-2017,
    XBD 8.2).
    """
    locale = next((found for name in ("LC_ALL", "LC_MESSAGES", "LANG") if (found := environment.get(name))), "")
    language = locale.split(".")[0].split("@")[0].split("_")[0].lower()
    return ENGLISH if language in ("", "c", "posix") else language


def figure(text: str, language: str) -> str:
    """A number that was written as English writes it, such as "1,200.5", as the language does."""
    mark, thousands = _marks(language.split("-")[0].lower())
    return text.translate({ord("."): mark, ord(","): thousands})


def plain(value: Any) -> Any:
    """`value` with each sentence in it as a table that JSON takes: its key, what it tells of, and its English."""
    match value:
        case Said(key="", params=params):
            return {_SAY: "", **plain(params), _TEXT: str.__str__(value)}
        case Said(key=key, params=params):
            return {_SAY: key, _WITH: plain(params), _TEXT: str.__str__(value)}
        case dict():
            return {name: plain(each) for name, each in value.items()}
        case list() | tuple():
            return [plain(each) for each in value]
    return value


def revived(value: Any) -> Any:
    """What `plain` made, with its sentences. One whose key is known no more is the English that was written."""
    match value:
        case {"say": "", "parts": parts, "between": between, **others}:
            how = {_FIGURE: figured, _WITHIN: within}.get(str(others.get(_HOW)))
            return how(revived(parts[0])) if how else together(revived(parts), between)
        case {"say": str(key), "with": params, "text": text}:
            try:
                return Said(key, **revived(params))
            except (KeyError, TypeError, ValueError):
                return text
        case dict():
            return {name: revived(each) for name, each in value.items()}
        case list():
            return [revived(each) for each in value]
    return value


def written(text: str) -> str:
    """A sentence as one line of text that `read` takes for it again; other text as it is."""
    return json.dumps(plain(text), ensure_ascii=False) if isinstance(text, Said) else text


def read(text: str) -> str:
    """What `written` wrote."""
    if not text.startswith(f'{{"{_SAY}": '):
        return text
    try:
        value = revived(json.loads(text))
    except ValueError:
        return text
    return value if isinstance(value, str) else text


class _Lacking(NullTranslations):
    """What a catalogue says of a key that it lacks: nothing, where gettext says the key itself."""

    def gettext(self, message: str) -> str:
        return ""

    def ngettext(self, msgid1: str, msgid2: str, n: int) -> str:
        return ""


class _Speaker(Formatter):
    def __init__(self, language: str):
        self.language = language

    def format_field(self, value: Any, format_spec: str) -> str:
        if isinstance(value, Said):
            return speak(value, self.language)
        if isinstance(value, int | float) and not isinstance(value, bool):
            return figure(format(value, format_spec), self.language)
        # How many digits is said for numbers alone.
        return str(value)


def _formed(language: str, key: str, params: dict[str, object]) -> str:
    count = params.get("count")
    template = _template(language, key, count if isinstance(count, int) else None)
    return _Speaker(language).vformat(template, (), params)


@cache
def _catalogues(language: str) -> list[GNUTranslations]:
    found = []
    for folder in _FOLDERS:
        path = folder / f"{language}.mo"
        if path.exists():
            with path.open("rb") as file:
                catalogue = GNUTranslations(file)
            catalogue.add_fallback(_Lacking())
            found.append(catalogue)
    return found


@lru_cache(maxsize=8192)
def _template(language: str, key: str, count: int | None) -> str:
    for spoken in (language, ENGLISH):
        for catalogue in _catalogues(spoken):
            text = catalogue.gettext(key) if count is None else catalogue.ngettext(key, key, count)
            if text := text or catalogue.gettext(key):
                return text
    raise UnknownSentence(key)


@lru_cache(maxsize=8192)
def _is_word(identifier: str) -> bool:
    return bool(identifier) and any(each.gettext(identifier) == identifier for each in _catalogues(ENGLISH))


def _marks(language: str) -> tuple[str, str]:
    return _template(language, "decimal-mark", None), _template(language, "thousands-mark", None)
