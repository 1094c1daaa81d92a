"""Reports of files that came in, for whoever sent them."""

import csv
import io
import json
import tempfile
from pathlib import Path
from unittest import TestCase

from mastering.meters.measurement import measure
from mastering.outlets.checksheet import check
from mastering.outlets.findings import FAIL
from mastering.outlets.reports import Checked, as_csv, as_html, as_json, as_text, told, worst_first
from mastering.outlets.rulesheets import shipped
from mastering.tagging.carried import read_carried
from mastering.tests.signals import speech, written

RETAIL = shipped()["audiobook-retail"]


class Reports(TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        path = written(self.folder, speech(seconds=4), name="take & one.wav")
        found = measure(path)
        sheet = check(found, RETAIL, content_kind="speech", carried=read_carried(path), name=path.name)
        self.fails = Checked(path.name, sheet.verdict, sheet.as_list(), found.figures())
        passes = [finding | {"verdict": "passes"} for finding in sheet.as_list()]
        self.passes = Checked("fine.mp3", "passes", passes)
        self.lost = Checked("lost.wav", "cannot be checked", said="This file stops after 0:03.")
        self.files = [self.passes, self.fails, self.lost]

    def test_the_worst_stands_first_and_says_what_matters_most(self):
        self.assertEqual([file.name for file in worst_first(self.files)], ["lost.wav", "take & one.wav", "fine.mp3"])
        self.assertEqual(told(self.files), "3 files: 1 passes, 1 fails, 1 cannot be checked.")
        self.assertIn("asked mp3, found wav, and", self.fails.worst)
        self.assertEqual((self.lost.worst, self.passes.worst), ("This file stops after 0:03.", ""))

    def test_each_kind_says_the_same(self):
        page, text = as_html("For <her>", "3 files.", self.files), as_text(RETAIL, self.files)
        self.assertIn("<h1>For &lt;her&gt;</h1><p>3 files.</p>", page)
        for finding in self.fails.failing:
            self.assertIn(f"- {finding['label']}: asked {finding['asked']}, found {finding['found']}.", text)
        self.assertIn("take &amp; one.wav", page)
        self.assertIn("These pass:\n- fine.mp3\n", text)
        lines = list(csv.DictReader(io.StringIO(as_csv(self.files))))
        self.assertEqual(sum(line["verdict"] == FAIL for line in lines), len(self.fails.failing))
        rows = json.loads(as_json(RETAIL, self.files))["files"]
        self.assertEqual([row["verdict"] for row in rows], [file.verdict for file in self.files])
