"""What a plan says: which rules collide, by how much, and what would resolve it."""

from mastering.meters.decibels import db_of_amplitude
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.rules import LOUDNESS_RULES, PEAK_RULES, RULE_KINDS, Demand, meets

HELPED_BY_RIDE = frozenset({*LOUDNESS_RULES, "loudness_range_lu", "consistency_lu"})
_EDGES = ("head_s", "tail_s")


def miss(figure: float | None, demand: Demand) -> float:
    """By how much a figure misses what is asked; 0 where it does not, or where nothing can be said."""
    if figure is None or isinstance(figure, str) or demand.exactly is not None or meets(figure, demand):
        return 0.0
    return demand.low - figure if demand.low is not None and figure < demand.low else figure - demand.high


def collisions(
    unmet: dict[str, float],
    figures: dict[str, float | None],
    demands: dict[str, Demand],
    *,
    gain_db: float,
    hush_db: float,
    most_hush_db: float | None,
    ridden: bool,
    advice: dict[str, str],
    together: bool,
    low: str,
) -> tuple[tuple[str, str], ...]:
    """The name of each rule that is missed, with a sentence; head and tail are told of elsewhere.

    `most_hush_db` is how far hush can go, None where there is no pause to learn the noise from; `low` is what is to be
    said of noise that lies below what is heard.
    """
    found = []
    for name, by in unmet.items():
        figure, demand = figures[name], demands[name]
        if name in _EDGES:
            continue
        if name == "noise_floor_dbfs":
            found.append((name, _noise(figure, demand, by, gain_db, hush_db, most_hush_db, low)))
        elif name == "loudness_range_lu":
            found.append((name, _range(figure, demand, ridden, advice)))
        elif name in PEAK_RULES:
            found.append((name, _peak(name, figure, demand, together)))
        else:
            found.append((name, _loudness(name, figure, demand, by, unmet, demands, advice, together)))
    return tuple(found)


def ride_would(unmet: dict[str, float]) -> str:
    """What ride would do for the rules it helps with."""
    if not unmet.keys() & HELPED_BY_RIDE:
        return "Ride would do: it evens out the voice."
    return "Ride would help, but not be enough."


def heavy_limiting(limited_db: float) -> str:
    return (
        f"The limiter takes up to {limited_db:.1f} dB off the loudest moments. Listen to them; a knock "
        "or a shout taken out of the recording would leave the voice untouched."
    )


def lies_low(offset: float | None) -> str:
    """What is to be said of noise that lies below what is heard; `offset` is that of the zero line, if it is that."""
    if offset is None:
        return "Most of it is rumble, below what is heard: the rumble filter takes that away."
    return (
        f"Most of it is no noise: the zero line is off by {100 * offset:.1f} % of full scale, which alone reads "
        f"{db_of_amplitude(offset):.0f} dBFS. The rumble filter takes that away."
    )


def _noise(
    figure: float, demand: Demand, by: float, gain_db: float, hush_db: float, most_hush_db: float | None, low: str
) -> str:
    if most_hush_db is None:
        return (
            f"Its quietest half second comes to {figure:.1f} dBFS and holds speech, so it has no noise floor to show; "
            f"the outlet allows {demand.high:g}. Leave half a second of pause somewhere, or put some of the silent "
            "room there."
        )
    change = f"the {gain_db:.1f} dB this take needs" if gain_db > 0 else "levelling"
    hushed = f" and {hush_db:.0f} dB of hush" if hush_db else ""
    told = f"After {change}{hushed}, its noise floor is at {figure:.1f} dBFS; the outlet allows {demand.high:g}."
    if low:
        return f"{told} {low}"
    wanted_db = int(hush_db + by) + 1
    if wanted_db <= most_hush_db:
        return f"{told} Hush of {wanted_db} dB or a quieter room would do."
    return f"{told} That is {by:.1f} dB too much, more than hush can take: the room has to be quieter."


def _range(figure: float, demand: Demand, ridden: bool, advice: dict[str, str]) -> str:
    after = " even after the ride" if ridden else ""
    way = advice.get("ride", "Ride does not bring it closer: raise the quiet passages by hand, on the page.")
    return f"Its loudness range is {figure:.1f} LU{after}; the outlet allows {demand.high:g}. {way}"


