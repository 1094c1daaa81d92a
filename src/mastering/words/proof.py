"""What was read, held against what stands in the script: what is missing, read more than once, or in no script."""

from collections.abc import Sequence
from dataclasses import dataclass

from mastering.words.hearing import HeardScript
from mastering.words.readings import Reading, counting

MISSING = "missing"
IN_PART = "in part"
AGAIN = "read again"
BROKEN_OFF = "broken off"
OUTSIDE = "outside the script"
_ROOM_S = 0.3
_MOSTLY = 0.5
"""A line counts as read where at least this share of its words was."""


@dataclass(frozen=True)
class ProofFinding:
    """Something to be heard or read again.

    `kind` is one of the five above, `line` the number of the line (None where it is in no script), `start_s` and
    `end_s` where: for a line that is missing, where it would have stood.
    """

    kind: str
    line: int | None
    start_s: float
    end_s: float


def readings_that_count(heard: HeardScript) -> list[Reading | None]:
    """Of each line its last whole reading, or the longest part where that holds half of its words; None: not read."""
    return [
        reading if reading and (reading.whole or _is_most(reading, heard.words[at])) else None
        for at, reading in enumerate(counting(heard.readings, len(heard.lines)))
    ]


def proof(heard: HeardScript) -> list[ProofFinding]:
    """Everything that was found, in the order of the recording."""
    counted = readings_that_count(heard)
    found = [ProofFinding(OUTSIDE, None, outside.start_s, outside.end_s) for outside in heard.outside]
    for reading in heard.readings:
        if reading is not counted[reading.line]:
            kind = AGAIN if reading.whole else BROKEN_OFF
            found.append(ProofFinding(kind, reading.line, reading.start_s, reading.end_s))
        elif not reading.whole:
            found.append(ProofFinding(IN_PART, reading.line, reading.start_s, reading.end_s))
    before_s = 0.0
    for line, counts in enumerate(counted):
        if counts is None and heard.words[line]:
            found.append(ProofFinding(MISSING, line, before_s, before_s))
        elif counts is not None:
            before_s = counts.end_s
    return sorted(found, key=lambda finding: (finding.start_s, finding.end_s, finding.line or 0))


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


def with_room(heard: HeardScript, span: LineSpan) -> tuple[float, float]:
    """Start and end, seconds, with some of the quiet beside it: at most _ROOM_S, half of that to the next sound."""
    start_s, end_s = span.start_s, span.end_s
    said = [(reading.start_s, reading.end_s) for reading in heard.readings]
    said += [(outside.start_s, outside.end_s) for outside in heard.outside]
    before_s = max((end for _, end in said if end <= start_s), default=0.0)
    after_s = min((start for start, _ in said if start >= end_s), default=heard.duration_s)
    begun = before_s if before_s == 0 else (before_s + start_s) / 2
    ended = after_s if after_s == heard.duration_s else (end_s + after_s) / 2
    return max(begun, start_s - _ROOM_S), min(ended, end_s + _ROOM_S)


def _is_most(reading: Reading, words: int) -> bool:
    return len({word.word for word in reading.words}) >= _MOSTLY * words
