"""How a section is shaped before it is levelled, as its maker wishes; what is done in the end is the plan's to say."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass, fields
from typing import Any

from mastering.errors import MasteringError
from mastering.meters.sides import BY_ITSELF, WAYS
from mastering.said import Said
from mastering.shaping.mends import MENDS

NEVER, NEEDED, ALWAYS = "never", "if needed", "always"
CHOICES = (NEVER, NEEDED, ALWAYS)
RUMBLE_HZ = 70.0
LOWEST_RUMBLE_HZ, HIGHEST_RUMBLE_HZ = 20.0, 120.0
MOST_HUSH_DB = 18.0
SHORTEST_NOISE_S, LONGEST_NOISE_S = 0.1, 30.0


class BadTreatment(MasteringError):
    """A treatment that cannot be given."""


@dataclass(frozen=True, kw_only=True)
class Treatment:
    """What may be done to a section.

    Attributes
    ----------
    mono
        How mono is made of two sides, where an outlet wants mono: one of `mastering.meters.sides.WAYS`.
    rumble_hz, rumble
        Below this the rumble filter takes everything away; 0 for no filter. Always, or only where the outlet's noise
        floor asks for it.
    hush, hush_db
        Whether steady noise is lowered: never, where the outlet's noise floor asks for it, or always; and by how much
        at the most, dB. "Always" takes all of it.
    noise_s
        Start and end of the stretch the noise is learned from, seconds; None for the quietest.
    ride
        Whether slow changes of the voice's level are evened out: never, where the outlet's rules ask for it, or always.
    room_tone
        Whether head and tail are brought into the outlet's range.
    mends
        What is mended in all of it: names of `mastering.shaping.mends.MENDS`.
    together
        Whether it has one gain with all the other sections that say so.
    """

    mono: str = BY_ITSELF
    rumble_hz: float = 0.0
    rumble: str = ALWAYS
    hush: str = NEVER
    hush_db: float = 10.0
    noise_s: tuple[float, float] | None = None
    ride: str = NEVER
    room_tone: bool = True
    mends: tuple[str, ...] = ()
    together: bool = False

    def __post_init__(self) -> None:
        if self.hush not in CHOICES or self.ride not in CHOICES:
            raise BadTreatment(Said("hush-ride-done", choices=", ".join(CHOICES[:-1]), always=ALWAYS))
        if unknown := set(self.mends) - set(MENDS):
            raise BadTreatment(Said("nothing-mended", unknown=", ".join(sorted(unknown))))
        if self.mono not in WAYS:
            raise BadTreatment(Said("mono-made", ways=", ".join(WAYS)))
        if self.rumble not in (NEEDED, ALWAYS):
            raise BadTreatment(Said("rumble-filter-off-0-hz", needed=NEEDED, always=ALWAYS))
        if self.rumble_hz and not LOWEST_RUMBLE_HZ <= self.rumble_hz <= HIGHEST_RUMBLE_HZ:
            raise BadTreatment(
                Said(
                    "rumble-filter-begins-between-hz",
                    lowest_rumble_hz=LOWEST_RUMBLE_HZ,
                    highest_rumble_hz=HIGHEST_RUMBLE_HZ,
                )
            )
        if not 1 <= self.hush_db <= MOST_HUSH_DB:
            raise BadTreatment(Said("hush-lowers-noise-1-db-more", most_hush_db=MOST_HUSH_DB))
        if self.noise_s is not None:
            start_s, end_s = self.noise_s
            if start_s < 0 or not SHORTEST_NOISE_S <= end_s - start_s <= LONGEST_NOISE_S:
                raise BadTreatment(
                    Said(
                        "noise-learned-from-s-hold", shortest_noise_s=SHORTEST_NOISE_S, longest_noise_s=LONGEST_NOISE_S
                    )
                )

    @property
    def measured_hz(self) -> float:
        """The rumble filter that levels are measured through: the one that is on whatever they are."""
        return self.rumble_hz if self.rumble == ALWAYS else 0.0

    @property
    def needs_both(self) -> bool:
        """Whether levels with and without the rumble filter are wanted."""
        return bool(self.rumble_hz) and self.rumble == NEEDED

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON; what is left at its default is left out."""
        kept = {name: value for name, value in asdict(self).items() if value != getattr(AS_IT_IS, name)}
        return kept | ({"mends": list(self.mends)} if self.mends else {})


AS_IT_IS = Treatment()


def treatment_of(values: Mapping[str, Any]) -> Treatment:
    """Read what `as_dict` wrote, or the same from a form. Raises BadTreatment."""
    known = {field.name for field in fields(Treatment)}
    if unknown := set(values) - known:
        raise BadTreatment(Said("there-no-treatment-called", unknown=", ".join(sorted(unknown))))
    kept = dict(values)
    try:
        for name in ("rumble_hz", "hush_db"):
            if name in kept:
                kept[name] = float(kept[name])
        if kept.get("noise_s") is not None:
            start_s, end_s = kept["noise_s"]
            kept["noise_s"] = (float(start_s), float(end_s))
        kept["mends"] = tuple(kept.get("mends", ()))
    except (TypeError, ValueError) as error:
        raise BadTreatment(Said("number-treatment-cannot-read")) from error
    return Treatment(**kept)
