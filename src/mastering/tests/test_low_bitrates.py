"""Levels that an encoder moves: gain and ceiling are searched together, and the nearest attempt is kept. Voices are
Debian's prompts, the encoder is libopus; what has to pass was found by trying (common practice, no source).
"""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase, mock, skipUnless

import scipy

from mastering.making import proving
from mastering.outlets.findings import FAIL
from mastering.outlets.planning import corrected
from mastering.outlets.rulesheets import parse
from mastering.pipeline import make
from mastering.tests import prompts
from mastering.tests.signals import written

_SHEET = """
format = 2
key = "thin"
title = "Thin lines"
summary = "A test."
"""


def sheet(kbps: int, lufs: float, peak_dbtp: float):
    asked = {
        "container": 'exactly = "ogg"', "codec": 'exactly = "opus"', "channels": 'exactly = "mono"',
        "sample_rate_hz": "exactly = 48000", "bit_rate_kbps": f"exactly = {kbps}",
        "integrated_lufs": f"target = {lufs}\ntolerance = 1", "true_peak_dbtp": f"at_most = {peak_dbtp}",
    }  # fmt: skip
    rules = [f'[[rules]]\nname = "{name}"\n{demand}\nsource = "a test"\n' for name, demand in asked.items()]
    return parse(_SHEET + "\n".join(rules))


@skipUnless(prompts.there(), "Debian's prompts are not installed")
class LowBitrates(TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def take(self, language: str, seed: int) -> Path:
        samples = prompts.joined(language, 3, seed=seed).samples
        return written(self.folder, scipy.signal.resample_poly(samples, 6, 1)[:, None], 48000)

    def made(self, kbps: int, lufs: float, peak_dbtp: float, language: str = "en", seed: int = 1):
        return make(self.take(language, seed), sheet(kbps, lufs, peak_dbtp), self.folder / "m.opus", replace=True)

    def missed(self, made) -> list[str]:
        return [finding.rule for finding in made.sheet.findings if finding.verdict == FAIL]

    def test_what_the_encoder_takes_of_the_loudness_is_given_back(self):
        """At 8 kbit/s Opus takes 6 to 9 dB off these voices; the peaks leave that room."""
        for language, seed in (("en", 1), ("fr", 2)):
            made = self.made(8, -16, -1, language, seed)
            with self.subTest(language):
                self.assertEqual(self.missed(made), [])
                self.assertGreater(made.plan.ceiling_dbtp, 0)

    def test_a_peak_keeps_the_distance_by_which_decoders_differ(self):
        for language, seed in (("en", 1), ("it", 3)):
            made = self.made(16, -16, -1, language, seed)
            with self.subTest(language):
                self.assertEqual(self.missed(made), [])
                self.assertLess(made.found.levels.true_peak_dbtp, -1.1)

    def test_the_nearest_attempt_is_kept_though_later_ones_are_worse(self):
        seen = []

        def worse(plan, found, demands, **more):
            seen.append(found.integrated_lufs)
            better = corrected(plan, found, demands, **more)
            # From the second on it goes wrong.
            return replace(better or plan, gain_db=plan.gain_db - 8.0) if len(seen) > 1 else better

        with mock.patch.object(proving, "corrected", worse):
            made = self.made(8, -14, -3)
        aim = [abs(lufs + 14) for lufs in seen]
        self.assertAlmostEqual(abs(made.found.levels.integrated_lufs + 14), min(aim), places=6)
        self.assertEqual(made.attempts, proving.MOST_ATTEMPTS)
        self.assertTrue(any("the nearest is kept" in said for said in made.remarks))
        self.assertEqual([path.name for path in self.folder.iterdir()].count("m.opus"), 1)
        self.assertFalse([path for path in self.folder.iterdir() if path.suffix == ".making"])
