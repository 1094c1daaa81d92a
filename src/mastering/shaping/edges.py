"""Head and tail: quiet taken away, or more of the same room put there."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from mastering.shaping.roomtone import Room


@dataclass(frozen=True, kw_only=True)
class Edges:
    """Seconds cut off at either end, and seconds of room tone put there instead or besides."""

    cut_head_s: float = 0.0
    tone_head_s: float = 0.0
    cut_tail_s: float = 0.0
    tone_tail_s: float = 0.0

    @property
    def head_s(self) -> float:
        """By how much the head grows; below 0 where it shrinks."""
        return self.tone_head_s - self.cut_head_s

    @property
    def tail_s(self) -> float:
        return self.tone_tail_s - self.cut_tail_s


def edged(
    blocks: Iterator[np.ndarray], edges: Edges, *, frames: int, quiet: np.ndarray | None, sample_rate_hz: int
) -> Iterator[np.ndarray]:
    """Set head and tail of a stream.

    Parameters
    ----------
    frames
        How long the stream is.
    quiet
        Float32, shape (n, channels): the stretch room tone is made from; may be None where none is wanted.
    """
    first = round(edges.cut_head_s * sample_rate_hz)
    last = frames - round(edges.cut_tail_s * sample_rate_hz)
    room = None if quiet is None else Room(quiet, sample_rate_hz=sample_rate_hz)
    yield from _tone(room, edges.tone_head_s, sample_rate_hz)
    at = 0
    for block in blocks:
        kept = block[max(0, first - at) : max(0, last - at)]
        at += len(block)
        if len(kept):
            yield kept
    yield from _tone(room, edges.tone_tail_s, sample_rate_hz)


def edged_stretch(
    stretch: Callable[[int, int], Iterator[np.ndarray]],
    edges: Edges,
    start: int,
    end: int,
    *,
    frames: int,
    quiet: np.ndarray | None,
    sample_rate_hz: int,
) -> Iterator[np.ndarray]:
    """A stretch of what `edged` yields, by its frames; `stretch` gives those of the source from one up to another."""
    first = round(edges.cut_head_s * sample_rate_hz)
    last = frames - round(edges.cut_tail_s * sample_rate_hz)
    position = 0
    room = None if quiet is None else Room(quiet, sample_rate_hz=sample_rate_hz)
    tones = [
        np.concatenate([np.empty((0, quiet.shape[1]), np.float32), *_tone(room, length_s, sample_rate_hz)])
        if quiet is not None
        else np.empty((0, 1), np.float32)
        for length_s in (edges.tone_head_s, edges.tone_tail_s)
    ]
    for count, part in ((len(tones[0]), tones[0]), (last - first, None), (len(tones[1]), tones[1])):
        from_frame, to_frame = max(0, start - position), min(count, end - position)
        position += count
        if from_frame >= to_frame:
            continue
        if part is None:
            yield from stretch(first + from_frame, first + to_frame)
        else:
            yield part[from_frame:to_frame]


def _tone(room: Room | None, length_s: float, sample_rate_hz: int) -> Iterator[np.ndarray]:
    count = round(length_s * sample_rate_hz)
    return iter(()) if room is None or not count else room.tone(count)


def edged_cells(count: int, edges: Edges, quiet: tuple[int, int], cells_per_second: int) -> np.ndarray:
    """Which cell of an envelope stands at each place once head and tail are set; int32, shape (n,)."""
    first, last = (round(edge * cells_per_second) for edge in (edges.cut_head_s, edges.cut_tail_s))
    tones = [
        np.resize(np.arange(*quiet, dtype=np.int32), round(length_s * cells_per_second))
        for length_s in (edges.tone_head_s, edges.tone_tail_s)
    ]
    return np.concatenate([tones[0], np.arange(first, count - last, dtype=np.int32), tones[1]])
