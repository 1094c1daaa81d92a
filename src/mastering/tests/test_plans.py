"""Level plans: each rule alone and together, the gentlest chain, sets, and what is said where nothing fits."""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase, skipUnless

import numpy as np
import soxr

from mastering.errors import CannotMake
from mastering.making.survey import Survey
from mastering.meters.measurement import Measurement, measure
from mastering.meters.meter import Levels, Meter
from mastering.outlets.checksheet import consistency
from mastering.outlets.findings import FAIL, PASS
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.outlet import BadOutlet, Outlet
from mastering.outlets.planning import plan_levels
from mastering.outlets.rulesheets import parse, shipped, shipped_text
from mastering.outlets.sentences import steps
from mastering.outlets.setplan import Given, plan_set
from mastering.pipeline import make
from mastering.shaping.treatment import ALWAYS, AS_IT_IS, NEEDED, Treatment
from mastering.tests.prompts import RATE_HZ as PROMPT_HZ
from mastering.tests.prompts import prompts, there
from mastering.tests.signals import PROMPTS, noise, read_aloud, speech, tone, written

RATE_HZ = 44100
_HEAD = shipped_text("radio-playout").partition('[[rules]]\nname = "sample_peak_dbfs"')[0]


def outlet(**rules: str) -> Outlet:
    """A WAV outlet with these level rules, each given as TOML: `rms_dbfs="at_least = -23\\nat_most = -18"`."""
    return parse(
        _HEAD + "".join(f'[[rules]]\nname = "{n}"\n{asked}\nsource = "a test"\n' for n, asked in rules.items())
    )


def levels_of(samples: np.ndarray, channels: int = 1) -> Levels:
    meter = Meter(RATE_HZ, ("FC",) if channels == 1 else ("FL", "FR"))
    meter.add(np.repeat(samples.astype(np.float32), channels, axis=1))
    return meter.levels()


def plan(samples: np.ndarray, asked: Outlet, treatment: Treatment = AS_IT_IS, *, channels=1, content="speech"):
    demands = asked.demands(channels=channels, content_kind=content)
    return plan_levels(levels_of(samples, channels), demands, lossy=False, treatment=treatment, content_kind=content)


class HeadsAndTails(TestCase):
    @skipUnless(there(), "asterisk-core-sounds are not installed")
    def test_a_narrow_range_is_met_by_what_is_measured_in_the_end(self):
        """Where the first and the last word lie is told by how loud all of it is, which a shorter tail changes."""
        within = "at_least = 0.4\nat_most = 0.6"
        asked = outlet(head_s=within, tail_s=within)
        said = soxr.resample(prompts("en", 1.5, 6.0)[144].samples.astype(np.float64), PROMPT_HZ, RATE_HZ)
        for head_s in (0.0, 0.05, 0.3):
            first = round(head_s * RATE_HZ)
            frames = first + len(said) + round(0.9 * RATE_HZ)
            room = 10 ** (-58 / 20) * np.random.default_rng(12).standard_normal(frames)
            room[first : first + len(said)] += 0.3 * said / np.abs(said).max()
            with self.subTest(head_s), tempfile.TemporaryDirectory() as kept:
                made = make(written(Path(kept), room[:, None]), asked, Path(kept) / "out.wav")
                wrong = [f"{f.label}: {f.found}" for f in made.sheet.findings if f.verdict == FAIL]
                self.assertEqual(wrong, [])


