"""What is registered goes the whole way without being known anywhere else."""

import tempfile
from contextlib import contextmanager
from pathlib import Path
from unittest import TestCase

import numpy as np

from mastering.meters.measurement import measure
from mastering.outlets.checksheet import check
from mastering.outlets.findings import FAIL, PASS
from mastering.outlets.rules import RULE_KINDS, register
from mastering.outlets.rules.kind import LEVELS, Advice, RuleKind
from mastering.outlets.rulesheets import parse, written
from mastering.pipeline import make
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

    def test_every_kind_stands_in_the_documentation_as_it_is(self):
        rows = [f"| {k.group} | `{k.name}` | {k.label} | {k.takes_words} |" for k in RULE_KINDS.values()]
        table = [line for line in DOCUMENT.read_text().splitlines() if line.startswith("| ")][1:]
        self.assertEqual(table[1:] if table[0].startswith("| ---") else table, rows)
