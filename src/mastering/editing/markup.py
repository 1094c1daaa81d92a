"""The marks on a recording's page: what is struck out, silenced, made louder or softer. The recording stays whole.

Marks are values; each edit is a function from marks to marks, and `pieces` reads a stretch through them. Positions
are samples of the recording's own rate.
"""

from collections.abc import Collection, Iterable, Sequence
from dataclasses import asdict, dataclass, fields, replace

from mastering.editing.programme import BadCut, Piece, Span, check_span, joined

STRIKE = "strike"
TONE = "tone"
PICKUP = "pickup"
GAIN = "gain"
QUIETER = "quieter"
FADE_IN = "fade in"
FADE_OUT = "fade out"
POINT = "point"

_ONE_AT_A_TIME = {
    STRIKE: (STRIKE,),
    TONE: (TONE,),
    PICKUP: (PICKUP, TONE),
    GAIN: (GAIN,),
    QUIETER: (QUIETER,),
    FADE_IN: (FADE_IN, FADE_OUT),
    FADE_OUT: (FADE_IN, FADE_OUT),
    POINT: (),
}
"""Which kinds of mark give way where a mark of a kind is set."""
_WHOLE = (PICKUP, FADE_IN, FADE_OUT)
"""Kinds that make no sense in part: they go where another of their kind comes over them."""
MOST_MARKS = 20_000
MOST_GAIN_DB = 40.0
MOST_QUIETER_DB = 40.0
_GAIN_EDGE_S = 0.010
"""A change of level takes this long on each side, so that it does not click (common practice, no source)."""


@dataclass(frozen=True, kw_only=True)
class Mark:
    """One mark. `value_db` is a gain or how much quieter; a pickup says which samples of which recording it puts in.

    A point may have a `link` and a `picture`, by the hash of its bytes, for the chapter that begins there.
    """

    id: int
    kind: str
    start_sample: int
    end_sample: int
    name: str = ""
    value_db: float = 0.0
    recording: str = ""
    from_sample: int = 0
    to_sample: int = 0
    link: str = ""
    picture: str = ""

    @property
    def samples(self) -> int:
        return self.end_sample - self.start_sample


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
    for kind in _ONE_AT_A_TIME[mark.kind]:
        marks = cleared(marks, mark.start_sample, mark.end_sample, kinds=(kind,))
    return _in_order([*marks, replace(mark, id=_free_id(marks))])


def set_marks(marks: Marks, new: Iterable[Mark], *, length_samples: int) -> Marks:
    """Set many marks, all or none, quicker than one by one: those that collide are found in one walk."""
    new = sorted(new, key=lambda mark: mark.start_sample)
    if len(marks) + len(new) > MOST_MARKS:
        raise BadCut(f"A page takes {MOST_MARKS} marks at most; these would be {len(marks) + len(new)}.")
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
        wanted = mark.kind in kinds if kinds else mark.kind != POINT
        if not wanted or mark.end_sample <= start_sample or mark.start_sample >= end_sample:
            kept.append(mark)
            continue
        cut = True
        if mark.kind in _WHOLE:
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
        raise BadCut("This mark is no longer there; somebody took it away. Look at the page anew.")
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
    near = [
        m for m in marks if m.kind != POINT and m.end_sample > span.start_sample and m.start_sample < span.end_sample
    ]
    if not near:
        return (Piece(span=span),)
    if tone is None and any(m.kind in (TONE, QUIETER) for m in near):
        raise BadCut(
            "This recording has no quiet stretch to make room tone from. Mark its noise away with strikes instead."
        )
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
        piece = _piece(active, replace(span, start_sample=start, end_sample=end), sample_rate_hz, tone, sounding)
        if piece is not None:
            found.append(piece)
    return joined(found)


def as_list(marks: Marks) -> list[dict]:
    """Plain values for JSON; what is left at its default is left out."""
    defaults = {field.name: field.default for field in fields(Mark)}
    return [{name: value for name, value in asdict(mark).items() if value != defaults[name]} for mark in marks]


def from_list(rows: Iterable[dict]) -> Marks:
    """Read what `as_list` wrote."""
    return tuple(Mark(**row) for row in rows)


