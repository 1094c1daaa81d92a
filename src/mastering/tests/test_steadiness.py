"""Hush and ride leave alone what is no room: music and people beneath a voice. Voices are Debian's prompts; what lies
beneath them is made here, so that it is known. The limit is common practice, no source.
"""

import tempfile
from pathlib import Path
from unittest import TestCase, skipUnless

import numpy as np
import scipy

from mastering.making.survey import Survey
from mastering.outlets.demands import Range
from mastering.outlets.planning import plan_levels
from mastering.shaping.treatment import ALWAYS, NEEDED, Treatment
from mastering.tests import prompts
from mastering.tests.signals import written

RATE_HZ = prompts.RATE_HZ
QUIET = {"integrated_lufs": Range(low=-20, high=-18, target=-19), "noise_floor_dbfs": Range(high=-60)}
EVEN = {"integrated_lufs": Range(low=-20, high=-18, target=-19), "loudness_range_lu": Range(high=2)}


def chords(frames: int) -> np.ndarray:
    """Struck notes of a broken chord, four a second, as of a plucked string."""
    random, out = np.random.default_rng(4), np.zeros(frames + 2 * RATE_HZ)
    for start in range(0, frames, RATE_HZ // 4):
        time_s = np.arange(RATE_HZ) / RATE_HZ
        hz = 110 * 2 ** (random.choice([0, 3, 5, 7, 10, 12, 15]) / 12)
        note = sum(np.sin(2 * np.pi * hz * k * time_s) / k**1.5 for k in range(1, 6)) * np.exp(-3 * time_s)
        out[start : start + RATE_HZ] += note
    return out[:frames]


def people(frames: int) -> np.ndarray:
    """Four who talk at once without a pause."""
    pool = [prompt.samples for prompt in prompts.prompts("it")]
    voices = [np.resize(np.concatenate(pool[at : at + 12]), frames) for at in (0, 12, 24, 36)]
    return np.sum(voices, axis=0)


def coloured(frames: int, slope: float) -> np.ndarray:
    spectrum = scipy.fft.rfft(np.random.default_rng(2).standard_normal(frames))
    return scipy.fft.irfft(spectrum / np.maximum(1, np.arange(len(spectrum))) ** slope, n=frames)


def traffic(frames: int) -> np.ndarray:
    """Low noise that comes and goes by 8 dB."""
    gains_db = 4 * np.sin(2 * np.pi * np.arange(frames) / (7 * RATE_HZ))
    return coloured(frames, 0.8) * 10 ** (gains_db / 20)


BENEATH = {
    "white": lambda frames: coloured(frames, 0.0),
    "pink": lambda frames: coloured(frames, 0.5),
    "low": lambda frames: coloured(frames, 1.0),
    "traffic": traffic,
    "chords": chords,
    "people": people,
}
MOVES = {"chords", "people"}


@skipUnless(prompts.there(), "Debian's prompts are not installed")
class Beneath(TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def take(self, name: str, below_db: float = 24.0, language: str = "en") -> Path:
        voice = prompts.joined(language, 12, snr_db=60).samples
        # Some lines are read softly, so that ride has work.
        voice = voice * np.repeat([1.0, 0.4], len(voice) // 2 + 1)[: len(voice)]
        under = BENEATH[name](len(voice))
        under *= voice[np.abs(voice) > 1e-3].std() / under.std() * 10 ** (-below_db / 20)
        return written(self.folder, (voice + under).astype(np.float32), RATE_HZ)

    def plan(self, path: Path, demands, **wishes):
        survey = Survey(path, Treatment(**wishes))
        return plan_levels(
            survey.measured(1).levels,
            demands,
            lossy=False,
            treatment=Treatment(**wishes),
            unsteadiness_db=lambda: survey.unsteadiness_db(1, "speech"),
        )

    def test_hush_acts_on_what_is_steady_and_refuses_what_moves_with_its_reason(self):
        for language in ("en", "fr"):
            for name in BENEATH:
                plan = self.plan(self.take(name, language=language), QUIET, hush=ALWAYS, hush_db=10.0)
                with self.subTest(language=language, beneath=name):
                    self.assertEqual(plan.hush_db == 0, name in MOVES)
                    told = any(said.startswith("Hush is left off") for said in plan.remarks)
                    self.assertEqual(told, name in MOVES)

    def test_hush_that_would_be_refused_is_not_proposed(self):
        plan = self.plan(self.take("chords"), QUIET, hush=NEEDED)
        self.assertEqual(plan.hush_db, 0)
        self.assertIn("noise_floor_dbfs", plan.unmet)
        self.assertFalse(any("Hush of" in said for said in plan.collisions), plan.collisions)

    def test_who_marks_where_the_room_is_alone_is_believed(self):
        plan = self.plan(self.take("chords"), QUIET, hush=ALWAYS, hush_db=6.0, noise_s=(0.0, 0.3))
        self.assertEqual(plan.hush_db, 6.0)

    def test_ride_with_music_beneath_is_off_by_itself_and_told_where_it_was_chosen(self):
        path = self.take("chords")
        needed, always = (self.plan(path, EVEN, ride=ride) for ride in (NEEDED, ALWAYS))
        self.assertIsNone(needed.ride_range_db)
        self.assertTrue(any(said.startswith("Ride is left off") for said in needed.remarks))
        self.assertIsNotNone(always.ride_range_db)
        self.assertTrue(any(said.startswith("Ride moves") for said in always.remarks))
        self.assertIsNotNone(self.plan(self.take("pink"), EVEN, ride=NEEDED).ride_range_db)

    def test_without_a_wish_nothing_is_read_again(self):
        survey = Survey(self.take("chords"))

        def asked():
            raise AssertionError("asked for")

        plan_levels(survey.measured(1).levels, QUIET, lossy=False, unsteadiness_db=asked)
