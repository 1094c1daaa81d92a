"""What stands between a small slip and a wrong file: each of these holds one line of the code to its word."""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase
from unittest.mock import patch

import numpy as np

from mastering.audio.reader import Reader
from mastering.editing import markup
from mastering.editing.markkinds import FADE_IN, FADE_OUT, GAIN, PICKUP, STRIKE, TONE, Mark
from mastering.editing.markup import cleared, set_mark
from mastering.editing.pieces import Piece, Span
from mastering.errors import CannotMake, UnreadableRecording
from mastering.meters.measurement import measure
from mastering.meters.meter import Meter
from mastering.outlets.checksheet import check
from mastering.outlets.demands import Range
from mastering.outlets.findings import FAIL, PASS, REMARK, verdict_of
from mastering.outlets.planning import corrected, plan_levels
from mastering.outlets.rulesheets import parse, shipped_text
from mastering.outlets.setplan import Given, plan_set
from mastering.rendering import Programme, Track
from mastering.shaping.limiter import limited
from mastering.shaping.treatment import NEEDED, Treatment
from mastering.tagging import writing
from mastering.tagging.inscription import Inscription
from mastering.tests.signals import noise, speech, tone, written

RATE_HZ = 44100
_HEAD = shipped_text("radio-playout").partition('[[rules]]\nname = "sample_peak_dbfs"')[0]


def outlet(**rules: str):
    said = "".join(f'[[rules]]\nname = "{name}"\n{asked}\nsource = "a test"\n' for name, asked in rules.items())
    return parse(_HEAD + said)


def levels_of(samples: np.ndarray):
    meter = Meter(RATE_HZ, ("FC",))
    meter.add(samples.astype(np.float32))
    return meter.levels()


def demands(asked) -> dict:
    return asked.demands(channels=1, content_kind="speech")


class Levelling(TestCase):
    def test_a_correction_never_goes_beyond_what_the_plan_allows(self):
        asked = outlet(rms_dbfs="at_least = -20\nat_most = -16")
        plan = plan_levels(levels_of(speech(peak=0.2)), demands(asked), lossy=False)
        far_too_quiet = replace(levels_of(speech(peak=0.2)), rms_dbfs=-60.0)
        better = corrected(plan, far_too_quiet, demands(asked))
        self.assertEqual(better.gain_db, plan.highest_gain_db)

    def test_what_the_limiter_takes_is_made_up_for_by_three_decibels_at_most(self):
        """A voice under sharp knocks: bringing it all the way up would be the limiter's work on the voice itself."""
        voice = speech(seconds=12, peak=0.05)
        voice[::4410] = 0.9
        asked = outlet(integrated_lufs="target = -10\ntolerance = 1", true_peak_dbtp="at_most = -3")
        levels = levels_of(voice)
        plan = plan_levels(levels, demands(asked), lossy=False)
        needed_db = -10 - levels.integrated_lufs
        self.assertGreater(plan.limited_db, 6)
        self.assertLessEqual(plan.gain_db, needed_db + 3.001)
        self.assertAlmostEqual(plan.highest_gain_db, needed_db + 3, delta=0.01)

    def test_a_ride_that_brings_nothing_is_not_taken(self):
        """Two rules that contradict each other on an even voice: no ride brings them nearer."""
        asked = outlet(integrated_lufs="target = -20\ntolerance = 1", rms_dbfs="at_least = -12\nat_most = -10")
        plan = plan_levels(levels_of(speech()), demands(asked), lossy=False, treatment=Treatment(ride=NEEDED))
        self.assertIn("rms_dbfs", plan.unmet)
        self.assertIsNone(plan.ride_range_db)

    def test_a_tenth_of_a_decibel_is_a_miss(self):
        demand = Range(low=-23.0, high=-18.0)
        self.assertAlmostEqual(demand.missed_by(-23.1), 0.1)
        self.assertAlmostEqual(demand.missed_by(-17.9), 0.1)
        self.assertEqual(demand.missed_by(-23.0), 0.0)
        asked = outlet(rms_dbfs="at_least = -23\nat_most = -18")
        plan = plan_levels(levels_of(speech(peak=0.2)), demands(asked), lossy=False)
        near = replace(levels_of(speech(peak=0.2)), rms_dbfs=-23.1)
        self.assertIsNotNone(corrected(plan, near, demands(asked)))

    def test_the_gain_of_a_set_brings_each_into_its_range_where_one_does(self):
        asked = outlet(rms_dbfs="at_least = -24\nat_most = -18")
        together = Treatment(together=True)
        loud, soft = (speech(seconds=60, peak=0.4), speech(seconds=6, peak=0.3))
        plans = plan_set([Given(levels_of(each), "speech", together) for each in (loud, soft)], asked)
        self.assertEqual(plans[0].gain_db, plans[1].gain_db)
        self.assertEqual([plan.unmet for plan in plans], [{}, {}])
        self.assertGreater(levels_of(loud).rms_dbfs - levels_of(soft).rms_dbfs, 4)

    def test_after_a_peak_the_limiter_recovers_by_thirty_decibels_a_second(self):
        """The figure that docs/architecture.md states, not the constant of the code."""
        samples = np.full((3 * RATE_HZ, 1), 0.1, np.float32)
        samples[RATE_HZ : RATE_HZ + 200] = 1.0
        out = np.concatenate(list(limited(iter([samples]), ceiling_dbtp=-20.0, sample_rate_hz=RATE_HZ, channels=1)))
        gain_db = 20 * np.log10(out[:, 0] / samples[:, 0])
        at = [RATE_HZ + 200 + round(after_s * RATE_HZ) for after_s in (0.1, 0.2, 0.4, 1.0)]
        self.assertLess(gain_db[at[0]], -15)
        self.assertAlmostEqual(gain_db[at[1]] - gain_db[at[0]], 3, delta=0.1)
        self.assertAlmostEqual(gain_db[at[2]] - gain_db[at[0]], 9, delta=0.1)
        self.assertAlmostEqual(gain_db[at[3]], 0, delta=0.01)


