"""The kinds of marks a page may hold, each with all there is to know of it. A new kind is one new entry.

What a kind does to sound itself, beyond choosing and gain, is one of `mastering.shaping.mends`.
"""

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace

from mastering.editing.pieces import BadCut, Piece, Span
from mastering.said import Said

STRIKE = "strike"
TONE = "tone"
PICKUP = "pickup"
GAIN = "gain"
HUSH = "quieter"
"""So pages have kept it from the first."""
DECLICK = "de-click"
FADE_IN = "fade in"
FADE_OUT = "fade out"
POINT = "point"
MOST_GAIN_DB = 40.0
_MOST_HUSH_DB = 40.0
_GAIN_EDGE_S = 0.010
"""A change of level takes this long on each side, so that it does not click (common practice, no source)."""


@dataclass(frozen=True, kw_only=True)
class Mark:
    """One mark. `value_db` is a gain or how much hush; a pickup says which samples of which recording it puts in.

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


@dataclass(frozen=True)
class Here:
    """Where marks act: a span that none of them begins or ends in, with what is known of its recording.

    `tone` are the samples room tone is made from, `sounding` where pickups sound.
    """

    span: Span
    sample_rate_hz: int
    tone: tuple[int, int] | None
    sounding: Collection[int]


@dataclass(frozen=True, kw_only=True)
class Value:
    """The decibels a kind of mark asks for: how it asks, what is usual, and what it takes."""

    asks: str
    usual: float
    step: float
    least: float
    most: float
    refusal: str


@dataclass(frozen=True, kw_only=True)
class MarkKind:
    """One kind of mark.

    `words` tell in the history what was done, `said` what it is called on the page. `button`, `does` and `key` are
    those of the page, where it is set by one. `gives_way` are the kinds that go where one is set; `whole` says whether
    part of one makes no sense, `heard` whether it changes the sound, `wants_tone` whether it needs a quiet stretch.
    `drawn` is how its place looks on a line.

    `acts` turns the piece at a place into what sounds there; None is silence that takes no time. Where it acts `alone`
    no kind after it does. `checks` says what is wrong with one.
    """

    name: str
    words: str
    said: str
    button: str = ""
    does: str = ""
    key: str = ""
    gives_way: tuple[str, ...] = ()
    whole: bool = False
    heard: bool = True
    wants_tone: bool = False
    alone: bool = False
    drawn: str = "wash"
    value: Value | None = None
    acts: Callable[[Piece, Mark, Here], Piece | None] = lambda piece, mark, here: piece
    checks: Callable[[Mark], str] = lambda mark: ""

    @property
    def action(self) -> str:
        """What the page calls it."""
        return self.name.replace(" ", "-")

    def refuse(self, mark: Mark) -> None:
        """Raise BadCut for a mark of this kind that cannot be."""
        if self.value and not self.value.least <= mark.value_db <= self.value.most:
            raise BadCut(self.value.refusal)
        if said := self.checks(mark):
            raise BadCut(said)


def gain_edge(mark: Mark, rate_hz: int) -> int:
    """How long a gain takes to come and to go, samples."""
    return min(round(_GAIN_EDGE_S * rate_hz), mark.samples // 4)


def _picked_up(piece: Piece, mark: Mark, here: Here) -> Piece | None:
    # Once: what follows of the place is what it stands for.
    if here.span.start_sample not in here.sounding:
        return None
    return Piece(span=Span(mark.recording, mark.from_sample, mark.to_sample), gain_db=mark.value_db)


def _toned(piece: Piece, mark: Mark, here: Here) -> Piece:
    return Piece(span=Span(here.span.recording, *(here.tone or (0, 0))), tone_samples=here.span.samples)


def _gained(piece: Piece, mark: Mark, here: Here) -> Piece:
    first, last = (_gain_at(mark, at, here.sample_rate_hz) for at in (here.span.start_sample, here.span.end_sample))
    return replace(piece, gain_db=first, gain_end_db=None if last == first else last)


def _gain_at(mark: Mark, sample: int, rate_hz: int) -> float:
    width = gain_edge(mark, rate_hz)
    near = min(sample - mark.start_sample, mark.end_sample - sample, width)
    return mark.value_db * (near / width if width else 1.0)


def _faded(way: str) -> Callable[[Piece, Mark, Here], Piece]:
    def acts(piece: Piece, mark: Mark, here: Here) -> Piece:
        at = here.span.start_sample - mark.start_sample
        return replace(piece, fade=way, fade_samples=mark.samples, fade_at=at)

    return acts


MARK_KINDS: dict[str, MarkKind] = {}
"""Every kind by its name, in the order they act."""


def register(kind: MarkKind) -> None:
    """Add a kind; it acts after those there are."""
    MARK_KINDS[kind.name] = kind


for _kind in (
    MarkKind(
        name=STRIKE,
        words=Said("strike-out"),
        said=Said("struck-out"),
        button=Said("strike-out"),
        does=Said("strike-out-what-selected"),
        key="k",
        gives_way=(STRIKE,),
        alone=True,
        drawn="struck",
        acts=lambda piece, mark, here: None,
    ),
    MarkKind(
        name=PICKUP,
        words=Said("pickup"),
        said="pickup",
        gives_way=(PICKUP, TONE),
        whole=True,
        alone=True,
        drawn="instead",
        acts=_picked_up,
        checks=lambda mark: Said("pickup-empty-end-not-after") if mark.to_sample <= mark.from_sample else "",
    ),
    MarkKind(
        name=TONE,
        words=Said("room-tone-over"),
        said=Said("room-tone"),
        button=Said("room-tone-label"),
        does=Said("silence-room-tone"),
        key="j",
        gives_way=(TONE,),
        wants_tone=True,
        drawn="tone",
        acts=_toned,
    ),
    MarkKind(
        name=GAIN,
        words=Said("gain"),
        said="gain",
        button=Said("gain-label"),
        does=Said("set-gain"),
        key="g",
        gives_way=(GAIN,),
        drawn="bracket",
        value=Value(
            asks=Said("gain-db"),
            usual=3.0,
            step=0.5,
            least=-MOST_GAIN_DB,
            most=MOST_GAIN_DB,
            refusal=Said("gain-lies-between-db", most_gain_db=MOST_GAIN_DB),
        ),
        acts=_gained,
    ),
    MarkKind(
        name=HUSH,
        words=Said("hush-label"),
        said="hush",
        button=Said("hush-label"),
        does=Said("hush-lower-steady-noise"),
        key="h",
        gives_way=(HUSH,),
        wants_tone=True,
        drawn="dashes",
        value=Value(
            asks=Said("hush-steady-noise-lower-db"),
            usual=12.0,
            step=1.0,
            least=1e-9,
            most=_MOST_HUSH_DB,
            refusal=Said("hush-lowers-noise-1-db", most_hush_db=_MOST_HUSH_DB),
        ),
        acts=lambda piece, mark, here: replace(piece, hush_db=mark.value_db, noise=here.tone),
    ),
    MarkKind(
        name=DECLICK,
        words=Said("mend-clicks"),
        said=Said("clicks-mended"),
        button="De-click",
        does=Said("mend-clicks-ticks"),
        key="L",
        gives_way=(DECLICK,),
        acts=lambda piece, mark, here: replace(piece, mends=(*piece.mends, DECLICK)),
    ),
    MarkKind(
        name=FADE_IN,
        words=Said("fade-in"),
        said="fade in",
        button=Said("fade-in"),
        does=Said("fade-over"),
        key="f",
        gives_way=(FADE_IN, FADE_OUT),
        whole=True,
        drawn="rise",
        acts=_faded("in"),
    ),
    MarkKind(
        name=FADE_OUT,
        words=Said("fade-out-label"),
        said="fade out",
        button=Said("fade-out-label"),
        does=Said("fade-out-over"),
        key="d",
        gives_way=(FADE_IN, FADE_OUT),
        whole=True,
        drawn="fall",
        acts=_faded("out"),
    ),
    MarkKind(name=POINT, words=Said("mark"), said="mark", heard=False, drawn="flag"),
):
    register(_kind)
