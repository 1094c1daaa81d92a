"""What makes up one section: pieces of recordings, in order, and how each joins the one before."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from mastering.editing.plain import as_plain, from_plain
from mastering.errors import MasteringError
from mastering.said import Said


class BadCut(MasteringError):
    """A stretch, an edit or a list of them that cannot be applied; nothing of it was."""


@dataclass(frozen=True)
class Span:
    """A stretch of one recording, [start, end) in samples of that recording's own rate."""

    recording: str
    start_sample: int
    end_sample: int

    @property
    def samples(self) -> int:
        return self.end_sample - self.start_sample


@dataclass(frozen=True, kw_only=True)
class Piece:
    """A span as it is to sound. Lengths are in samples of its recording's rate, `overlap_samples` in the programme's.

    Attributes
    ----------
    tone_samples
        Where set, the span is room tone, and this much of it is made from the span.
    gain_db, gain_end_db
        Gain at the first sample and, in a straight line of decibels, at the last; None where it stays.
    fade, fade_samples, fade_at
        "in", "out" or nothing; how long the whole fade is, and how far into it this piece begins.
    rise, fall
        A fade in at the start and one out at the end of a whole stretch, each as the last two; they may be both there,
        besides another fade.
    kind
        What it holds, "speech" or "music"; what its section holds where that is not said.
    hush_db, noise
        How much the steady noise is lowered, and the span of the same recording it is learned from.
    mends
        What else is done to its samples: names of `mastering.shaping.mends.MENDS`.
    overlap_samples
        How much of it sounds together with the end of the piece before, as an equal-power crossfade.
    """

    span: Span
    tone_samples: int | None = None
    gain_db: float = 0.0
    gain_end_db: float | None = None
    fade: str = ""
    fade_samples: int = 0
    fade_at: int = 0
    rise: tuple[int, int] | None = None
    fall: tuple[int, int] | None = None
    kind: str = ""
    hush_db: float = field(default=0.0, metadata={"key": "quieter_db"})
    noise: tuple[int, int] | None = None
    mends: tuple[str, ...] = ()
    overlap_samples: int = 0

    @property
    def samples(self) -> int:
        """How long it is, in samples of its recording's rate."""
        return self.span.samples if self.tone_samples is None else self.tone_samples

    @property
    def untouched(self) -> bool:
        """Whether it is nothing but a span of a recording."""
        return self == Piece(span=self.span, overlap_samples=self.overlap_samples, kind=self.kind)


def check_span(span: Span, length_samples: int) -> None:
    """Raise BadCut for a span that is empty, runs backwards or lies outside a recording of this length."""
    if span.start_sample < 0:
        raise BadCut(Said("stretch-begins-before-recording-does"))
    if span.end_sample > length_samples:
        raise BadCut(Said("stretch-goes-beyond-end-recording"))
    if span.end_sample <= span.start_sample:
        raise BadCut(Said("stretch-empty-end-not-after"))


def joined(pieces: Sequence[Piece]) -> tuple[Piece, ...]:
    """Make one piece of untouched neighbours that follow on in the same recording, so that nothing is cut in vain."""
    whole: list[Piece] = []
    for piece in pieces:
        last = whole[-1] if whole else None
        follows = (
            last is not None
            and last.untouched
            and piece.untouched
            and last.kind == piece.kind
            and not piece.overlap_samples
            and last.span.recording == piece.span.recording
            and last.span.end_sample == piece.span.start_sample
        )
        if last is not None and follows:
            whole[-1] = replace(last, span=replace(last.span, end_sample=piece.span.end_sample))
        else:
            whole.append(piece)
    return tuple(whole)


def as_list(pieces: Sequence[Piece]) -> list[dict[str, Any]]:
    """Plain values for JSON; what is left at its default is left out."""
    return as_plain(pieces)


def from_list(rows: Sequence[dict[str, Any]]) -> tuple[Piece, ...]:
    """Read what `as_list` wrote."""
    return from_plain(rows, Piece)
