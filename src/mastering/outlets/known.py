"""What is known of the recordings a file is made from, and matters for it."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mastering.meters.remarks import MANY_CLICKS, MUCH_HUM_DBFS, said_of_flat_tops
from mastering.meters.sides import BY_ITSELF, LEFT, MOST_LOSS_DB, RIGHT, SUM, TURNED, Sides, sides_of

_SPEECH_ONLY_HZ = 16000
_TELEPHONE_HZ = 4250
_MUCH_DC = 0.003
_WORDS = {
    SUM: "the sum of both sides",
    LEFT: "the left side alone",
    RIGHT: "the right side alone",
    TURNED: "the sum of both sides, one of them turned upside down",
}


@dataclass(frozen=True)
class Known:
    """What matters of the recordings of one file.

    `folds` says how mono is made of each stereo recording, by its path; `mono` the same in words. `collisions` are what
    stands in the way, `remarks` what else is to be known.
    """

    folds: Mapping[Path, str] = field(default_factory=dict)
    mono: str = ""
    collisions: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()


NOTHING_KNOWN = Known()


def known_of(
    recordings: Mapping[Path, tuple[str, Mapping[str, Any]]],
    *,
    channels: int,
    wish: str = BY_ITSELF,
    mends: Collection[str] = (),
) -> Known:
    """What matters of some recordings for a file with so many channels.

    Parameters
    ----------
    recordings
        What each is called and what its slip keeps, by its path.
    wish
        How mono is to be made of two sides.
    mends
        What is mended of them: of that nothing needs to be said.
    """
    folds: dict[Path, str] = {}
    mono: dict[str, list[str]] = {}
    collisions: list[str] = []
    remarks: list[str] = []
    for path, (name, figures) in recordings.items():
        whose = f"{name}: " if len(recordings) > 1 else ""
        remarks += [whose + said for said in (*_of_any(figures), *_mendable(figures, mends))]
        if figures.get("channels") == 2 and figures.get("voices_apart_db") is not None:
            remarks.append(f"{whose}{_two_voices(figures['voices_apart_db'])}")
        sides = sides_of(figures)
        if sides is None:
            continue
        if channels > 1:
            remarks += [whose + said for said in _in_stereo(sides)]
            continue
        way = sides.by_itself() if wish == BY_ITSELF else wish
        folds[path] = way
        mono.setdefault(f"{_WORDS[way]}{_why(sides) if wish == BY_ITSELF else ''}", []).append(name)
        if round(sides.loss_db(way), 1) > MOST_LOSS_DB:
            collisions.append(f"{whose}{_lost(sides, way)}")
    told = [words if len(mono) == 1 else f"{words} ({', '.join(names)})" for words, names in mono.items()]
    return Known(folds, "; ".join(told), tuple(collisions), tuple(remarks))


def _of_any(figures: Mapping[str, Any]) -> list[str]:
    told = []
    if figures.get("lossy") or (figures.get("lossy") is None and figures.get("bit_depth") is None):
        told.append(
            f"The recording is itself {str(figures.get('codec', '')).upper()}, a lossy format: each further encoding "
            "loses quality. If there is a WAV of it, use that."
        )
    if runs := figures.get("clipped_runs"):
        places = "one place" if runs == 1 else f"{runs} places"
        told.append(f"The recording is clipped in {places}; the loudest words crackle, and gain cannot mend that.")
    elif flattened := figures.get("flattened"):
        told.append(said_of_flat_tops(flattened["count"], flattened["level"]))
    if (dc := figures.get("dc_offset") or 0.0) > _MUCH_DC:
        told.append(f"Its zero line is off by {100 * dc:.1f} % of full scale. The rumble filter takes that away.")
    rate_hz, edge_hz = figures.get("sample_rate_hz") or 0, figures.get("bandwidth_hz")
    if rate_hz and rate_hz <= _SPEECH_ONLY_HZ:
        told.append(f"It was recorded at {rate_hz} Hz and sounds like a telephone whatever is made of it.")
    elif edge_hz is not None:
        kind = (
            "came over a telephone" if edge_hz <= _TELEPHONE_HZ else "was a lossy file, or one of a lower rate, before"
        )
        told.append(f"Nothing lies above {edge_hz / 1000:g} kHz: it {kind}.")
    return told


def _mendable(figures: Mapping[str, Any], mends: Collection[str]) -> list[str]:
    told = []
    hum_dbfs, clicks = figures.get("hum_dbfs"), figures.get("clicks_per_min") or 0
    if hum_dbfs is not None and hum_dbfs > MUCH_HUM_DBFS and "de-hum" not in mends:
        told.append(f"It hums at {figures['hum_hz']} Hz with {hum_dbfs:.0f} dBFS. The hum filter takes that away.")
    if clicks >= MANY_CLICKS and (figures.get("speech_share") or 0) > 0 and "de-click" not in mends:
        told.append(f"It has about {clicks:.0f} clicks in a minute. De-click mends most of them.")
    return told


def _two_voices(apart_db: float) -> str:
    return (
        f"It holds two voices, one on each side, {abs(apart_db):.0f} dB apart. On its page they can be brought to the "
        "middle, at one level."
    )


def _in_stereo(sides: Sides) -> list[str]:
    if sides.dead:
        return [f"Its {sides.dead} side holds no sound: the file plays on one side only."]
    if sides.by_itself() == TURNED:
        return ["Its sides are of opposite polarity: whoever hears the file in mono loses the voice."]
    if sides.by_itself() in (LEFT, RIGHT):
        return [f"Its {sides.by_itself()} side is {abs(sides.difference_db):.0f} dB louder than the other."]
    return []


def _why(sides: Sides) -> str:
    way = sides.by_itself()
    if sides.dead:
        return f", as the {sides.dead} one holds no sound"
    if way == TURNED:
        return ", as they are of opposite polarity"
    return f", as it is {abs(sides.difference_db):.0f} dB louder" if way in (LEFT, RIGHT) else ""


def _lost(sides: Sides, way: str) -> str:
    loss_db = sides.loss_db(way)
    by = f"{loss_db:.1f} dB" if loss_db < 100 else "everything"
    better = sides.by_itself()
    if sides.dead and way in (LEFT, RIGHT):
        return f"The {way} side, which mono is made of, holds no sound. Take the {better} one."
    reason = (
        f"the {sides.dead} one holds no sound"
        if sides.dead
        else "they are of opposite polarity"
        if better == TURNED
        else f"one is {abs(sides.difference_db):.0f} dB louder"
        if better in (LEFT, RIGHT)
        else "they have little in common"
    )
    if way in (LEFT, RIGHT):
        return f"The {way} side, which mono is made of, is {loss_db:.1f} dB quieter than the other. Take the other."
    mend = f"Take {_WORDS[better]}." if better != way else "Take one of them, or mix them by hand first."
    return f"Made of {_WORDS[way]}, mono loses {by}: {reason}. {mend}"
