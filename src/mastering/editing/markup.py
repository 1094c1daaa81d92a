"""The marks on a recording's page: what is struck out, silenced, made louder or softer. The recording stays whole.

Marks are values; each edit is a function from marks to marks, and `pieces` reads a stretch through them. Positions
are samples of the recording's own rate.
"""

from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Any

from mastering.editing.markkinds import GAIN, MARK_KINDS, PICKUP, STRIKE, Here, Mark, gain_edge
from mastering.editing.pieces import BadCut, Piece, Span, check_span, joined
from mastering.editing.plain import as_plain, from_plain
from mastering.said import Said

MOST_MARKS = 20_000
Marks = tuple[Mark, ...]


def set_mark(marks: Marks, mark: Mark, *, length_samples: int) -> Marks:
    """Set a mark; others of its kind give way where it lies. Strikes that touch become one.

    `mark.id` is replaced by a free one. Raises BadCut for a stretch outside the recording, an unknown kind or a value
    out of range.
    """
    _check(mark, length_samples)
    if mark.kind == STRIKE:
        touching = [m for m in marks if m.kind == STRIKE and _touch(m, mark)]
        mark = replace(
            mark,
            start_sample=min(m.start_sample for m in [mark, *touching]),
            end_sample=max(m.end_sample for m in [mark, *touching]),
        )
    for kind in MARK_KINDS[mark.kind].gives_way:
        marks = cleared(marks, mark.start_sample, mark.end_sample, kinds=(kind,))
    return _in_order([*marks, replace(mark, id=_free_id(marks))])


def set_marks(marks: Marks, new: Iterable[Mark], *, length_samples: int) -> Marks:
    """Set many marks, all or none, quicker than one by one: those that collide are found in one walk."""
    new = sorted(new, key=lambda mark: mark.start_sample)
    if len(marks) + len(new) > MOST_MARKS:
        raise BadCut(Said("page-takes-marks-most-these", most_marks=MOST_MARKS, count=len(marks) + len(new)))
    for mark in new:
        _check(mark, length_samples)
    if not _nested([*marks, *new]):
        free = _free_id(marks)
        return _in_order([*marks, *(replace(mark, id=free + at) for at, mark in enumerate(new))])
    for mark in new:
        marks = set_mark(marks, mark, length_samples=length_samples)
    return marks


def cleared(marks: Marks, start_sample: int, end_sample: int, *, kinds: Sequence[str] = ()) -> Marks:
    """Take marks away from a stretch; of those that reach beyond it, what lies outside stays.

    Fades and pickups go as a whole. All kinds but plain points, where no `kinds` are given.
    """
    kept, cut = [], False
    free = _free_id(marks)
    for mark in marks:
        wanted = mark.kind in kinds if kinds else MARK_KINDS[mark.kind].heard
        if not wanted or mark.end_sample <= start_sample or mark.start_sample >= end_sample:
            kept.append(mark)
            continue
        cut = True
        if MARK_KINDS[mark.kind].whole:
            continue
        before = replace(mark, end_sample=start_sample)
        after = replace(mark, start_sample=end_sample)
        if before.samples > 0:
            kept.append(before)
        if after.samples > 0:
            kept.append(replace(after, id=free) if before.samples > 0 else after)
            free += before.samples > 0
    return _in_order(kept) if cut else marks


def without(marks: Marks, ids: Iterable[int]) -> Marks:
    """Take marks away by their ids."""
    gone = set(ids)
    return tuple(mark for mark in marks if mark.id not in gone)


def moved(marks: Marks, mark_id: int, start_sample: int, end_sample: int, *, length_samples: int) -> Marks:
    """Give a mark another start and end. Raises BadCut when there is no such mark, or the stretch is no good."""
    mark = next((m for m in marks if m.id == mark_id), None)
    if mark is None:
        raise BadCut(Said("mark-no-longer-there-somebody"))
    rest = without(marks, [mark_id])
    return set_mark(
        rest, replace(mark, start_sample=start_sample, end_sample=end_sample), length_samples=length_samples
    )


def kept_only(marks: Marks, start_sample: int, end_sample: int, *, within: tuple[int, int]) -> Marks:
    """Strike out what lies around a stretch, up to the ends of `within`; what was struck in it comes back."""
    marks = cleared(marks, start_sample, end_sample, kinds=(STRIKE,))
    for start, end in ((within[0], start_sample), (end_sample, within[1])):
        if end > start:
            mark = Mark(id=0, kind=STRIKE, start_sample=start, end_sample=end)
            marks = set_mark(marks, mark, length_samples=within[1])
    return marks


