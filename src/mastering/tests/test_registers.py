"""What is registered goes the whole way without being known anywhere else."""

import json
import tempfile
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import numpy as np
import soundfile

from mastering.audio import formats
from mastering.audio.encodings import size_range_bytes
from mastering.audio.formats import INT_16, Container
from mastering.editing import pieces as kept_pieces
from mastering.editing.markkinds import MARK_KINDS, Mark, MarkKind
from mastering.editing.markkinds import register as register_mark
from mastering.editing.markup import as_list, from_list, pieces, set_mark
from mastering.editing.pieces import Span
from mastering.meters.measurement import measure
from mastering.outlets.checksheet import check
from mastering.outlets.findings import FAIL, PASS
from mastering.outlets.outlet import BadOutlet
from mastering.outlets.rules import RULE_KINDS, register
from mastering.outlets.rules.kind import LEVELS, Advice, RuleKind
from mastering.outlets.rulesheets import parse, read, written
from mastering.outlets.sentences import steps
from mastering.pipeline import make
from mastering.rendering import Programme, Track
from mastering.shaping.mends import MENDS, Mend
from mastering.shaping.mends import register as register_mend
from mastering.shaping.treatment import BadTreatment, Treatment, treatment_of
from mastering.tagging.carried import read_carried
from mastering.tests.signals import noise, speech
from mastering.tests.signals import written as kept
from mastering.tests.test_plans import outlet, plan

DOCUMENT = Path(__file__).parents[3] / "docs" / "rule-sheets.md"
CREST = RuleKind(
    name="crest_db",
    label="Crest",
    group=LEVELS,
    unit="dB",
    least=0,
    advice=Advice(too_high="Its peaks stand far out."),
    measured=lambda levels: levels.sample_peak_dbfs - levels.rms_dbfs,
    predicts=lambda foreseen: foreseen.figures["sample_peak_dbfs"] - foreseen.figures["rms_dbfs"],
    collides=lambda missed: f"Its crest is {missed.figure:.0f} dB; {missed.demand.high:g} are allowed.",
)
"""A kind of rule that nothing else knows: how far the highest peak stands above the RMS."""


AU = Container(name="au", endings=("au", "snd"), codecs={"pcm": (INT_16,)}, muxer="au", pcm="pcm_s{}be", tags="")
"""A container that nothing else knows, which holds nothing but sound."""
MKA = Container(
    name="mka", endings=("mka",), codecs={"opus": ()}, muxer="matroska", reader="matroska,webm", tags="", pictures=False
)
"""Another, which libav reads under another name than it writes, for a codec with an ending of its own elsewhere."""
HEAD = 'format = 2\nkey = "own"\ntitle = "Own"\nsummary = "For a test."\n'
RULE = '[[rules]]\nname = "{}"\nexactly = "{}"\nsource = "a test"\n'


TURNED = MarkKind(
    name="turned",
    words="Turn upside down",
    said="turned upside down",
    button="Turn",
    does="Turn it upside down",
    key="t",
    gives_way=("turned",),
    acts=lambda piece, mark, here: replace(piece, mends=(*piece.mends, "turned")),
)
"""A kind of mark that nothing else knows."""


@contextmanager
def marked_with(kind: MarkKind):
    register_mark(kind)
    register_mend(
        Mend(
            name=kind.name,
            title="Turned",
            does="all of it upside down",
            run=lambda blocks, rate_hz: (-block for block in blocks),
            hears_s=0.1,
        )
    )
    try:
        yield
    finally:
        del MARK_KINDS[kind.name], MENDS[kind.name]


@contextmanager
def known(container: Container):
    formats.register(container)
    try:
        yield
    finally:
        del formats.CONTAINERS[container.name], formats.WRITTEN[container.name]


@contextmanager
def registered(kind: RuleKind):
    register(kind)
    try:
        yield
    finally:
        del RULE_KINDS[kind.name]