def _sounds_at(pickup: Mark, marks: Marks) -> int:
    """The first sample of a pickup's place that is not struck out; its end where all of it is."""
    at = pickup.start_sample
    for mark in _in_order(mark for mark in marks if mark.kind == STRIKE):
        if mark.start_sample <= at < mark.end_sample:
            at = mark.end_sample
    return min(at, pickup.end_sample)


def _piece(
    active: list[Mark], span: Span, rate_hz: int, tone: tuple[int, int] | None, sounding: Collection[int]
) -> Piece | None:
    by_kind = {mark.kind: mark for mark in active}
    if STRIKE in by_kind:
        return None
    if pickup := by_kind.get(PICKUP):
        # Once: what follows of the place is what it stands for.
        if span.start_sample not in sounding:
            return None
        return Piece(span=Span(pickup.recording, pickup.from_sample, pickup.to_sample), gain_db=pickup.value_db)
    piece = Piece(span=span)
    if TONE in by_kind:
        piece = Piece(span=Span(span.recording, *tone), tone_samples=span.samples)
    if gain := by_kind.get(GAIN):
        first, last = (_gain_at(gain, edge, rate_hz) for edge in (span.start_sample, span.end_sample))
        piece = replace(piece, gain_db=first, gain_end_db=None if last == first else last)
    if quieter := by_kind.get(QUIETER):
        piece = replace(piece, quieter_db=quieter.value_db, noise=tone)
    for kind, way in ((FADE_IN, "in"), (FADE_OUT, "out")):
        if fade := by_kind.get(kind):
            piece = replace(piece, fade=way, fade_samples=fade.samples, fade_at=span.start_sample - fade.start_sample)
    return piece


def _gain_edges(mark: Mark, rate_hz: int) -> tuple[int, ...]:
    if mark.kind != GAIN:
        return ()
    width = _gain_edge(mark, rate_hz)
    return mark.start_sample + width, mark.end_sample - width


def _gain_edge(mark: Mark, rate_hz: int) -> int:
    return min(round(_GAIN_EDGE_S * rate_hz), mark.samples // 4)


def _gain_at(mark: Mark, sample: int, rate_hz: int) -> float:
    width = _gain_edge(mark, rate_hz)
    near = min(sample - mark.start_sample, mark.end_sample - sample, width)
    return mark.value_db * (near / width if width else 1.0)


def _check(mark: Mark, length_samples: int) -> None:
    if mark.kind not in _ONE_AT_A_TIME:
        raise BadCut(f"“{mark.kind}” is no kind of mark.")
    if mark.kind == POINT:
        if not 0 <= mark.start_sample <= mark.end_sample <= length_samples:
            raise BadCut(f"The mark “{mark.name}” lies outside the recording.")
        return
    check_span(Span("", mark.start_sample, mark.end_sample), length_samples)
    if mark.kind == GAIN and not -MOST_GAIN_DB <= mark.value_db <= MOST_GAIN_DB:
        raise BadCut(f"A gain lies between -{MOST_GAIN_DB:g} and +{MOST_GAIN_DB:g} dB.")
    if mark.kind == QUIETER and not 0 < mark.value_db <= MOST_QUIETER_DB:
        raise BadCut(f"Noise can be lowered by 1 to {MOST_QUIETER_DB:g} dB.")
    if mark.kind == PICKUP and mark.to_sample <= mark.from_sample:
        raise BadCut("The pickup is empty: its end is not after its start.")


def _touch(one: Mark, other: Mark) -> bool:
    return one.start_sample <= other.end_sample and other.start_sample <= one.end_sample


def _nested(marks: Sequence[Mark]) -> bool:
    """Whether any mark that is no point reaches into a later one, found in one walk."""
    reached = -1
    for mark in _in_order(marks):
        if mark.kind == POINT:
            continue
        if mark.start_sample <= reached:
            return True
        reached = max(reached, mark.end_sample)
    return False


def _in_order(marks: Iterable[Mark]) -> Marks:
    return tuple(sorted(marks, key=lambda mark: (mark.start_sample, mark.end_sample, mark.id)))


def _free_id(marks: Iterable[Mark]) -> int:
    return max((mark.id for mark in marks), default=0) + 1