class EachRule(TestCase):
    def test_the_same_take_however_quiet_comes_out_alike(self):
        """What lies below the absolute gate of BS.1770 in a quiet take does not once it is as loud as it is to be."""
        asked = outlet(integrated_lufs="target = -23\ntolerance = 0.5", true_peak_dbtp="at_most = -1")
        samples = speech(seconds=12, peak=0.25)
        gain_db = plan(samples, asked).gain_db
        for quieter_db in (30, 48, 56):
            told = plan(samples * 10 ** (-quieter_db / 20), asked)
            self.assertAlmostEqual(told.gain_db, gain_db + quieter_db, delta=0.05)
            self.assertEqual((told.collisions, told.unmet), ((), {}))
            self.assertAlmostEqual(told.predicted["integrated_lufs"], -23, delta=0.1)

    def test_loudness_differs_for_mono_and_stereo(self):
        asked = outlet(
            integrated_lufs="mono = { target = -19, tolerance = 1 }\nstereo = { target = -16, tolerance = 1 }"
        )
        for channels, wanted in ((1, -19), (2, -16)):
            told = plan(speech(peak=0.1), asked, channels=channels)
            self.assertAlmostEqual(told.predicted["integrated_lufs"], wanted, delta=0.05)
        # The same voice on both sides reads 3 LU more, so both get the same gain (ITU-R BS.1770-5).
        self.assertAlmostEqual(
            plan(speech(peak=0.1), asked).gain_db, plan(speech(peak=0.1), asked, channels=2).gain_db, delta=0.02
        )

    def test_the_longest_pause_between_words_is_predicted(self):
        """What counts is the quiet between words, not at either end: common practice, no source."""
        prompt = speech(seconds=6, peak=0.3)
        halting = [prompt[: 3 * RATE_HZ], noise(-74, 2.5, seed=2), prompt[3 * RATE_HZ :]]
        take = np.concatenate([noise(-74, 4, seed=1), *halting, noise(-74, 5, seed=4)])
        told = plan(take, outlet(longest_pause_s="at_most = 2", integrated_lufs="target = -23\ntolerance = 1"))
        self.assertAlmostEqual(told.predicted["longest_pause_s"], 2.5, delta=0.15)
        self.assertIn("shorten its pauses", " ".join(told.collisions))
        self.assertFalse(plan(take, outlet(longest_pause_s="at_most = 3")).collisions)

    def test_rms_means_what_the_outlet_says_it_means(self):
        plainly = plan(speech(peak=0.1), outlet(rms_dbfs="at_least = -23\nat_most = -18"))
        aes17 = plan(speech(peak=0.1), outlet(rms_aes17_dbfs="at_least = -23\nat_most = -18"))
        self.assertAlmostEqual(plainly.gain_db - aes17.gain_db, 3.01, delta=0.02)

    def test_a_peak_ceiling_alone_asks_for_no_gain(self):
        told = plan(speech(peak=0.9), outlet(true_peak_dbtp="at_most = -3"))
        self.assertEqual(told.gain_db, 0.0)
        self.assertLessEqual(told.predicted["true_peak_dbtp"], -3.0)
        self.assertEqual(told.collisions, ())

    def test_loudness_and_rms_are_met_together_where_one_gain_does(self):
        samples = speech(peak=0.1)
        levels = levels_of(samples)
        apart = levels.integrated_lufs - levels.rms_dbfs
        both = outlet(
            integrated_lufs="target = -20\ntolerance = 2", rms_dbfs=f"at_least = {-23 - apart}\nat_most = {-21 - apart}"
        )
        told = plan(samples, both)
        self.assertEqual(told.collisions, ())
        self.assertLessEqual(told.predicted["rms_dbfs"], -21 - apart)
        self.assertGreaterEqual(told.predicted["integrated_lufs"], -22)

    def test_the_gain_minds_the_noise_floor_where_one_meets_all(self):
        retail = outlet(rms_dbfs="at_least = -23\nat_most = -18", noise_floor_dbfs="at_most = -60")
        samples = speech(seconds=12, peak=0.2) + noise(-67, 12)
        levels = levels_of(samples)
        comfortable_db = -22.5 - levels.rms_dbfs
        self.assertGreater(levels.noise_floor_dbfs + comfortable_db, -60, "half a dB inside, it would be too loud")
        told = plan(samples, retail)
        self.assertEqual((told.collisions, told.unmet), ((), {}))
        self.assertGreaterEqual(told.predicted["rms_dbfs"], -23)
        self.assertLessEqual(told.predicted["noise_floor_dbfs"], -60)
        # Where no gain meets both, the voice keeps its place and the noise is told of.
        loud = plan(speech(seconds=12, peak=0.2) + noise(-60, 12), retail)
        self.assertAlmostEqual(loud.predicted["rms_dbfs"], -22.5, delta=0.05)
        self.assertEqual(loud.collided, ("noise_floor_dbfs",))

    def test_a_set_minds_it_too(self):
        retail = outlet(rms_dbfs="at_least = -23\nat_most = -18", noise_floor_dbfs="at_most = -60")
        together = Treatment(together=True)
        members = [
            Given(levels_of(speech(seconds=12, peak=p) + noise(-67, 12)), "speech", together) for p in (0.2, 0.21)
        ]
        self.assertEqual([told.unmet for told in plan_set(members, retail)], [{}, {}])

    def test_two_rules_that_no_gain_meets_are_both_named(self):
        both = outlet(integrated_lufs="target = -20\ntolerance = 1", rms_dbfs="at_least = -12\nat_most = -10")
        (said,) = plan(speech(peak=0.1), both).collisions
        self.assertRegex(said, r"reaches -\d+\.\d dBFS; the outlet asks for -12 or more, \d+\.\d more than that")
        self.assertIn("integrated loudness stands against it", said)

    def test_a_delivery_s_rule_is_written_with_care(self):
        for wrong in ("target = 2", "at_least = 1\nat_most = 2", "mono = { at_most = 2 }"):
            with self.assertRaises(BadOutlet):
                outlet(consistency_lu=wrong)


