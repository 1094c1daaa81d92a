"""The level plan: what will be done to a section, what should come of it, and what cannot be had."""

from dataclasses import dataclass, field
from typing import Any

from mastering.meters.envelope import Envelope
from mastering.shaping.chain import Chain
from mastering.shaping.edges import Edges
from mastering.shaping.ride import ride_curve


@dataclass(frozen=True, kw_only=True)
class LevelPlan:
    """What will be done to a section, what should come of it, and what cannot be had.

    `ceiling_dbtp` is None where no limiter is wanted; `highest_gain_db` is what corrections must not exceed, and
    `fixed_gain` whether the gain is a set's, which nothing may change; `source_peak_dbtp` is the section's true peak
    before any gain. `ride_range_db` are the lowest and highest gain of the ride, None where there is none. Times are
    seconds of the section as it is. `predicted` holds figures by the names of their rules, `unmet` by how much rules
    are missed; `collisions` say so in sentences, each with its reason and a way out, and `collided` names their rules,
    empty for what is no rule's; `mono` tells how mono is made of two sides, where it is; `mends` are the names of what
    is mended; `passages` are those with a gain of their own: (kind, start and end in seconds, gain in dB); `remarks`
    are what a listener might want to know; `balance` how loud speech and music will be, where both are in it, and
    `uneven` what a listener would mind about that.
    """

    gain_db: float
    ceiling_dbtp: float | None
    highest_gain_db: float
    source_peak_dbtp: float
    fixed_gain: bool = False
    mono: str = ""
    mends: tuple[str, ...] = ()
    passages: tuple[tuple[str, float, float, float], ...] = ()
    rumble_hz: float = 0.0
    hush_db: float = 0.0
    noise_s: tuple[float, float] | None = None
    ride_range_db: tuple[float, float] | None = None
    edges: Edges = Edges()
    quiet_s: tuple[float, float] | None = None
    limited_db: float = 0.0
    predicted: dict[str, float] = field(default_factory=dict)
    unmet: dict[str, float] = field(default_factory=dict)
    collisions: tuple[str, ...] = ()
    collided: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()
    balance: str = ""
    uneven: str = ""

    @classmethod
    def from_dict(cls, values: dict[str, Any]) -> "LevelPlan":
        """Read what `dataclasses.asdict` wrote, perhaps by way of JSON."""
        kept: dict[str, Any] = {
            name: tuple(value) if isinstance(value, list) else value for name, value in values.items()
        }
        kept["passages"] = tuple(tuple(passage) for passage in values.get("passages", ()))
        kept["edges"] = Edges(**values["edges"])
        return cls(**kept)

    def chain(self, envelope: Envelope) -> Chain:
        """All it takes to carry the plan out; `envelope` is the one it was made from."""
        return Chain(
            edges=self.edges,
            quiet_s=self.quiet_s,
            rumble_hz=self.rumble_hz,
            hush_db=self.hush_db,
            noise_s=self.noise_s,
            ride_db=None if self.ride_range_db is None else ride_curve(envelope),
        )
