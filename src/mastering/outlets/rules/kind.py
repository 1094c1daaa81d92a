"""What a kind of rule is: one entry that owns all there is to know of it."""

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field

from mastering.audio.encodings import Encoding
from mastering.audio.facts import FileFacts
from mastering.clock import clock
from mastering.meters.envelope import Envelope
from mastering.meters.meter import Levels
from mastering.outlets.demands import Demand, Named, Range
from mastering.outlets.findings import Finding
from mastering.said import Said, figured
from mastering.shaping.edges import Edges
from mastering.shaping.rehearsal import Rehearsed
from mastering.tagging.artwork import ArtworkFacts, BadArtwork, inspect
from mastering.tagging.carried import Carried

FORMAT, BITRATE, LEVELS, SIZE, DELIVERY, TAGGING, PICTURES = GROUPS = (
    Said("format"),
    Said("bitrate"),
    Said("levels"),
    Said("length-size"),
    Said("files-delivery"),
    Said("tags"),
    Said("artwork-chapters"),
)
CHOICE, NUMBER, RANGE, PATTERN, LIST = "choice", "number", "range", "pattern", "list"
"""How a demand is written."""
OF_SOUND, BESIDE_SOUND, OF_DELIVERY, OF_MAKING = "sound", "beside sound", "delivery", "making"
"""What a rule speaks of: a file, or what stands in it beside its sound; all files of a delivery together; how files are
made and where they go, which nothing in a file can be held against."""
ASKED, LEFT_OUT = "there", "left out"
UNTOLD = Said("not-told-file")
"""What a format has no place to say."""
Figure = str | float | None
_UNITS_APART = {"LUFS": "LU", "dBFS": "dB", "dBTP": "dB"}
"""The unit of a difference between two levels."""


@dataclass(frozen=True)
class Advice:
    """What to do when a figure is too low, too high, or simply another; `none` is what to know where there is none and
    that passes. `terminal` says instead what mends it there, `terminal_too_low` where it is too low.
    """

    too_low: str = ""
    too_high: str = ""
    other: str = ""
    none: str = ""
    terminal: str = ""
    terminal_too_low: str = ""


@dataclass(frozen=True, kw_only=True)
class Examined:
    """One finished file as it was found.

    `texts` holds what rules about texts expect of this very file, by rule; `asked` all that is asked of it, `endings`
    gives what files of its outlet end in. Without `levels` only rules about what stands beside the sound can be held.
    """

    facts: FileFacts
    carried: Carried
    levels: Levels | None = None
    name: str = ""
    texts: Mapping[str, str] | None = None
    asked: Mapping[str, Demand] = field(default_factory=dict)
    endings: Callable[[], Collection[str]] = tuple
    artwork: ArtworkFacts | None = field(init=False, default=None)

    def __post_init__(self) -> None:
        if self.carried.picture:
            try:
                object.__setattr__(self, "artwork", inspect(self.carried.picture))
            except BadArtwork:
                # What is no picture counts as none.
                return


@dataclass(frozen=True, kw_only=True)
class Delivered:
    """One file of a delivery, as far as rules about all of them want to know it."""

    name: str
    channels: int
    size_bytes: int
    role: str = ""


@dataclass(frozen=True, kw_only=True)
class Foreseen:
    """A section as it will be once a plan is carried out.

    `figures` are those after its treatment and before gain and limiter, `envelope` the same, without its edges;
    `ceiling_dbtp` is infinite where nothing is limited.
    """

    levels: Levels
    envelope: Envelope
    figures: Mapping[str, float | None]
    edges: Edges
    gain_db: float
    ceiling_dbtp: float
    rehearsed: Rehearsed


@dataclass(frozen=True, kw_only=True)
class Missed:
    """A rule that a plan misses, with what a sentence about it may tell.

    `unmet` says by how much each rule is missed, `demands` what is asked. `most_hush_db` is how far hush can go, None
    where there is no pause to learn the noise from; `low` what is to be said of noise that lies below what is heard,
    `ride` what ride would do, `together` whether the gain is a set's.
    """

    kind: "RuleKind"
    figure: float
    demand: Range
    by: float
    unmet: Mapping[str, float]
    demands: Mapping[str, Demand]
    gain_db: float
    hush_db: float
    most_hush_db: float | None
    ridden: bool
    ride: str
    together: bool
    low: str


@dataclass(frozen=True, kw_only=True)
class Asked:
    """One demand of one rule."""

    kind: "RuleKind"
    demand: Demand
    source: str


