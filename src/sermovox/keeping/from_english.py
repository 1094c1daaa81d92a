"""Sentences that earlier versions kept as English, told again by their keys where that can be told: for migrations."""

import re
from collections.abc import Callable, Iterable
from functools import cache, lru_cache
from pathlib import Path
from string import Formatter
from typing import Any, NamedTuple

from babel.messages.pofile import read_po

from mastering.said import Said, figured, together

_SOURCE = Path(__file__).resolve().parents[2]
_LEAST_LETTERS = 6
"""A sentence of fewer letters beside what varies would be found in anything."""
_SENTENCES = re.compile(r"(?<=[.:]) (?=[A-Z“])")
_FIGURE = re.compile(r"[−+-]?\d+(?:\.\d+)? ?[A-Za-z%]{0,5}")
_MOST_AT_ONCE = 500


class _Sentence(NamedTuple):
    key: str
    counts: bool
    longest: str
    pattern: re.Pattern
    numbers: frozenset[str]
    names: frozenset[str]


@lru_cache(maxsize=8192)
def told(english: str) -> str:
    """The sentence that reads so, or several one after the other; the text itself where one of them is not known."""
    if not english:
        return english
    if (found := _one(english)) is not None:
        return found
    parts = _SENTENCES.split(english)
    sentences = [_one(part) for part in parts] if len(parts) > 1 else [None]
    return english if None in sentences else together([each for each in sentences if each is not None])


def retell(*names: str, finding: str = "") -> Callable[[Any], bool]:
    """What tells these fields of a row again, lists of texts among them, and one that holds findings. Returns whether
    anything was told.
    """

    def change(row: Any) -> bool:
        before = {name: getattr(row, name) for name in (*names, *([finding] if finding else []))}
        for name in names:
            setattr(row, name, _again(before[name]))
        if finding:
            setattr(row, finding, [_finding(each) for each in before[finding]])
        return any(_marked(getattr(row, name)) for name in before)

    return change


def in_rows(model: Any, fields: Iterable[str], change: Callable[[Any], bool]) -> None:
    """Do it to every row of a model of a migration, and save what was told."""
    fields, kept = list(fields), []
    for row in model._base_manager.only("pk", *fields).iterator():
        if change(row):
            kept.append(row)
        if len(kept) == _MOST_AT_ONCE:
            model._base_manager.bulk_update(kept, fields)
            kept.clear()
    if kept:
        model._base_manager.bulk_update(kept, fields)


def _again(value: Any) -> Any:
    if isinstance(value, str):
        return told(value)
    return [_again(each) for each in value] if isinstance(value, list) else value


def _finding(finding: dict[str, Any]) -> dict[str, Any]:
    # What was asked of a text and found in it is somebody's own.
    own = str(finding.get("rule", "")).startswith(("tag_", "names"))
    names = ("label", "margin", "advice") if own else ("label", "asked", "found", "margin", "advice")
    return finding | {name: told(finding[name]) for name in names if isinstance(finding.get(name), str)}


def _marked(value: Any) -> bool:
    if isinstance(value, dict):
        return any(map(_marked, value.values()))
    return any(map(_marked, value)) if isinstance(value, list) else isinstance(value, Said)


def _one(english: str) -> Said | None:
    plain, varying = _known()
    if english in plain:
        key, counts = plain[english]
        return Said(key, count=1) if counts else Said(key)
    for each in varying:
        if each.longest in english and (found := each.pattern.fullmatch(english)):
            given = {name: _parameter(each, name, value) for name, value in found.groupdict().items()}
            if (
                None not in given.values()
                and (said := Said(each.key, **({"count": 2} if each.counts else {}) | given)) == english
            ):
                return said
    return figured(english) if _FIGURE.fullmatch(english) else None


def _parameter(sentence: _Sentence, name: str, value: str) -> str | float | None:
    if name in sentence.numbers or name == "count":
        try:
            return float(value) if "." in value else int(value)
        except ValueError:
            return None
    return value if name in sentence.names else (_one(value) or value) if " " in value else value


@cache
def _known() -> tuple[dict[str, tuple[str, bool]], list[_Sentence]]:
    plain: dict[str, tuple[str, bool]] = {}
    varying: list[tuple[int, _Sentence]] = []
    for package in ("mastering", "sermovox"):
        with (_SOURCE / package / "sentences" / "en.po").open("rb") as file:
            catalogue = read_po(file, locale="en")
        for message in catalogue:
            if not message.id:
                continue
            several = not isinstance(message.id, str)
            key = str(message.id[0] if several else message.id)
            texts: Any = message.string if several else [message.string]
            for text in texts:
                _add(key, text, several, plain, varying)
    return plain, [each for _, each in sorted(varying, key=lambda each: -each[0])]


def _add(
    key: str, text: str, counts: bool, plain: dict[str, tuple[str, bool]], varying: list[tuple[int, _Sentence]]
) -> None:
    pieces = list(Formatter().parse(text))
    if all(name is None for _, name, *_ in pieces):
        plain.setdefault("".join(literal for literal, *_ in pieces), (key, counts))
        return
    letters = sum(character.isalpha() for literal, *_ in pieces for character in literal)
    if letters < _LEAST_LETTERS:
        return
    written, seen, numbers = "", set(), set()
    for literal, name, digits, _ in pieces:
        written += re.escape(literal)
        if name is None:
            continue
        written += f"(?P={name})" if name in seen else f"(?P<{name}>.*?)"
        seen.add(name)
        numbers |= {name} if digits else set()
    names = frozenset(re.findall(r"“\{(\w+)\}”", text))
    longest = max((literal.strip() for literal, *_ in pieces), key=len)
    varying.append(
        (letters, _Sentence(key, counts, longest, re.compile(written, re.DOTALL), frozenset(numbers), names))
    )
