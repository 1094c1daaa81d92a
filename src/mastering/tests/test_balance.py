"""Speech beside music, and two voices on two sides. Limits are common practice, no source; levels by arithmetic; the
voices are Debian's prompts.
"""

import tempfile
from pathlib import Path
from unittest import TestCase, skipUnless

import numpy as np
import soundfile

from mastering.editing.assembly import MarkedRecording, Stretch, assembled
from mastering.editing.pieces import Piece, Span
from mastering.making.survey import Survey
from mastering.meters.measurement import measure
from mastering.meters.remarks import remarks
from mastering.meters.sides import LEFT, RIGHT
from mastering.outlets.balance import BALANCE, spans_of
from mastering.outlets.findings import PASS, REMARK
from mastering.outlets.rulesheets import parse, shipped, shipped_text
from mastering.outlets.setplan import Given, plan_member
from mastering.pipeline import make
from mastering.rendering import Programme, Track
from mastering.shaping.treatment import AS_IT_IS
from mastering.tests import prompts
from mastering.tests.signals import noise, speech, written

RATE_HZ = 44100
PODCAST = shipped()["podcast-host"]


class Balance(TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def programme(self, music_db: float, *, speech_gain_db: float = 0.0) -> Programme:
        """Speech of about -25 LUFS after a jingle, and before another."""
        jingle, talk = noise(music_db, 4), speech(seconds=10, peak=0.3)
        tracks = {
            name: [Track(written(self.folder, samples, name=f"{name}.wav"))]
            for name, samples in (("jingle", jingle), ("talk", talk))
        }
        pages = {
            name: MarkedRecording((), (0, 2000), RATE_HZ, len(samples))
            for name, samples in (("jingle", jingle), ("talk", talk))
        }
        stretches = [
            Stretch(recording="jingle", start_sample=0, end_sample=len(jingle), kind="music"),
            Stretch(recording="talk", start_sample=0, end_sample=len(talk), gain_db=speech_gain_db),
            Stretch(recording="jingle", start_sample=0, end_sample=len(jingle), kind="music"),
        ]
        return Programme(assembled([stretches], pages), tracks)

    def made(self, programme: Programme):
        made = make(programme, PODCAST, self.folder / "made.mp3", replace=True)
        return made, next((each for each in made.sheet.findings if each.rule == BALANCE), None)

    def test_loud_jingles_that_carry_the_figure_are_remarked_with_the_level_of_each(self):
        made, finding = self.made(self.programme(-12))
        self.assertEqual(next(each for each in made.sheet.findings if each.rule == "integrated_lufs").verdict, PASS)
        self.assertEqual(finding.verdict, REMARK)
        self.assertRegex(finding.found, r"^speech -\d\d\.\d LUFS, music -\d\d\.\d LUFS, \d+\.\d LU apart$")
        self.assertRegex(finding.advice, r"Speech is \d+\.\d LU too quiet.* lies \d+\.\d LU below the music beside it")
        # By a meter of each part alone.
        samples, rate_hz = soundfile.read(made.path, dtype="float32", always_2d=True)
        talk = written(
            self.folder, samples[round(4.3 * rate_hz) : round(13.7 * rate_hz)], rate_hz, name="talk only.wav"
        )
        self.assertAlmostEqual(float(finding.found.split()[1]), measure(talk).levels.integrated_lufs, delta=0.4)
        self.assertIn("speech", made.plan.balance)
        self.assertEqual(made.plan.uneven.partition(".")[0].split()[0], "Speech")

    def test_pieces_at_one_level_pass_and_what_is_all_speech_has_no_such_line(self):
        _, finding = self.made(self.programme(-28))
        self.assertEqual((finding.verdict, finding.advice), (PASS, ""))
        made = make(written(self.folder, speech(), name="all.wav"), PODCAST, self.folder / "all.mp3")
        self.assertNotIn(BALANCE, [each.rule for each in made.sheet.findings])
        self.assertEqual((made.plan.balance, made.plan.uneven), ("", ""))

    def test_the_plan_foresees_what_the_file_is_found_to_hold(self):
        programme = self.programme(-14)
        survey = Survey(programme)
        channels = survey.channels_for(PODCAST, "speech")
        spans = spans_of(survey.runs(channels, "speech"))
        self.assertEqual([kind for kind, *_ in spans], ["music", "speech", "music"])
        levels = survey.measured(channels).levels
        plan = plan_member(Given(levels, "speech", AS_IT_IS, spans=spans), PODCAST, None)
        _, finding = self.made(programme)
        foreseen, found = (float(words.split()[1]) for words in (plan.balance, finding.found))
        self.assertAlmostEqual(foreseen, found, delta=0.5)

    def test_an_outlet_that_asks_something_else_of_music_is_not_told_they_differ(self):
        head = shipped_text("radio-playout").partition('[[rules]]\nname = "sample_peak_dbfs"')[0]
        own = (
            '[[rules]]\nname = "integrated_lufs"\nsource = "a test"\n'
            "speech = { target = -24, tolerance = 1 }\nmusic = { target = -18, tolerance = 1 }\n"
        )
        made = make(self.programme(-30), parse(head + own), self.folder / "house.wav")
        finding = next(each for each in made.sheet.findings if each.rule == BALANCE)
        self.assertEqual((finding.verdict, finding.asked), (PASS, "speech -24 ±1 LUFS within 2 LU"))


@skipUnless(prompts.there(), "Debian's prompts are not installed")
class TwoVoices(TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def talk(self, *, apart_db: float, between_db: float) -> np.ndarray:
        """Two readers who take turns, one on each side: each microphone hears the other so far below."""
        random = np.random.default_rng(5)
        left, right = [], []
        for one, other in zip(prompts.prompts("en")[5:15], prompts.prompts("fr")[5:15], strict=True):
            for samples, mine, theirs, level_db in ((one, left, right, 0.0), (other, right, left, -apart_db)):
                own = samples.samples / samples.samples.std() * 0.05 * 10 ** (level_db / 20)
                mine += [own, np.zeros(2000)]
                theirs += [own * 10 ** (-between_db / 20), np.zeros(2000)]
        sides = np.stack([np.concatenate(left), np.concatenate(right)], axis=1)
        return (sides + random.normal(0, 1e-4, sides.shape)).astype(np.float32)

    def apart(self, sides: np.ndarray):
        return measure(written(self.folder, sides, prompts.RATE_HZ))

    def test_two_who_take_turns_are_told_with_the_difference_of_their_levels(self):
        for apart_db in (0.0, 11.0, 20.0):
            for between_db in (9.0, 15.0, 40.0):
                found = self.apart(self.talk(apart_db=apart_db, between_db=between_db))
                with self.subTest(apart=apart_db, between=between_db):
                    self.assertAlmostEqual(found.levels.voices_apart_db, apart_db, delta=2.5)
        self.assertTrue(any("Two voices, one on each side, the left one" in said for said in remarks(found)))

    def test_one_voice_with_two_microphones_beside_the_middle_or_in_a_room_is_one(self):
        voice = np.concatenate([prompt.samples for prompt in prompts.prompts("it")[5:15]])[:, None]
        decay = np.exp(-np.arange(3000) / 500)[:, None] * np.random.default_rng(1).normal(0, 0.2, (3000, 2))
        room = np.stack([np.convolve(voice[:, 0], decay[:, side])[: len(voice)] for side in (0, 1)], axis=1)
        for name, sides in (
            ("panned", np.concatenate([voice, 0.4 * voice], axis=1)),
            ("apart", np.concatenate([voice, np.roll(voice, 7)], axis=1)),
            ("room", 0.3 * room),
        ):
            with self.subTest(name):
                self.assertIsNone(self.apart(sides.astype(np.float32)).levels.voices_apart_db)

    def test_as_two_tracks_they_are_in_the_middle_at_one_level(self):
        sides = self.talk(apart_db=11.0, between_db=40.0)
        path = written(self.folder, sides, prompts.RATE_HZ)
        tracks = {"talk": [Track(path, fold=LEFT), Track(path, gain_db=11.0, fold=RIGHT)]}
        programme = Programme([Piece(span=Span("talk", 0, len(sides)))], tracks)
        self.assertEqual(Survey(programme).channels, 1)
        self.assertEqual(Survey(programme).known(1).collisions, ())
        with programme.opened() as reader:
            mono = np.concatenate(list(reader.blocks()))[:, 0]
        np.testing.assert_allclose(mono, sides[:, 0] + sides[:, 1] * 10 ** (11 / 20), atol=2e-4)
        self.assertTrue(any("two voices" in said for said in Survey(path).known(2).remarks))
