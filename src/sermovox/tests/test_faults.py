"""Faults over a load, and power cuts: `bin/faults` takes more."""

import random
import shutil
import tempfile
from pathlib import Path
from unittest import TestCase, skipUnless

from sermovox.faults.__main__ import run
from sermovox.faults.powercut import Disk, cut_at
from sermovox.tests import kept


class Faults(TestCase):
    takes_long = True

    def test_twenty_faults_lose_nothing(self):
        outcome = run(20, seed=5, people=1, workers=1, database=kept.database())
        self.assertEqual(outcome.lost, [])
        self.assertEqual(outcome.counts.total(), 20)
        self.assertGreater(outcome.uploads, 5)


class PowerCuts(TestCase):
    takes_long = True

    @skipUnless(shutil.which("strace"), "strace is not installed here")
    def test_what_was_acknowledged_is_there_after_twelve_cuts(self):
        tallied, lost = cut_at(12, seed=5, turns=2, database=kept.database())
        self.assertEqual(lost, [])
        self.assertGreater(sum(acknowledged for _, acknowledged in tallied.values()), 50)

    def test_a_number_that_is_free_again_is_followed_to_its_new_file(self):
        """Where two threads meet: the number is given away before the first has heard that its file is closed."""
        with tempfile.TemporaryDirectory() as folder:
            top, trace = Path(folder) / "data", Path(folder) / "trace"
            top.mkdir()
            trace.write_text(
                f"""11 openat(AT_FDCWD, "{top}/one", O_WRONLY|O_CREAT, 0666) = 7
11 close(7 <unfinished ...>
12 openat(AT_FDCWD, "{top}/two", O_WRONLY|O_CREAT, 0666) = 7
11 <... close resumed>) = 0
12 write(7, "whole", 5) = 5
"""
            )
            disk = Disk(top)
            disk.read(trace)
            disk.after_cut(disk.length + 1, Path(folder) / "left", 1.0, random.Random(1))
            self.assertEqual((Path(folder) / "left" / "two").read_bytes(), b"whole")
