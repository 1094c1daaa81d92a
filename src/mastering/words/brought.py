"""Words that another recogniser heard, as if they had been heard here."""

from collections.abc import Iterator, Sequence

from mastering.words.hearing import HeardScript
from mastering.words.lines import word_texts
from mastering.words.readings import HeardWord, Reading
from mastering.words.timed import TimedText


def heard_of(cues: Sequence[TimedText], *, duration_s: float) -> HeardScript:
    """Each cue as a line that was read once; its words share its time by their letters. Cues without a word are left
    out, and none reaches into the next.
    """
    told = [(cue, word_texts(cue.text)) for cue in cues]
    told = [(cue, words) for cue, words in told if words]
    readings = []
    for line, (cue, words) in enumerate(told):
        next_s = told[line + 1][0].start_s if line + 1 < len(told) else duration_s
        end_s = max(cue.start_s, min(cue.end_s, next_s, duration_s))
        own = tuple(_words(words, cue.start_s, end_s))
        readings.append(Reading(line, cue.start_s, end_s, True, own))
    lines = tuple(cue.text for cue, _ in told)
    counts = tuple(len(words) for _, words in told)
    return HeardScript(lines, counts, tuple(readings), (), duration_s, 0.0)


def _words(words: Sequence[str], start_s: float, end_s: float) -> Iterator[HeardWord]:
    letters = sum(map(len, words))
    at_s = start_s
    for number, word in enumerate(words):
        until_s = at_s + (end_s - start_s) * len(word) / letters
        yield HeardWord(number, at_s, until_s, 0.0)
        at_s = until_s
