"""Gain, limiter and the rehearsal that predicts them."""

from unittest import TestCase

import numpy as np

from mastering.meters.meter import Meter
from mastering.shaping.edges import Edges, Setting, edged, edged_stretch
from mastering.shaping.gain import gained
from mastering.shaping.limiter import LOOK_AHEAD_S, limited
from mastering.shaping.rehearsal import rehearse
from mastering.shaping.roomtone import NEAR_S, Room
from mastering.tests.signals import noise, speech, tone


def through(samples: np.ndarray, ceiling_dbtp: float, *, block: int = 5000, rate_hz: int = 44100) -> np.ndarray:
    blocks = (samples[start : start + block] for start in range(0, len(samples), block))
    channels = samples.shape[1]
    return np.concatenate(list(limited(blocks, ceiling_dbtp=ceiling_dbtp, sample_rate_hz=rate_hz, channels=channels)))


def levels_of(samples: np.ndarray):
    meter = Meter(44100, ("FC",) if samples.shape[1] == 1 else ("FL", "FR"))
    meter.add(samples)
    return meter.levels()


def swing_db(samples: np.ndarray) -> float:
    """How far the levels of 50 ms windows lie apart."""
    width = 2205
    windows = samples[: len(samples) // width * width].reshape(-1, width)
    levels = 10 * np.log10(np.mean(np.square(windows, dtype=np.float64), axis=1))
    return float(levels.max() - levels.min())


def likeness(samples: np.ndarray, after_s: float = 0.04) -> np.ndarray:
    """The autocorrelation beyond a lag, up to two seconds, of what lies above the hum."""
    spectrum = np.fft.rfft(samples[:, 0].astype(np.float64), 2 * len(samples))
    spectrum[: round(400 / 22050 * len(spectrum))] = 0
    found = np.fft.irfft(np.square(np.abs(spectrum)))[:88200]
    return found[round(after_s * 44100) :] / found[0]


class RoomTone(TestCase):
    """Hum of a mains frequency and two of its multiples stands 6 to 20 dB above the noise of a room; the source is flat
    by construction."""

    def room(self, hz: int, above_db: float | None, seconds: float = 6.0) -> np.ndarray:
        times = np.arange(round(seconds * 44100)) / 44100
        hum = sum(a * np.sin(2 * np.pi * n * hz * times + n) for n, a in ((1, 1.0), (2, 0.4), (3, 0.6)))
        hum *= 0 if above_db is None else 1e-3 * 10 ** (above_db / 20) / np.sqrt(np.mean(hum**2))
        return (noise(-60, seconds) + hum[:, None]).astype(np.float32)

    def test_it_neither_swings_nor_repeats_itself(self):
        for length_s in (0.12, 0.5, 1.5):
            for hz in (50, 60):
                for above_db in (None, 6, 12, 20):
                    source = self.room(hz, above_db)
                    made = Room(source[: round(length_s * 44100)], sample_rate_hz=44100).tone(4 * 44100)
                    tone_ = np.concatenate(list(made))
                    with self.subTest(length_s=length_s, hz=hz, above_db=above_db):
                        self.assertEqual(tone_.shape, (4 * 44100, 1))
                        self.assertLess(swing_db(tone_), swing_db(source[: 4 * 44100]) + 1.5)
                        power_db = 10 * np.log10(np.mean(tone_**2) / np.mean(source**2))
                        self.assertAlmostEqual(power_db, 0, delta=0.4)
                        self.assertLess(likeness(source[: 4 * 44100]).max(), 0.1)
                        self.assertLess(likeness(tone_).max(), 0.5)

    def test_its_sides_have_in_common_what_the_room_s_have(self):
        one, other = noise(-60, 1.5), noise(-60, 1.5, seed=9)
        for share in (0.0, 0.6, 1.0):
            both = np.concatenate([one, share * one + np.sqrt(1 - share**2) * other], axis=1)
            made = np.concatenate(list(Room(both, sample_rate_hz=44100).tone(5 * 44100)))
            self.assertAlmostEqual(float(np.corrcoef(made.T)[0, 1]), share, delta=0.05)

    def test_the_same_room_gives_the_same_samples_and_any_scrap_will_do(self):
        for count in (1, 2, 15, 63, 64, 700):
            scrap = noise(-60, 1)[:count]
            first, second = (np.concatenate(list(Room(scrap, sample_rate_hz=44100).tone(5000))) for _ in range(2))
            np.testing.assert_array_equal(first, second)
            self.assertTrue(np.isfinite(first).all() and len(first) == 5000)


class Joins(TestCase):
    """Room tone put at head and tail over eight noises: nothing is heard of where it passes into the recording."""

    seconds, rate_hz = 20, 44100

    def noises(self):
        times = np.arange(self.seconds * self.rate_hz) / self.rate_hz

        def sloping(slope: float, seed: int) -> np.ndarray:
            """Noise that falls by so many times 6 dB an octave, as that of fans does (from memory)."""
            spectrum = np.fft.rfft(noise(0, self.seconds, seed=seed)[:, 0].astype(np.float64))
            spectrum /= np.maximum(np.fft.rfftfreq(len(times), 1 / self.rate_hz), 15.0) ** slope
            sound = np.fft.irfft(spectrum, len(times))
            return sound / sound.std()

        def hum(hz) -> np.ndarray:
            turns = 2 * np.pi * np.cumsum(np.broadcast_to(hz, times.shape)) / self.rate_hz
            return sum(level * np.sin(n * turns + n) for n, level in ((1, 1.0), (2, 0.5), (3, 0.7), (5, 0.3)))

        yield "white", sloping(0.0, 2)
        yield "pink", sloping(0.5, 3)
        yield "a fan", sloping(1.0, 4)
        yield "a large fan", sloping(1.5, 5)
        yield "hum", hum(50.013) + 0.05 * sloping(0.0, 6)
        yield "hum that wanders", hum(60 + 0.05 * np.sin(2 * np.pi * 0.1 * times)) + 0.1 * sloping(0.5, 7)
        yield "a fan and hum", sloping(1.0, 8) + 0.8 * hum(49.98)
        yield "air conditioning", sloping(0.8, 9) + 0.3 * np.sin(2 * np.pi * 117.3 * times)

    def looked_at(self, sound: np.ndarray) -> tuple[float, float]:
        """The highest step between two samples, and the energy above 4 kHz."""
        spectrum = np.fft.rfft(sound * np.hanning(len(sound)))
        high = np.fft.rfftfreq(len(sound), 1 / self.rate_hz) > 4000
        return float(np.abs(np.diff(sound)).max()), float(np.square(np.abs(spectrum[high])).sum())

    def recorded(self, sound: np.ndarray, width: int) -> tuple[np.ndarray, np.ndarray]:
        """A noise as it is recorded, and what of step and energy it has itself, but for one in a thousand."""
        samples = (3e-3 * sound / sound.std()).astype(np.float32)[:, None]
        own = [self.looked_at(samples[at : at + width, 0]) for at in range(0, len(samples) - width, 251)]
        return samples, np.quantile(np.array(own), 0.999, axis=0) * [1.1, 1.3]

    def test_neither_a_step_nor_a_tick_nor_a_dip_at_two_hundred_joins(self):
        chance, second, width = np.random.default_rng(5), self.rate_hz, 512
        for name, sound in self.noises():
            recorded, highest = self.recorded(sound, width)
            join = round(0.06 * second)
            levels = recorded[: len(recorded) // join * join].reshape(-1, join).std(axis=1)
            for _ in range(13):
                learned, first, last = (int(chance.integers(*span) * second) for span in ((0, 8), (9, 12), (15, 19)))
                edges = Edges(
                    cut_head_s=first / second, tone_head_s=1.0, quiet_head_s=0.2,
                    cut_tail_s=self.seconds - last / second, tone_tail_s=1.0, quiet_tail_s=0.2,
                )  # fmt: skip
                quiet = recorded[learned : learned + second // 2]
                setting = Setting(
                    edges, frames=len(recorded), quiet=quiet, quiet_at=learned, sample_rate_hz=self.rate_hz
                )
                blocks = (recorded[at : at + 5000] for at in range(0, len(recorded), 5000))
                made = np.concatenate(list(edged(blocks, setting)))
                self.assertEqual(len(made), 2 * second + last - first)
                stretch = edged_stretch(lambda start, end: iter([recorded[start:end]]), setting, 40000, len(made))  # noqa: B023
                np.testing.assert_array_equal(np.concatenate(list(stretch)), made[40000:])
                for joins in ((second, second + join), (second + last - first - join, second + last - first)):
                    for at in joins:
                        found = self.looked_at(made[at - width // 2 : at + width // 2, 0])
                        self.assertTrue((np.array(found) < highest).all(), (name, found, highest))
                    # Low noise takes its time; what rises and falls over a join would show all the same.
                    here = made[joins[0] : joins[1], 0]
                    self.assertLess(np.std(here), 1.2 * levels.max(), name)
                    self.assertGreater(np.std(here), 0.7 * levels.min(), name)

    def test_neither_a_step_nor_a_tick_nor_a_dip_where_tone_stands_between_two_sounds_that_stay_as_they_are(self):
        chance, second, width = np.random.default_rng(6), self.rate_hz, 512
        for name, sound in self.noises():
            recorded, highest = self.recorded(sound, width)
            part = round(0.05 * second)
            levels = recorded[: len(recorded) // part * part].reshape(-1, part).std(axis=1)
            for length in (second // 8, second // 2, 3 * second):
                for _ in range(2):
                    learned, end, begin = (int(chance.integers(*span) * second) for span in ((0, 8), (9, 12), (15, 19)))
                    room = Room(recorded[learned : learned + second // 2], sample_rate_hz=self.rate_hz)
                    near = round(NEAR_S * second)
                    tone = np.concatenate(
                        [*room.tone(length, recorded[end - near : end], recorded[begin : begin + near])]
                    )
                    self.assertEqual(len(tone), length)
                    made = np.concatenate([recorded[end - second : end], tone, recorded[begin : begin + second]])[:, 0]
                    for at in (second, second + length):
                        found = self.looked_at(made[at - width // 2 : at + width // 2])
                        self.assertTrue((np.array(found) < highest).all(), (name, length, found, highest))
                        beside = made[at - part // 2 : at + part // 2]
                        self.assertLess(np.std(beside), 1.4 * levels.max(), name)
                        self.assertGreater(np.std(beside), 0.6 * levels.min(), name)

    def test_a_word_that_begins_at_once_loses_no_more_than_a_moment(self):
        word, quiet = noise(-20, 2), noise(-60, 0.5, seed=9)
        edges = Edges(tone_head_s=0.5, tone_tail_s=0.5)
        setting = Setting(edges, frames=len(word), quiet=quiet, quiet_at=0, sample_rate_hz=44100)
        made = np.concatenate(list(edged(iter([word]), setting)))
        moment = round(0.005 * 44100)
        np.testing.assert_array_equal(made[22050 + moment : -22050 - moment], word[moment:-moment])

    def test_hum_goes_on_in_phase_however_far_away_it_was_learned(self):
        times = np.arange(60 * 44100) / 44100
        # Mains wander by some hundredths of a hertz within a minute (from memory).
        turns = 2 * np.pi * np.cumsum(50 + 0.07 * np.sin(2 * np.pi * times / 40)) / 44100
        hum = (1e-2 * np.sin(turns) + noise(-70, 60)[:, 0]).astype(np.float32)[:, None]
        quiet_at, first = 50 * 44100, 5 * 44100
        edges = Edges(cut_head_s=5.0, tone_head_s=1.0, quiet_head_s=0.4)
        setting = Setting(
            edges, frames=len(hum), quiet=hum[quiet_at : quiet_at + 22050], quiet_at=quiet_at, sample_rate_hz=44100
        )
        made = np.concatenate(list(edged(iter([hum]), setting)))
        # What would have been there before the join.
        np.testing.assert_allclose(made[33075:44100], hum[first - 11025 : first], atol=4e-3)


class Limiting(TestCase):
    def test_true_peak_stays_within_a_twentieth_of_a_decibel_of_the_ceiling(self):
        for gain_db in (3, 9, 20):
            for samples in (speech(peak=0.5), np.repeat(noise(-14, 5), 2, axis=1), tone(-1, 3, rate_hz=44100, hz=9000)):
                loud = next(gained(iter([samples]), gain_db))
                with self.subTest(gain_db=gain_db):
                    self.assertLessEqual(levels_of(through(loud, -1.0)).true_peak_dbtp, -1.0 + 0.05)

    def test_what_is_under_the_ceiling_passes_bit_for_bit(self):
        samples = speech(peak=0.5)
        np.testing.assert_array_equal(through(samples, -3.0), samples)

    def test_far_from_a_peak_nothing_changes_and_all_stays_in_place(self):
        samples = noise(-30, 4)
        samples[2 * 44100] = 1.0
        out = through(samples, -6.0)
        self.assertEqual(len(out), len(samples))
        look_ahead = round(LOOK_AHEAD_S * 44100) + 32
        np.testing.assert_array_equal(out[: 2 * 44100 - look_ahead], samples[: 2 * 44100 - look_ahead])
        # It recovers by 30 dB a second: docs/architecture.md, not the constant of the code.
        release = round(6 / 30.0 * 44100) + look_ahead
        np.testing.assert_array_equal(out[2 * 44100 + release :], samples[2 * 44100 + release :])
        self.assertEqual(int(np.abs(out).argmax()), 2 * 44100)

    def test_the_gain_recovers_no_faster_than_stated(self):
        samples = tone(-3, 4, rate_hz=44100, hz=100, channels=1)
        samples[44100:46000] *= 4
        out = through(samples, -1.0)
        heard = np.abs(samples[:, 0]) > 0.01
        gain_db = 20 * np.log10(np.abs(out[heard, 0]) / np.abs(samples[heard, 0]))
        times = np.flatnonzero(heard) / 44100
        later = np.searchsorted(times, times + 0.1)
        inside = later < len(times)
        rise_db = gain_db[later[inside]] - gain_db[inside]
        self.assertLessEqual(rise_db.max(), 0.11 * 30.0)
        self.assertGreaterEqual(rise_db.max(), 0.09 * 30.0)

    def test_the_gain_goes_on_where_one_chunk_of_its_work_follows_another(self):
        """A peak shortly before each place, 32,768 samples apart, where the limiter begins with another chunk."""
        samples = np.full((4 * 32768, 1), 0.1, np.float32)
        for at in (32768, 2 * 32768, 3 * 32768):
            samples[at - 300 : at - 280] = 1.0
        gain_db = 20 * np.log10(through(samples, -20.0)[:, 0] / samples[:, 0])
        for at in (32768, 2 * 32768, 3 * 32768):
            after = gain_db[at - 250 : at + 5000]
            self.assertLess(np.abs(np.diff(after)).max(), 0.01, "no jump")
            self.assertAlmostEqual(gain_db[at + 4410] - gain_db[at], 3.0, delta=0.1)

    def test_the_gain_falls_no_faster_than_its_depth_within_the_look_ahead(self):
        samples = tone(-20, 3, rate_hz=44100, hz=3000, channels=1)
        samples[60000:60020] *= 10 ** (25 / 20)
        out = through(samples, -1.0)
        heard = np.flatnonzero(np.abs(samples[:60000, 0]) > 0.05)
        gain_db = 20 * np.log10(np.abs(out[heard, 0] / samples[heard, 0]))
        depth_db, times = -gain_db.min(), heard / 44100
        later = np.searchsorted(times, times + 0.001)
        inside = later < len(times)
        fall_db = gain_db[inside] - gain_db[later[inside]]
        self.assertGreater(depth_db, 3)
        self.assertLessEqual(fall_db.max(), depth_db * 0.0014 / LOOK_AHEAD_S)

    def test_blocks_of_any_length_give_the_same(self):
        loud = np.repeat(speech(peak=1.4), 2, axis=1)
        np.testing.assert_array_equal(through(loud, -2.0, block=333), through(loud, -2.0, block=70000))

    def test_short_streams(self):
        for frames in (1, 15, 16, 200, 5000):
            self.assertEqual(len(through(noise(-3, 1)[:frames], -6.0)), frames)


class Rehearsing(TestCase):
    def test_loudness_and_rms_are_predicted(self):
        samples = speech(peak=0.5, seconds=20)
        envelope = levels_of(samples).envelope
        for gain_db in (-6.0, 3.0, 10.0):
            done = levels_of(through(next(gained(iter([samples]), gain_db)), -1.0))
            told = rehearse(envelope, gain_db=gain_db, ceiling_dbtp=-1.0)
            with self.subTest(gain_db=gain_db):
                self.assertAlmostEqual(told.integrated_lufs, done.integrated_lufs, delta=0.3)
                self.assertAlmostEqual(told.rms_dbfs, done.rms_dbfs, delta=0.3)
