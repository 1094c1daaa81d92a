"""The commands for developers start: each chooses its settings before anything of the application is loaded."""

import subprocess
import sys
from unittest import TestCase


class Tools(TestCase):
    def test_each_says_what_it_takes(self):
        for tool in ("bench", "walks", "faults"):
            with self.subTest(tool):
                asked = [sys.executable, "-m", f"sermovox.{tool}", "--help"]
                told = subprocess.run(asked, capture_output=True, text=True, timeout=60)
                self.assertEqual(told.returncode, 0, told.stderr)
                self.assertIn("usage", told.stdout)
