"""The level plan: gain and ceiling that make a section meet an outlet's level rules, or why nothing can."""

from dataclasses import dataclass, field, replace

from mastering.errors import CannotMake
from mastering.meters.meter import Levels
from mastering.outlets.rules import LOUDNESS_RULES, PEAK_RULES, RULE_KINDS, Demand
from mastering.shaping.rehearsal import Rehearsed, rehearse

_PCM_MARGIN_DB = 0.1
_LOSSY_MARGIN_DB = 0.6
"""Encoding moves peaks; this much room lets most files pass at the first attempt (measured on speech at
128 kbit/s, where the decoded peak rises by 0.1 to 0.5 dB)."""
_INSIDE_DB = 0.5
"""How far inside the edge of a range a level is put: encoding moves it by hundredths."""
_HEAVY_LIMITING_DB = 6.0
_MOST_MADE_UP_DB = 3.0
"""How much loudness taken by the limiter is made up for with more gain. Beyond that it works on the voice itself,
not on stray peaks, and every further decibel of gain only flattens it."""


@dataclass(frozen=True, kw_only=True)
class LevelPlan:
    """What will be done to the level, what should come of it, and what cannot be had.

    `ceiling_dbtp` is None where no limiter is wanted; `highest_gain_db` is what corrections must not exceed;
    `source_peak_dbtp` is the section's true peak before any gain. `collisions` are rules this plan cannot meet, each
    with its reason; `remarks` are what a listener might want to know.
    """

    gain_db: float
    ceiling_dbtp: float | None
    highest_gain_db: float
    source_peak_dbtp: float
    predicted: dict[str, float] = field(default_factory=dict)
    collisions: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()


def plan_levels(levels: Levels, demands: dict[str, Demand], *, lossy: bool) -> LevelPlan:
    """Find the gentlest gain and ceiling that meet all level rules together.

    Parameters
    ----------
    levels
        Measured on the section in the outlet's number of channels.
    demands
        The outlet's demands by rule name, for that number of channels and the section's content.
    lossy
        Whether the encoder will move the peaks.

    Raises
    ------
    CannotMake
        When the section is silent throughout or too short to have a loudness.
    """
    if levels.silent:
        raise CannotMake("This recording is silent throughout: there is nothing to bring to a level.")
    ceiling = _ceiling(demands, margin_db=_LOSSY_MARGIN_DB if lossy else _PCM_MARGIN_DB)
    highest_gain_db = _needed_gain_db(levels, demands) + _MOST_MADE_UP_DB
    gain_db, rehearsed = _gain(levels, demands, ceiling, highest_gain_db)
    predicted = {
        "integrated_lufs": rehearsed.integrated_lufs,
        "rms_dbfs": rehearsed.rms_dbfs,
        "noise_floor_dbfs": _plus(levels.noise_floor_dbfs, gain_db),
        "true_peak_dbtp": min(levels.true_peak_dbtp + gain_db, ceiling if ceiling is not None else 99.0),
    }
    return LevelPlan(
        gain_db=gain_db,
        ceiling_dbtp=ceiling,
        highest_gain_db=highest_gain_db,
        source_peak_dbtp=levels.true_peak_dbtp,
        predicted={name: round(value, 2) for name, value in predicted.items() if value is not None},
        collisions=_collisions(predicted, demands, gain_db),
        remarks=_remarks(rehearsed),
    )


def corrected(plan: LevelPlan, found: Levels, demands: dict[str, Demand]) -> LevelPlan | None:
    """Change the plan by what the finished file missed; None when gain and ceiling can do no better."""
    gain_db, ceiling = plan.gain_db, plan.ceiling_dbtp
    for name in (*LOUDNESS_RULES, *PEAK_RULES):
        demand, figure = demands.get(name), getattr(found, name)
        if demand is None or figure is None or meets(figure, demand):
            continue
        if name in PEAK_RULES and demand.target is None:
            # Encoding raised it from here, whether or not the limiter had to act.
            encoded_from = plan.source_peak_dbtp + plan.gain_db
            ceiling = (
                (encoded_from if ceiling is None else min(ceiling, encoded_from))
                - (figure - demand.high)
                - _PCM_MARGIN_DB
            )
        else:
            gain_db = min(gain_db + _aim(figure, demand) - figure, plan.highest_gain_db)
    if (gain_db, ceiling) == (plan.gain_db, plan.ceiling_dbtp):
        return None
    return replace(plan, gain_db=gain_db, ceiling_dbtp=ceiling)


