"""Versions of a stretch beside each other: in step, equally loud, and what a listener's answers are worth."""

import tempfile
from math import comb
from pathlib import Path
from unittest import TestCase

import numpy as np

from mastering.audio.convert import resampled, to_held
from mastering.audio.encodings import Encoding
from mastering.audio.writers import open_writer
from mastering.comparing import APART_S, RATE_HZ, by_guessing, encoded, gains_db, in_step, of_file, of_samples
from mastering.tests.signals import noise, speech, written

_LENGTH_S = 2.0


def voice_like(seconds: float) -> np.ndarray:
    """Noise that comes and goes as syllables do, shape (n, 1) at 44.1 kHz."""
    samples = noise(-20, seconds)
    times = np.arange(len(samples)) / 44100
    return samples * (0.6 + 0.4 * np.sin(2 * np.pi * 3.1 * times))[:, None].astype(np.float32)


class InStep(TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.sound = voice_like(6.0)

    def stretch(self, samples: np.ndarray, start_s: float = 2.0) -> np.ndarray:
        return of_file(
            written(self.folder, samples, name=f"{len(list(self.folder.iterdir()))}.wav"), start_s, _LENGTH_S
        )

    def reference(self) -> np.ndarray:
        return of_samples(self.sound[2 * 44100 : 4 * 44100], 44100, _LENGTH_S)

    def test_one_that_begins_ten_milliseconds_later_is_heard_together(self):
        delayed = np.concatenate([np.zeros((441, 1), np.float32), self.sound])
        earlier = self.sound[441:]
        first, later, sooner = in_step([self.reference(), self.stretch(delayed), self.stretch(earlier)], _LENGTH_S)
        self.assertAlmostEqual(later.later_s, 0.010, delta=1 / RATE_HZ)
        self.assertAlmostEqual(sooner.later_s, -0.010, delta=1 / RATE_HZ)
        for each in (later, sooner):
            self.assertEqual(each.samples.shape, (round(_LENGTH_S * RATE_HZ), 2))
            apart = each.samples - first.samples
            # But for the ends, where the resampler has nothing to go on.
            self.assertLess(np.abs(apart[500:-500]).max(), 0.01)

    def test_one_that_is_louder_is_heard_as_loud(self):
        louder = self.sound * np.float32(10 ** (3 / 20))
        versions = in_step([self.reference(), self.stretch(louder)], _LENGTH_S)
        self.assertAlmostEqual(versions[1].loudness_lufs - versions[0].loudness_lufs, 3.0, delta=0.05)
        gains = gains_db(versions)
        self.assertEqual(gains[0], 0.0)
        self.assertAlmostEqual(gains[1], -3.0, delta=0.05)

    def test_what_is_encoded_is_in_step_and_as_loud(self):
        samples = speech(seconds=6.0)[2 * 44100 : 4 * 44100]
        as_it_is = of_samples(samples, 44100, _LENGTH_S)
        for container, codec, kbps in (("mp3", "mp3", 32), ("m4a", "aac", 32), ("ogg", "opus", 24)):
            rate_hz = 48000 if codec == "opus" else 44100
            encoding = Encoding(
                container=container,
                codec=codec,
                sample_rate_hz=rate_hz,
                channels=1,
                bit_rate_kbps=kbps,
            )
            with self.subTest(codec=codec):
                trial = encoded(samples, 44100, encoding, _LENGTH_S)
                versions = in_step([as_it_is, trial], _LENGTH_S)
                self.assertLess(abs(versions[1].later_s), 0.001)
                self.assertLess(abs(gains_db(versions)[1] - gains_db(versions)[0]), 2.0)
                self.assertGreater(np.abs(versions[1].samples - versions[0].samples).max(), 0.001)

    def test_a_stretch_far_into_a_file_of_any_format_is_in_step(self):
        samples = speech(seconds=40.0)
        start = 31 * 44100
        first = of_samples(samples[start : start + 2 * 44100], 44100, _LENGTH_S)
        for container, codec in (("mp3", "mp3"), ("m4a", "aac"), ("ogg", "opus"), ("ogg", "vorbis"), ("flac", "flac")):
            rate_hz = 48000 if codec == "opus" else 44100
            kbps = {"bit_rate_kbps": 96} if codec in ("mp3", "aac", "opus") else {}
            quality = {"quality": 3} if codec == "vorbis" else {}
            encoding = Encoding(container=container, codec=codec, sample_rate_hz=rate_hz, channels=1, **kbps, **quality)
            path = self.folder / f"long-{codec}.{encoding.extension}"
            writer = open_writer(path, encoding, frames=len(samples))
            blocks = resampled(iter([samples]), from_hz=44100, to_hz=rate_hz, channels=1)
            for block in to_held(blocks, holds=encoding.holds, dither=False):
                writer.write(block)
            writer.close()
            with self.subTest(codec=codec):
                found = in_step([first, of_file(path, 31.0, _LENGTH_S)], _LENGTH_S)[1]
                self.assertTrue(found.alike)
                self.assertLess(abs(found.later_s), 0.1)

    def test_what_is_another_sound_is_left_where_it_is(self):
        other = noise(-20, 6.0, seed=99)
        found = in_step([self.reference(), self.stretch(other)], _LENGTH_S)[1]
        self.assertEqual((found.later_s, found.alike), (0.0, False))

    def test_beyond_the_ends_of_a_file_there_is_silence(self):
        found = self.stretch(self.sound, start_s=5.0)
        self.assertEqual(len(found), round((_LENGTH_S + 2 * APART_S) * RATE_HZ))
        self.assertFalse(found[-RATE_HZ // 2 :].any())
        self.assertFalse(self.stretch(self.sound, start_s=0.0)[: RATE_HZ // 10].any())


class Guessing(TestCase):
    def test_it_is_the_tail_of_the_binomial_distribution(self):
        """The sum of its terms (any textbook); 9 of 10 and 12 of 16 are those of common tables of listening tests."""
        for rounds in (1, 5, 10, 16, 40):
            for right in range(rounds + 1):
                terms = sum(comb(rounds, each) for each in range(right, rounds + 1)) / 2**rounds
                self.assertAlmostEqual(by_guessing(right, rounds), terms)
        self.assertAlmostEqual(by_guessing(9, 10), 0.0107, 4)
        self.assertAlmostEqual(by_guessing(12, 16), 0.0384, 4)
