"""What Python says, in the reader's language."""

from collections.abc import Iterable
from functools import cache
from pathlib import Path

from babel.messages.pofile import read_po
from django.utils.translation import get_language

from mastering.said import figure, speak, word

LOCALE_DIR = Path(__file__).parent / "locale"


def said(text):
    """A sentence in the reader's language, or what the code calls something by; other text, and markup, as it is."""
    if text is None or hasattr(text, "__html__"):
        return text
    return speak(word(str(text)), get_language() or "en")


def spoken(text):
    """A sentence in the reader's language; all other text is somebody's own."""
    return speak(text, get_language() or "en")


def said_each(texts: Iterable) -> list:
    """Several sentences of Python's, as `said`."""
    return [said(text) for text in texts or ()]


def decimals(written: str) -> str:
    """A figure written with a point, as the reader's language writes it."""
    return figure(written, get_language() or "en")


@cache
def page_words(language: str) -> dict[str, str]:
    """What the scripts of the pages say: English, and the same in another language."""
    path = LOCALE_DIR / language.split("-")[0] / "LC_MESSAGES" / "djangojs.po"
    if not path.exists():
        return {}
    with path.open("rb") as file:
        return {str(each.id): str(each.string) for each in read_po(file) if each.id and each.string}