def meets(figure: float, demand: Demand) -> bool:
    """Whether a figure lies in the range, to half of the last place shown."""
    slack = 0.005
    return (demand.low is None or figure >= demand.low - slack) and (
        demand.high is None or figure <= demand.high + slack
    )


def _ceiling(demands: dict[str, Demand], *, margin_db: float) -> float | None:
    highs = [demands[name].high for name in PEAK_RULES if name in demands and demands[name].target is None]
    return min(highs) - margin_db if highs else None


def _needed_gain_db(levels: Levels, demands: dict[str, Demand]) -> float:
    """The gain that would meet the outlet's aim if nothing were limited."""
    for name in (*PEAK_RULES, *LOUDNESS_RULES):
        demand = demands.get(name)
        if demand is None or (name in PEAK_RULES and demand.target is None):
            continue
        measured = getattr(levels, name)
        if measured is None:
            raise CannotMake(
                "This recording is too short or too quiet to have a loudness (it takes at least 0.4 s above "
                "-70 LUFS), and this outlet asks for one."
            )
        return _aim(measured, demand) - measured
    return 0.0


def _gain(
    levels: Levels, demands: dict[str, Demand], ceiling: float | None, highest_gain_db: float
) -> tuple[float, Rehearsed]:
    """The gain that meets the aim with the limiter at work, as far as that can be had."""
    gain_db = _needed_gain_db(levels, demands)
    rehearsed = rehearse(levels.envelope, gain_db=gain_db, ceiling_dbtp=ceiling)
    name = next((name for name in LOUDNESS_RULES if name in demands), None)
    if name is None:
        return gain_db, rehearsed
    aim = _aim(getattr(levels, name), demands[name])
    # A few rounds of putting on again what the limiter takes settle within hundredths.
    for _ in range(6):
        wanted_db = min(gain_db + aim - getattr(rehearsed, name), highest_gain_db)
        if abs(wanted_db - gain_db) < 0.02:
            break
        gain_db = wanted_db
        rehearsed = rehearse(levels.envelope, gain_db=gain_db, ceiling_dbtp=ceiling)
    return gain_db, rehearsed


def _aim(measured: float, demand: Demand) -> float:
    """The target, or the nearest point comfortably inside the range: leave alone what is already there."""
    if demand.target is not None:
        return demand.target
    low, high = demand.low, demand.high
    inside = _INSIDE_DB if low is None or high is None else min(_INSIDE_DB, (high - low) / 4)
    if low is not None and measured < low + inside:
        return low + inside
    if high is not None and measured > high - inside:
        return high - inside
    return measured


def _collisions(predicted: dict, demands: dict[str, Demand], gain_db: float) -> tuple[str, ...]:
    found = []
    noise, asked = predicted["noise_floor_dbfs"], demands.get("noise_floor_dbfs")
    if noise is not None and asked and not meets(noise, asked):
        change = f"the {gain_db:.1f} dB this take needs" if gain_db > 0 else "levelling"
        found.append(
            f"After {change}, its noise floor is at {noise:.1f} dBFS; the outlet allows {asked.high:g}. "
            f"The room would have to be {noise - asked.high:.1f} dB quieter."
        )
    for name in LOUDNESS_RULES:
        asked, figure = demands.get(name), predicted[name]
        if asked and figure is not None and not meets(figure, asked):
            kind = RULE_KINDS[name]
            found.append(
                f"Under the peak ceiling this take reaches {figure:.1f} {kind.unit}; the outlet asks for "
                f"{asked.low:g} or more. Taking out its sharpest knocks would make room."
            )
    return tuple(found)


def _remarks(rehearsed: Rehearsed) -> tuple[str, ...]:
    if rehearsed.limited_db < _HEAVY_LIMITING_DB:
        return ()
    return (
        f"The limiter takes up to {rehearsed.limited_db:.1f} dB off the loudest moments. Listen to them; a knock "
        "or a shout taken out of the recording would leave the voice untouched.",
    )


def _plus(level: float | None, gain_db: float) -> float | None:
    return None if level is None else level + gain_db
