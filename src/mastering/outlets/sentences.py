"""What a plan says of what it does."""

from mastering.clock import clock
from mastering.meters.decibels import db_of_amplitude
from mastering.outlets.levelplan import LevelPlan
from mastering.said import Said, together, word
from mastering.shaping.mends import MENDS


def heavy_limiting(limited_db: float) -> str:
    return Said("limiter-takes-up-db-off", limited_db=limited_db)


def lies_low(offset: float | None) -> str:
    """What is to be said of noise that lies below what is heard; `offset` is that of the zero line, if it is that."""
    if offset is None:
        return Said("most-rumble-below-what-heard")
    return Said("most-no-noise-zero-line", offset=100 * offset, db_of_amplitude=db_of_amplitude(offset))


def steps(plan: LevelPlan) -> list[tuple[str, str]]:
    """What a plan does, in the order it is done: (what it is called, what it does here)."""
    told: list[tuple[str, str]] = [(Said("to-mono"), plan.mono)] if plan.mono else []
    told += [(mend.title, mend.does) for name, mend in MENDS.items() if name in plan.mends]
    ends = [
        words
        for end, place in (("head", Said("before-first-word")), ("tail", Said("after-last-word")))
        for words in _end(getattr(plan.edges, f"cut_{end}_s"), getattr(plan.edges, f"tone_{end}_s"), place)
    ]
    if ends:
        told.append((Said("room-tone-label"), together(ends, "; ")))
    if plan.rumble_hz:
        told.append((Said("rumble-filter"), Said("nothing-below-hz", rumble_hz=plan.rumble_hz)))
    if plan.hush_db and plan.noise_s:
        start_s, end_s = plan.noise_s
        told.append(
            (
                Said("hush-label"),
                Said(
                    "steady-noise-db-lower-learned",
                    hush_db=plan.hush_db,
                    start_s=clock(start_s, 1),
                    end_s=clock(end_s, 1),
                ),
            )
        )
    if plan.ride_range_db:
        lowest, highest = plan.ride_range_db
        down = max(0.0, -lowest)
        told.append((Said("ride-label"), Said("quiet-speech-up-db-up", value=max(0.0, highest), down=down)))
    if plan.passages:
        each = [
            Said("from-db", kind=word(kind), start=clock(start, 1), end=clock(end, 1), db=db)
            for kind, start, end, db in plan.passages
        ]
        told.append((Said("passages"), together(each, "; ")))
    else:
        told.append(
            (
                Said("gain-label"),
                Said("db-same-set" if plan.fixed_gain else "db-of-gain", gain_db=plan.gain_db),
            )
        )
    if plan.balance:
        told.append((Said("speech-beside-music"), plan.balance))
    return told + _limiter(plan)


def _limiter(plan: LevelPlan) -> list[tuple[str, str]]:
    if plan.ceiling_dbtp is None:
        return []
    work = Said("takes-up-db-off-peaks", limited_db=plan.limited_db) if plan.limited_db >= 0.05 else Said("nothing-do")
    return [(Said("limiter"), Said("ceiling-dbtp", ceiling_dbtp=plan.ceiling_dbtp, work=work))]


def _end(cut_s: float, tone_s: float, place: str) -> list[str]:
    told: list[str] = [Said("s-quiet-taken-away", cut_s=cut_s, place=place)] if cut_s else []
    return told + ([Said("s-put", tone_s=tone_s, place=place)] if tone_s else [])
