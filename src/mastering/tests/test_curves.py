"""What a plan looks like over time: peaks, the level of pauses, gain and limiter, beside loudness."""

from unittest import TestCase

import numpy as np

from mastering.outlets.curves import curves
from mastering.outlets.rulesheets import shipped
from mastering.shaping.treatment import Treatment
from mastering.tests.signals import noise, speech
from mastering.tests.test_plans import levels_of, plan

RETAIL = "audiobook-retail"


class OverTime(TestCase):
    def curves(self, samples: np.ndarray, **treatment):
        levels = levels_of(samples)
        planned = plan(samples, shipped()[RETAIL], Treatment(**treatment))
        return levels, planned, curves(levels, planned, points=600)

    def test_peaks_are_those_that_were_measured_and_stay_below_the_ceiling(self):
        levels, planned, found = self.curves(speech(peak=0.9) + noise(-70, 6))
        self.assertAlmostEqual(np.nanmax(found.before_peaks_db), levels.sample_peak_dbfs, delta=0.02)
        self.assertLessEqual(np.nanmax(found.after_peaks_db), planned.ceiling_dbtp + 1e-9)

    def test_pauses_lie_at_the_level_of_the_room_and_hush_lowers_them(self):
        _, planned, found = self.curves(speech(peak=0.3) + noise(-62, 6))
        pauses = [each for each in found.pauses if each.end_s - each.start_s > 0.5]
        self.assertTrue(pauses)
        for pause in pauses:
            self.assertAlmostEqual(pause.before_db, -62, delta=1.5)
            self.assertAlmostEqual(pause.after_db, pause.before_db + planned.gain_db, delta=0.1)
        _, planned, hushed = self.curves(speech(peak=0.3) + noise(-62, 6), hush="always", hush_db=10.0)
        long = [each for each in hushed.pauses if each.end_s - each.start_s > 0.5]
        lowered = [each.before_db + planned.gain_db - each.after_db for each in long]
        self.assertAlmostEqual(np.median(lowered), 10, delta=2)

    def test_digital_silence_is_left_out_of_the_level_of_a_pause(self):
        samples = speech(peak=0.3) + noise(-62, 6)
        samples[:22050] = 0
        _, _, found = self.curves(samples)
        self.assertAlmostEqual(found.pauses[0].before_db, -62, delta=1.5)
