"""Holes in speech, and how much of a recording is speech; read from the 10 ms envelope."""

import numpy as np

from mastering.meters.envelope import CELLS_PER_SECOND, Envelope, is_silent, powers
from mastering.meters.speech import active_level, speech_threshold, spoken_cells

_LONGEST_CELLS = CELLS_PER_SECOND // 2
_BESIDE_CELLS = 3
_LOUD_DB = 20.0
_CHUNK_CELLS = 60000


def dropouts(envelope: Envelope) -> int:
    """How many stretches of digital silence, 20 ms to half a second long, lie inside a word.

    Right before and after it (30 ms) it is no more than 20 dB below the loudest words: a gate that closes between
    words lets them fade first. Common practice, no source.
    """
    silent = is_silent(envelope.power)
    if silent.all():
        return 0
    threshold = 10 ** ((active_level(envelope.weighted) - _LOUD_DB) / 10)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], silent, [False]]).astype(np.int8)))
    found = 0
    for start, end in zip(edges[::2], edges[1::2], strict=True):
        if end - start > _LONGEST_CELLS or start < _BESIDE_CELLS or end + _BESIDE_CELLS > len(silent):
            continue
        before, after = (
            powers(envelope.weighted[start - _BESIDE_CELLS : start]),
            powers(envelope.weighted[end : end + _BESIDE_CELLS]),
        )
        found += bool((before > threshold).all() and (after > threshold).all())
    return found


def speech_share(envelope: Envelope) -> float | None:
    """The share of the recording that is speech, 0 to 1; None when all is silence."""
    threshold = speech_threshold(envelope.weighted)
    if threshold is None:
        return None
    spoken = 0
    for start in range(0, len(envelope), _CHUNK_CELLS):
        spoken += int(spoken_cells(envelope.weighted[start : start + _CHUNK_CELLS], threshold).sum())
    return spoken / len(envelope)
