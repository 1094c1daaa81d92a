"""Planning: the gentlest chain that makes a section meet an outlet's level rules, or why nothing can."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from math import inf

import numpy as np

from mastering.certain import certain
from mastering.errors import CannotMake
from mastering.meters import loudness
from mastering.meters.envelope import Envelope
from mastering.meters.meter import Levels
from mastering.meters.offset import lies_low, offset_of
from mastering.meters.speech import is_pause, noise_floor, room_stretch
from mastering.meters.steadiness import VARIES_DB
from mastering.outlets import sentences
from mastering.outlets.demands import Demand, Range, range_of
from mastering.outlets.headtail import left_alone, plan_edges
from mastering.outlets.known import NOTHING_KNOWN, Known
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.rules.kind import OF_DELIVERY, Foreseen, Missed
from mastering.outlets.rules.levels import (
    CONSISTENCY,
    HUSH_MORE_DB,
    INTEGRATED,
    LOUDNESS_RANGE,
    LOUDNESS_RULES,
    NOISE_FLOOR,
    PEAK_RULES,
    RMS,
    RMS_AES17,
    SAMPLE_PEAK,
    TRUE_PEAK,
)
from mastering.said import Said
from mastering.shaping.chain import Chain
from mastering.shaping.mends import MENDS, fit_for
from mastering.shaping.rehearsal import Rehearsed, rehearse, reshaped
from mastering.shaping.ride import ride_curve
from mastering.shaping.treatment import ALWAYS, AS_IT_IS, MOST_HUSH_DB, NEEDED, NEVER, Treatment

_PCM_MARGIN_DB = 0.1
_LOSSY_MARGIN_DB = 0.6
"""Encoding moves peaks; this much room lets most files pass at the first attempt (measured on speech at
128 kbit/s, where the decoded peak rises by 0.1 to 0.5 dB)."""
_DECODERS_DIFFER_DB = 0.11
"""By so much the true peaks of one Opus file differ by its decoder (measured)."""
_FULL_SCALE_DBTP = -0.1
_MOST_RAISED_DB = 3.0
"""How far a ceiling is raised at a time: what an encoder adds to higher peaks is not known before."""
_VERY_QUIET_LUFS = -45.0
"""So low the absolute gate of loudness begins to count parts of a voice as silence."""
_INSIDE_DB = 0.5
"""How far inside the edge of a range a level is put: encoding moves it by hundredths."""
_NOISE_INSIDE_DB = 0.1
"""Encoding moves a noise floor by less (measured on speech at 128 kbit/s)."""
_WORTH_RIDING = 0.2
"""What ride has to bring rules nearer by, LU or dB, to be worth its moving of the voice."""
_HEAVY_LIMITING_DB = 6.0
_MOST_MADE_UP_DB = 3.0
"""How much loudness taken by the limiter is made up for with more gain. Beyond that it works on the voice itself,
not on stray peaks, and every further decibel of gain only flattens it."""


def plan_levels(
    levels: Levels,
    demands: dict[str, Demand],
    *,
    lossy: bool,
    treatment: Treatment = AS_IT_IS,
    content_kind: str = "speech",
    fixed_gain_db: float | None = None,
    near: Range | None = None,
    filtered: Callable[[], Levels] | None = None,
    known: Known = NOTHING_KNOWN,
    unsteadiness_db: Callable[[], float | None] | None = None,
) -> LevelPlan:
    """Find the gentlest chain that meets all level rules together: gain, limiter, then ride, then hush.

    Parameters
    ----------
    levels
        Measured on the section in the outlet's number of channels, after the rumble filter where there is one.
    demands
        The outlet's demands by rule name, for that number of channels and the section's content.
    lossy
        Whether the encoder will move the peaks.
    fixed_gain_db
        The gain of the set it belongs to; found anew where None.
    near
        The loudness it must have besides, to lie near the other sections', LUFS.
    filtered
        Gives the levels after the rumble filter, where that is to be on if needed.
    known
        What is known of its recordings.
    unsteadiness_db
        Tells how much what is heard in its pauses varies, as `mastering.meters.steadiness` has it; asked for only where
        hush or ride might act.

    Raises
    ------
    CannotMake
        When the section is silent throughout or too short to have a loudness.
    """
    if levels.silent:
        raise CannotMake(Said("recording-silent-throughout-there-nothing"))
    asked = demands
    demands = {name: demand for name, demand in asked.items() if RULE_KINDS[name].scope != OF_DELIVERY}
    if near is not None:
        demands[CONSISTENCY] = near
    planner = _Planner(levels, demands, lossy, treatment, content_kind, fixed_gain_db, unsteadiness_db)
    best = planner.attempt(
        ride=treatment.ride == ALWAYS, hush_db=treatment.hush_db if treatment.hush == ALWAYS else 0.0
    )
    if treatment.needs_both and filtered and NOISE_FLOOR in best.unmet and lies_low(levels):
        return plan_levels(
            filtered(),
            asked,
            lossy=lossy,
            treatment=replace(treatment, rumble=ALWAYS),
            content_kind=content_kind,
            fixed_gain_db=fixed_gain_db,
            near=near,
            known=known,
            unsteadiness_db=unsteadiness_db,
        )
    ride_would = ""
    if any(RULE_KINDS[name].helped_by_ride for name in best.unmet) and not best.ride:
        ridden = planner.attempt(ride=True, hush_db=best.hush_db)
        if ridden.left_to_ride < best.left_to_ride - _WORTH_RIDING:
            if treatment.ride == NEEDED:
                best = ridden
            else:
                ride_would = _ride_would(ridden.unmet)
    excess_db = best.unmet.get(NOISE_FLOOR, 0.0)
    if excess_db and treatment.hush == NEEDED:
        wanted_db = min(best.hush_db + excess_db + HUSH_MORE_DB, treatment.hush_db)
        best = planner.attempt(ride=best.ride, hush_db=wanted_db)
    return planner.settled(best, ride_would, known)


def corrected(
    plan: LevelPlan,
    found: Levels,
    demands: dict[str, Demand],
    *,
    lossy: bool = False,
    highest_ceiling_dbtp: float = _FULL_SCALE_DBTP,
) -> LevelPlan | None:
    """Change the plan by what the finished file missed; None when gain and ceiling can do no better.

    What a lossy encoder took of the loudness is given back, and a ceiling that it left room under is raised where more
    loudness is wanted, up to the highest that the encoder takes. A peak of a `lossy` file is to stay so far below its
    limit as two decoders differ.
    """
    gain_db, ceiling = plan.gain_db, plan.ceiling_dbtp
    wanted, foreseen = found.integrated_lufs, plan.predicted.get(INTEGRATED)
    taken_db = max(0.0, foreseen - wanted) if lossy and wanted is not None and foreseen is not None else 0.0
    highest_gain_db = plan.highest_gain_db + taken_db
    too_quiet = False
    for name in (*LOUDNESS_RULES, *PEAK_RULES):
        demand, figure = range_of(demands, name), getattr(found, name)
        if demand is None or figure is None:
            continue
        if name in PEAK_RULES and demand.target is None and demand.meets(figure):
            room_db = demand.high - _DECODERS_DIFFER_DB - figure
            if lossy and ceiling is not None and (room_db < 0 or (too_quiet and room_db > _PCM_MARGIN_DB)):
                moved_db = room_db - _PCM_MARGIN_DB if room_db < 0 else min(room_db, _MOST_RAISED_DB)
                ceiling = min(ceiling + moved_db, max(ceiling, highest_ceiling_dbtp))
            continue
        if demand.meets(figure):
            continue
        too_quiet = too_quiet or figure < demand.low
        if name in PEAK_RULES and demand.target is None:
            # Encoding raised it from here, whether or not the limiter had to act.
            encoded_from = plan.source_peak_dbtp + plan.gain_db
            ceiling = (
                (encoded_from if ceiling is None else min(ceiling, encoded_from))
                - (figure - demand.high)
                - (_DECODERS_DIFFER_DB if lossy else 0.0)
                - _PCM_MARGIN_DB
            )
        elif not plan.fixed_gain:
            gain_db = min(gain_db + _aim(figure, demand) - figure, highest_gain_db)
    if (gain_db, ceiling) == (plan.gain_db, plan.ceiling_dbtp):
        return None
    return replace(plan, gain_db=gain_db, ceiling_dbtp=ceiling, highest_gain_db=max(plan.highest_gain_db, gain_db))


def gain_range(figures: dict[str, float | None], demands: dict[str, Demand]) -> tuple[float, float]:
    """The lowest and the highest gain, dB, with which figures meet all they are asked if nothing is limited.

    The lowest is above the highest where no gain does. The noise floor is minded where that leaves a gain that does.
    """
    lowest, highest = -inf, inf
    for name, demand in _aimed(demands).items():
        figure = figures.get(name)
        if figure is None:
            raise CannotMake(Said("recording-too-short-too-quiet"))
        lowest, highest = max(lowest, demand.low - figure), min(highest, demand.high - figure)
    quiet_db = _quiet_enough_db(figures, demands)
    return (lowest, quiet_db) if lowest < quiet_db < highest else (lowest, highest)


def _quiet_enough_db(figures: dict[str, float | None], demands: dict[str, Demand]) -> float:
    """The highest gain, dB, that leaves the noise floor where it may be; infinite where nothing is asked of it."""
    demand, floor_dbfs = range_of(demands, NOISE_FLOOR), figures.get(NOISE_FLOOR)
    if demand is None or floor_dbfs is None:
        return inf
    return demand.high - floor_dbfs - _NOISE_INSIDE_DB


def needed_gain_db(figures: dict[str, float | None], demands: dict[str, Demand]) -> float:
    """The gain that would meet the outlet's aims if nothing were limited: what is in range already is left alone."""
    lowest, highest = gain_range(figures, demands)
    wanted = 0.0
    for name, demand in _aimed(demands).items():
        if demand.target is not None:
            wanted = demand.target - certain(figures[name])
            break
    if lowest > highest:
        # They cannot all be met; the first is, and the plan says by how much the others are missed.
        name, demand = next(iter(_aimed(demands).items()))
        figure = certain(figures[name])
        return _aim(figure, demand) - figure
    inside = Range(low=lowest, high=highest).inside(_INSIDE_DB)
    return min(max(wanted, lowest + inside), highest - inside)