class Verdicts(TestCase):
    def test_a_tenth_of_a_decibel_too_much_fails(self):
        asked = outlet(sample_peak_dbfs="at_most = -3", rms_dbfs="at_most = -10")
        with tempfile.TemporaryDirectory() as folder:
            for peak_dbfs, verdict in ((-2.9, FAIL), (-2.98, FAIL), (-3.05, PASS)):
                found = measure(
                    written(Path(folder), tone(peak_dbfs, 2, rate_hz=RATE_HZ, channels=1), name=f"{peak_dbfs}.wav")
                )
                finding = next(f for f in check(found, asked).findings if f.rule == "sample_peak_dbfs")
                self.assertEqual(finding.verdict, verdict, peak_dbfs)

    def test_a_remark_is_no_plain_pass(self):
        self.assertEqual(verdict_of([PASS, REMARK, PASS]), REMARK)
        self.assertEqual(verdict_of([REMARK, FAIL, PASS]), FAIL)
        self.assertEqual(verdict_of([PASS, PASS]), PASS)
        asked = outlet(integrated_lufs="target = -23\ntolerance = 1")
        near = replace(levels_of(tone(-23, 5, rate_hz=RATE_HZ, channels=1)), integrated_lufs=-22.05)
        with tempfile.TemporaryDirectory() as folder:
            found = measure(written(Path(folder), tone(-23, 5, rate_hz=RATE_HZ, channels=1)))
        sheet = check(replace(found, levels=near), asked)
        self.assertEqual(sheet.verdict, REMARK)


class Marks(TestCase):
    def test_neighbours_that_only_touch_are_left_alone(self):
        marks = ()
        for start, end in ((0, 100), (200, 300)):
            mark = Mark(id=0, kind=GAIN, start_sample=start, end_sample=end, value_db=3)
            marks = set_mark(marks, mark, length_samples=1000)
        marks = set_mark(
            marks,
            Mark(id=0, kind=PICKUP, start_sample=300, end_sample=400, recording="b", to_sample=9),
            length_samples=1000,
        )
        self.assertEqual(cleared(marks, 100, 200), marks)
        self.assertEqual(cleared(marks, 400, 500), marks, "a pickup that ends there goes as a whole or not at all")
        fade = Mark(id=0, kind=FADE_OUT, start_sample=400, end_sample=500)
        faded = set_mark(marks, fade, length_samples=1000)
        both = set_mark(faded, replace(fade, kind=FADE_IN, start_sample=500, end_sample=600), length_samples=1000)
        self.assertEqual([mark.kind for mark in both][-2:], [FADE_OUT, FADE_IN])
        tone_mark = Mark(id=0, kind=TONE, start_sample=400, end_sample=500)
        self.assertEqual(sum(m.kind == PICKUP for m in set_mark(marks, tone_mark, length_samples=1000)), 1)
        self.assertEqual([m.kind for m in cleared(marks, 300, 400)], [GAIN, GAIN])

    def test_a_pickup_sounds_once_however_its_place_is_cut_up(self):
        marks = (
            Mark(id=1, kind=PICKUP, start_sample=100, end_sample=900, recording="b", from_sample=5, to_sample=55),
            Mark(id=2, kind=GAIN, start_sample=300, end_sample=500, value_db=3),
            Mark(id=3, kind=STRIKE, start_sample=600, end_sample=700),
        )
        found = markup.pieces(marks, Span("a", 0, 1000), sample_rate_hz=RATE_HZ, tone=None)
        self.assertEqual([piece.span for piece in found], [Span("a", 0, 100), Span("b", 5, 55), Span("a", 900, 1000)])


class Sources(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def test_a_source_that_got_shorter_is_refused_rather_than_ended_early(self):
        path = written(self.folder, noise(-20, 2))
        pieces = [Piece(span=Span("a", 0, 2 * RATE_HZ)), Piece(span=Span("a", 0, 1000))]
        written(self.folder, noise(-20, 1.5))
        with (
            self.assertRaisesRegex(UnreadableRecording, "shorter than it was"),
            Programme(pieces, {"a": [Track(path)]}).opened() as reader,
        ):
            list(reader.blocks())

    def test_a_jump_that_lands_behind_its_place_reads_from_the_start(self):
        take = speech(seconds=8)
        with (
            tempfile.TemporaryDirectory() as folder,
            Reader(written(Path(folder), take, subtype="FLOAT")) as reader,
            patch.object(reader, "_origin_pts", return_value=-(10**6)),
        ):
            found = np.concatenate(list(reader.stretch(200_000, 210_000)))
        np.testing.assert_array_equal(found, take[200_000:210_000])

    def test_tags_never_replace_a_file_whose_sound_they_would_change(self):
        path = written(self.folder, noise(-20, 1), name="a.wav")
        before = path.read_bytes()

        def harming(target: Path, given: Inscription) -> None:
            raw = bytearray(target.read_bytes())
            raw[-1000] ^= 1
            target.write_bytes(raw)

        with (
            patch.dict(writing.SCHEMES, {"RIFF INFO": writing.Scheme(harming)}),
            self.assertRaisesRegex(CannotMake, "would have changed the sound"),
        ):
            writing.reinscribe(path, "wav", Inscription(tags={"title": "x"}))
        self.assertEqual(path.read_bytes(), before)
        self.assertEqual([each.name for each in self.folder.iterdir()], ["a.wav"])