def pieces(marks: Marks, span: Span, *, sample_rate_hz: int, tone: tuple[int, int] | None) -> tuple[Piece, ...]:
    """Read a stretch of a recording through its marks.

    Parameters
    ----------
    tone
        The samples of the recording that room tone is made from and steady noise is learned from.

    Returns
    -------
    The pieces that remain, in order. A pickup sounds once, where its place begins or, where that is struck out, at the
    first of its samples that is not; whatever else is marked inside its place has no effect.

    Raises
    ------
    BadCut
        When a mark wants room tone and the recording has no quiet stretch to make it from.
    """
    heard = [mark for mark in marks if MARK_KINDS[mark.kind].heard]
    near = [mark for mark in heard if mark.end_sample > span.start_sample and mark.start_sample < span.end_sample]
    if not near:
        return (Piece(span=span),)
    if tone is None and any(MARK_KINDS[mark.kind].wants_tone for mark in near):
        raise BadCut(Said("recording-no-quiet-stretch-make"))
    edges = {span.start_sample, span.end_sample}
    sounding = {_sounds_at(mark, marks) for mark in near if mark.kind == PICKUP}
    for mark in near:
        edges.update((mark.start_sample, mark.end_sample, *_gain_edges(mark, sample_rate_hz)))
    inside = sorted(edge for edge in edges if span.start_sample <= edge <= span.end_sample)
    found: list[Piece] = []
    active: list[Mark] = []
    coming = sorted(near, key=lambda mark: mark.start_sample)
    at = 0
    for start, end in zip(inside, inside[1:], strict=False):
        active = [mark for mark in active if mark.end_sample > start]
        while at < len(coming) and coming[at].start_sample <= start:
            if coming[at].end_sample > start:
                active.append(coming[at])
            at += 1
        piece = _piece(active, Here(replace(span, start_sample=start, end_sample=end), sample_rate_hz, tone, sounding))
        if piece is not None:
            found.append(piece)
    return joined(found)


def as_list(marks: Marks) -> list[dict[str, Any]]:
    """Plain values for JSON; what is left at its default is left out."""
    return as_plain(marks)


def from_list(rows: Iterable[dict[str, Any]]) -> Marks:
    """Read what `as_list` wrote."""
    return from_plain(rows, Mark)


def _sounds_at(pickup: Mark, marks: Marks) -> int:
    """The first sample of a pickup's place that is not struck out; its end where all of it is."""
    at = pickup.start_sample
    for mark in _in_order(mark for mark in marks if mark.kind == STRIKE):
        if mark.start_sample <= at < mark.end_sample:
            at = mark.end_sample
    return min(at, pickup.end_sample)


def _piece(active: list[Mark], here: Here) -> Piece | None:
    """What sounds at a place, each kind acting on what those before it left."""
    by_kind = {mark.kind: mark for mark in active}
    piece: Piece | None = Piece(span=here.span)
    for name, kind in MARK_KINDS.items():
        if name in by_kind and piece is not None:
            piece = kind.acts(piece, by_kind[name], here)
            if kind.alone:
                return piece
    return piece


def _gain_edges(mark: Mark, rate_hz: int) -> tuple[int, ...]:
    if mark.kind != GAIN:
        return ()
    width = gain_edge(mark, rate_hz)
    return mark.start_sample + width, mark.end_sample - width


def _check(mark: Mark, length_samples: int) -> None:
    kind = MARK_KINDS.get(mark.kind)
    if kind is None:
        raise BadCut(Said("no-kind-mark", kind=mark.kind))
    if not kind.heard:
        if not 0 <= mark.start_sample <= mark.end_sample <= length_samples:
            raise BadCut(Said("mark-lies-outside-recording", name=mark.name))
        return
    check_span(Span("", mark.start_sample, mark.end_sample), length_samples)
    kind.refuse(mark)


def _touch(one: Mark, other: Mark) -> bool:
    return one.start_sample <= other.end_sample and other.start_sample <= one.end_sample


def _nested(marks: Sequence[Mark]) -> bool:
    """Whether any mark that is no point reaches into a later one, found in one walk."""
    reached = -1
    for mark in _in_order(marks):
        if not MARK_KINDS[mark.kind].heard:
            continue
        if mark.start_sample <= reached:
            return True
        reached = max(reached, mark.end_sample)
    return False


def _in_order(marks: Iterable[Mark]) -> Marks:
    return tuple(sorted(marks, key=lambda mark: (mark.start_sample, mark.end_sample, mark.id)))


def _free_id(marks: Iterable[Mark]) -> int:
    return max((mark.id for mark in marks), default=0) + 1
