"""Rumble filter, hush, ride, match, and room tone at head and tail."""

import tempfile
from pathlib import Path
from unittest import TestCase, skipUnless

import numpy as np
import soundfile
from scipy.ndimage import maximum_filter1d
from scipy.signal import butter, sosfiltfilt, sosfreqz

from mastering.before_after import before_and_after
from mastering.meters import loudness
from mastering.meters.envelope import is_silent
from mastering.meters.measurement import measure
from mastering.meters.meter import Levels, Meter
from mastering.meters.speech import spoken_cells, threshold_between_words
from mastering.outlets.rulesheets import parse, shipped_text
from mastering.pipeline import make
from mastering.shaping.hush import hushed, noise_power
from mastering.shaping.match import matching_gains
from mastering.shaping.ride import FASTEST_DB_PER_S, MOST_DB, ridden, ride_curve
from mastering.shaping.rumble import rumble_filter, without_rumble
from mastering.shaping.treatment import ALWAYS, AS_IT_IS, BadTreatment, Treatment, treatment_of
from mastering.tests.signals import PROMPTS, noise, read_aloud, speech, written

RATE_HZ = 44100


def levels_of(samples: np.ndarray) -> Levels:
    meter = Meter(RATE_HZ, ("FC",))
    meter.add(samples.astype(np.float32))
    return meter.levels()


def blocks_of(samples: np.ndarray, block: int = 20000):
    return (samples[start : start + block] for start in range(0, len(samples), block))


def decibels(power: float) -> float:
    return 10 * np.log10(power)


class Rumble(TestCase):
    def test_what_lies_below_goes_and_no_formant_moves(self):
        # Formants of vowels lie from 200 Hz up (Peterson and Barney 1952, from memory: 270 Hz the lowest mean).
        for rate_hz in (8000, 44100, 192000):
            frequencies, response = sosfreqz(rumble_filter(70, rate_hz), worN=1 << 18, fs=rate_hz)
            level_db = 20 * np.log10(np.maximum(np.abs(response), 1e-9))
            self.assertLess(level_db[frequencies <= 35].max(), -35)
            self.assertGreater(level_db[frequencies >= 100].min(), -0.1)
            self.assertGreater(level_db[frequencies >= 200].min(), -0.001)

    def test_blocks_of_any_length_give_the_same_and_nothing_moves(self):
        samples = speech(seconds=3)
        filtered = [
            np.concatenate(list(without_rumble(blocks_of(samples, size), cutoff_hz=70, sample_rate_hz=RATE_HZ)))
            for size in (777, 50000)
        ]
        np.testing.assert_allclose(*filtered, atol=1e-6)
        self.assertEqual(len(filtered[0]), len(samples))
        shifts = np.correlate(filtered[0][:30000, 0], samples[100:29900, 0], "valid")
        self.assertLessEqual(abs(int(shifts.argmax()) - 100), 3)