@skipUnless(PROMPTS.exists(), "asterisk-core-sounds-en-wav is not installed")
class Gentlest(TestCase):
    @classmethod
    def setUpClass(cls):
        even = read_aloud(80, pause_s=(0.5, 0.9), even=True)
        gains_db = np.where(np.arange(len(even)) // (20 * RATE_HZ) % 2, 4, -4)
        cls.uneven = (even * 10 ** (gains_db / 20) * 0.3)[:, None] + noise(-80, 80)
        cls.noisy = even[:, None] * 0.3 + noise(-66, 80)
        cls.range = outlet(loudness_range_lu="at_most = 5", integrated_lufs="target = -19\ntolerance = 1")
        cls.retail = outlet(rms_dbfs="at_least = -23\nat_most = -18", noise_floor_dbfs="at_most = -60")

    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def test_ride_is_used_where_it_is_needed_and_allowed(self):
        told = plan(self.uneven, self.range, Treatment(ride=NEEDED))
        self.assertIsNotNone(told.ride_range_db)
        self.assertEqual(told.collisions, ())
        self.assertIn("Ride", dict(steps(told)))

    def test_ride_is_proposed_where_it_would_do_and_is_not_allowed(self):
        (said,) = plan(self.uneven, self.range).collisions
        self.assertRegex(said, r"loudness range is \d+\.\d LU; the outlet allows 5\. Ride would do")

    def test_ride_is_not_used_where_gain_alone_does_or_on_music(self):
        asked = outlet(integrated_lufs="target = -19\ntolerance = 1")
        self.assertIsNone(plan(self.uneven, asked, Treatment(ride=NEEDED)).ride_range_db)
        told = plan(self.uneven, self.range, Treatment(ride=ALWAYS), content="music")
        self.assertIsNone(told.ride_range_db)
        self.assertIn("leaves music alone", told.remarks[0])

    def test_hush_is_as_deep_as_it_has_to_be_and_no_deeper(self):
        before = plan(self.noisy, self.retail)
        self.assertRegex(
            before.collisions[0],
            r"After the \d+\.\d dB this take needs, its noise floor is at -\d\d\.\d dBFS; the outlet allows -60\. "
            r"Hush of \d+ dB or a quieter room would do\.",
        )
        told = plan(self.noisy, self.retail, Treatment(hush=NEEDED, hush_db=18))
        excess_db = before.predicted["noise_floor_dbfs"] + 60
        self.assertAlmostEqual(told.hush_db, excess_db + 1, delta=0.05)
        self.assertEqual(told.collisions, ())
        whole = plan(self.noisy, self.retail, Treatment(hush=ALWAYS, hush_db=14))
        self.assertEqual(whole.hush_db, 14)

    def test_hush_that_is_not_enough_says_how_much_would_be(self):
        told = plan(self.noisy, self.retail, Treatment(hush=NEEDED, hush_db=1))
        self.assertRegex(told.collisions[0], r"and 1 dB of hush, its noise floor is at .* Hush of \d+ dB or a quieter")
        louder = self.noisy + noise(-45, 80, seed=2)
        self.assertIn("more than hush can take", plan(louder, self.retail).collisions[0])

    def test_no_sample_of_a_wav_lies_above_its_ceiling_however_much_is_limited(self):
        asked = outlet(integrated_lufs="target = -9\ntolerance = 3", true_peak_dbtp="at_most = -1")
        made = make(written(self.folder, self.noisy * 2), asked, self.folder / "loud.wav")
        self.assertGreater(made.plan.limited_db, 6)
        self.assertLessEqual(made.found.levels.true_peak_dbtp, made.plan.ceiling_dbtp + 0.05)
        self.assertEqual(made.found.levels.frames, len(self.noisy))

    def test_the_files_land_where_the_plans_say(self):
        everything = Treatment(ride=ALWAYS, hush=ALWAYS, hush_db=8, rumble_hz=70)
        for name, samples, asked, treatment in (
            ("ridden", self.uneven, self.range, Treatment(ride=NEEDED)),
            ("hushed", self.noisy, self.retail, Treatment(hush=NEEDED, hush_db=18)),
            ("everything", self.noisy, self.range, everything),
        ):
            recording = written(self.folder, samples, name=f"{name}.wav", subtype="PCM_24")
            made = make(recording, asked, self.folder / f"{name}-made.wav", treatment=treatment)
            with self.subTest(name):
                self.assertNotEqual(made.sheet.verdict, FAIL, made.sheet.findings)
                self.assertEqual(made.attempts, 1)
                for figure, delta in (("integrated_lufs", 0.3), ("rms_dbfs", 0.4), ("loudness_range_lu", 0.7)):
                    found = getattr(made.found.levels, figure)
                    self.assertAlmostEqual(found, made.plan.predicted[figure], delta=delta, msg=figure)
                found = made.found.levels.noise_floor_dbfs
                self.assertAlmostEqual(found, made.plan.predicted["noise_floor_dbfs"], delta=1.5)


class Sets(TestCase):
    def setUp(self):
        self.asked = outlet(integrated_lufs="target = -20\ntolerance = 1", true_peak_dbtp="at_most = -1")
        self.levels = [levels_of(speech(peak=peak, seed=seed)) for peak, seed in ((0.3, 1), (0.28, 2), (0.05, 4))]

    def plans(self, treatment: Treatment, asked: Outlet | None = None) -> list[LevelPlan | CannotMake]:
        return plan_set([Given(levels, "speech", treatment) for levels in self.levels], asked or self.asked)

    def test_each_by_itself_lands_on_the_aim(self):
        for told in self.plans(AS_IT_IS):
            self.assertAlmostEqual(told.predicted["integrated_lufs"], -20, delta=0.05)

    def test_one_gain_keeps_the_relation_and_says_who_falls_out_of_the_range(self):
        told = self.plans(Treatment(together=True))
        self.assertEqual(len({each.gain_db for each in told}), 1)
        self.assertTrue(all(each.fixed_gain for each in told))
        self.assertIn("It has one gain with the rest of its set; levelled by itself it would do", told[2].collisions[0])

    def test_one_gain_moves_as_far_as_brings_all_into_their_ranges(self):
        near = [levels_of(speech(seconds=12, peak=0.2, seed=3) * 10 ** (db / 20)) for db in (0.0, -1.6)]
        told = plan_set([Given(levels, "speech", Treatment(together=True)) for levels in near], self.asked)
        self.assertEqual([each.collisions for each in told], [(), ()])

    def test_files_too_far_from_the_others_are_brought_nearer(self):
        asked = outlet(rms_dbfs="at_least = -30\nat_most = -14", consistency_lu="at_most = 1.5")
        self.levels = [levels_of(speech(seconds=12, peak=p, seed=3)) for p in (0.3, 0.28, 0.12)]
        told = self.plans(AS_IT_IS, asked)
        reached = [each.predicted["integrated_lufs"] for each in told]
        self.assertLess(np.abs(np.array(reached) - np.median(reached)).max(), 1.51)
        self.assertEqual(told[0].gain_db, 0.0)
        findings = consistency(reached, asked)
        self.assertEqual({finding.verdict for finding in findings} - {PASS, "passes with a remark"}, set())
        far = consistency([-20.0, -20.4, -24.0, None], asked)
        self.assertEqual((far[2].verdict, far[3]), (FAIL, None))
        self.assertEqual(consistency([-20.0], self.asked), [None])

    def test_a_silent_member_stops_nobody(self):
        self.levels.append(levels_of(np.zeros((RATE_HZ, 1))))
        for treatment in (AS_IT_IS, Treatment(together=True)):
            *told, silent = self.plans(treatment)
            self.assertIsInstance(silent, CannotMake)
            self.assertTrue(all(isinstance(each, LevelPlan) for each in told))


class BadInput(TestCase):
    """What no microphone should yield: figures are given or undefined, and plans explain themselves."""

    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def inputs(self):
        click = np.zeros((3 * RATE_HZ, 1), np.float32)
        click[50000] = 0.9
        broken = speech(seconds=5)
        broken[1000], broken[2000], broken[3000] = np.nan, np.inf, -np.inf
        square = np.sign(tone(0, 4, rate_hz=RATE_HZ, hz=220, channels=1)) * np.float32(1.0)
        yield "silence", np.zeros((2 * RATE_HZ, 1)), "PCM_16"
        yield "a moment", noise(-20, 0.2), "PCM_16"
        yield "one sample", np.full((1, 1), 0.5), "PCM_16"
        yield "a click in silence", click, "PCM_16"
        yield "square wave", square, "PCM_16"
        yield "nothing but DC", np.full((3 * RATE_HZ, 1), 0.25), "PCM_16"
        yield "not a number", broken, "FLOAT"
        yield "one dead side", np.concatenate([speech(), np.zeros_like(speech())], axis=1), "PCM_16"

    def test_figures_are_finite_or_none(self):
        for name, samples, subtype in self.inputs():
            figures = measure(written(self.folder, samples, name="a.wav", subtype=subtype)).figures()
            for figure, value in figures.items():
                with self.subTest(name, figure=figure):
                    self.assertTrue(value is None or isinstance(value, str | bool) or np.isfinite(value))

    def test_every_plan_is_made_or_explained_with_any_treatment(self):
        everything = Treatment(rumble_hz=70, hush=ALWAYS, ride=ALWAYS, together=True)
        for name, samples, subtype in self.inputs():
            path = written(self.folder, samples, name="a.wav", subtype=subtype)
            for asked in (shipped()[key] for key in ("audiobook-retail", "podcast-host", "radio-playout")):
                for treatment in (AS_IT_IS, everything, Treatment(hush=NEEDED, ride=NEEDED)):
                    with self.subTest(name, outlet=asked.key):
                        self.explained(path, asked, treatment)

    def explained(self, path: Path, asked: Outlet, treatment: Treatment) -> None:
        survey = Survey(path, treatment)
        measured: Measurement = survey.measured(survey.channels_for(asked, "speech"))
        (told,) = plan_set([Given(measured.levels, "speech", treatment)], asked)
        if isinstance(told, CannotMake):
            self.assertRegex(str(told), "silent throughout|too short or too quiet")
            return
        self.assertTrue(np.isfinite(told.gain_db))
        self.assertTrue(all(np.isfinite(value) for value in told.predicted.values()), told.predicted)
        for sentence in (*told.collisions, *told.remarks, *(words for _, words in steps(told))):
            self.assertNotRegex(sentence, r"\b(inf|nan|None)\b")
        made = make(path, asked, self.folder / "made.out", treatment=treatment, plan=told, replace=True)
        self.assertTrue(made.sheet.findings)


class BelowWhatIsHeard(TestCase):
    """An offset of the zero line reads as noise in any RMS: 1 % of full scale is -40 dBFS, by arithmetic."""

    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        self.retail = outlet(rms_dbfs="at_least = -23\nat_most = -18", noise_floor_dbfs="at_most = -60")
        self.off = speech(seconds=12, peak=0.2) + 0.004

    def made(self, samples: np.ndarray, **treatment):
        source = written(self.folder, samples, name=f"{len(list(self.folder.iterdir()))}.wav")
        return make(source, self.retail, source.with_suffix(".made.wav"), treatment=Treatment(**treatment))

    def test_the_plan_names_the_offset_rather_than_the_room(self):
        told = plan(self.off, self.retail)
        self.assertRegex(told.collisions[0], r"zero line is off by 0\.4 % of full scale, which alone reads -48 dBFS")
        self.assertNotIn("quieter room", told.collisions[0])
        self.assertIn("quieter room", plan(speech(seconds=12, peak=0.2) + noise(-60, 12), self.retail).collisions[0])

    def test_the_check_sheet_does_too(self):
        made = self.made(self.off)
        (finding,) = [each for each in made.sheet.findings if each.verdict == FAIL]
        self.assertEqual(finding.rule, "noise_floor_dbfs")
        self.assertRegex(finding.advice, r"The zero line is off by 0\.\d %.*rumble filter")

    def test_the_rumble_filter_is_on_where_it_is_needed(self):
        made = self.made(self.off, rumble_hz=70, rumble=NEEDED)
        self.assertEqual((made.plan.rumble_hz, made.sheet.verdict), (70, PASS))
        self.assertAlmostEqual(made.plan.predicted["noise_floor_dbfs"], made.found.levels.noise_floor_dbfs, delta=0.3)
        always = self.made(self.off, rumble_hz=70)
        self.assertEqual(always.path.read_bytes(), made.path.read_bytes())

    def test_and_off_where_it_is_not(self):
        for samples in (speech(seconds=12, peak=0.2), speech(seconds=12, peak=0.2) + noise(-60, 12)):
            self.assertEqual(self.made(samples, rumble_hz=70, rumble=NEEDED).plan.rumble_hz, 0)

    def test_what_was_foreseen_and_did_not_come_is_not_said(self):
        source = written(self.folder, speech(seconds=12, peak=0.2) + noise(-67.0, 12))
        near = plan(speech(seconds=12, peak=0.2) + noise(-60, 12), self.retail)
        self.assertTrue(near.collisions)
        made = make(source, self.retail, self.folder / "made.wav", plan=replace(near, gain_db=6.2, ceiling_dbtp=None))
        self.assertNotEqual(made.sheet.verdict, FAIL)
        self.assertNotIn("noise floor", " ".join(made.remarks))
