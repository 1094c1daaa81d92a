"""What a plan says of what it does."""

from mastering.clock import clock
from mastering.meters.decibels import db_of_amplitude
from mastering.outlets.levelplan import LevelPlan
from mastering.shaping.mends import MENDS


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


def steps(plan: LevelPlan) -> list[tuple[str, str]]:
    """What a plan does, in the order it is done: (what it is called, what it does here)."""
    told = [("To mono", plan.mono)] if plan.mono else []
    told += [(mend.title, mend.does) for name, mend in MENDS.items() if name in plan.mends]
    ends = [
        words
        for end, place in (("head", "before the first word"), ("tail", "after the last word"))
        for words in _end(getattr(plan.edges, f"cut_{end}_s"), getattr(plan.edges, f"tone_{end}_s"), place)
    ]
    if ends:
        told.append(("Room tone", "; ".join(ends)))
    if plan.rumble_hz:
        told.append(("Rumble filter", f"nothing below {plan.rumble_hz:g} Hz"))
    if plan.hush_db and plan.noise_s:
        start_s, end_s = plan.noise_s
        told.append(
            ("Hush", f"steady noise {plan.hush_db:.1f} dB lower, learned from {clock(start_s, 1)} to {clock(end_s, 1)}")
        )
    if plan.ride_range_db:
        lowest, highest = plan.ride_range_db
        down = max(0.0, -lowest)
        told.append(("Ride", f"quiet speech up to {max(0.0, highest):.1f} dB up, loud speech up to {down:.1f} dB down"))
    if plan.passages:
        each = [
            f"{kind} from {clock(start, 1)} to {clock(end, 1)} {db:+.1f} dB" for kind, start, end, db in plan.passages
        ]
        told.append(("Passages", "; ".join(each)))
    else:
        told.append(("Gain", f"{plan.gain_db:+.1f} dB" + (", the same for all of its set" if plan.fixed_gain else "")))
    if plan.balance:
        told.append(("Speech beside music", plan.balance))
    return told + _limiter(plan)


def _limiter(plan: LevelPlan) -> list[tuple[str, str]]:
    if plan.ceiling_dbtp is None:
        return []
    work = f"takes up to {plan.limited_db:.1f} dB off peaks" if plan.limited_db >= 0.05 else "has nothing to do"
    return [("Limiter", f"ceiling {plan.ceiling_dbtp:.1f} dBTP, {work}")]


def _end(cut_s: float, tone_s: float, place: str) -> list[str]:
    told = [f"{cut_s:.2f} s of quiet taken away {place}"] if cut_s else []
    return told + ([f"{tone_s:.2f} s put {place}"] if tone_s else [])
