"""Head and tail: quiet taken away, or more of the same room put there."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from mastering.certain import certain
from mastering.shaping.roomtone import Room

_JOIN_S, _SHORTEST_JOIN_S = 0.06, 0.005
"""Room tone passes into what is quiet, and into a moment of a word that begins at once."""


@dataclass(frozen=True, kw_only=True)
class Edges:
    """Seconds cut off at either end, seconds of room tone put there instead or besides, and how many seconds of what is
    kept there hold the room alone: where tone is put, it passes into these.
    """

    cut_head_s: float = 0.0
    tone_head_s: float = 0.0
    cut_tail_s: float = 0.0
    tone_tail_s: float = 0.0
    quiet_head_s: float = 0.0
    quiet_tail_s: float = 0.0

    @property
    def head_s(self) -> float:
        """By how much the head grows; below 0 where it shrinks."""
        return self.tone_head_s - self.cut_head_s

    @property
    def tail_s(self) -> float:
        return self.tone_tail_s - self.cut_tail_s


class Setting:
    """Head and tail of one source, to be set.

    Parameters
    ----------
    frames
        How long the source is.
    quiet, quiet_at
        Float32, shape (n, channels): the stretch room tone is made from, and the frame it begins at; None where no tone
        is wanted.
    """

    def __init__(self, edges: Edges, *, frames: int, quiet: np.ndarray | None, quiet_at: int, sample_rate_hz: int):
        self._room = None if quiet is None else Room(quiet, sample_rate_hz=sample_rate_hz)
        self._quiet_at = quiet_at
        self.first = round(edges.cut_head_s * sample_rate_hz)
        self.last = frames - round(edges.cut_tail_s * sample_rate_hz)
        toned = self._room is not None
        self.head, self.tail = (
            round(length_s * sample_rate_hz) if toned else 0 for length_s in (edges.tone_head_s, edges.tone_tail_s)
        )
        # So much of what is kept is looked at on either side, and so much of that is changed.
        self.near_head, self.near_tail = (
            min(round(max(quiet_s, _SHORTEST_JOIN_S) * sample_rate_hz), (self.last - self.first) // 2) * bool(tone)
            for quiet_s, tone in ((edges.quiet_head_s, self.head), (edges.quiet_tail_s, self.tail))
        )
        self.join_head, self.join_tail = (
            min(near, round(_JOIN_S * sample_rate_hz)) for near in (self.near_head, self.near_tail)
        )

    def before(self, kept: np.ndarray) -> np.ndarray:
        """The head, and what it passes into of the first `near_head` frames kept: `head + join_head` frames."""
        room = certain(self._room)
        return room.before(kept, self.head, join=self.join_head, away=self.first - self._quiet_at)

    def after(self, kept: np.ndarray) -> np.ndarray:
        """The tail after what passes into it, for the last `near_tail` frames that are kept."""
        away = self.last - len(kept) - self._quiet_at
        return certain(self._room).after(kept, self.tail, join=self.join_tail, away=away)


def edged(blocks: Iterator[np.ndarray], setting: Setting) -> Iterator[np.ndarray]:
    """Set head and tail of a stream."""
    at, begun = 0, not setting.head
    held: list[np.ndarray] = []
    keeping = setting.near_tail
    for block in blocks:
        kept = block[max(0, setting.first - at) : max(0, setting.last - at)]
        at += len(block)
        if not len(kept):
            continue
        held.append(kept)
        count = sum(map(len, held))
        if not begun and count >= setting.near_head:
            sound = np.concatenate(held)
            yield (head := setting.before(sound[: setting.near_head]))[: setting.head]
            held, begun = [np.concatenate([head[setting.head :], sound[setting.join_head :]])], True
        if begun and count > keeping:
            sound = np.concatenate(held)
            yield sound[: count - keeping]
            held = [sound[count - keeping :]]
    if setting.tail and held:
        sound = np.concatenate(held)
        tail = setting.after(sound)
        yield sound[: len(sound) - setting.join_tail]
        yield tail


def edged_stretch(
    stretch: Callable[[int, int], Iterator[np.ndarray]], setting: Setting, start: int, end: int
) -> Iterator[np.ndarray]:
    """A stretch of what `edged` yields, by its frames; `stretch` gives those of the source from one up to another."""

    def near(first: int, last: int) -> np.ndarray:
        return np.concatenate(list(stretch(first, last)))

    first, last = setting.first, setting.last
    nothing = np.empty((0, 1), np.float32)
    head = setting.before(near(first, first + setting.near_head)) if setting.head else nothing
    tail = setting.after(near(last - setting.near_tail, last)) if setting.tail else nothing
    first, last = first + setting.join_head, last - setting.join_tail
    position = 0
    for part, count in ((head, len(head)), (None, last - first), (tail, len(tail))):
        from_frame, to_frame = max(0, start - position), min(count, end - position)
        position += count
        if from_frame >= to_frame:
            continue
        if part is None:
            yield from stretch(first + from_frame, first + to_frame)
        else:
            yield part[from_frame:to_frame]


def edged_cells(count: int, edges: Edges, quiet: tuple[int, int], cells_per_second: int) -> np.ndarray:
    """Which cell of an envelope stands at each place once head and tail are set; int32, shape (n,)."""
    first, last = (round(edge * cells_per_second) for edge in (edges.cut_head_s, edges.cut_tail_s))
    tones = [
        np.resize(np.arange(*quiet, dtype=np.int32), round(length_s * cells_per_second))
        for length_s in (edges.tone_head_s, edges.tone_tail_s)
    ]
    return np.concatenate([tones[0], np.arange(first, count - last, dtype=np.int32), tones[1]])