def _peak(name: str, figure: float, demand: Demand, together: bool) -> str:
    kind = RULE_KINDS[name]
    return (
        f"Its {kind.label.lower()} comes to {figure:.1f} {kind.unit}; the outlet asks for {demand.low:g} to "
        f"{demand.high:g}. " + (_ALONE if together else "The outlet’s other level rules leave no room for it.")
    )


_ALONE = "It has one gain with the rest of its set; levelled by itself it would do."


def _loudness(
    name: str,
    figure: float,
    demand: Demand,
    by: float,
    unmet: dict[str, float],
    demands: dict[str, Demand],
    advice: dict[str, str],
    together: bool,
) -> str:
    kind = RULE_KINDS[name]
    unit = "LUFS" if name == "consistency_lu" else kind.unit
    if name == "consistency_lu":
        middle = (demand.low + demand.high) / 2
        told = (
            f"It reaches {figure:.1f} LUFS, {abs(figure - middle):.1f} LU from the middle of this delivery; the outlet "
            f"allows {(demand.high - demand.low) / 2:g}."
        )
    elif figure > (demand.high if demand.high is not None else figure):
        told = f"It comes to {figure:.1f} {unit}; the outlet asks for {demand.high:g} or less, {by:.1f} less than that."
    else:
        told = (
            f"Under the peak ceiling this take reaches {figure:.1f} {unit}; the outlet asks for {demand.low:g} or "
            f"more, {by:.1f} more than that."
        )
    if together:
        return f"{told} {_ALONE}"
    others = [other for other in demands if other in (*LOUDNESS_RULES, *PEAK_RULES) and other not in unmet]
    rivals = [RULE_KINDS[o].label.lower() for o in others if demands[o].target is not None or o in LOUDNESS_RULES]
    if rivals and name != "consistency_lu":
        return f"{told} What it asks for {' and '.join(rivals)} stands against it: one of the two has to give."
    return f"{told} {advice.get('ride', 'Taking out its sharpest knocks would make room.')}"


def steps(plan: LevelPlan) -> list[tuple[str, str]]:
    """What a plan does, in the order it is done: (what it is called, what it does here)."""
    told = [("To mono", plan.mono)] if plan.mono else []
    ends = [
        words
        for end, place in (("head", "before the first word"), ("tail", "after the last word"))
        for words in _end(getattr(plan.edges, f"cut_{end}_s"), getattr(plan.edges, f"tone_{end}_s"), place)
    ]
    if ends:
        told.append(("Room tone", "; ".join(ends)))
    if plan.rumble_hz:
        told.append(("Rumble filter", f"nothing below {plan.rumble_hz:g} Hz"))
    if plan.hush_db:
        start_s, end_s = plan.noise_s
        told.append(
            ("Hush", f"steady noise {plan.hush_db:.1f} dB lower, learned from {clock(start_s)} to {clock(end_s)}")
        )
    if plan.ride_range_db:
        lowest, highest = plan.ride_range_db
        down = max(0.0, -lowest)
        told.append(("Ride", f"quiet speech up to {max(0.0, highest):.1f} dB up, loud speech up to {down:.1f} dB down"))
    if plan.passages:
        each = [f"{kind} from {clock(start)} to {clock(end)} {db:+.1f} dB" for kind, start, end, db in plan.passages]
        told.append(("Passages", "; ".join(each)))
        return told + _limiter(plan)
    told.append(("Gain", f"{plan.gain_db:+.1f} dB" + (", the same for all of its set" if plan.fixed_gain else "")))
    return told + _limiter(plan)


def _limiter(plan: LevelPlan) -> list[tuple[str, str]]:
    if plan.ceiling_dbtp is None:
        return []
    work = f"takes up to {plan.limited_db:.1f} dB off peaks" if plan.limited_db >= 0.05 else "has nothing to do"
    return [("Limiter", f"ceiling {plan.ceiling_dbtp:.1f} dBTP, {work}")]


def clock(seconds: float) -> str:
    """m:ss.t, where a plan names a place."""
    minutes, rest = divmod(round(seconds, 1), 60)
    return f"{int(minutes)}:{rest:04.1f}"


def _end(cut_s: float, tone_s: float, place: str) -> list[str]:
    told = [f"{cut_s:.2f} s of quiet taken away {place}"] if cut_s else []
    return told + ([f"{tone_s:.2f} s put {place}"] if tone_s else [])
