"""The meters against signals whose answer follows by arithmetic, against published tables, and on real speech."""

import tempfile
from itertools import product
from pathlib import Path
from unittest import TestCase, skipUnless

import av
import av.logging
import numpy as np
import pyloudnorm
import soundfile

from mastering.meters.envelope import powers
from mastering.meters.kweighting import channel_weights, k_weighting
from mastering.meters.measurement import Measurement, measure
from mastering.meters.meter import Levels, Meter
from mastering.meters.truepeak import CONTEXT, peaks_between
from mastering.tests.signals import PROMPTS, noise, real_speech, silence, speech, tone, written


def metered(samples: np.ndarray, rate_hz: int = 48000, names=None, block: int = 65536) -> Levels:
    meter = Meter(rate_hz, names or (("FC",) if samples.shape[1] == 1 else ("FL", "FR")))
    for start in range(0, len(samples), block):
        meter.add(samples[start : start + block])
    return meter.levels()


class Tones(TestCase):
    """Answers that follow by arithmetic from BS.1770-5 and the definition of RMS."""

    def test_a_full_scale_sine_in_one_channel_reads_minus_3(self):
        for hz in (997, 1000):
            levels = metered(tone(0, 10, hz=hz, channels=1))
            self.assertAlmostEqual(levels.integrated_lufs, -3.01, delta=0.03)
            self.assertAlmostEqual(levels.rms_dbfs, -3.01, delta=0.01)
            self.assertAlmostEqual(levels.rms_aes17_dbfs, 0.0, delta=0.01)
            self.assertAlmostEqual(levels.crest_factor_db, 3.01, delta=0.01)

    def test_the_same_in_both_channels_reads_zero(self):
        self.assertAlmostEqual(metered(tone(0, 10)).integrated_lufs, 0.0, delta=0.03)

    def test_each_rate_has_a_filter_of_its_own(self):
        for rate_hz in (8000, 11025, 16000, 22050, 32000, 44100, 88200, 96000, 192000):
            with self.subTest(rate_hz):
                levels = metered(tone(-20, 5, rate_hz=rate_hz, channels=1), rate_hz)
                self.assertAlmostEqual(levels.integrated_lufs, -23.01, delta=0.1)

    def test_surround_channels_weigh_more_and_the_low_one_nothing(self):
        self.assertEqual(channel_weights(("FL", "FR", "FC", "LFE", "SL", "SR")).tolist(), [1, 1, 1, 0, 1.41, 1.41])
        # In 7.1 only the channels at the side are raised (BS.1770-5 annex 3, from memory).
        names = ("FL", "FR", "FC", "LFE", "BL", "BR", "SL", "SR")
        self.assertEqual(channel_weights(names).tolist(), [1, 1, 1, 0, 1, 1, 1.41, 1.41])

    def test_the_48_khz_filter_is_the_published_one(self):
        # ITU-R BS.1770-5 annex 1, tables 1 and 2 (from memory).
        shelf = [1.53512485958697, -2.69169618940638, 1.19839281085285, 1, -1.69065929318241, 0.73248077421585]
        high_pass = [1, -2, 1, 1, -1.99004745483398, 0.99007225036621]
        np.testing.assert_allclose(k_weighting(48000), [shelf, high_pass], atol=1e-9)


RATES_HZ = (44100, 48000, 96000)


