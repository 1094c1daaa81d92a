"""What is odd about a recording: found where it is, not found where it is not, and said in order of consequence."""

import tempfile
from pathlib import Path
from unittest import TestCase, skipUnless

import numpy as np
import soundfile
import soxr

from mastering.meters.measurement import measure
from mastering.meters.meter import Meter
from mastering.meters.remarks import remarks
from mastering.tests.signals import PROMPTS, noise, real_speech, speech, tone, written


def levels_of(samples: np.ndarray, rate_hz: int = 44100):
    meter = Meter(rate_hz, ("FC",) if samples.shape[1] == 1 else ("FL", "FR"))
    meter.add(samples.astype(np.float32))
    return meter.levels()


def hum(level_dbfs: float, hz: float, seconds: float, rate_hz: int = 44100) -> np.ndarray:
    """Mains hum as it is picked up: the fundamental and two weaker harmonics. `level_dbfs` is the RMS of all."""
    parts = [
        tone(level, seconds, rate_hz=rate_hz, hz=hz * harmonic, channels=1)
        for harmonic, level in ((1, 0), (2, -8), (3, -12))
    ]
    mixed = sum(parts)
    return mixed * 10 ** (level_dbfs / 20) / np.sqrt(np.mean(mixed**2))


def reading(rate_hz: int, seconds: float = 20.0) -> np.ndarray:
    """A person reading: recorded prompts with pauses between them."""
    parts = []
    for path in real_speech()[:8]:
        samples, found_hz = soundfile.read(path, dtype="float32")
        parts += [soxr.resample(samples * np.float32(0.5), found_hz, rate_hz), np.zeros(rate_hz * 7 // 10, np.float32)]
    return np.concatenate(parts)[: round(seconds * rate_hz), None]


@skipUnless(PROMPTS.exists(), "asterisk-core-sounds-en-wav is not installed")
class Hum(TestCase):
    """Levels follow by arithmetic from the signals; that 10 dB above its surroundings counts is common practice."""

    def test_it_is_found_below_speech_at_both_mains_frequencies(self):
        for hz in (50, 60):
            for level in (-40, -55):
                for rate_hz in (16000, 44100, 48000):
                    with self.subTest(hz=hz, level=level, rate_hz=rate_hz):
                        voice = reading(rate_hz)
                        levels = levels_of(voice + hum(level, hz, 20, rate_hz), rate_hz)
                        self.assertEqual(levels.hum_hz, hz)
                        self.assertAlmostEqual(levels.hum_dbfs, level, delta=2)

    def test_there_is_none_in_noise_or_in_a_clean_voice(self):
        for samples in (noise(-50, 20), speech(seconds=20), noise(-20, 3, seed=9)):
            self.assertIsNone(levels_of(samples).hum_hz)

    def test_there_is_none_in_real_speech(self):
        found = [path.name for path in real_speech() if (hz := measure(path).levels.hum_dbfs) is not None and hz > -60]
        self.assertEqual(found, [])


class Faults(TestCase):
    def test_clipped_places_are_counted(self):
        samples = speech(seconds=6)
        for at in (50_000, 90_000, 200_000):
            samples[at : at + 5] = 1.0
        samples[120_000] = -1.0  # one sample at full scale may be chance
        self.assertEqual(levels_of(samples).clipped_runs, 3)

    def test_a_dead_side_is_named(self):
        voice = speech(seconds=5)
        levels = levels_of(np.concatenate([voice, np.zeros_like(voice)], axis=1))
        self.assertEqual(levels.dead_channels, (1,))
        self.assertEqual(levels_of(np.repeat(voice, 2, axis=1)).dead_channels, ())
        self.assertEqual(levels_of(np.zeros((44100, 2))).dead_channels, ())

    def test_sides_are_compared(self):
        voice = speech(seconds=5)
        opposite = levels_of(np.concatenate([voice, -0.5 * voice], axis=1))
        self.assertAlmostEqual(opposite.correlation, -1, places=4)
        self.assertAlmostEqual(opposite.channel_difference_db, 6.02, delta=0.01)
        apart = levels_of(np.concatenate([noise(-30, 5), noise(-30, 5, seed=2)], axis=1))
        self.assertAlmostEqual(apart.correlation, 0, delta=0.02)
        self.assertIsNone(levels_of(voice).correlation)

    def test_the_mean_of_a_channel_is_its_dc_offset(self):
        self.assertAlmostEqual(levels_of(tone(-20, 3, channels=1) + 0.02).dc_offset, 0.02, places=5)

    def test_holes_in_words_are_found_and_gated_pauses_are_not(self):
        voice = np.tile(tone(-20, 0.5, rate_hz=44100, hz=180, channels=1), (8, 1))
        fade = np.minimum(1, np.minimum(np.arange(22050), np.arange(22050)[::-1]) / 4000)[:, None]
        gated = np.concatenate([np.concatenate([part * fade, np.zeros((13230, 1))]) for part in np.split(voice, 8)])
        holed = gated + noise(-70, len(gated) / 44100)[: len(gated)] * (gated != 0)
        self.assertEqual(levels_of(holed).dropouts, 0)
        for start in (9000, 45000):
            holed[start : start + 2205] = 0
        self.assertEqual(levels_of(holed).dropouts, 2)

    @skipUnless(PROMPTS.exists(), "asterisk-core-sounds-en-wav is not installed")
    def test_a_file_that_was_once_slower_or_lossy_is_empty_above_a_cliff(self):
        """Half the former rate is the edge (Shannon); the prompts are at 8 kHz."""
        for path in real_speech()[:20:4]:
            samples, rate_hz = soundfile.read(path, dtype="float32", always_2d=True)
            if rate_hz == 8000:
                self.assertIsNone(levels_of(samples, 8000).bandwidth_hz)
                faster = levels_of(soxr.resample(samples, 8000, 44100))
                self.assertAlmostEqual(faster.bandwidth_hz, 3750, delta=510)
        wide = speech(seconds=6) + noise(-50, 6)
        self.assertIsNone(levels_of(wide).bandwidth_hz)
        narrow = soxr.resample(soxr.resample(wide, 44100, 16000), 16000, 44100)
        self.assertAlmostEqual(levels_of(narrow).bandwidth_hz, 7500, delta=510)

    def test_how_much_of_it_is_speech(self):
        half = np.concatenate([noise(-20, 5), noise(-70, 5)])
        self.assertAlmostEqual(levels_of(half).speech_share, 0.5, delta=0.02)
        self.assertIsNone(levels_of(np.zeros((44100, 1))).speech_share)


class Sentences(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def told(self, samples, *, rate_hz: int = 44100, name: str = "take.wav", subtype: str | None = "PCM_16"):
        return remarks(measure(written(self.folder, samples, rate_hz, name, subtype)))

    def test_a_good_recording_has_no_remark(self):
        self.assertEqual(self.told(speech()), ())

    def test_each_oddity_is_said_with_what_follows_from_it(self):
        voice = speech(seconds=8)
        for found, said in (
            (self.told(np.clip(voice * 9, -1, 1)), "Clipped in"),
            (self.told(np.concatenate([voice, 0 * voice], axis=1)), "One side is dead (right)"),
            (self.told(np.repeat(voice, 2, axis=1)), "Both sides are the same"),
            (self.told(voice, name="take.mp3", subtype=None), "MP3 is lossy: each further encoding loses quality"),
            (self.told(voice, subtype="FLOAT"), "32-bit float"),
            (self.told(speech(rate_hz=8000), rate_hz=8000), "Recorded at 8000 Hz"),
            (self.told(speech(rate_hz=16000), rate_hz=16000), "Recorded at 16000 Hz"),
            (self.told(voice * 0.005, subtype="PCM_24"), "Very quiet"),
            (self.told(voice + hum(-45, 50, 8)), "Much hum from the mains: 50 Hz at -45 dBFS"),
            (self.told(np.repeat(voice, 4, axis=1)), "4 channels"),
            (self.told(np.concatenate([voice, -voice], axis=1)), "opposite polarity"),
            (self.told(np.concatenate([voice, 0.4 * voice], axis=1)), "The left side is 8 dB louder than the right"),
            (self.told(voice + 0.01), "Off its zero line by 1.0 %"),
            (
                self.told(soxr.resample(noise(-30, 8, rate_hz=8000), 8000, 44100)),
                "though 44100 Hz would hold more: it came over a telephone",
            ),
        ):
            with self.subTest(said):
                self.assertTrue(any(said in sentence for sentence in found), found)

    def test_what_cannot_be_mended_comes_first(self):
        both = np.clip(np.repeat(speech() * 9, 2, axis=1), -1, 1)
        found = self.told(both, subtype="FLOAT")
        self.assertEqual([sentence[:7] for sentence in found], ["Clipped", "32-bit ", "Both si"])
