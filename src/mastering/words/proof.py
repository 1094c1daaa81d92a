"""What was read, held against what stands in the script: what is missing, read more than once, or in no script."""

from bisect import bisect_right
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from mastering.words.hearing import HeardScript
from mastering.words.lines import word_texts
from mastering.words.readings import Reading, counting
from mastering.words.timed import TimedText

MISSING = "missing"
IN_PART = "in part"
AGAIN = "read again"
BROKEN_OFF = "broken off"
OUTSIDE = "outside the script"
OTHERWISE = "said otherwise"
ELSEWHERE = "out of order"
HESITATION = "hesitation"
_ROOM_S = 0.3
_HELD_S = 0.5
APART = 0.38
"""Words were probably other ones where they lie so far apart over half a second: of prompts read as they are written at
30 dB over noise, 1 in 100 does; of those in whose text two or three words were exchanged, every other."""
LINE_APART = 0.2
"""A whole line was probably another one where its words lie so far apart on the average: of 108 prompts read as they
are written at 10 to 30 dB over noise none lay beyond 0.19, of those whose text was exchanged for another none below it.
"""
_ABOVE_THE_USUAL = 0.08
"""In a recording of which little sounds as it should, so much above the usual."""
_HESITATES_S = {False: 1.0, True: 2.5}
"""So long is no pause for breath any more, within a sentence and after a sign of it."""
_HESITATES_BETWEEN_S = 3.0
_MOSTLY = 0.5
"""A line counts as read where at least this share of its words was."""


@dataclass(frozen=True)
class ProofFinding:
    """Something to be heard or read again.

    `kind` is one of those above, `line` the number of the line (None where it is in no script), `start_s` and
    `end_s` where: for a line that is missing, where it would have stood.
    """

    kind: str
    line: int | None
    start_s: float
    end_s: float


Stretches = Sequence[tuple[float, float]]
"""Starts and ends in order, seconds; none overlaps another."""


def remaining(heard: HeardScript, gone: Stretches) -> HeardScript:
    """The same without what lies for the most part in stretches that are gone, word by word."""
    readings = []
    for reading in heard.readings:
        words = tuple(word for word in reading.words if not _is_gone(gone, word.start_s, word.end_s))
        if words:
            whole = reading.whole and len(words) == len(reading.words)
            readings.append(replace(reading, start_s=words[0].start_s, end_s=words[-1].end_s, whole=whole, words=words))
    outside = tuple(each for each in heard.outside if not _is_gone(gone, each.start_s, each.end_s))
    return replace(heard, readings=tuple(readings), outside=outside)


def set_apart(heard: HeardScript, start_s: float, end_s: float) -> tuple[float, float]:
    """Where to cut out what is said from one time to another, seconds: from where it begins to where what follows does,
    so that one pause stays; at the end of all, with what comes before it instead.
    """
    after_s = min((start for start, _ in _said(heard) if start >= end_s), default=None)
    if after_s is not None:
        return start_s, after_s
    return max((end for _, end in _said(heard) if end <= start_s), default=0.0), end_s


def not_counting(heard: HeardScript, put_in: Collection[int] = ()) -> list[Reading]:
    """The readings that are none of those that count: false starts, lines that were read again later, and those of the
    lines that were put in from elsewhere.
    """
    counted = readings_that_count(heard, put_in)
    return [reading for reading in heard.readings if reading is not counted[reading.line]]


def readings_that_count(heard: HeardScript, put_in: Collection[int] = ()) -> list[Reading | None]:
    """Of each line its last whole reading, or the longest part where that holds half of its words; None: not read, or
    put in from elsewhere.
    """
    return [
        reading if reading and at not in put_in and (reading.whole or _is_most(reading, heard.words[at])) else None
        for at, reading in enumerate(counting(heard.readings, len(heard.lines)))
    ]