class Tech3341(TestCase):
    """EBU Tech 3341 table 1 (from memory), stereo 1 kHz, tolerance 0.1 LU."""

    def test_steady_tones(self):
        for level, rate_hz in product((-23.0, -33.0), RATES_HZ):
            levels = metered(tone(level, 20, rate_hz=rate_hz), rate_hz)
            for figure in (levels.max_momentary_lufs, levels.max_short_term_lufs, levels.integrated_lufs):
                self.assertAlmostEqual(figure, level, delta=0.1)

    def test_gates(self):
        for steps in (
            [(-36, 10), (-23, 60), (-36, 10)],
            [(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)],
            [(-26, 20), (-20, 20.1), (-26, 20)],
        ):
            for rate_hz in RATES_HZ:
                samples = np.concatenate([tone(level, seconds, rate_hz=rate_hz) for level, seconds in steps])
                self.assertAlmostEqual(metered(samples, rate_hz).integrated_lufs, -23.0, delta=0.1)

    def test_five_channels(self):
        for rate_hz in RATES_HZ:
            front, centre, back = (tone(level, 20, channels=1, rate_hz=rate_hz) for level in (-28, -24, -30))
            samples = np.concatenate([front, front, centre, back, back], axis=1)
            levels = metered(samples, rate_hz, names=("FL", "FR", "FC", "SL", "SR"))
            self.assertAlmostEqual(levels.integrated_lufs, -23.0, delta=0.1)

    def test_short_term_and_momentary_hold_over_changing_tones(self):
        for rate_hz in RATES_HZ:

            def run(*steps, rate_hz=rate_hz):
                samples = np.concatenate([tone(level, seconds, rate_hz=rate_hz) for level, seconds in steps])
                return metered(samples, rate_hz)

            self.assertAlmostEqual(run(*[(-20, 1.34), (-30, 1.66)] * 5).max_short_term_lufs, -23.0, delta=0.1)
            self.assertAlmostEqual(run(*[(-20, 0.18), (-30, 0.22)] * 25).max_momentary_lufs, -23.0, delta=0.1)
            # Signals 10 and 13: wherever between two steps of a meter the tone begins.
            for at in range(0, 20, 3):
                late = run((-200, 0.15 * at), (-23, 3), (-200, 1))
                self.assertAlmostEqual(late.max_short_term_lufs, -23.0, delta=0.1)
                late = run((-200, 0.02 * at), (-23, 0.4), (-200, 1))
                self.assertAlmostEqual(late.max_momentary_lufs, -23.0, delta=0.1)

    def test_true_peak(self):
        for part, degrees, level, expected in (
            (4, 0, 0.5, -6.0),
            (4, 45, 0.5, -6.0),
            (6, 60, 0.5, -6.0),
            (8, 67.5, 0.5, -6.0),
            (4, 45, 1.41, 3.0),
        ):
            # The signal is told in samples of its rate, so it is the same at every rate.
            with self.subTest(part=part, degrees=degrees):
                frames = np.arange(48000)
                samples = level * np.sin(2 * np.pi * frames / part + np.deg2rad(degrees))
                samples *= np.minimum(1, np.minimum(frames, frames[::-1]) / 2000)
                peak = metered(np.repeat(samples[:, None], 2, axis=1).astype(np.float32)).true_peak_dbtp
                self.assertLessEqual(peak, expected + 0.2)
                self.assertGreaterEqual(peak, expected - 0.4)


class Tech3342(TestCase):
    """EBU Tech 3342 (from memory), stereo 1 kHz, 20 s each, tolerance 1 LU."""

    def test_loudness_range(self):
        for levels, expected in (
            ((-20, -30), 10),
            ((-20, -15), 5),
            ((-40, -20), 20),
            ((-50, -35, -20, -35, -50), 15),
        ):
            for rate_hz in RATES_HZ:
                samples = np.concatenate([tone(level, 20, rate_hz=rate_hz) for level in levels])
                self.assertAlmostEqual(metered(samples, rate_hz).loudness_range_lu, expected, delta=1.0)


def _framed(samples: np.ndarray, rate_hz: int) -> np.ndarray:
    """A prompt cut to where it speaks, with most of a second of nothing after it."""
    loud = np.flatnonzero(np.abs(samples[:, 0]) > 0.02)
    return np.concatenate([samples[loud[0] : loud[-1]], np.zeros((round(0.9 * rate_hz), 1), np.float32)])


