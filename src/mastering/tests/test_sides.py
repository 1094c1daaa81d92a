"""Two sides into mono: what is right for them, what is lost, and what is said. The losses follow by arithmetic."""

import tempfile
from pathlib import Path
from unittest import TestCase

import numpy as np
import soundfile

from mastering.editing.pieces import Piece, Span
from mastering.making.survey import Survey
from mastering.meters.measurement import measure
from mastering.meters.sides import LEFT, RIGHT, SUM, TURNED, sides_of
from mastering.outlets.findings import FAIL
from mastering.outlets.rulesheets import shipped
from mastering.pipeline import make
from mastering.rendering import Programme, Track
from mastering.shaping.treatment import Treatment
from mastering.tests.signals import noise, speech, written

RATE_HZ = 44100
MONO = shipped()["volunteer-archive"]


def both(left: np.ndarray, right: np.ndarray) -> np.ndarray:
    return np.concatenate([left, right], axis=1).astype(np.float32)


class Sides(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        self.voice = speech(seconds=8, peak=0.3)
        self.cases = {
            "opposite": both(self.voice, -0.98 * self.voice),
            "left dead": both(np.zeros_like(self.voice), self.voice),
            "right dead": both(self.voice, np.zeros_like(self.voice)),
            "right faint": both(self.voice, 0.1 * self.voice),
            "alike": both(self.voice, self.voice),
            "two voices": both(noise(-25, 8), noise(-25, 8, seed=7)),
        }

    def path(self, name: str, samples: np.ndarray | None = None, subtype="PCM_24") -> Path:
        samples = self.cases[name] if samples is None else samples
        return written(self.folder, samples, name=f"{name}.wav", subtype=subtype)

    def sides(self, name: str):
        measured = measure(self.path(name))
        return sides_of(measured.figures() | measured.origin())

    def made(self, name: str, **treatment):
        source = self.path(name)
        target = self.folder / f"{name}-{treatment}.mp3"
        return make(source, MONO, target, treatment=Treatment(**treatment))

    def test_losses(self):
        """Right = -0.98 left leaves 1 % of the amplitude on average, -40 dB; a dead side costs 6 dB."""
        for name, way, loss_db in (
            ("opposite", SUM, 40.0),
            ("opposite", TURNED, 0.09),
            ("opposite", LEFT, 0.0),
            ("left dead", SUM, 6.02),
            ("alike", SUM, 0.0),
            ("right faint", SUM, 5.19),
            ("right faint", RIGHT, 20.0),
        ):
            with self.subTest(name, way=way):
                self.assertAlmostEqual(self.sides(name).loss_db(way), loss_db, delta=0.3)

    def test_by_itself_takes_what_is_right(self):
        wanted = {
            "opposite": TURNED,
            "left dead": RIGHT,
            "right dead": LEFT,
            "right faint": LEFT,
            "alike": SUM,
            "two voices": SUM,
        }
        self.assertEqual({name: self.sides(name).by_itself() for name in wanted}, wanted)

    def test_a_file_of_opposite_sides_holds_the_voice_and_says_why(self):
        for name, why in (
            ("opposite", "opposite polarity"),
            ("left dead", "the left one holds no sound"),
            ("right faint", "20 dB louder"),
        ):
            with self.subTest(name):
                made = self.made(name)
                self.assertIn(why, made.plan.mono)
                self.assertNotIn(FAIL, {f.verdict for f in made.sheet.findings if f.rule.endswith("lufs")})
                self.assertEqual(made.plan.collisions, ())
                # The same voice in one channel needs the same gain.
                alone = make(
                    self.path("alone", self.voice), MONO, self.folder / f"{name} alone.mp3", treatment=Treatment()
                )
                self.assertAlmostEqual(made.plan.gain_db, alone.plan.gain_db, delta=0.15)

    def test_summing_what_cancels_is_a_collision(self):
        for name, by in (("opposite", "39.8 dB"), ("left dead", "6.0 dB"), ("right faint", "5.2 dB")):
            with self.subTest(name):
                made = self.made(name, mono=SUM)
                self.assertIn(f"mono loses {by}", made.plan.collisions[0])
                self.assertIn(made.plan.collisions[0], made.remarks)
        dead = Survey(self.path("left dead"), Treatment(mono=LEFT))
        self.assertIn("holds no sound. Take the right one", dead.known(1).collisions[0])

    def test_two_voices_lose_three_decibels_and_no_more(self):
        """What has nothing in common adds up in power: half of each, so 3.01 dB."""
        self.assertEqual(self.made("two voices").plan.collisions, ())
        self.assertAlmostEqual(self.sides("two voices").loss_db(SUM), 3.01, delta=0.03)

    def test_the_samples_are_those_of_the_way_that_was_chosen(self):
        for way, factors in ((LEFT, (1, 0)), (RIGHT, (0, 1)), (SUM, (0.5, 0.5)), (TURNED, (0.5, -0.5))):
            source = self.path("two voices")
            survey = Survey(source, Treatment(mono=way))
            with survey.source(1).opened() as sound:
                found = np.concatenate(list(sound.blocks()))
            given = soundfile.read(source, dtype="float32", always_2d=True)[0]
            np.testing.assert_allclose(found[:, 0], given @ np.array(factors), atol=1e-6)

    def test_each_recording_of_a_programme_is_folded_in_its_own_way(self):
        opposite, alike = self.path("opposite"), self.path("alike")
        frames = len(self.voice)
        pieces = [Piece(span=Span("a", 0, frames)), Piece(span=Span("b", 0, frames))]
        programme = Programme(pieces, {"a": [Track(opposite)], "b": [Track(alike)]})
        survey = Survey(programme, Treatment())
        known = survey.known(1)
        self.assertEqual(set(known.folds.values()), {TURNED, SUM})
        with survey.source(1).opened() as sound:
            self.assertEqual(sound.channels, 1)
            found = np.concatenate(list(sound.blocks()))[:, 0]
        np.testing.assert_allclose(found[:frames], 0.99 * self.voice[:, 0], atol=1e-4)
        np.testing.assert_allclose(found[frames:], self.voice[:, 0], atol=1e-4)
        self.assertEqual(sound.facts().channels, 2)

    def test_in_stereo_it_is_a_remark(self):
        said = Survey(self.path("opposite"), Treatment()).known(2)
        self.assertEqual((said.folds, said.mono), ({}, ""))
        self.assertIn("opposite polarity", said.remarks[0])

    def test_what_is_known_of_a_recording_stands_on_its_plan_and_sheet(self):
        clipped = np.clip(self.voice * 6, -1, 1)
        off = self.voice * 0.5 + 0.01
        for samples, words in ((clipped, "clipped in"), (off, "zero line is off by 1.0 %")):
            source = self.path("odd", samples)
            made = make(source, MONO, self.folder / f"{words[:4]}.mp3", treatment=Treatment())
            self.assertIn(words, " ".join(made.plan.remarks))
            self.assertIn(words, " ".join(made.remarks))