def _aimed(demands: dict[str, Demand]) -> dict[str, Range]:
    """Those that say how loud it shall be; peaks with a target first."""
    asked = {name: found for name in (*PEAK_RULES, *LOUDNESS_RULES, CONSISTENCY) if (found := range_of(demands, name))}
    return {name: found for name, found in asked.items() if name not in PEAK_RULES or found.target is not None}


def _aim(measured: float, demand: Range) -> float:
    """The target, or the nearest point comfortably inside the range: leave alone what is already there."""
    if demand.target is not None:
        return demand.target
    inside = demand.inside(_INSIDE_DB)
    return min(max(measured, demand.low + inside), demand.high - inside)


@dataclass(frozen=True)
class _Attempt:
    """One chain tried: what would come of it, and by how much each rule would be missed."""

    ride: bool
    hush_db: float
    gain_db: float
    highest_gain_db: float
    source_peak_dbtp: float
    rehearsed: Rehearsed
    figures: dict[str, float | None]
    unmet: dict[str, float]

    @property
    def left_to_ride(self) -> float:
        """By how much the rules are missed that ride helps with."""
        return sum(miss for name, miss in self.unmet.items() if RULE_KINDS[name].helped_by_ride)


class _Planner:
    """Tries chains on one section."""

    def __init__(
        self,
        levels: Levels,
        demands: dict[str, Demand],
        lossy: bool,
        treatment: Treatment,
        content_kind: str,
        fixed_gain_db: float | None,
        unsteadiness_db: Callable[[], float | None] | None,
    ):
        self._levels, self._demands, self._treatment, self._fixed_gain_db = levels, demands, treatment, fixed_gain_db
        margin_db = _LOSSY_MARGIN_DB if lossy else _PCM_MARGIN_DB
        peaks = [found for name in PEAK_RULES if (found := range_of(demands, name))]
        highs = [found.high for found in peaks if found.target is None and found.high < inf]
        self._ceiling = min(highs) - margin_db if highs else None
        self._quiet_s = room_stretch(levels.envelope)
        marked = treatment.noise_s if treatment.noise_s and treatment.noise_s[1] <= levels.duration_s else None
        self._noise_s = marked or self._quiet_s
        self._noise_is_speech = marked is not None and not is_pause(levels.envelope, *marked)
        self._head_tail = (
            plan_edges(levels, demands, self._quiet_s) if treatment.room_tone else left_alone(levels, demands)
        )
        self._may_ride, self._content_kind = content_kind != "music", content_kind
        self._noise_is_marked = marked is not None
        self._unsteadiness_db = unsteadiness_db
        self._left_off: set[str] = set()
        self._curve: np.ndarray | None = None

    @cached_property
    def _varies(self) -> bool:
        """Whether what lies beneath the voice is no steady noise, but music, or people."""
        found_db = self._unsteadiness_db() if self._unsteadiness_db else None
        return found_db is not None and found_db > VARIES_DB

    def attempt(self, *, ride: bool, hush_db: float) -> _Attempt:
        ride, hush_db = ride and self._may_ride, hush_db if self._noise_s else 0.0
        if hush_db and not self._noise_is_marked and self._varies:
            self._left_off.add("hush")
            hush_db = 0.0
        if ride and self._treatment.ride != ALWAYS and self._varies:
            self._left_off.add("ride")
            ride = False
        if ride and self._curve is None:
            self._curve = ride_curve(self._levels.envelope)
        chain = Chain(
            edges=self._head_tail.edges,
            quiet_s=self._quiet_s,
            hush_db=hush_db,
            noise_s=self._noise_s,
            ride_db=self._curve if ride else None,
        )
        base, figures = self._figures(chain)
        with_noise = self._tried(ride, hush_db, base, figures, self._demands)
        if not with_noise.unmet or NOISE_FLOOR not in self._demands:
            return with_noise
        # Where not all can be met, the voice comes first, and the plan says by how much the noise is too loud.
        aims = {name: demand for name, demand in self._demands.items() if name != NOISE_FLOOR}
        return self._tried(ride, hush_db, base, figures, aims)

    def _tried(
        self, ride: bool, hush_db: float, base: Envelope, figures: dict[str, float | None], aims: dict[str, Demand]
    ) -> _Attempt:
        """One chain with the gain that meets these aims best."""
        needed_db = needed_gain_db(figures, aims) if self._fixed_gain_db is None else self._fixed_gain_db
        highest_gain_db = needed_db + (_MOST_MADE_UP_DB if self._fixed_gain_db is None else 0.0)
        quiet_db = _quiet_enough_db(figures, aims)
        if needed_db <= quiet_db:
            highest_gain_db = min(highest_gain_db, quiet_db)
        gain_db, rehearsed = self._gain(base, figures, needed_db, highest_gain_db)
        reached = self._reached(self._foreseen(base, figures, gain_db, rehearsed))
        asked = [(name, demand) for name, demand in self._demands.items() if isinstance(demand, Range)]
        unmet = {name: demand.missed_by(reached.get(name)) for name, demand in asked}
        return _Attempt(
            ride=ride,
            hush_db=hush_db,
            gain_db=gain_db,
            highest_gain_db=highest_gain_db,
            source_peak_dbtp=certain(figures[TRUE_PEAK]),
            rehearsed=rehearsed,
            figures=reached,
            unmet={name: by for name, by in unmet.items() if by > 0},
        )

    def settled(self, best: _Attempt, ride_would: str, known: Known) -> LevelPlan:
        """The plan that an attempt makes, with all there is to say about it."""
        curve = certain(self._curve) if best.ride else None
        ranged = None if curve is None else (float(curve.min()), float(curve.max()))
        told = self._collisions(best, ride_would)
        remarks = [*known.remarks, *self._head_tail.remarks]
        if best.rehearsed.limited_db >= _HEAVY_LIMITING_DB:
            remarks.append(sentences.heavy_limiting(best.rehearsed.limited_db))
        if self._treatment.ride != NEVER and not self._may_ride:
            remarks.append(Said("ride-speech-leaves-music-alone"))
        done = fit_for(self._treatment.mends, self._content_kind)
        remarks += [
            Said("speech-leaves-music-alone", title=MENDS[name].title)
            for name in self._treatment.mends
            if name not in done
        ]
        if best.hush_db and self._noise_is_speech:
            remarks.append(Said("where-noise-learned-there-seems"))
        if "hush" in self._left_off:
            remarks.append(Said("hush-left-off-what-heard"))
        if best.ride and self._varies:
            remarks.append(Said("ride-moves-what-heard-beneath"))
        elif "ride" in self._left_off and self._treatment.ride != NEVER:
            remarks.append(Said("ride-left-off-what-heard"))
        if self._treatment.hush != NEVER and self._noise_s is None:
            remarks.append(Said("hush-finds-no-pause-learn"))
        return LevelPlan(
            gain_db=best.gain_db,
            ceiling_dbtp=self._ceiling,
            highest_gain_db=best.highest_gain_db,
            source_peak_dbtp=best.source_peak_dbtp,
            fixed_gain=self._fixed_gain_db is not None,
            rumble_hz=self._treatment.measured_hz,
            hush_db=best.hush_db,
            noise_s=self._noise_s,
            ride_range_db=ranged,
            edges=self._head_tail.edges,
            quiet_s=self._quiet_s,
            limited_db=best.rehearsed.limited_db,
            predicted={
                name: round(value, 2)
                for name, value in best.figures.items()
                if value is not None and name != CONSISTENCY
            },
            unmet={name: round(by, 2) for name, by in best.unmet.items()},
            mono=known.mono,
            mends=done,
            collisions=(
                *known.collisions,
                *self._head_tail.collisions.values(),
                *(sentence for _, sentence in told),
            ),
            collided=(*[""] * len(known.collisions), *self._head_tail.collisions, *(name for name, _ in told)),
            remarks=tuple(remarks),
        )

    def _collisions(self, best: _Attempt, ride_would: str) -> list[tuple[str, str]]:
        """The name of each rule that is missed, with a sentence."""
        told = []
        low = sentences.lies_low(offset_of(self._levels)) if best.unmet and lies_low(self._levels) else ""
        for name, by in best.unmet.items():
            kind, figure, demand = RULE_KINDS[name], best.figures[name], range_of(self._demands, name)
            if kind.collides is None or figure is None or demand is None:
                continue
            missed = Missed(
                kind=kind,
                figure=figure,
                demand=demand,
                by=by,
                unmet=best.unmet,
                demands=self._demands,
                gain_db=best.gain_db,
                hush_db=best.hush_db,
                most_hush_db=MOST_HUSH_DB if self._noise_s and "hush" not in self._left_off else None,
                ridden=best.ride,
                ride=ride_would,
                together=self._fixed_gain_db is not None,
                low=low,
            )
            told.append((name, kind.collides(missed)))
        return told

    def _figures(self, chain: Chain) -> tuple[Envelope, dict[str, float | None]]:
        """The envelope after the chain, and its figures before gain and limiter."""
        levels = self._levels
        names = (*PEAK_RULES, *LOUDNESS_RULES, NOISE_FLOOR, LOUDNESS_RANGE)
        base = reshaped(levels.envelope, chain)
        if base is levels.envelope:
            figures = {name: getattr(levels, name) for name in names}
        else:
            told = rehearse(base, gain_db=0.0, ceiling_dbtp=None)
            # As far as the highest sample moves, the highest point between samples moves with it.
            moved_db = (int(base.peak.max()) - int(levels.envelope.peak.max())) / 100
            figures = {
                SAMPLE_PEAK: certain(levels.sample_peak_dbfs) + moved_db,
                TRUE_PEAK: certain(levels.true_peak_dbtp) + moved_db,
                INTEGRATED: None if levels.integrated_lufs is None else told.integrated_lufs,
                RMS: told.rms_dbfs,
                RMS_AES17: told.rms_dbfs + certain(levels.rms_aes17_dbfs) - certain(levels.rms_dbfs),
                NOISE_FLOOR: noise_floor(base),
                LOUDNESS_RANGE: told.loudness_range_lu,
            }
        if (found := figures[INTEGRATED]) is None or found < _VERY_QUIET_LUFS:
            steps = levels.steps if base is levels.envelope else told.steps
            raised = loudness.once_raised(steps, max(0.0, -certain(figures[SAMPLE_PEAK])))
            if raised is not None:
                figures[INTEGRATED] = raised
                by_db = needed_gain_db(figures, self._demands) if self._fixed_gain_db is None else self._fixed_gain_db
                figures[INTEGRATED] = loudness.once_raised(steps, by_db) or raised
        if CONSISTENCY in self._demands:
            figures[CONSISTENCY] = figures[INTEGRATED]
        return base, figures

    def _gain(
        self, base: Envelope, figures: dict[str, float | None], needed_db: float, highest_db: float
    ) -> tuple[float, Rehearsed]:
        """The gain that meets the aim with the limiter at work, as far as that can be had."""
        gain_db = needed_db
        rehearsed = rehearse(base, gain_db=gain_db, ceiling_dbtp=self._ceiling)
        aimed = _aimed(self._demands)
        name = next(iter(aimed), None)
        if self._fixed_gain_db is not None or name is None or name in PEAK_RULES:
            return gain_db, rehearsed
        aim, predicts = certain(figures[name]) + needed_db, certain(RULE_KINDS[name].predicts)
        # A few rounds of putting on again what the limiter takes settle within hundredths.
        for _ in range(6):
            reached = certain(predicts(self._foreseen(base, figures, gain_db, rehearsed)))
            wanted_db = min(gain_db + aim - reached, highest_db)
            if abs(wanted_db - gain_db) < 0.02:
                break
            gain_db = wanted_db
            rehearsed = rehearse(base, gain_db=gain_db, ceiling_dbtp=self._ceiling)
        return gain_db, rehearsed

    def _foreseen(
        self, base: Envelope, figures: dict[str, float | None], gain_db: float, rehearsed: Rehearsed
    ) -> Foreseen:
        return Foreseen(
            levels=self._levels,
            envelope=base,
            figures=figures,
            edges=self._head_tail.edges,
            gain_db=gain_db,
            ceiling_dbtp=self._ceiling if self._ceiling is not None else inf,
            rehearsed=rehearsed,
        )

    def _reached(self, foreseen: Foreseen) -> dict[str, float | None]:
        """What each rule that is asked, and what is told of every section, will come to."""
        kinds = [kind for name, kind in RULE_KINDS.items() if kind.told_always or name in self._demands]
        reached = {kind.name: kind.predicts(foreseen) for kind in kinds if kind.predicts}
        return {name: None if value == -inf else value for name, value in reached.items()}


def _ride_would(unmet: dict[str, float]) -> str:
    """What ride would do for the rules it helps with."""
    if not any(RULE_KINDS[name].helped_by_ride for name in unmet):
        return Said("ride-would-do-evens-out")
    return Said("ride-would-help-but-not")
