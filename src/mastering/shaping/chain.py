"""All that is done to a section before its level: edges, rumble filter, hush and ride, in this order."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from mastering.audio.convert import to_channels
from mastering.certain import certain
from mastering.shaping.edges import Edges, Setting, edged, edged_stretch
from mastering.shaping.hush import hushed, noise_power
from mastering.shaping.ride import ridden
from mastering.shaping.rumble import without_rumble


class Source(Protocol):
    """What can be read from any place."""

    sample_rate_hz: int

    def stretch(self, start_frame: int, end_frame: int) -> Iterator[np.ndarray]: ...


@dataclass(frozen=True, kw_only=True)
class Chain:
    """What is done, with all it takes. Times are those of the source, in seconds.

    `quiet_s` is the stretch that room tone is made from, `noise_s` the one that noise is learned from; `ride_db` is the
    curve of `ride_curve`, shape (cells,), or None.
    """

    edges: Edges = Edges()
    quiet_s: tuple[float, float] | None = None
    rumble_hz: float = 0.0
    hush_db: float = 0.0
    noise_s: tuple[float, float] | None = None
    ride_db: np.ndarray | None = None

    @property
    def changes_nothing(self) -> bool:
        """Whether samples pass through untouched."""
        return self.edges == Edges() and not self.rumble_hz and not self.hush_db and self.ride_db is None


def shaped(
    blocks: Iterator[np.ndarray], chain: Chain, *, source: Source, frames: int, channels: int
) -> Iterator[np.ndarray]:
    """Shape a whole source.

    Parameters
    ----------
    blocks
        Its sound from start to end, float32 of shape (frames, source's channels).
    source
        The same once more, for the quiet stretches; it is read before the first block is taken.
    frames
        How long it is.
    channels
        How many come out.
    """
    blocks = to_channels(blocks, channels)
    if chain.edges != Edges():
        blocks = edged(blocks, _setting(source, chain, frames, channels))
    return _shaped(blocks, chain, source, channels, -chain.edges.head_s)


def shaped_stretch(
    source: Source, chain: Chain, start_frame: int, end_frame: int, *, frames: int, channels: int
) -> Iterator[np.ndarray]:
    """Shape a stretch as it will be in the whole.

    `start_frame` and `end_frame` count from the first frame of what comes out, `frames` is how long the source is.
    Filters start afresh: what matters should begin half a second after `start_frame`.
    """
    rate_hz = source.sample_rate_hz
    blocks = edged_stretch(
        lambda start, end: to_channels(source.stretch(start, end), channels),
        _setting(source, chain, frames, channels),
        start_frame,
        end_frame,
    )
    start_s = start_frame / rate_hz - chain.edges.head_s
    return _shaped(blocks, chain, source, channels, start_s)


def _shaped(
    blocks: Iterator[np.ndarray], chain: Chain, source: Source, channels: int, start_s: float
) -> Iterator[np.ndarray]:
    rate_hz = source.sample_rate_hz
    if chain.rumble_hz:
        blocks = without_rumble(blocks, cutoff_hz=chain.rumble_hz, sample_rate_hz=rate_hz)
    if chain.hush_db and chain.noise_s:
        quiet = _stretch(source, chain.noise_s, channels)
        if chain.rumble_hz:
            quiet = next(without_rumble(iter([quiet]), cutoff_hz=chain.rumble_hz, sample_rate_hz=rate_hz))
        noise = noise_power(quiet, sample_rate_hz=rate_hz)
        blocks = hushed(blocks, noise=noise, lower_db=chain.hush_db, sample_rate_hz=rate_hz)
    if chain.ride_db is not None:
        blocks = ridden(blocks, chain.ride_db, sample_rate_hz=rate_hz, start_s=start_s)
    return blocks


def _setting(source: Source, chain: Chain, frames: int, channels: int) -> Setting:
    """Its head and tail, to be set."""
    toned = chain.quiet_s is not None and (chain.edges.tone_head_s or chain.edges.tone_tail_s)
    where_s = certain(chain.quiet_s) if toned else (0.0, 0.0)
    return Setting(
        chain.edges,
        frames=frames,
        quiet=_stretch(source, where_s, channels) if toned else None,
        quiet_at=round(where_s[0] * source.sample_rate_hz),
        sample_rate_hz=source.sample_rate_hz,
    )


def _stretch(source: Source, where_s: tuple[float, float], channels: int) -> np.ndarray:
    start, end = (round(edge_s * source.sample_rate_hz) for edge_s in where_s)
    return np.concatenate(list(to_channels(source.stretch(start, end), channels)))