@dataclass(frozen=True, kw_only=True)
class RuleKind:
    """One kind of rule.

    `takes` is how a demand of it is written, `choices` what it may name, `least` and `most` what its numbers may be;
    `hint` tells somebody who writes a rule what it means, `unit` and `digits` how a figure is written.
    """

    name: str
    label: str
    group: str
    advice: Advice = Advice()
    unit: str = ""
    digits: int = 1
    takes: str = RANGE
    choices: Collection[str] = ()
    least: float = -200.0
    most: float = 1e9
    hint: str = ""
    scope: str = OF_SOUND
    same_for_all: bool = False
    """Whether it cannot differ between mono and stereo, speech and music."""
    wanted: bool = False
    """Whether every outlet has to state it."""
    is_length: bool = False
    """Whether it is how long something lasts, to be shown as h:mm:ss."""
    close: float = 0.0
    """A figure that passes by less than this is passed with a remark."""
    slack: float = 0.005
    """By so much a figure may lie beyond what is asked, as it is measured no finer than it is shown."""
    makes_another: bool = True
    """Whether a file that was made under another demand is another; else what comes of it is compared."""
    wants_whole: bool = False
    """Whether it can only be held against a delivery that has all of its files."""
    helped_by_ride: bool = False
    told_always: bool = False
    """Whether a plan predicts it even where it is not asked."""
    unknown: Callable[..., str] = lambda **told: Said("rule-cannot-be", **told)
    """Said of a value that is not among the choices."""

    said: Callable[[Demand], str] | None = None
    """How a demand is written out, where its values do not say enough."""
    measured: Callable[[Levels], float | None] | None = None
    """What was measured of a sound, for rules about levels."""
    figure: Callable[[Examined], Figure] | None = None
    """What a finished file has; what was measured of it, where that is not given."""
    together: Callable[[Demand, Sequence[Delivered], Collection[str]], Figure] | None = None
    """What all files of a delivery have, with the names of those beside them, in the words of the demand where it is
    met."""
    held: Callable[[Asked, Examined], Finding] | None = None
    """Holds it against a file, where that is more than comparing a figure."""
    alike: Callable[[Figure, "Named"], bool] | None = None
    """Whether a figure is one of the values named, where other words may mean it too."""
    advises: Callable[[Examined], str] | None = None
    """What mends this very file where more is known of it than whether the figure is too high; else nothing."""
    predicts: Callable[[Foreseen], float | None] | None = None
    """What a plan will come to."""
    collides: Callable[[Missed], str] | None = None
    """What is to be said where a plan misses it; None where that is told elsewhere."""
    contradicts: Callable[[Mapping[str, Demand], Encoding], str] | None = None
    """What is asked besides that no file can meet at the same time, said; empty where all can be met."""
    refuses: Callable[[Mapping[str | None, Demand]], str] | None = None
    """What is wrong with its demands themselves, said."""
    foretells: Callable[[Range, Sequence[float]], str] | None = None
    """What is to be said before files of at least these sizes, MB, are made; empty where they fit."""

    @property
    def unit_apart(self) -> str:
        """The unit of a difference between two figures."""
        return _UNITS_APART.get(self.unit, self.unit)

    def figure_words(self, figure: float) -> str:
        """Write a figure out: "-22.5 dBFS", "1:59:41"."""
        if self.is_length:
            return clock(figure)
        # Adding zero takes the sign off a minus nought.
        return figured(f"{round(figure, self.digits) + 0.0:.{self.digits}f} {self.unit}".strip())

    def apart_words(self, by: float) -> str:
        """Write out how far two figures lie apart."""
        if self.is_length and by >= 1:
            return clock(by)
        return figured(f"{by:.{max(self.digits, 1)}f} {self.unit_apart}")

    def words(self, demand: Demand) -> str:
        """Write a demand out, with its unit: "-19 ±1 LUFS", "at most -3 dBFS", "0.5 to 1 s"."""
        if self.is_length and isinstance(demand, Range):
            return demand.words(written=clock)
        return self.said(demand) if self.said else demand.words(self.unit)

    @property
    def takes_words(self) -> str:
        """How a demand of it is written, for the documentation."""
        names = ", ".join(f"`{choice}`" for choice in self.choices)
        unit = f", {self.unit}" if self.unit else ""
        return {
            CHOICE: Said("one", names=names),
            LIST: Said("list", names=names),
            PATTERN: Said("pattern"),
            NUMBER: Said("number-several-range", unit=unit),
            RANGE: Said("range-aim", unit=unit),
        }[self.takes]

    def found(self, examined: Examined) -> Figure:
        """What a finished file has of it."""
        if self.figure:
            return self.figure(examined)
        return self.measured(examined.levels) if self.measured and examined.levels else None