class QuietParts(TestCase):
    """Noise floor, head and tail; definitions of this project, answers by construction."""

    def test_noise_floor_is_the_quietest_half_second(self):
        samples = np.concatenate([noise(-30, 3), noise(-62, 1, seed=2), noise(-30, 3, seed=3)])
        self.assertAlmostEqual(metered(samples, 44100).noise_floor_dbfs, -62, delta=0.3)

    def test_noise_floor_of_an_analytic_set(self):
        """By arithmetic: RMS of a sine is its peak less 3.01 dB; white noise of n samples has a power that varies by
        the root of 2/n, so that the quietest half second lies at most 0.2 dB below its own RMS."""
        loud = tone(-12, 3, channels=1)
        for level_dbfs in (-40.0, -55.0, -70.0, -85.0):
            quiet = tone(level_dbfs, 2, hz=440, channels=1)
            hiss = noise(level_dbfs, 2, rate_hz=48000)
            for name, pause, expected, slack in (
                ("sine", quiet, level_dbfs - 3.0103, 0.02),
                ("white noise", hiss, level_dbfs, 0.2),
                (
                    "a gap of silence inside",
                    np.concatenate([quiet, np.zeros((24000, 1)), quiet]),
                    level_dbfs - 3.0103,
                    0.02,
                ),
                ("0.6 s alone", quiet[:28800], level_dbfs - 3.0103, 0.02),
                ("louder noise beside it", np.concatenate([hiss, hiss * 4]), level_dbfs, 0.2),
            ):
                with self.subTest(name, level_dbfs=level_dbfs):
                    found = metered(np.concatenate([loud, pause, loud]).astype(np.float32)).noise_floor_dbfs
                    self.assertAlmostEqual(found, expected, delta=slack)

    def test_digital_silence_is_no_noise_floor(self):
        gap = silence(2, rate_hz=44100, channels=1)
        samples = np.concatenate([noise(-30, 2), gap, noise(-55, 1.013, seed=2), gap, noise(-30, 2, seed=3)])
        self.assertAlmostEqual(metered(samples, 44100).noise_floor_dbfs, -55, delta=0.3)

    @skipUnless(PROMPTS.exists(), "asterisk-core-sounds-en-wav is not installed")
    def test_a_gated_take_has_the_floor_of_what_is_left_of_its_pauses(self):
        """Real prompts over a room whose level is known; a gate leaves 0.15 or 0.3 s of it after each word."""
        prompts = [soundfile.read(path, dtype="float32", always_2d=True) for path in real_speech()[:16]]
        rate_hz = prompts[0][1]
        for room_dbfs in (-68.0, -55.0):
            for hold_s in (0.15, 0.3):
                for eight in (prompts[:8], prompts[8:]):
                    voice = np.concatenate([_framed(samples, rate_hz) for samples, _ in eight])
                    room = noise(room_dbfs, len(voice) / rate_hz + 1, rate_hz=rate_hz)[: len(voice)]
                    loud, hold = np.cumsum(np.abs(voice[:, 0]) > 0.01), round(hold_s * rate_hz) + 1
                    open_ = loud > np.concatenate([np.zeros(hold), loud[:-hold]])
                    gated = np.where(open_[:, None], voice + room, 0).astype(np.float32)
                    with self.subTest(room_dbfs=room_dbfs, hold_s=hold_s):
                        whole = metered((voice + room).astype(np.float32), rate_hz).noise_floor_dbfs
                        self.assertAlmostEqual(whole, room_dbfs, delta=0.4)
                        self.assertAlmostEqual(metered(gated, rate_hz).noise_floor_dbfs, room_dbfs, delta=1.2)

    def test_where_a_gate_leaves_nothing_but_words_there_is_no_floor(self):
        words = [tone(-20, 0.6, rate_hz=44100, hz=300, channels=1), silence(0.5, rate_hz=44100, channels=1)]
        soft = tone(-32, 0.3, rate_hz=44100, hz=300, channels=1)
        samples = np.concatenate([*words * 4, soft, words[1], *words])
        self.assertIsNone(metered(samples, 44100).noise_floor_dbfs)

    def test_silence_throughout_has_no_figures(self):
        levels = metered(silence(5))
        self.assertTrue(levels.silent)
        for figure in (levels.integrated_lufs, levels.rms_dbfs, levels.noise_floor_dbfs, levels.head_s):
            self.assertIsNone(figure)

    def test_head_and_tail_are_found_in_a_quiet_room(self):
        samples = noise(-65, 6)
        samples[44100 : 4 * 44100] += tone(-15, 3, rate_hz=44100, hz=300, channels=1)
        levels = metered(samples, 44100)
        self.assertAlmostEqual(levels.head_s, 1.0, delta=0.03)
        self.assertAlmostEqual(levels.tail_s, 2.0, delta=0.03)

    def test_a_click_before_the_voice_is_no_speech(self):
        samples = noise(-65, 5)
        samples[2 * 44100 : 4 * 44100] += tone(-15, 2, rate_hz=44100, hz=300, channels=1)
        samples[22050:22100] = 0.5
        self.assertAlmostEqual(metered(samples, 44100).head_s, 2.0, delta=0.03)

    @skipUnless(PROMPTS.exists(), "asterisk-core-sounds-en-wav is not installed")
    def test_head_and_tail_of_real_speech_between_known_silences(self):
        for path in real_speech()[:20]:
            samples, rate_hz = soundfile.read(path, dtype="float32", always_2d=True)
            bare = np.flatnonzero(np.abs(samples[:, 0]) > 0.02)
            spoken = samples[bare[0] : bare[-1]]
            room = noise(-70, len(spoken) / rate_hz + 2.5, rate_hz=rate_hz)[: len(spoken) + round(2.5 * rate_hz)]
            room[rate_hz : rate_hz + len(spoken)] += spoken
            levels = metered(room, rate_hz)
            with self.subTest(path.name):
                self.assertAlmostEqual(levels.head_s, 1.0, delta=0.06)
                self.assertAlmostEqual(levels.tail_s, 1.5, delta=0.12)


