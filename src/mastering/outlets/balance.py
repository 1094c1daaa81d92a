"""Speech and music in one file: the level of each, and what is odd about them side by side."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from math import isfinite

import numpy as np

from mastering.editing.pieces import Piece
from mastering.meters import loudness
from mastering.meters.meter import Levels
from mastering.outlets.demands import Range, range_of
from mastering.outlets.findings import PASS, REMARK, Finding
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.outlet import Outlet
from mastering.outlets.rules.levels import INTEGRATED
from mastering.rendering import Programme
from mastering.said import Said

SPEECH, MUSIC = "speech", "music"
BALANCE = "balance"
OFF_TARGET_LU = 2.0
BELOW_MUSIC_LU = 4.0
"""How far speech may lie from what is asked of the whole, and below the music beside it (common practice, no
source)."""
_STEPS_PER_SECOND = 10


@dataclass(frozen=True, kw_only=True)
class Run:
    """Pieces of one kind that follow each other: those from `first` up to `last`.

    Times are those of the programme, without what is crossed with its neighbours, seconds.
    """

    kind: str
    first: int
    last: int
    start_s: float
    end_s: float


def runs_of(programme: Programme, content_kind: str) -> list[Run]:
    """What a programme holds one after the other; none where all of it is of one kind."""
    pieces: Sequence[Piece] = programme.pieces
    kinds = [piece.kind or content_kind for piece in pieces]
    if len(set(kinds)) < 2:
        return []
    with programme.opened() as reader:
        rate_hz, starts = reader.sample_rate_hz, [*reader.starts(), reader.length]
    edges = [0, *(at for at in range(1, len(kinds)) if kinds[at] != kinds[at - 1]), len(kinds)]
    return [
        Run(
            kind=kinds[first],
            first=first,
            last=last,
            start_s=(starts[first] + pieces[first].overlap_samples) / rate_hz,
            end_s=starts[last] / rate_hz,
        )
        for first, last in zip(edges, edges[1:], strict=False)
    ]


def spans_of(runs: Sequence[Run]) -> list[tuple[str, float, float]]:
    """What runs hold and where they lie: (kind, start and end in seconds)."""
    return [(run.kind, run.start_s, run.end_s) for run in runs]


@dataclass(frozen=True)
class Balance:
    """The integrated loudness of all speech and of all music in one file, LUFS; `asked` is what the outlet asks of
    speech, and `of_its_own` whether it asks something else of music.
    """

    speech_lufs: float
    music_lufs: float
    asked: Range | None
    of_its_own: bool

    @property
    def apart_lu(self) -> float:
        """By how much music is the louder."""
        return self.music_lufs - self.speech_lufs

    def in_words(self) -> str:
        return Said(
            "speech-lufs-music-lufs-lu",
            speech_lufs=self.speech_lufs,
            music_lufs=self.music_lufs,
            apart_lu=abs(self.apart_lu),
        )

    def oddity(self) -> str:
        """What a listener would mind, with what mends it; nothing where there is nothing."""
        off_lu, apart_lu = self._off_target_lu(), self.apart_lu
        below = not self.of_its_own and apart_lu > BELOW_MUSIC_LU
        if off_lu > OFF_TARGET_LU:
            return Said("speech-lu-too-loud-whatever", off_lu=off_lu)
        if off_lu < -OFF_TARGET_LU and below:
            return Said("speech-lu-too-quiet-whatever", off_lu=-off_lu, apart_lu=apart_lu)
        if off_lu < -OFF_TARGET_LU:
            return Said("speech-lu-too-quiet-whatever-whole", off_lu=-off_lu)
        if below:
            return Said("speech-lies-lu-below-music", apart_lu=apart_lu)
        return ""

    def _off_target_lu(self) -> float:
        if self.asked is None:
            return 0.0
        if self.asked.target is not None:
            return self.speech_lufs - self.asked.target
        return self.speech_lufs - min(max(self.speech_lufs, self.asked.low), self.asked.high)

    def _wanted(self) -> str:
        level = "" if self.asked is None else self.asked.words("LUFS")
        if self.of_its_own:
            return Said("speech-within-lu", level=level, off_target_lu=OFF_TARGET_LU)
        if not level:
            return Said("speech-most-lu-below-music", below_music_lu=BELOW_MUSIC_LU)
        return Said("speech-within-lu-most-lu", level=level, off_target_lu=OFF_TARGET_LU, below_music_lu=BELOW_MUSIC_LU)

    def finding(self) -> Finding:
        """As a line of the check sheet; never worse than a remark."""
        odd = self.oddity()
        return Finding(
            rule=BALANCE,
            label=Said("speech-beside-music"),
            asked=self._wanted(),
            found=self.in_words(),
            verdict=REMARK if odd else PASS,
            advice=odd,
            source=Said("common-practice-no-source"),
        )


def balance_of(
    levels: Levels, spans: Sequence[tuple[str, float, float]], outlet: Outlet, *, gain_db: float = 0.0
) -> Balance | None:
    """The balance of a file or a programme once it is so much louder; None where it holds not both.

    `spans` are what it holds: (kind, start and end in seconds).
    """
    found = {kind: _loudness(levels.steps, [span for span in spans if span[0] == kind]) for kind in (SPEECH, MUSIC)}
    speech, music = found[SPEECH], found[MUSIC]
    if speech is None or music is None:
        return None
    asked = [outlet.demands(channels=levels.channels, content_kind=kind) for kind in (SPEECH, MUSIC)]
    return Balance(
        speech + gain_db,
        music + gain_db,
        range_of(asked[0], INTEGRATED),
        of_its_own=asked[0].get(INTEGRATED) != asked[1].get(INTEGRATED),
    )


def _loudness(steps: np.ndarray, spans: Sequence[tuple[str, float, float]]) -> float | None:
    own = [
        steps[round(start_s * _STEPS_PER_SECOND + 0.499) : int(end_s * _STEPS_PER_SECOND)]
        for _, start_s, end_s in spans
    ]
    found = loudness.integrated(np.concatenate(own)) if own else None
    return found if found is not None and isfinite(found) else None


def with_balance(
    plan: LevelPlan, levels: Levels, spans: Sequence[tuple[str, float, float]], outlet: Outlet
) -> LevelPlan:
    """A plan that says how loud speech and music will be beside each other, where a programme holds both."""
    found = balance_of(levels, spans, outlet, gain_db=plan.gain_db)
    if found is None:
        return plan
    return replace(plan, balance=found.in_words(), uneven=found.oddity())
