"""A section put together: stretches of recordings, read through their marks and joined."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

from mastering.editing import markup
from mastering.editing.markkinds import MOST_GAIN_DB
from mastering.editing.markup import Marks
from mastering.editing.pieces import BadCut, Piece, Span, check_span, joined
from mastering.editing.plain import as_plain, from_plain
from mastering.said import Said, either

BUTT, CROSSFADE, PAUSE = "butt", "crossfade", "pause"
LONGEST_JOIN_S = 30.0
KINDS = ("speech", "music")
"""What a piece may hold."""


@dataclass(frozen=True, kw_only=True)
class Stretch:
    """A stretch of a recording as a part of a section, and how it joins the one before.

    `join_s` is the length of the crossfade (equal power) or of the pause of room tone, seconds. `kind` is what it
    holds, "speech" or "music", where that is not what its section holds; `gain_db` and the fades are its own, besides
    what is marked on its page.
    """

    recording: str
    start_sample: int
    end_sample: int
    join: str = BUTT
    join_s: float = 0.0
    kind: str = ""
    gain_db: float = 0.0
    fade_in_s: float = 0.0
    fade_out_s: float = 0.0

    @property
    def samples(self) -> int:
        return self.end_sample - self.start_sample


@dataclass(frozen=True)
class MarkedRecording:
    """What is known of a recording: its marks, the samples room tone is made from, its rate and length."""

    marks: Marks
    tone: tuple[int, int] | None
    sample_rate_hz: int
    length_samples: int


def assembled(sections: Sequence[Sequence[Stretch]], pages: Mapping[str, MarkedRecording]) -> tuple[Piece, ...]:
    """Turn the stretches of sections, one section after the other, into the pieces that sound.

    What sounds first in a section follows the section before directly: there is nothing in its own to join.

    Raises
    ------
    BadCut
        When a recording is no longer there, a stretch lies outside it, or room tone is wanted and there is none.
    """
    found: list[Piece] = []
    for stretches in sections:
        own: list[Piece] = []
        for stretch in stretches:
            pieces = _pieces_of(stretch, pages)
            if pieces and own and stretch.join == PAUSE and stretch.join_s:
                own.append(_pause(own[-1], stretch, pages))
            elif pieces and own and stretch.join == CROSSFADE and stretch.join_s:
                programme_hz = _page_of((found or own)[0].span.recording, pages).sample_rate_hz
                pieces[0] = replace(pieces[0], overlap_samples=round(stretch.join_s * programme_hz))
            own += pieces
        found += own
    return joined(found)


def divided(stretch: Stretch, cuts: Iterable[int]) -> list[Stretch]:
    """The parts of a stretch that is cut at these samples; those that do not lie inside it cut nothing.

    What holds for all of a stretch holds for each part of it; what belongs to an end stays at that end: a join and a
    fade in at its start, a fade out at its end.
    """
    first, last = stretch.start_sample, stretch.end_sample
    edges = [first, *sorted({cut for cut in cuts if first < cut < last}), last]
    parts = [replace(stretch, start_sample=start, end_sample=end) for start, end in pairwise(edges)]
    parts[1:] = [replace(part, join=BUTT, join_s=0.0, fade_in_s=0.0) for part in parts[1:]]
    parts[:-1] = [replace(part, fade_out_s=0.0) for part in parts[:-1]]
    return parts


def of_kinds(sections: Sequence[tuple[Sequence[Stretch], str]]) -> list[list[Stretch]]:
    """The stretches of sections that go together, each given with what it holds ("speech", "music" or "mixed"): each
    stretch says so itself where that is not the same in all.
    """
    alike = len({kind for _, kind in sections}) == 1
    return [
        [stretch if alike or stretch.kind or kind not in KINDS else replace(stretch, kind=kind) for stretch in own]
        for own, kind in sections
    ]


def starts_s(pieces: Sequence[Piece], pages: Mapping[str, MarkedRecording]) -> list[float]:
    """When each piece begins to sound, and when the last is over, seconds; 0.0 alone where there is none."""
    starts, at_s = [], 0.0
    for piece in pieces:
        # An overlap is told in samples of the programme, whose rate is that of its first piece.
        at_s -= piece.overlap_samples / pages[pieces[0].span.recording].sample_rate_hz
        starts.append(at_s)
        at_s += piece.samples / pages[piece.span.recording].sample_rate_hz
    return [*starts, at_s]


def _pieces_of(stretch: Stretch, pages: Mapping[str, MarkedRecording]) -> list[Piece]:
    page = _page_of(stretch.recording, pages)
    span = Span(stretch.recording, stretch.start_sample, stretch.end_sample)
    check_span(span, page.length_samples)
    check_join(stretch)
    pieces = markup.pieces(page.marks, span, sample_rate_hz=page.sample_rate_hz, tone=page.tone)
    for piece in pieces:
        _page_of(piece.span.recording, pages)
    return _as_wished(pieces, stretch, pages)


def check_join(stretch: Stretch) -> None:
    """Raise BadCut for a join that is none, or one of no sensible length."""
    if stretch.join not in (BUTT, CROSSFADE, PAUSE):
        raise BadCut(Said("no-way-join-two-pieces", join=stretch.join))
    if not 0 <= stretch.join_s <= LONGEST_JOIN_S:
        raise BadCut(Said("crossfade-pause-lasts-s-most", longest_join_s=LONGEST_JOIN_S))
    if stretch.kind not in ("", *KINDS):
        raise BadCut(Said("piece-holds", kinds=either(KINDS)))
    if not -MOST_GAIN_DB <= stretch.gain_db <= MOST_GAIN_DB:
        raise BadCut(Said("gain-lies-between-db", most_gain_db=MOST_GAIN_DB))
    if not (0 <= stretch.fade_in_s <= LONGEST_JOIN_S and 0 <= stretch.fade_out_s <= LONGEST_JOIN_S):
        raise BadCut(Said("fade-lasts-s-most", longest_join_s=LONGEST_JOIN_S))


def as_list(stretches: Sequence[Stretch]) -> list[dict[str, Any]]:
    """Plain values for JSON; what is left at its default is left out."""
    return as_plain(stretches)


def from_list(rows: Sequence[dict[str, Any]]) -> tuple[Stretch, ...]:
    """Read what `as_list` wrote."""
    return from_plain(rows, Stretch)


def _page_of(name: str, pages: Mapping[str, MarkedRecording]) -> MarkedRecording:
    if name not in pages:
        raise BadCut(Said("recording-section-no-longer-there"))
    return pages[name]


def _as_wished(pieces: Sequence[Piece], stretch: Stretch, pages: Mapping[str, MarkedRecording]) -> list[Piece]:
    """The pieces of a stretch with its own kind, gain and fades."""
    if not (stretch.kind or stretch.gain_db or stretch.fade_in_s or stretch.fade_out_s):
        return list(pieces)
    rates_hz = [pages[piece.span.recording].sample_rate_hz for piece in pieces]
    lengths_s = [piece.samples / rate_hz for piece, rate_hz in zip(pieces, rates_hz, strict=True)]
    wished, at_s, whole_s = [], 0.0, sum(lengths_s)
    for piece, rate_hz, length_s in zip(pieces, rates_hz, lengths_s, strict=True):
        falls_s = at_s - (whole_s - stretch.fade_out_s)
        wished.append(
            replace(
                piece,
                kind=stretch.kind,
                gain_db=piece.gain_db + stretch.gain_db,
                gain_end_db=None if piece.gain_end_db is None else piece.gain_end_db + stretch.gain_db,
                rise=_samples(stretch.fade_in_s, at_s, rate_hz) if at_s < stretch.fade_in_s else None,
                fall=_samples(stretch.fade_out_s, falls_s, rate_hz) if falls_s + length_s > 0 else None,
            )
        )
        at_s += length_s
    return wished


def _samples(fade_s: float, at_s: float, rate_hz: int) -> tuple[int, int] | None:
    return (round(fade_s * rate_hz), round(at_s * rate_hz)) if round(fade_s * rate_hz) else None


def _pause(before: Piece, stretch: Stretch, pages: Mapping[str, MarkedRecording]) -> Piece:
    """Room tone of the recording before the join, or of the one after it."""
    for name in (before.span.recording, stretch.recording):
        page = pages[name]
        if page.tone:
            length = round(stretch.join_s * page.sample_rate_hz)
            return Piece(span=Span(name, *page.tone), tone_samples=length, kind=before.kind)
    raise BadCut(Said("neither-recording-quiet-stretch-make"))
