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
KINDS = (MISSING, IN_PART, AGAIN, BROKEN_OFF, OUTSIDE)
_ROOM_S = 0.3
_MOSTLY = 0.5
"""A line counts as read where at least this share of its words was."""


@dataclass(frozen=True)
class ProofFinding:
    """Something to be heard or read again.

    `kind` is one of KINDS, `line` the number of the line (None where it is in no script), `start_s` and `end_s` where:
    for a line that is missing, where it would have stood.
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


def spans_of_lines(counted: Sequence[Reading | None], parts: Sequence[range]) -> list[tuple[float, float] | None]:
    """Where each line lies that is made of sentences: start and end, seconds; None where none of them was read.

    A sentence that was read before the first one of its line belongs to an older reading and does not count.
    """
    spans: list[tuple[float, float] | None] = []
    for part in parts:
        read = [reading for at in part if (reading := counted[at])]
        begun = read[0].start_s if read else 0.0
        ends = [reading.end_s for reading in read if reading.start_s >= begun]
        spans.append((begun, max(ends)) if read else None)
    return spans


def with_room(heard: HeardScript, start_s: float, end_s: float) -> tuple[float, float]:
    """A stretch with some of the quiet on either side: at most _ROOM_S, and half of what lies before the next sound."""
    said = [(reading.start_s, reading.end_s) for reading in heard.readings]
    said += [(outside.start_s, outside.end_s) for outside in heard.outside]
    before_s = max((end for _, end in said if end <= start_s), default=0.0)
    after_s = min((start for start, _ in said if start >= end_s), default=heard.duration_s)
    begun = before_s if before_s == 0 else (before_s + start_s) / 2
    ended = after_s if after_s == heard.duration_s else (end_s + after_s) / 2
    return max(begun, start_s - _ROOM_S), min(ended, end_s + _ROOM_S)


def _is_most(reading: Reading, words: int) -> bool:
    return len({word.word for word in reading.words}) >= _MOSTLY * words
