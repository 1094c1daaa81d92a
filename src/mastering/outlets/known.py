"""What is known of the recordings a file is made from, and matters for it."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mastering.meters.remarks import MANY_CLICKS, MUCH_HUM_DBFS, said_of_flat_tops
from mastering.meters.sides import BY_ITSELF, LEFT, MOST_LOSS_DB, RIGHT, SUM, TURNED, Sides, sides_of
from mastering.said import Said, figured, together, word

_SPEECH_ONLY_HZ = 16000
_TELEPHONE_HZ = 4250
_MUCH_DC = 0.003
_WORDS = {
    SUM: Said("sum-both-sides"),
    LEFT: Said("left-side-alone"),
    RIGHT: Said("right-side-alone"),
    TURNED: Said("sum-both-sides-one-them"),
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
            remarks.append(whose + _two_voices(figures["voices_apart_db"]))
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
            collisions.append(together([whose, _lost(sides, way)], ""))
    told = [
        words if len(mono) == 1 else together([words, f" ({', '.join(names)})"], "") for words, names in mono.items()
    ]
    return Known(folds, together(told, "; "), tuple(collisions), tuple(remarks))


def _of_any(figures: Mapping[str, Any]) -> list[str]:
    told: list[str] = []
    if figures.get("lossy") or (figures.get("lossy") is None and figures.get("bit_depth") is None):
        told.append(Said("recording-itself-lossy-format-each", get=str(figures.get("codec", "")).upper()))
    if runs := figures.get("clipped_runs"):
        places = Said("places", count=runs)
        told.append(Said("recording-clipped-loudest-words-crackle", places=places))
    elif flattened := figures.get("flattened"):
        told.append(said_of_flat_tops(flattened["count"], flattened["level"]))
    if (dc := figures.get("dc_offset") or 0.0) > _MUCH_DC:
        told.append(Said("zero-line-off-full-scale", dc=100 * dc))
    rate_hz, edge_hz = figures.get("sample_rate_hz") or 0, figures.get("bandwidth_hz")
    if rate_hz and rate_hz <= _SPEECH_ONLY_HZ:
        told.append(Said("recorded-hz-sounds-like-telephone-whatever", rate_hz=rate_hz))
    elif edge_hz is not None:
        kind = Said("came-over-telephone") if edge_hz <= _TELEPHONE_HZ else Said("lossy-file-one-lower-rate")
        told.append(Said("nothing-lies-above-khz", edge_hz=edge_hz / 1000, kind=kind))
    return told


def _mendable(figures: Mapping[str, Any], mends: Collection[str]) -> list[str]:
    told: list[str] = []
    hum_dbfs, clicks = figures.get("hum_dbfs"), figures.get("clicks_per_min") or 0
    if hum_dbfs is not None and hum_dbfs > MUCH_HUM_DBFS and "de-hum" not in mends:
        told.append(Said("hums-hz-dbfs-hum-filter", figures=figures["hum_hz"], hum_dbfs=hum_dbfs))
    if clicks >= MANY_CLICKS and (figures.get("speech_share") or 0) > 0 and "de-click" not in mends:
        told.append(Said("about-clicks-minute-de-click", clicks=clicks))
    return told


def _two_voices(apart_db: float) -> str:
    return Said("holds-two-voices-one-each", apart_db=abs(apart_db))


def _in_stereo(sides: Sides) -> list[str]:
    if sides.dead:
        return [Said("side-holds-no-sound-file", dead=word(sides.dead))]
    if sides.by_itself() == TURNED:
        return [Said("sides-opposite-polarity-whoever-hears")]
    if sides.by_itself() in (LEFT, RIGHT):
        return [
            Said("side-db-louder-than-other", by_itself=word(sides.by_itself()), difference_db=abs(sides.difference_db))
        ]
    return []


def _why(sides: Sides) -> str:
    way = sides.by_itself()
    if sides.dead:
        return Said("one-holds-no-sound", dead=word(sides.dead))
    if way == TURNED:
        return Said("they-opposite-polarity")
    return Said("db-louder", difference_db=abs(sides.difference_db)) if way in (LEFT, RIGHT) else ""


def _lost(sides: Sides, way: str) -> str:
    loss_db = sides.loss_db(way)
    by = figured(f"{loss_db:.1f} dB") if loss_db < 100 else Said("everything")
    better = sides.by_itself()
    if sides.dead and way in (LEFT, RIGHT):
        return Said("side-which-mono-made-holds", way=word(way), better=word(better))
    reason = (
        Said("the-one-holds-no-sound", dead=word(sides.dead))
        if sides.dead
        else Said("they-are-of-opposite-polarity")
        if better == TURNED
        else Said("one-db-louder", difference_db=abs(sides.difference_db))
        if better in (LEFT, RIGHT)
        else Said("they-little-common")
    )
    if way in (LEFT, RIGHT):
        return Said("side-which-mono-made-db", way=way, loss_db=loss_db)
    mend = Said("take", words=_WORDS[better]) if better != way else Said("take-one-them-mix-them")
    return Said("made-mono-loses", words=_WORDS[way], by=by, reason=reason, mend=mend)
