"""What is wrong with a recording and named: tops cut off at any level, clicks, hum; and the hum filter. Voices are
Debian's prompts, what was done to them is known; limits are common practice, no source.
"""

import tempfile
from pathlib import Path
from unittest import TestCase, skipUnless

import numpy as np
import scipy

from mastering.editing.pieces import Piece, Span
from mastering.meters.measurement import Measurement, measure
from mastering.meters.remarks import remarks
from mastering.outlets.known import known_of
from mastering.outlets.rulesheets import shipped
from mastering.pipeline import make
from mastering.rendering import Programme, Track
from mastering.shaping.dehum import dehummed
from mastering.shaping.treatment import Treatment
from mastering.tests import prompts
from mastering.tests.signals import noise, tone, written

RATE_HZ = 44100


def voice(language: str, seconds: float = 12.0) -> np.ndarray:
    """Prompts read one after the other, up to 0.9, shape (frames,)."""
    read = prompts.joined(language, 12, seed=4, snr_db=60).samples
    samples = scipy.signal.resample_poly(np.resize(read, int(seconds * prompts.RATE_HZ)), 441, 80)
    return (0.9 * samples / np.abs(samples).max()).astype(np.float32)


def hum(frames: int, mains_hz: float, level_db: float) -> np.ndarray:
    time_s = np.arange(frames) / RATE_HZ
    shares = {1: 1.0, 2: 0.5, 3: 0.7, 4: 0.2, 5: 0.3, 7: 0.2}
    waves = sum(share * np.sin(2 * np.pi * mains_hz * k * time_s + k) for k, share in shares.items())
    return waves * 10 ** (level_db / 20)


def without_hum(samples: np.ndarray) -> np.ndarray:
    column = samples.astype(np.float32)[:, None]
    return np.concatenate([*dehummed((column[at : at + 10007] for at in range(0, len(column), 10007)), RATE_HZ)])[:, 0]


def db(samples: np.ndarray) -> float:
    return float(20 * np.log10(samples.std()))


