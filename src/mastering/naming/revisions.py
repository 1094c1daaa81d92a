"""Words of revision in a name: which take or version it is, and when it was made, is no part of a title."""

import re

_PLAIN = frozenset(
    "final finale fin neu new nuevo nuova nouveau definitiv definitive def long lang short kurz mix mixed master "
    "mastered edit edited cut copy kopie copia copie clean raw korrektur korr corrected fixed alt".split()
)
"""Words that may as well be meant: they are left out only where they are written unlike the title before them, in
brackets or beside another word of revision, or where nothing else would be the title."""
_CLEAR = re.compile(
    r"(?:retake|re-take|pickup|pick-up|rerecorded|neuaufnahme)\d{0,2}"
    r"|(?:v|ver|version|rev|revision|fassung|take|tk)[.]?\d{1,3}(?:[.]\d{1,2})?"
    r"|(?:19|20)\d{2}[-._]?[01]\d[-._]?[0-3]\d(?:[t_-]?[0-2]\d[0-5]\d(?:[0-5]\d)?)?"
    r"|[0-3]?\d[.][01]?\d[.](?:19|20)\d{2}"
    r"|\(\d{1,3}\)",
    re.IGNORECASE,
)
_COUNTED = frozenset("v ver version rev revision fassung take tk retake".split())
"""With a number after it."""
_ARTICLES = frozenset(
    "the a an of my our his her der die das den dem ein eine le la les un une du de el los las una il lo gli i het "
    "een".split()
)
_BRACKETS = "()[]{}"


def without_revisions(text: str) -> str:
    """A title without the words of revision at its end, and without a date before it; the text where all of it is such.

    >>> [without_revisions(name) for name in ("The Ford v2", "Fog LONG", "Fog (1)", "The Final", "Fog take 2 final")]
    ['The Ford', 'Fog', 'Fog', 'The Final', 'Fog']
    """
    words = text.split()
    if len(words) > 1 and _is_date(words[0]) and any(not _may_be(word) for word in words[1:]):
        words = words[1:]
        while len(words) > 1 and not any(sign.isalnum() for sign in words[0]):
            words = words[1:]
    kept = len(words)
    seen = False
    while kept:
        taken = _taken(words[:kept], seen=seen)
        if not taken:
            break
        kept, seen = kept - taken, True
    return " ".join(words[:kept]).rstrip(" .,:;_-–—") if kept else text


def is_revision(text: str) -> bool:
    """Whether nothing but words of revision is in a text."""
    return all(_may_be(word) or word.isdecimal() for word in text.split())


def _taken(words: list[str], *, seen: bool) -> int:
    """How many of the last words are of revision; `seen` where one stood after them."""
    last, before = words[-1], words[:-1]
    bare = last.strip(_BRACKETS + ".,;:-_–—").casefold()
    if not bare:
        return 1 if before else 0
    if _CLEAR.fullmatch(last) or _CLEAR.fullmatch(bare):
        return 1
    if bare.isdecimal() and len(bare) <= 3 and before and before[-1].strip(_BRACKETS).casefold() in _COUNTED:
        return 2
    if bare not in _PLAIN or not before:
        return 0
    if seen or last[0] in _BRACKETS or before[-1] in ("-", "–", "—") or _taken(before, seen=False):
        return 1
    if before[-1].casefold() in _ARTICLES:
        return 0
    # Written as the title is, it may be one of its words.
    written = [word for word in before if word.isalpha()]
    loud = last.isupper() and not all(word.isupper() for word in written)
    soft = last.islower() and any(word[0].isupper() for word in written[-1:])
    return 1 if loud or soft else 0


def _may_be(word: str) -> bool:
    bare = word.strip(_BRACKETS + ".,;:-_–—").casefold()
    return not bare or bare in _PLAIN or bare in _COUNTED or bool(_CLEAR.fullmatch(word) or _CLEAR.fullmatch(bare))


def _is_date(word: str) -> bool:
    return bool(_CLEAR.fullmatch(word)) and word[:1].isdecimal()
