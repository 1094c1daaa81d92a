"""A programme of speech and music: each passage is levelled to the demand of its own kind and held against it."""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import numpy as np
import soundfile

from mastering.editing.assembly import CROSSFADE, MarkedRecording, Stretch, assembled
from mastering.editing.pieces import BadCut, as_list, from_list
from mastering.meters.measurement import measure
from mastering.meters.meter import Meter
from mastering.outlets.checksheet import HeldPassage, check
from mastering.outlets.findings import FAIL
from mastering.outlets.rulesheets import parse, shipped, shipped_text
from mastering.outlets.sentences import steps
from mastering.pipeline import make
from mastering.rendering import Programme, Track
from mastering.tests.signals import noise, speech, tone, written

RATE_HZ = 44100
_HEAD = shipped_text("radio-playout").partition('[[rules]]\nname = "sample_peak_dbfs"')[0]
_PEAKS = (
    '[[rules]]\nname = "sample_peak_dbfs"\nsource = "common practice, no source"\n'
    "speech = { target = -3, tolerance = 0.3 }\nmusic = { target = -5, tolerance = 0.3 }\n"
)
HOUSE = parse(_HEAD + _PEAKS)


def peak_db(samples: np.ndarray) -> float:
    return float(20 * np.log10(np.abs(samples).max()))


class Passages(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        tune = (tone(-1, 6, rate_hz=RATE_HZ, hz=440, channels=1) * 0.5 + noise(-50, 6)).astype(np.float32)
        talk = speech(seconds=10, peak=0.2)
        self.paths = {
            "tune": written(self.folder, tune, name="tune.wav"),
            "talk": written(self.folder, talk, name="t.wav"),
        }
        self.pages = {
            "tune": MarkedRecording((), (0, 2000), RATE_HZ, len(tune)),
            "talk": MarkedRecording((), (0, 2000), RATE_HZ, len(talk)),
        }
        self.tracks = {name: [Track(path)] for name, path in self.paths.items()}

    def programme(self, **talk) -> Programme:
        stretches = [
            Stretch(recording="tune", start_sample=0, end_sample=6 * RATE_HZ, kind="music"),
            Stretch(recording="talk", start_sample=0, end_sample=10 * RATE_HZ, **talk),
            Stretch(recording="tune", start_sample=0, end_sample=2 * RATE_HZ, kind="music"),
        ]
        return Programme(assembled([stretches], self.pages), self.tracks)

    def test_each_passage_comes_to_its_own_peak_and_the_sheet_says_which(self):
        made = make(self.programme(), HOUSE, self.folder / "made.wav")
        samples = soundfile.read(made.path, always_2d=True)[0][:, 0]
        first, second = 6 * RATE_HZ, 16 * RATE_HZ
        self.assertAlmostEqual(peak_db(samples[:first]), -5, delta=0.1)
        self.assertAlmostEqual(peak_db(samples[first:second]), -3, delta=0.1)
        self.assertAlmostEqual(peak_db(samples[second:]), -5, delta=0.1)
        finding = next(each for each in made.sheet.findings if each.rule == "sample_peak_dbfs")
        self.assertEqual(finding.verdict, "passes")
        self.assertEqual(finding.asked, "music -5 ±0.3 dBFS, speech -3 ±0.3 dBFS")
        self.assertRegex(finding.found, r"music 0:00\.0 to 0:06\.0 -5\.0 dBFS; speech 0:06\.0 to 0:16\.0 -3\.0 dBFS")
        self.assertIn("speech from 0:06.0 to 0:16.0", dict(steps(made.plan))["Passages"])

    def test_mp3_too(self):
        made = make(self.programme(), shipped()["radio-programme"], self.folder / "made.mp3")
        finding = next(each for each in made.sheet.findings if each.rule == "sample_peak_dbfs")
        self.assertNotEqual(finding.verdict, FAIL, finding.found)

    def test_a_passage_that_misses_its_own_demand_fails_and_is_named(self):
        """As it was: the tune at -3, the speech far below, and the file as a whole at -3."""
        wrong = written(self.folder, np.concatenate([tone(-3, 4, rate_hz=RATE_HZ, channels=1), speech(peak=0.35)]))
        found = measure(wrong)
        whole = soundfile.read(wrong, dtype="float32", always_2d=True)[0]
        held = []
        for kind, start, end in (("music", 0, 4), ("speech", 4, 16)):
            meter = Meter(RATE_HZ, ("FC",))
            meter.add(whole[start * RATE_HZ : end * RATE_HZ])
            held.append(HeldPassage(kind, start, end, meter.levels()))
        sheet = check(found, HOUSE, content_kind="speech", passages=held)
        finding = next(each for each in sheet.findings if each.rule == "sample_peak_dbfs")
        self.assertEqual(finding.verdict, FAIL)
        music, speech_ = finding.advice.split(" speech ")
        self.assertIn("music 0:00.0 to 0:04.0: The peak is higher", music)
        self.assertIn("0:04.0 to 0:16.0: The peak is lower", speech_)

    def test_where_the_outlet_asks_the_same_of_both_they_keep_their_relation(self):
        asked = parse(_HEAD + '[[rules]]\nname = "rms_dbfs"\nat_least = -40\nat_most = -6\nsource = "a test"\n')
        made = make(self.programme(gain_db=-6.0), asked, self.folder / "made.wav")
        samples = soundfile.read(made.path, always_2d=True)[0][:, 0]
        self.assertEqual(made.plan.passages, ())
        self.assertAlmostEqual(peak_db(samples[6 * RATE_HZ : 16 * RATE_HZ]), 20 * np.log10(0.2) - 6, delta=0.1)

    def test_fades_and_gain_of_a_piece(self):
        plain = self.programme()
        with plain.opened() as reader:
            before = np.concatenate(list(reader.blocks()))[:, 0]
        wished = self.programme(gain_db=-6.0, fade_in_s=1.0, fade_out_s=2.0)
        with wished.opened() as reader:
            after = np.concatenate(list(reader.blocks()))[:, 0]
        begin, end = 6 * RATE_HZ, 16 * RATE_HZ
        np.testing.assert_array_equal(after[:begin], before[:begin])
        np.testing.assert_array_equal(after[end:], before[end:])
        gains = np.full(10 * RATE_HZ, 10 ** (-6 / 20))
        gains[:RATE_HZ] *= np.sin(np.pi / 2 * (np.arange(RATE_HZ) + 0.5) / RATE_HZ)
        gains[-2 * RATE_HZ :] *= np.cos(np.pi / 2 * (np.arange(2 * RATE_HZ) + 0.5) / (2 * RATE_HZ))
        np.testing.assert_allclose(after[begin:end], before[begin:end] * gains, atol=1e-5)
        self.assertEqual(from_list(as_list(wished.pieces)), wished.pieces)

    def test_a_crossfade_belongs_to_neither_passage(self):
        made = make(self.programme(join=CROSSFADE, join_s=1.0), HOUSE, self.folder / "made.wav")
        finding = next(each for each in made.sheet.findings if each.rule == "sample_peak_dbfs")
        self.assertIn("speech 0:06.0 to 0:15.0", finding.found)
        self.assertNotEqual(finding.verdict, FAIL)

    def test_what_a_piece_cannot_be_is_said(self):
        stretch = Stretch(recording="tune", start_sample=0, end_sample=RATE_HZ)
        for wrong in ({"kind": "noise"}, {"gain_db": 99.0}, {"fade_in_s": -1.0}, {"fade_out_s": 31.0}):
            with self.assertRaises(BadCut):
                assembled([[replace(stretch, **wrong)]], self.pages)
