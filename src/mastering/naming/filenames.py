"""File names for finished files: sorted in running order and safe on every disk."""

import re
import unicodedata

_LONGEST_TITLE = 60
_RESERVED = {"con", "prn", "aux", "nul", *(f"{port}{n}" for port in ("com", "lpt") for n in range(1, 10))}


def file_name(*, position: int, total: int, title: str, extension: str) -> str:
    """Name a section's file by its place in the running order and its title.

    The number is padded so that names sort in running order; the title keeps letters and digits of any
    script without accents on Latin ones, joined by hyphens.

    >>> file_name(position=3, total=12, title="Chapter 1: The Keeper’s Wife", extension="mp3")
    '03-chapter-1-the-keepers-wife.mp3'
    """
    width = max(2, len(str(total)))
    words = plain_words(title)
    return f"{position:0{width}}{'-' if words else ''}{words}.{extension}"


def plain_words(text: str) -> str:
    """Lower-case words joined by hyphens, at most 60 characters; empty when the text has no letters or digits."""
    apart = unicodedata.normalize("NFKD", text)
    bare = "".join(c for c in apart if not unicodedata.combining(c))
    bare = unicodedata.normalize("NFC", re.sub("['’ʼ]", "", bare)).lower()
    words = "-".join(re.findall(r"[^\W_]+", bare))[:_LONGEST_TITLE].strip("-")
    return f"{words}-1" if words in _RESERVED else words
