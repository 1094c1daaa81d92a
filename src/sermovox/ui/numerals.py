"""Whole numbers as requests bring them, whatever else comes in their place."""

from collections.abc import Iterable

_MOST_DIGITS = 15


def whole_number(text: str | None) -> int | None:
    """A whole number of plain digits, as far as a database takes it; None for anything else.

    >>> whole_number("12"), whole_number("²"), whole_number("-1"), whole_number("9" * 5000)
    (12, None, None, None)
    """
    if text is None or len(text) > _MOST_DIGITS or not (text.isascii() and text.isdecimal()):
        return None
    return int(text)


def whole_numbers(texts: Iterable[str]) -> list[int]:
    """Those of several that are whole numbers."""
    return [number for number in map(whole_number, texts) if number is not None]