@skipUnless(prompts.there(), "Debian's prompts are not installed")
class Named(TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def measured(self, samples: np.ndarray) -> Measurement:
        return measure(written(self.folder, samples[:, None]))

    def test_tops_cut_off_below_full_scale_are_told_with_level_and_places(self):
        for language in prompts.LANGUAGES:
            for drive, level_db in ((2.0, -0.9), (6.0, -0.9), (6.0, -9.0)):
                samples = np.clip(drive * voice(language), -1, 1) * 10 ** (level_db / 20)
                found = self.measured(samples).levels
                with self.subTest(language, drive=drive, level_db=level_db):
                    self.assertEqual(found.clipped_runs, 0)
                    self.assertGreater(found.flattened.count, 50)
                    self.assertAlmostEqual(20 * np.log10(found.flattened.level), level_db, delta=0.05)
                    for at_s in found.flattened.places_s:
                        near = samples[max(0, round((at_s - 0.001) * RATE_HZ)) :][:90]
                        self.assertGreater(np.abs(near).max(), 0.99 * found.flattened.level)

    def test_round_tops_are_none_and_what_was_found_is_kept(self):
        for samples in (voice("en"), tone(-6, 5, hz=50, rate_hz=RATE_HZ, channels=1)[:, 0], noise(-12, 5)[:, 0]):
            self.assertIsNone(self.measured(samples).levels.flattened)
        spoiled = self.measured(np.clip(6 * voice("it"), -1, 1) * 0.9)
        spoiled.save(self.folder / "kept.npz")
        self.assertEqual(Measurement.load(self.folder / "kept.npz").levels.flattened, spoiled.levels.flattened)
        self.assertTrue(any("cut off flat at -0.9 dBFS" in said for said in remarks(spoiled)))

    def test_hundreds_of_clicks_are_told_and_clean_prompts_have_none_to_speak_of(self):
        random = np.random.default_rng(3)
        for language in prompts.LANGUAGES:
            clean = voice(language)
            spoiled = clean.copy()
            for at in random.integers(1000, len(clean) - 1000, 60):
                length = random.integers(9, 60)
                spoiled[at : at + length] += random.choice([-1, 1]) * np.hanning(length) * random.uniform(0.05, 0.3)
            with self.subTest(language):
                self.assertFalse(any("Clicks" in said for said in remarks(self.measured(clean))))
                self.assertTrue(any("Clicks: about" in said for said in remarks(self.measured(spoiled / 1.3))))

    def test_slip_plan_and_check_sheet_name_hum_and_what_mends_it(self):
        spoiled = written(self.folder, (0.5 * voice("en") + hum(12 * RATE_HZ, 50, -45))[:, None])
        found = measure(spoiled)
        self.assertTrue(any("50 Hz" in said and "hum filter" in said for said in remarks(found)))
        recordings = {spoiled: ("take", found.figures() | found.origin())}
        self.assertTrue(any("hums at 50 Hz" in said for said in known_of(recordings, channels=1).remarks))
        mended = known_of(recordings, channels=1, mends=["de-hum"])
        self.assertFalse(any("hums" in said for said in mended.remarks))
        outlet = shipped()["podcast-host"]
        as_it_is = make(spoiled, outlet, self.folder / "hums.mp3")
        self.assertTrue(any("hums at 50 Hz" in said for said in as_it_is.remarks))
        mended = make(spoiled, outlet, self.folder / "mended.mp3", treatment=Treatment(mends=("de-hum",)))
        self.assertFalse(any("hums" in said for said in mended.remarks))
        floors = [made.found.levels.noise_floor_dbfs for made in (as_it_is, mended)]
        self.assertLess(floors[1], floors[0] - 10)


@skipUnless(prompts.there(), "Debian's prompts are not installed")
class HumFilter(TestCase):
    def test_hum_goes_and_the_voice_stays(self):
        for language, mains_hz, level_db in (
            ("en", 50, -40),
            ("fr", 50.03, -50),
            ("it", 59.97, -35),
            ("en", 49.9, -60),
        ):
            clean = 0.5 * voice(language) + noise(-75, 12)[:, 0]
            added = hum(len(clean), mains_hz, level_db)
            cleaned = without_hum(clean + added)
            with self.subTest(language, mains_hz=mains_hz):
                self.assertLess(db(cleaned - clean), db(added) - 8)
                frequencies, before = scipy.signal.welch(clean, RATE_HZ, nperseg=2048)
                after = scipy.signal.welch(cleaned, RATE_HZ, nperseg=2048)[1]
                of_voice = (frequencies > 90) & (frequencies < 8000)
                self.assertLess(np.abs(10 * np.log10(after / before))[of_voice].max(), 0.5)

    def test_where_nothing_hums_every_sample_stays(self):
        for language in prompts.LANGUAGES:
            clean = (0.5 * voice(language) + noise(-70, 12)[:, 0]).astype(np.float32)
            np.testing.assert_array_equal(without_hum(clean), clean)

    def test_a_stretch_is_heard_as_it_is_in_the_whole(self):
        samples = (0.5 * voice("en") + hum(12 * RATE_HZ, 60, -45)).astype(np.float32)[:, None]
        with tempfile.TemporaryDirectory() as folder:
            path = written(Path(folder), samples, subtype="FLOAT")
            piece = Piece(span=Span("take", 0, len(samples)), mends=("de-hum",))
            with Programme([piece], {"take": [Track(path)]}).opened() as reader:
                whole = np.concatenate([*reader.blocks()])
                for start_s, end_s in ((0.5, 1.5), (9.3, 10.1), (10.9, 11.9)):
                    start, end = round(start_s * RATE_HZ), round(end_s * RATE_HZ)
                    part = np.concatenate([*reader.stretch(start, end)])
                    np.testing.assert_array_equal(part, whole[start:end])
