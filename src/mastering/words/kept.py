"""What was heard of a script as a small file, and back."""

import json

from mastering.words.hearing import HeardScript, Outside
from mastering.words.readings import HeardWord, Reading

_FORM = 1
_MS = 1000
_HUNDREDTHS = 100


def as_bytes(heard: HeardScript) -> bytes:
    """JSON; times in whole milliseconds, how far words lie apart in hundredths."""
    told = {
        "form": _FORM,
        "lines": heard.lines,
        "words": heard.words,
        "readings": [[each.line, int(each.whole), [row_of(word) for word in each.words]] for each in heard.readings],
        "outside": [[_ms(each.start_s), _ms(each.end_s)] for each in heard.outside],
        "duration_s": heard.duration_s,
        "doubt": heard.doubt,
    }
    return json.dumps(told, ensure_ascii=False, separators=(",", ":")).encode("utf-8", "replace")


def from_bytes(data: bytes) -> HeardScript:
    """Raises ValueError where it is of another form."""
    told = json.loads(data)
    if told.get("form") != _FORM:
        raise ValueError("of another form")
    readings = []
    for line, whole, words in told["readings"]:
        own = tuple(HeardWord(word, start / _MS, end / _MS, apart / _HUNDREDTHS) for word, start, end, apart in words)
        readings.append(Reading(line, own[0].start_s, own[-1].end_s, bool(whole), own))
    return HeardScript(
        tuple(told["lines"]),
        tuple(told["words"]),
        tuple(readings),
        tuple(Outside(start / _MS, end / _MS) for start, end in told["outside"]),
        told["duration_s"],
        told["doubt"],
    )


def row_of(word: HeardWord) -> list[int]:
    """A word as whole numbers: its number in its line, start and end in ms, and how far it lies apart in hundredths."""
    return [word.word, _ms(word.start_s), _ms(word.end_s), round(word.apart * _HUNDREDTHS)]


def _ms(seconds: float) -> int:
    return round(seconds * _MS)