class OnePass(TestCase):
    def test_figures_do_not_depend_on_the_blocks(self):
        samples = np.repeat(speech(seconds=7.3), 2, axis=1)
        whole, small = metered(samples, 44100), metered(samples, 44100, block=1000)
        self.assertEqual(whole.integrated_lufs, small.integrated_lufs)
        self.assertAlmostEqual(whole.true_peak_dbtp, small.true_peak_dbtp, places=5)
        self.assertEqual(whole.noise_floor_dbfs, small.noise_floor_dbfs)
        self.assertTrue(whole.sides_alike)

    def test_sides_alike_at_first_are_measured_by_themselves_from_where_they_part(self):
        left = speech(seconds=24)
        right = left.copy()
        right[44100 * 15 + 7 :] *= -0.5
        both = metered(np.hstack([left, right]), 44100)
        apart = [metered(side, 44100) for side in (left, right)]
        self.assertFalse(both.sides_alike)
        np.testing.assert_allclose(both.steps, apart[0].steps + apart[1].steps, rtol=1e-12)

    def test_every_level_comes_back_as_its_mean_square(self):
        levels = np.arange(-32768, 32768).astype(np.int16)
        np.testing.assert_array_equal(powers(levels)[1:], 10.0 ** (levels[1:] / 1000.0))
        self.assertEqual(powers(levels)[0], 0.0)
        np.testing.assert_array_equal(powers(levels[::2]), powers(levels)[::2])

    def test_skipping_quiet_stretches_loses_no_peak(self):
        samples = (0.3 * np.random.default_rng(5).standard_normal(CONTEXT * 40)).astype(np.float32)
        every = peaks_between(samples, above=0.0)
        for above in (0.2, 0.6, 0.9):
            some = peaks_between(samples, above=above)
            np.testing.assert_allclose(np.where(every > above, some, 0), np.where(every > above, every, 0), rtol=1e-5)

    def test_a_measurement_survives_being_kept(self):
        with tempfile.TemporaryDirectory() as folder:
            found = measure(written(folder, speech()))
            kept = Path(folder) / "kept.npz"
            found.save(kept)
            again = Measurement.load(kept)
        self.assertEqual(again.figures(), found.figures())
        self.assertEqual(again.facts, found.facts)
        np.testing.assert_array_equal(again.levels.envelope.power, found.levels.envelope.power)


@skipUnless(PROMPTS.exists(), "asterisk-core-sounds-en-wav is not installed")
class RealSpeech(TestCase):
    """Two general-purpose libraries on sixty pieces of human speech: within 0.1 LU, true peak within 0.2 dB."""

    def test_loudness_agrees_with_pyloudnorm(self):
        for path in real_speech():
            samples, rate_hz = soundfile.read(path, always_2d=True)
            # Whole steps of 100 ms: past them pyloudnorm counts a gating block that runs over the end, which
            # BS.1770-5 leaves out (libav leaves it out too).
            samples = samples[: len(samples) // (rate_hz // 10) * (rate_hz // 10)]
            # pyloudnorm's own default filter is a variant; the one it calls DeMan is the published one.
            theirs = pyloudnorm.Meter(rate_hz, filter_class="DeMan").integrated_loudness(samples)
            with self.subTest(path.name):
                ours = metered(samples.astype(np.float32), rate_hz).integrated_lufs
                self.assertAlmostEqual(ours, theirs, delta=0.1)

    def test_loudness_and_true_peak_agree_with_libav(self):
        for path in real_speech():
            lufs, dbtp = libav_ebur128(path)
            levels = measure(path).levels
            with self.subTest(path.name):
                # libav prints one decimal, so its own rounding is allowed for.
                self.assertAlmostEqual(levels.integrated_lufs, lufs, delta=0.1 + 0.05)
                self.assertAlmostEqual(levels.true_peak_dbtp, dbtp, delta=0.2 + 0.05)


def libav_ebur128(path: Path) -> tuple[float, float]:
    """Integrated loudness and true peak as libav's ebur128 filter sums them up."""
    av.logging.set_level(av.logging.INFO)
    try:
        with av.logging.Capture() as said, av.open(str(path)) as container:
            stream = container.streams.audio[0]
            graph = av.filter.Graph()
            source = graph.add_abuffer(template=stream)
            meter, sink = graph.add("ebur128", "peak=true"), graph.add("abuffersink")
            source.link_to(meter)
            meter.link_to(sink)
            graph.configure()
            for frame in [*container.decode(stream), None]:
                graph.push(frame)
                try:
                    while True:
                        graph.pull()
                except (av.BlockingIOError, EOFError):
                    pass
            del source, meter, sink, graph
        summary = "".join(text for _, name, text in said if name == "ebur128").rpartition("Summary:")[2]
    finally:
        av.logging.set_level(None)
    return tuple(float(summary.split(f"{label}:")[1].split()[0]) for label in ("    I", "    Peak"))
