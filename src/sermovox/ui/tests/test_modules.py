"""What the scripts of the pages compute without a page."""

import shutil
import subprocess
from pathlib import Path
from unittest import TestCase, skipUnless

_TESTS = sorted(Path(__file__).with_name("pages").glob("*.test.mjs"))
_NODE = shutil.which("node")


@skipUnless(_NODE, "Node is not installed")
class PageModules(TestCase):
    def test_each(self):
        for path in _TESTS:
            with self.subTest(path.name):
                run = subprocess.run([_NODE, "--test", path], capture_output=True, text=True, timeout=120)
                self.assertEqual(run.returncode, 0, run.stdout + run.stderr)
