"""The core from a terminal."""

import contextlib
import io
import json
import subprocess
import sys
import tempfile
from pathlib import Path
from unittest import TestCase

import numpy as np

from mastering.tests.signals import speech, written
from sermovox.cli import main

PUBLIC_KEYS = """
path container codec channels sample_rate_hz bit_depth bit_rate_kbps duration_s size_bytes sample_peak_dbfs
true_peak_dbtp rms_dbfs integrated_lufs max_momentary_lufs max_short_term_lufs loudness_range_lu noise_floor_dbfs
head_s tail_s
""".split()


class Terminal(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        self.take = written(self.folder, speech())

    def run_(self, *arguments) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            status = main([str(argument) for argument in arguments])
        return status, out.getvalue(), err.getvalue()

    def test_measure_speaks_json_with_the_public_keys(self):
        status, out, _ = self.run_("measure", self.take, self.take, "--json")
        rows = json.loads(out)
        self.assertEqual((status, len(rows)), (0, 2))
        self.assertEqual(list(rows[0]), PUBLIC_KEYS)
        self.assertEqual((rows[0]["channels"], rows[0]["bit_depth"], rows[0]["duration_s"]), (1, 16, 12.0))

    def test_silence_is_null_not_minus_infinity(self):
        path = written(self.folder, np.zeros((44100, 1)), name="silence.wav")
        _, out, _ = self.run_("measure", path, "--json")
        self.assertIsNone(json.loads(out)[0]["integrated_lufs"])

    def test_make_then_check(self):
        out_folder = self.folder / "out"
        status, out, _ = self.run_("make", self.take, "--outlet", "volunteer-archive", "--out", out_folder, "--json")
        (row,) = json.loads(out)
        self.assertEqual(status, 0)
        self.assertEqual(Path(row["path"]).name, "01-take.mp3")
        self.assertEqual(self.run_("check", row["path"], "--outlet", "volunteer-archive")[0], 0)
        status, out, _ = self.run_("check", row["path"], "--outlet", "radio-playout", "--json")
        self.assertEqual(status, 1)
        self.assertEqual(json.loads(out)[0]["verdict"], "fails")

    def test_a_finished_file_is_replaced_only_when_asked(self):
        arguments = ("make", self.take, "--outlet", "podcast-host", "--out", self.folder / "out")
        self.assertEqual(self.run_(*arguments)[0], 0)
        status, _, err = self.run_(*arguments)
        self.assertEqual(status, 1)
        self.assertIn("exists already", err)
        self.assertEqual(self.run_(*arguments, "--replace")[0], 0)

    def test_a_bad_file_is_named_and_the_others_are_done(self):
        bad = self.folder / "bad.wav"
        bad.write_text("not a recording")
        status, out, err = self.run_("measure", bad, self.folder / "gone.wav", self.take, "--json")
        self.assertEqual((status, len(json.loads(out))), (1, 1))
        self.assertIn("bad.wav: This is not a sound file", err)
        self.assertIn("gone.wav: There is no file", err)

    def test_outlets_are_listed_and_unknown_ones_named(self):
        self.assertIn("audiobook-retail", self.run_("outlets")[1])
        status, _, err = self.run_("check", self.take, "--outlet", "nowhere")
        self.assertEqual(status, 1)
        self.assertIn("no outlet called “nowhere”", err)

    def test_the_core_s_commands_need_no_database_and_no_django(self):
        code = "import sys; from sermovox.cli import main; main(['outlets']); sys.exit('django' in sys.modules)"
        self.assertEqual(subprocess.run([sys.executable, "-c", code], capture_output=True).returncode, 0)