class Registers(TestCase):
    def test_a_kind_of_rule_is_read_planned_for_checked_and_advised(self):
        take = np.concatenate([noise(-66, 0.5), speech(seconds=6, peak=0.3), noise(-66, 0.5)])
        with registered(CREST), tempfile.TemporaryDirectory() as folder:
            asked = outlet(crest_db="at_most = 60", integrated_lufs="target = -23\ntolerance = 1")
            self.assertEqual(parse(written(asked)), asked)
            made = make(kept(Path(folder), take), asked, Path(folder) / "made.wav")
            finding = next(each for each in made.sheet.findings if each.rule == "crest_db")
            self.assertEqual((finding.verdict, finding.asked), (PASS, "at most 60 dB"))
            self.assertAlmostEqual(made.plan.predicted["crest_db"], float(finding.found.split()[0]), delta=0.2)
            tight = outlet(crest_db="at_most = 6")
            self.assertIn("Its crest is", " ".join(plan(take, tight).collisions))
            wrong = next(each for each in check(measure(made.path), tight).findings if each.rule == "crest_db")
            self.assertEqual((wrong.verdict, wrong.advice), (FAIL, "Its peaks stand far out."))
            self.assertIn("dB too high", wrong.margin)

    def test_a_container_is_asked_for_written_read_back_and_checked(self):
        take = np.concatenate([noise(-66, 0.5), speech(seconds=6, peak=0.3), noise(-66, 0.5)])
        asked = HEAD + "".join(RULE.format(*each) for each in (("container", "au"), ("channels", "mono")))
        asked += RULE.replace('"{}"\nsource', "{}\nsource").format("sample_rate_hz", 44100)
        with known(AU), tempfile.TemporaryDirectory() as folder:
            sheet = parse(asked)
            made = make(kept(Path(folder), take), sheet, Path(folder) / "made.au")
            self.assertEqual((made.sheet.verdict, read_carried(made.path).container), (PASS, "au"))
            self.assertEqual(made.path.read_bytes()[:4], b".snd")
            with self.assertRaisesRegex(BadOutlet, "no place for the title"):
                parse(asked + RULE.format("tag_title", "{title}"))
            low, high = size_range_bytes(sheet.encoding(channels=1, content_kind="speech"), 7.0)
            self.assertAlmostEqual(made.path.stat().st_size, low, delta=2000)
        with self.assertRaisesRegex(BadOutlet, "does not write au files"):
            read(asked)

    def test_a_container_that_is_read_under_another_name_keeps_its_own_and_its_ending(self):
        take = np.concatenate([noise(-66, 0.5), speech(seconds=6, peak=0.3), noise(-66, 0.5)])
        rules = (("container", "mka"), ("channels", "mono"), ("codec", "opus"), ("bit_rate_mode", "constant"))
        asked = HEAD + "".join(RULE.format(*each) for each in rules)
        for name, value in (("sample_rate_hz", 48000), ("bit_rate_kbps", 64)):
            asked += RULE.replace('"{}"\nsource', "{}\nsource").format(name, value)
        with known(MKA), tempfile.TemporaryDirectory() as folder:
            sheet = parse(asked)
            self.assertEqual(sheet.encoding(channels=1, content_kind="speech").extension, "mka")
            made = make(kept(Path(folder), take), sheet, Path(folder) / "made.mka")
            found = next(each for each in made.sheet.findings if each.rule == "container")
            self.assertEqual((found.verdict, found.found), (PASS, "mka"))
        for ending, codec, fits in (("opus", "opus", True), ("opus", "vorbis", False), ("oga", "vorbis", True)):
            self.assertIs(formats.fits_ending(ending, container="ogg", codec=codec), fits)

    def test_a_kind_of_mark_is_set_kept_and_heard_in_its_place_alone(self):
        take = speech(seconds=4)
        with marked_with(TURNED), tempfile.TemporaryDirectory() as folder:
            path = kept(Path(folder), take, subtype="FLOAT")
            mark = Mark(id=0, kind="turned", start_sample=30_000, end_sample=90_000)
            marks = from_list(as_list(set_mark((), mark, length_samples=len(take))))
            cut = pieces(marks, Span("take", 0, len(take)), sample_rate_hz=44100, tone=None)
            cut = kept_pieces.from_list(json.loads(json.dumps(kept_pieces.as_list(cut))))
            with Programme(cut, {"take": [Track(path)]}).opened() as reader:
                sound = np.concatenate(list(reader.blocks()))
                jumped = np.concatenate(list(reader.stretch(50_000, 100_000)))
        wanted = take.copy()
        wanted[30_000:90_000] *= -1
        np.testing.assert_array_equal(sound, wanted)
        np.testing.assert_array_equal(jumped, wanted[50_000:100_000])

    def test_a_mend_and_lowered_noise_both_sound_to_the_very_end(self):
        take = np.concatenate([noise(-50, 2.0), speech(seconds=4)])
        with marked_with(TURNED), tempfile.TemporaryDirectory() as folder:
            path = kept(Path(folder), take, subtype="FLOAT")
            sounds = []
            for kinds in (["quieter"], ["quieter", "turned"]):
                marks = ()
                for kind in kinds:
                    wanted = Mark(id=0, kind=kind, start_sample=20_000, end_sample=len(take), value_db=12.0)
                    marks = set_mark(marks, wanted, length_samples=len(take))
                cut = pieces(marks, Span("take", 0, len(take)), sample_rate_hz=44100, tone=(0, 40_000))
                with Programme(cut, {"take": [Track(path)]}).opened() as reader:
                    sounds.append(np.concatenate(list(reader.blocks())))
        quieter, both = sounds
        np.testing.assert_array_equal(both[:20_000], quieter[:20_000])
        np.testing.assert_allclose(both[20_000:], -quieter[20_000:], atol=1e-6)
        self.assertGreater(np.abs(both[20_000:] + take[20_000:]).max(), 1e-4)

    def test_what_mends_is_wished_for_told_and_done_to_all_of_a_section(self):
        take = np.concatenate([noise(-66, 0.5), speech(seconds=6, peak=0.3), noise(-66, 0.5)])
        with marked_with(TURNED), tempfile.TemporaryDirectory() as folder:
            wish = treatment_of(json.loads(json.dumps(Treatment(mends=("turned",)).as_dict())))
            path, asked = (
                kept(Path(folder), take, subtype="FLOAT"),
                outlet(integrated_lufs="target = -23\ntolerance = 1"),
            )
            turned = make(path, asked, Path(folder) / "turned.wav", treatment=wish)
            plain = make(path, asked, Path(folder) / "plain.wav")
            self.assertEqual(steps(turned.plan)[0], ("Turned", "all of it upside down"))
            sounds = [soundfile.read(each.path, always_2d=True)[0] for each in (turned, plain)]
            np.testing.assert_allclose(sounds[0], -sounds[1], atol=2e-4)
            asked = outlet(sample_peak_dbfs="at_most = -3")
            played = make(path, asked, Path(folder) / "played.wav", treatment=wish, content_kind="music")
            self.assertIn("Turned is for speech and leaves music alone.", played.plan.remarks)
            self.assertNotIn("Turned", dict(steps(played.plan)))
        with self.assertRaisesRegex(BadTreatment, "Nothing is mended by turned"):
            treatment_of({"mends": ["turned"]})

    def test_every_kind_stands_in_the_documentation_as_it_is(self):
        rows = [f"| {k.group} | `{k.name}` | {k.label} | {k.takes_words} |" for k in RULE_KINDS.values()]
        table = [line for line in DOCUMENT.read_text().splitlines() if line.startswith("| ")][1:]
        self.assertEqual(table[1:] if table[0].startswith("| ---") else table, rows)
