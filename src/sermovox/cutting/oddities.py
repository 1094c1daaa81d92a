"""Sections whose length cannot be right, pointed out before anything is made of them."""

from mastering.said import Said

SHORTEST_S = 0.5
_LETTERS_A_SECOND = 14.0
"""How fast is read, without spaces: about 170 words of five letters a minute (common practice, no source)."""
_FAR = 3.0
_FEWEST_LETTERS = 12


def oddity(duration_s: float, script: str) -> str:
    """What is odd about so long a section with this text, in words; nothing where it may well be right."""
    if duration_s < SHORTEST_S:
        return Said("keeps-s", duration_s=duration_s) if duration_s > 0 else Said("keeps-nothing")
    text_s = reading_s(script)
    if text_s is None or 1 / _FAR <= duration_s / text_s <= _FAR:
        return ""
    return Said("lasts-s-text-takes-about", duration_s=duration_s, value=max(1, round(text_s)))


def reading_s(script: str) -> float | None:
    """How long a text takes to read aloud, seconds; None where it is too short to tell."""
    # A sign that stands for a whole syllable or word takes about as long as three letters.
    letters = sum(3 if sign >= "\u2e80" else 1 for sign in script if sign.isalnum())
    return letters / _LETTERS_A_SECOND if letters >= _FEWEST_LETTERS else None
