"""De-click: clicks put into recorded human speech are found and mended, and nothing else is touched.

Speech: Debian's asterisk-core-sounds-en-g722 (16 kHz; none of these hundred prompts was learned from) and alsa-utils
(48 kHz). How long mouth clicks last: from memory.
"""

import unittest

import numpy as np
import soundfile

from mastering.meters.clicks import clicks
from mastering.shaping.declick import declicked
from mastering.tests.clicks import RATE_HZ, apart, prompt, spoilt
from mastering.tests.signals import ALSA, noise

_SPEECH = 10 ** (-50 / 20)
_NEAR_S = 0.060


def _prompts() -> list[np.ndarray]:
    return [prompt(path).astype(np.float32) for path in apart()]


def _run(samples: np.ndarray, rate_hz: int, block: int = 5000) -> np.ndarray:
    given = samples[:, None] if samples.ndim == 1 else samples
    blocks = (given[at : at + block] for at in range(0, len(given), block))
    return np.concatenate(list(declicked(blocks, rate_hz)))


@unittest.skipUnless(apart(), "asterisk-core-sounds-en-g722 is not installed")
class InSpeech(unittest.TestCase):
    def test_no_plosive_in_a_hundred_prompts_is_taken_for_a_click(self):
        near, looked_at = round(_NEAR_S * RATE_HZ), 0
        for sound in _prompts():
            looked_at += 1
            for start, end in clicks(sound, RATE_HZ):
                # A plosive belongs to a word; what lies in a pause by itself is what a mouth does between words.
                sides = sound[max(0, start - near) : start], sound[end : end + near]
                levels = [np.sqrt(np.mean(np.square(side))) for side in sides if len(side)]
                self.assertLess(max(levels), _SPEECH, f"prompt {looked_at} at {start / RATE_HZ:.3f} s")
        self.assertEqual(looked_at, 100)

    def test_clicks_that_stand_out_are_found_and_mended_and_all_else_is_untouched(self):
        chance = np.random.default_rng(20)
        found, placed, left_db = 0, 0, []
        for sound in _prompts():
            bad, places = spoilt(sound, RATE_HZ, chance, (3.0, 6.0))
            bad = bad.astype(np.float32)
            mended = _run(bad, RATE_HZ)[:, 0]
            told = clicks(bad, RATE_HZ)
            self.assertEqual(len(mended), len(bad))
            untouched = np.ones(len(bad), bool)
            for start, end in told:
                self.assertLess((end - start) / RATE_HZ, 0.006)
                untouched[start:end] = False
            np.testing.assert_array_equal(mended[untouched], bad[untouched])
            for start, end in places:
                highest = start + int(np.abs(bad - sound)[start:end].argmax())
                placed += 1
                if any(first <= highest < last for first, last in told):
                    found += 1
                    clicked, left = (np.square(each[start:end] - sound[start:end]).sum() for each in (bad, mended))
                    left_db.append(10 * np.log10((left + 1e-12) / clicked))
        self.assertGreater(placed, 400)
        self.assertGreaterEqual(found / placed, 0.95)
        self.assertLess(np.median(left_db), -15)

    def test_where_reading_begins_and_how_it_is_cut_into_blocks_changes_nothing(self):
        sound = np.concatenate(_prompts()[:12])
        bad = spoilt(sound, RATE_HZ, np.random.default_rng(3), (3.0, 6.0))[0].astype(np.float32)
        whole = _run(bad, RATE_HZ)
        np.testing.assert_array_equal(_run(bad, RATE_HZ, block=777), whole)
        later = 3 * RATE_HZ
        np.testing.assert_array_equal(_run(bad[later:], RATE_HZ)[RATE_HZ:], whole[later + RATE_HZ :])


@unittest.skipUnless(ALSA.exists(), "alsa-utils is not installed")
class AtFullRate(unittest.TestCase):
    def test_a_click_on_one_side_is_mended_there_alone(self):
        mended_well = []
        for path in sorted(ALSA.glob("*_*.wav")):
            sound, rate_hz = soundfile.read(path, dtype="float32")
            clean = _run(sound, rate_hz)[:, 0]
            both, at, near = np.stack([sound, sound], axis=1), round(0.4 * rate_hz), round(0.02 * rate_hz)
            height = max(6 * np.abs(sound[at - near : at + near]).max(), 0.05)
            times_s = np.arange(round(0.001 * rate_hz)) / rate_hz
            both[at : at + len(times_s), 1] += height * np.exp(-4000 * times_s) * np.cos(2 * np.pi * 3000 * times_s)
            mended = _run(both, rate_hz)
            np.testing.assert_array_equal(mended[:, 0], clean)
            mended_well.append(np.abs(mended[:, 1] - clean).max() < 0.2 * height)
        self.assertEqual(len(mended_well), 8)
        self.assertGreaterEqual(sum(mended_well), 7)


class Nothing(unittest.TestCase):
    def test_what_is_short_silent_or_made_of_tones_passes(self):
        times = np.arange(96000) / 48000
        for sound in (np.zeros(10), np.zeros(96000), 0.5 * np.sin(2 * np.pi * 440 * times), noise(-50, 2)[:, 0]):
            given = sound.astype(np.float32)
            np.testing.assert_array_equal(_run(given, 48000)[:, 0], given)
        self.assertEqual(list(declicked(iter(()), 48000)), [])
