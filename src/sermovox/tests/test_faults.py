"""Faults over a load, and power cuts: `bin/faults` takes more."""

import shutil
from unittest import TestCase, skipUnless

from sermovox.faults.__main__ import run
from sermovox.faults.powercut import cut_at


class Faults(TestCase):
    takes_long = True

    def test_twenty_faults_lose_nothing(self):
        outcome = run(20, seed=5, people=1, workers=1)
        self.assertEqual(outcome.lost, [])
        self.assertEqual(outcome.counts.total(), 20)
        self.assertGreater(outcome.uploads, 5)


class PowerCuts(TestCase):
    takes_long = True

    @skipUnless(shutil.which("strace"), "strace is not installed here")
    def test_what_was_acknowledged_is_there_after_twelve_cuts(self):
        tallied, lost = cut_at(12, seed=5, turns=2)
        self.assertEqual(lost, [])
        self.assertGreater(sum(acknowledged for _, acknowledged in tallied.values()), 50)