@skipUnless(PROMPTS.exists(), "asterisk-core-sounds-en-wav is not installed")
class Hush(TestCase):
    """Real speech mixed with known noise at 20 dB SNR: what is asked of hush, measured."""

    @classmethod
    def setUpClass(cls):
        cls.clean = read_aloud(40, pause_s=(0.8, 1.2))
        # Pauses are silence here; a tenth of a second beside each word is neither.
        cls.spoken = maximum_filter1d(np.abs(cls.clean), RATE_HZ // 50) > 1e-4
        cls.pauses = maximum_filter1d(np.abs(cls.clean), RATE_HZ // 5) == 0
        speech_power = np.mean(cls.clean[cls.spoken] ** 2)
        random = np.random.default_rng(7)
        white = random.standard_normal(len(cls.clean))
        spectrum = np.fft.rfft(white) / np.sqrt(np.maximum(np.fft.rfftfreq(len(white), 1 / RATE_HZ), 20))
        times = np.arange(len(white)) / RATE_HZ
        humming = 0.3 * white + sum(np.sin(2 * np.pi * 50 * k * times) / k for k in range(1, 6))
        kinds = {"white": white, "pink": np.fft.irfft(spectrum, len(white)), "hum": humming}
        cls.noises = {
            kind: (n * np.sqrt(speech_power / np.mean(n**2) / 100)).astype(np.float32) for kind, n in kinds.items()
        }

    def hushed(self, noise: np.ndarray, lower_db: float, **options) -> np.ndarray:
        learned = noise_power(noise[:RATE_HZ, None], sample_rate_hz=RATE_HZ)
        mixed = (self.clean + noise)[:, None]
        blocks = hushed(blocks_of(mixed, **options), noise=learned, lower_db=lower_db, sample_rate_hz=RATE_HZ)
        return np.concatenate(list(blocks))[:, 0]

    def test_noise_in_pauses_falls_by_what_is_chosen_and_speech_stays(self):
        # 250 to 8000 Hz is the band speech is understood by (ANSI S3.5, from memory: 150 to 8000 Hz).
        band = butter(4, [150, 8000], "bandpass", fs=RATE_HZ, output="sos")
        voice = np.mean(sosfiltfilt(band, self.clean)[self.spoken] ** 2)
        for kind, noise_samples in self.noises.items():
            for lower_db in (3, 6, 10, 18):
                with self.subTest(kind=kind, lower_db=lower_db):
                    out = self.hushed(noise_samples, lower_db)
                    fall_db = decibels(np.mean(noise_samples[self.pauses] ** 2) / np.mean(out[self.pauses] ** 2))
                    self.assertAlmostEqual(fall_db, lower_db, delta=2.0)
                    error = np.mean(sosfiltfilt(band, out - self.clean)[self.spoken] ** 2)
                    self.assertGreater(decibels(voice / error), 15.0)

    def test_output_is_aligned_and_does_not_depend_on_the_blocks(self):
        white = self.noises["white"]
        out = self.hushed(white, 10.0)
        self.assertEqual(len(out), len(self.clean))
        np.testing.assert_allclose(self.hushed(white, 10.0, block=4567), out, atol=1e-6)
        loud = np.abs(self.clean) > 0.1
        self.assertLess(np.abs(out - self.clean)[loud].mean() / np.abs(self.clean)[loud].mean(), 0.1)


@skipUnless(PROMPTS.exists(), "asterisk-core-sounds-en-wav is not installed")
class Ride(TestCase):
    def stepped(self, low_db: float, high_db: float) -> np.ndarray:
        samples = read_aloud(160, pause_s=(0.15, 0.6), even=True) + noise(-70, 160)[:, 0]
        gains_db = np.where(np.arange(len(samples)) // (20 * RATE_HZ) % 2, low_db, high_db)
        return (samples * 10 ** (gains_db / 20))[:, None].astype(np.float32)

    def ridden(self, samples: np.ndarray) -> tuple[np.ndarray, Levels]:
        curve = ride_curve(levels_of(samples).envelope)
        blocks = ridden(blocks_of(samples), curve, sample_rate_hz=RATE_HZ)
        return curve, levels_of(np.concatenate(list(blocks)))

    def test_steps_of_6_db_every_20_s_come_within_2_lu(self):
        samples = self.stepped(-3, 3)
        self.assertGreater(levels_of(samples).loudness_range_lu, 6)
        _, after = self.ridden(samples)
        self.assertLess(after.loudness_range_lu, 2.0)

    def test_jumps_of_12_db_vary_by_less_than_2_lu(self):
        # A jump of 12 dB takes 4 s at 3 dB/s, so the moments around it lie outside; their spread is what can be had.
        samples = self.stepped(-6, 6)
        spread = [np.std(loudness.over(levels.steps, 30)) for levels in (levels_of(samples), self.ridden(samples)[1])]
        self.assertGreater(spread[0], 5.0)
        self.assertLess(spread[1], 2.0)

    def test_the_hand_stays_within_its_bounds_and_never_lifts_a_pause(self):
        samples = self.stepped(-10, 10)
        envelope = levels_of(samples).envelope
        curve = ride_curve(envelope)
        self.assertLessEqual(np.abs(curve).max(), MOST_DB + 1e-4)
        self.assertGreater(np.ptp(curve), 15)
        self.assertLessEqual(np.abs(np.diff(curve)).max(), FASTEST_DB_PER_S / 100 + 1e-4)
        spoken = spoken_cells(envelope.weighted, threshold_between_words(envelope.weighted))
        pause = np.flatnonzero(~spoken[:-1] & ~spoken[1:])
        self.assertLessEqual(np.diff(curve)[pause].max(), 1e-6, "it rises in speech alone")

    def test_what_is_hardly_speech_is_left_alone(self):
        self.assertFalse(ride_curve(levels_of(noise(-30, 0.2)).envelope).any())
        self.assertFalse(ride_curve(levels_of(np.zeros((RATE_HZ, 1))).envelope).any())

    def test_a_jump_into_the_middle_gives_the_same(self):
        samples = self.stepped(-3, 3)[: 60 * RATE_HZ]
        curve = ride_curve(levels_of(samples).envelope)
        whole = np.concatenate(list(ridden(blocks_of(samples), curve, sample_rate_hz=RATE_HZ)))
        start = 17 * RATE_HZ + 123
        part = ridden(blocks_of(samples[start:]), curve, sample_rate_hz=RATE_HZ, start_s=start / RATE_HZ)
        np.testing.assert_allclose(np.concatenate(list(part)), whole[start:], atol=1e-6)


@skipUnless(PROMPTS.exists(), "asterisk-core-sounds-en-wav is not installed")
class Match(TestCase):
    def tracks(self, *, guest_db: float, bleed_db: float) -> tuple[np.ndarray, np.ndarray]:
        """Two who speak in turns of 6 s, the guest's microphone set by `guest_db`; each hears the other by bleed."""
        voice = read_aloud(96, pause_s=(0.2, 0.5))
        turn = np.arange(len(voice)) // (6 * RATE_HZ) % 2
        host, guest = voice * (turn == 0), voice * (turn == 1)
        bleed = 10 ** (bleed_db / 20)
        hiss = noise(-72, 96)[:, 0]
        return host + bleed * guest + hiss, (guest + bleed * host) * 10 ** (guest_db / 20) + hiss[::-1]

    def test_bleed_is_not_taken_for_speech(self):
        for guest_db in (-14.0, -6.0, 0.0, 8.0):
            for bleed_db in (-40.0, -18.0, -12.0):
                host, guest = self.tracks(guest_db=guest_db, bleed_db=bleed_db)
                tracks = [(levels_of(track[:, None]).envelope, 0) for track in (host, guest)]
                with self.subTest(guest_db=guest_db, bleed_db=bleed_db):
                    first, second = matching_gains(tracks)
                    self.assertEqual(first, 0.0)
                    self.assertAlmostEqual(second, -guest_db, delta=0.7)

    def test_a_guest_who_says_little_is_measured_on_that(self):
        voice = read_aloud(96, pause_s=(0.2, 0.5))
        mine = np.arange(len(voice)) // (4 * RATE_HZ) % 6 == 5
        host, guest = np.where(mine, 0, voice), np.where(mine, voice, 0)
        hiss = noise(-72, 96)[:, 0]
        tracks = [host + 0.2 * guest + hiss, (guest + 0.2 * host) * 0.4 + hiss]
        gains = matching_gains([(levels_of(track[:, None]).envelope, 0) for track in tracks])
        self.assertAlmostEqual(gains[1], -20 * np.log10(0.4), delta=1.0)

    def test_a_track_that_begins_later_is_compared_in_time(self):
        host, guest = self.tracks(guest_db=-9.0, bleed_db=-12.0)
        later = guest[3 * RATE_HZ :]
        tracks = [(levels_of(host[:, None]).envelope, 0), (levels_of(later[:, None]).envelope, 300)]
        self.assertAlmostEqual(matching_gains(tracks)[1], 9.0, delta=0.7)

    def test_a_track_without_a_voice_of_its_own_is_said(self):
        host, _ = self.tracks(guest_db=0.0, bleed_db=-60.0)
        envelope = levels_of(host[:, None]).envelope
        silent = levels_of(np.zeros((RATE_HZ, 1))).envelope
        self.assertEqual(matching_gains([(envelope, 0), (silent, 0)]), [0.0, None])


_WAV = shipped_text("radio-playout").partition('[[rules]]\nname = "sample_peak_dbfs"')[0]
_EDGES = """
[[rules]]
name = "integrated_lufs"
target = -20
tolerance = 1
source = "a test"

[[rules]]
name = "head_s"
at_least = 0.5
at_most = 1
source = "a test"

[[rules]]
name = "tail_s"
at_least = 1
at_most = 3
source = "a test"
"""


class HeadAndTail(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        self.outlet = parse(_WAV + _EDGES)

    def made(self, samples: np.ndarray, treatment: Treatment = AS_IT_IS, **options):
        recording = written(self.folder, samples, subtype="PCM_24")
        made = make(recording, self.outlet, self.folder / "made.wav", treatment=treatment, replace=True, **options)
        back, _ = soundfile.read(made.path, dtype="float32", always_2d=True)
        return made, back

    def take(self, head_s: float, tail_s: float, hiss_dbfs: float = -66.0) -> np.ndarray:
        spoken = speech(seconds=12)
        loud = np.flatnonzero(np.abs(spoken[:, 0]) > 0.02)
        quiet = [np.zeros((round(seconds * RATE_HZ), 1)) for seconds in (head_s, 0.9, tail_s)]
        words = [spoken[loud[0] : loud[len(loud) // 2]], spoken[loud[len(loud) // 2] : loud[-1]]]
        samples = np.concatenate([quiet[0], words[0], quiet[1], words[1], quiet[2]])
        return samples + noise(hiss_dbfs, len(samples) / RATE_HZ + 1)[: len(samples)]

    def test_both_ends_are_brought_into_the_range_asked_with_the_room_s_own_tone(self):
        for head_s, tail_s in ((0.05, 0.1), (2.5, 6.0), (0.7, 2.0)):
            with self.subTest(head_s=head_s, tail_s=tail_s):
                made, back = self.made(self.take(head_s, tail_s))
                verdicts = {finding.rule: finding.verdict for finding in made.sheet.findings}
                self.assertEqual((verdicts["head_s"], verdicts["tail_s"]), ("passes", "passes"))
                self.assertAlmostEqual(made.found.levels.head_s, made.plan.predicted["head_s"], delta=0.03)
                self.assertFalse(is_silent(measure(made.path).levels.envelope.power).any())
                ends = [back[: RATE_HZ // 4], back[-RATE_HZ // 2 :]]
                for end in ends:
                    level_dbfs = decibels(np.mean(end**2)) - made.plan.gain_db
                    self.assertAlmostEqual(level_dbfs, -66, delta=2.0)

    def test_what_is_in_range_is_left_alone(self):
        made, _ = self.made(self.take(0.7, 2.0))
        self.assertEqual((made.plan.edges.head_s, made.plan.edges.tail_s), (0.0, 0.0))

    def test_digital_silence_at_an_end_gives_way_to_room_tone(self):
        samples = np.concatenate([np.zeros((40000, 1)), self.take(0.02, 0.3), np.zeros((80000, 1))])
        made, back = self.made(samples)
        self.assertFalse(is_silent(made.found.levels.envelope.power).any())
        self.assertNotIn("fails", {finding.verdict for finding in made.sheet.findings})

    def test_a_shortage_is_said(self):
        steady = noise(-30, 6)
        made, _ = self.made(steady)
        self.assertRegex(" ".join(made.plan.collisions), "no pause to make more from. Record some seconds")
        spoken = self.take(0.02, 0.03)
        gated = np.where(maximum_filter1d(np.abs(spoken[:, 0]), RATE_HZ // 20) < 0.02, 0, spoken[:, 0])[:, None]
        made, _ = self.made(gated)
        self.assertRegex(" ".join(made.plan.collisions), "no pause to make more from")
        scrap = noise(-66, 0.2)
        made, _ = self.made(np.concatenate([gated, np.zeros((RATE_HZ, 1)), scrap, np.zeros((30000, 1))]))
        self.assertRegex(" ".join((*made.plan.remarks, *made.plan.collisions)), r"room tone")

    def test_left_as_it_is_where_that_is_wished(self):
        made, _ = self.made(self.take(0.05, 0.1), Treatment(room_tone=False))
        self.assertIn("fails", {finding.verdict for finding in made.sheet.findings})
        self.assertRegex(made.plan.collisions[0], r"There are 0\.\d\d s of quiet before the first word")

    def test_before_and_after_are_heard_as_the_file_will_be_at_equal_loudness(self):
        samples = self.take(0.05, 0.1)
        everything = Treatment(rumble_hz=70, hush=ALWAYS, hush_db=8, ride=ALWAYS)
        made, back = self.made(samples, everything)
        recording = self.folder / "take.wav"
        from mastering.making.survey import measured_for

        levels = measured_for(recording, channels=1, rumble_hz=70).levels
        heard = before_and_after(recording, recording, made.plan, levels, start_s=4.0, length_s=3.0)
        start = round((4.0 + made.plan.edges.head_s) * RATE_HZ)
        there = back[start : start + 3 * RATE_HZ]
        scale = np.sqrt(np.mean(there**2) / np.mean(heard.after**2))
        np.testing.assert_allclose(heard.after * scale, there, atol=2e-3)
        loud = [levels_of(side).integrated_lufs for side in (heard.before, heard.after)]
        self.assertAlmostEqual(*loud, delta=0.1)
        begins = before_and_after(
            recording, recording, made.plan, levels, start_s=-made.plan.edges.head_s, length_s=1.0
        )
        self.assertEqual(len(begins.after), RATE_HZ)


class Wishes(TestCase):
    def test_a_treatment_survives_being_kept(self):
        for treatment in (Treatment(), Treatment(rumble_hz=80, hush=ALWAYS, noise_s=(1.0, 2.5), together=True)):
            self.assertEqual(treatment_of(treatment.as_dict()), treatment)
        self.assertEqual(Treatment().as_dict(), {})

    def test_what_cannot_be_given_is_refused_with_a_sentence(self):
        for values in (
            {"rumble_hz": 400},
            {"hush_db": 40},
            {"hush_db": "much"},
            {"hush": "perhaps"},
            {"noise_s": [3, 2]},
            {"noise_s": 7},
            {"louder": True},
            {"hush_db": float("nan")},
        ):
            with self.subTest(values=values), self.assertRaises(BadTreatment):
                treatment_of(values)