def proof(heard: HeardScript, gone: Stretches = (), put_in: Collection[int] = ()) -> list[ProofFinding]:
    """Everything that was found, in the order of the recording.

    What is `gone` was no time to wait; the lines `put_in` from elsewhere are not missing.
    """
    counted = readings_that_count(heard, put_in)
    found = [ProofFinding(OUTSIDE, None, outside.start_s, outside.end_s) for outside in heard.outside]
    for reading in heard.readings:
        if reading is not counted[reading.line]:
            kind = AGAIN if reading.whole else BROKEN_OFF
            found.append(ProofFinding(kind, reading.line, reading.start_s, reading.end_s))
        elif not reading.whole:
            found.append(ProofFinding(IN_PART, reading.line, reading.start_s, reading.end_s))
    usual = sorted(each.apart for each in counted if each)
    limit = max(LINE_APART, _ABOVE_THE_USUAL + usual[len(usual) // 2]) if usual else LINE_APART
    before_s = latest_s = 0.0
    for line, counts in enumerate(counted):
        if counts is None:
            if heard.words[line] and line not in put_in:
                found.append(ProofFinding(MISSING, line, before_s, before_s))
            continue
        if counts.start_s < latest_s:
            found.append(ProofFinding(ELSEWHERE, line, counts.start_s, counts.end_s))
        before_s, latest_s = counts.end_s, max(latest_s, counts.start_s)
        places = [(counts.start_s, counts.end_s)] if counts.apart > limit else _otherwise(counts)
        found += [ProofFinding(OTHERWISE, line, *place) for place in places]
        found += [ProofFinding(HESITATION, line, *place) for place in _hesitations(heard.lines[line], counts, gone)]
    found += _waits(heard, gone)
    return sorted(found, key=lambda finding: (finding.start_s, finding.end_s, finding.line or 0))


def words_said(heard: HeardScript, reading: Reading) -> list[TimedText]:
    """The words of a reading with their times."""
    texts = word_texts(heard.lines[reading.line])
    return [TimedText(word.start_s, word.end_s, texts[word.word]) for word in reading.words]


@dataclass(frozen=True)
class LineSpan:
    """Where a line lies that is made of sentences, seconds; `whole` where each of them was read whole."""

    start_s: float
    end_s: float
    whole: bool


def spans_of_lines(heard: HeardScript, parts: Sequence[range]) -> list[LineSpan | None]:
    """Where the last whole reading of each line lies; of a line that was never read whole what counts of it, from its
    first sentence that was read; None where none was."""
    whole: dict[int, list[Reading]] = {}
    for reading in heard.readings:
        if reading.whole:
            whole.setdefault(reading.line, []).append(reading)
    counted = readings_that_count(heard)
    return [_whole_span(heard, whole, part) or _span_in_part(counted, part) for part in parts]


def _whole_span(heard: HeardScript, whole: dict[int, list[Reading]], part: range) -> LineSpan | None:
    """Backwards from the last reading of the last sentence: of each before it the last that was begun earlier."""
    chain: list[Reading] = []
    for at in reversed(part):
        if heard.words[at]:
            earlier = [each for each in whole.get(at, []) if not chain or each.start_s < chain[-1].start_s]
            if not earlier:
                return None
            chain.append(earlier[-1])
    return LineSpan(chain[-1].start_s, chain[0].end_s, True) if chain else None


def _span_in_part(counted: Sequence[Reading | None], part: range) -> LineSpan | None:
    read = [reading for at in part if (reading := counted[at])]
    if not read:
        return None
    begun = read[0].start_s
    return LineSpan(begun, max(reading.end_s for reading in read if reading.start_s >= begun), False)


def with_room(heard: HeardScript, span: LineSpan, *, room_s: float = _ROOM_S) -> tuple[float, float]:
    """Start and end, seconds, with some of the quiet beside it: at most `room_s`, half of that to the next sound."""
    start_s, end_s = span.start_s, span.end_s
    said = _said(heard)
    before_s = max((end for _, end in said if end <= start_s), default=0.0)
    after_s = min((start for start, _ in said if start >= end_s), default=heard.duration_s)
    begun = before_s if before_s == 0 else (before_s + start_s) / 2
    ended = after_s if after_s == heard.duration_s else (end_s + after_s) / 2
    return max(begun, start_s - room_s), min(ended, end_s + room_s)


def _is_most(reading: Reading, words: int) -> bool:
    return len({word.word for word in reading.words}) >= _MOSTLY * words


def _otherwise(reading: Reading) -> list[tuple[float, float]]:
    """Stretches of words that are probably other ones."""
    found: list[tuple[float, float]] = []
    words = reading.words
    for first in range(len(words)):
        last = next((at for at in range(first, len(words)) if words[at].end_s - words[first].start_s >= _HELD_S), None)
        if last is None:
            break
        held = replace(reading, words=words[first : last + 1])
        if held.apart > APART:
            start_s, end_s = words[first].start_s, words[last].end_s
            if found and start_s <= found[-1][1]:
                start_s = found.pop()[0]
            found.append((start_s, end_s))
    return found


def _hesitations(line: str, reading: Reading, gone: Stretches) -> list[tuple[float, float]]:
    texts = word_texts(line)
    found = []
    for word, after in pairwise(reading.words):
        if _time_between(word.end_s, after.start_s, gone) >= _HESITATES_S[not texts[word.word][-1].isalnum()]:
            found.append((word.end_s, after.start_s))
    return found


def _waits(heard: HeardScript, gone: Stretches) -> list[ProofFinding]:
    """Between one sentence and the next."""
    said = sorted(_said(heard))
    lines = {reading.start_s: reading.line for reading in heard.readings}
    return [
        ProofFinding(HESITATION, lines.get(after[0]), one[1], after[0])
        for one, after in pairwise(said)
        if _time_between(one[1], after[0], gone) >= _HESITATES_BETWEEN_S
    ]


def _time_between(start_s: float, end_s: float, gone: Stretches) -> float:
    return end_s - start_s - _gone_s(gone, start_s, end_s)


def _said(heard: HeardScript) -> list[tuple[float, float]]:
    said = [(reading.start_s, reading.end_s) for reading in heard.readings]
    return said + [(outside.start_s, outside.end_s) for outside in heard.outside]


def _is_gone(gone: Stretches, start_s: float, end_s: float) -> bool:
    """Whether most of a stretch is gone."""
    return _gone_s(gone, start_s, end_s) > _MOSTLY * (end_s - start_s)


def _gone_s(gone: Stretches, start_s: float, end_s: float) -> float:
    """How much of a stretch is gone."""
    first = max(0, bisect_right(gone, (start_s, start_s)) - 1)
    taken_s = 0.0
    for gone_start_s, gone_end_s in gone[first:]:
        if gone_start_s >= end_s:
            break
        taken_s += max(0.0, min(end_s, gone_end_s) - max(start_s, gone_start_s))
    return taken_s
