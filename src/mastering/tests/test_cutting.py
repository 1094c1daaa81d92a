"""Cuts are exact to the sample, and what is heard is what was marked."""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase, skipUnless

import numpy as np
import soundfile

from mastering.audio.reader import Reader
from mastering.editing import markup
from mastering.editing import pieces as kept_pieces
from mastering.editing.assembly import CROSSFADE, PAUSE, MarkedRecording, Stretch, assembled, divided, starts_s
from mastering.editing.assembly import as_list as assembly_list
from mastering.editing.assembly import from_list as stretches_of
from mastering.editing.markkinds import FADE_IN, FADE_OUT, GAIN, HUSH, PICKUP, POINT, STRIKE, TONE, Mark
from mastering.editing.pauses import Pauses as FoundPauses
from mastering.editing.pauses import find_pauses, longer_than, longest, remaining, shortened
from mastering.editing.pieces import BadCut, Piece, Span
from mastering.editing.retakes import distance, find_retakes
from mastering.meters.meter import Meter
from mastering.meters.speech import matching_gain
from mastering.outlets.rulesheets import shipped
from mastering.pipeline import make
from mastering.rendering import Programme, Track
from mastering.tests.signals import PROMPTS, noise, speech, tone, written, written_aac

RATE = 44100


def ramp(count: int = 60000) -> np.ndarray:
    """Samples that say their own number: 16-bit values that count up."""
    return ((np.arange(count) % 65536 - 32768) / 32768).astype(np.float32)[:, None]


def mark(kind: str, start: int, end: int, **more) -> Mark:
    return Mark(id=0, kind=kind, start_sample=start, end_sample=end, **more)


def marked(*wanted: Mark, length: int = 60000) -> markup.Marks:
    marks: markup.Marks = ()
    for each in wanted:
        marks = markup.set_mark(marks, each, length_samples=length)
    return marks


class Cutting(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def rendered(self, pieces, samples=None, start=0, end=None, **tracks):
        path = written(self.folder, ramp() if samples is None else samples, RATE, "a.wav", "FLOAT")
        with Programme(pieces, {"a": [Track(path)]} | tracks).opened() as reader:
            blocks = list(reader.blocks(start, end))
            self.assertLessEqual(max(map(len, blocks), default=0), 1 << 17)
            sound = np.concatenate(blocks) if blocks else np.zeros((0, 1), np.float32)
            if start == 0 and end is None:
                self.assertEqual(len(sound), reader.length)
        return sound

    def read(self, marks, span=(0, 60000), **more):
        pieces = markup.pieces(marks, Span("a", *span), sample_rate_hz=RATE, tone=(100, 3000))
        return self.rendered(pieces, **more)

    def test_a_cut_list_returns_exactly_the_samples_it_names(self):
        cuts = [(5, 17), (1000, 40001), (59999, 60000), (20, 21)]
        sound = self.rendered([Piece(span=Span("a", *cut)) for cut in cuts])
        np.testing.assert_array_equal(sound, np.concatenate([ramp()[a:b] for a, b in cuts]))

    def test_what_is_struck_out_is_gone_and_the_rest_is_untouched(self):
        marks = marked(mark(STRIKE, 100, 200), mark(STRIKE, 200, 300), mark(STRIKE, 5000, 5001))
        self.assertEqual([(m.start_sample, m.end_sample) for m in marks], [(100, 300), (5000, 5001)])
        kept = np.concatenate([ramp()[:100], ramp()[300:5000], ramp()[5001:]])
        np.testing.assert_array_equal(self.read(marks), kept)

    def test_sections_cut_from_a_take_and_joined_again_are_the_take_bit_for_bit(self):
        take = self.folder / "take.wav"
        samples = np.random.default_rng(5).integers(-32768, 32768, (70001, 2), dtype=np.int16)
        soundfile.write(take, samples, RATE, subtype="PCM_16")
        cuts = [0, 1, 4410, 33333, 70000, 70001]
        parts = [self.folder / f"{at}.wav" for at in range(len(cuts) - 1)]
        for part, start, end in zip(parts, cuts, cuts[1:], strict=False):
            with Programme([Piece(span=Span("t", start, end))], {"t": [Track(take)]}).opened() as reader:
                soundfile.write(part, np.concatenate(list(reader.blocks())), RATE, subtype="PCM_16")
        pieces = [Piece(span=Span(str(at), 0, soundfile.info(part).frames)) for at, part in enumerate(parts)]
        whole = Programme(pieces, {str(at): [Track(part)] for at, part in enumerate(parts)})
        self.assertTrue(whole.untouched)
        with whole.opened() as reader:
            soundfile.write(self.folder / "again.wav", np.concatenate(list(reader.blocks())), RATE, subtype="PCM_16")
        np.testing.assert_array_equal(soundfile.read(self.folder / "again.wav", dtype="int16")[0], samples)

    def test_a_stretch_holds_the_samples_that_reading_from_the_start_gives(self):
        sound = speech(seconds=9)
        paths = [
            written(self.folder, sound, RATE, "a.flac", None),
            written(self.folder, sound, RATE, "a.mp3", None),
            written(self.folder, sound, RATE, "a.wav", "PCM_24"),
            written(self.folder, sound[: 4 * RATE], RATE, "a.ogg", None),
            written_aac(self.folder, sound),
        ]
        for path in paths:
            with self.subTest(path.name), Reader(path) as reader:
                whole = np.concatenate(list(reader.blocks()))
                for start in (0, 7, 3 * RATE + 11, len(whole) - 50):
                    # What fills AAC's last frame is no part of the recording, yet earlier cuts may reach into it.
                    part = np.concatenate(list(reader.stretch(start, start + 999)))[: len(whole) - start]
                    # AAC fills noise in at random, so its samples are near, not alike; their places are the same.
                    tolerance = 0.003 if path.suffix == ".m4a" else 0
                    np.testing.assert_allclose(part, whole[start : start + 999], rtol=0, atol=tolerance)

    def test_fades_follow_a_quarter_of_a_sine(self):
        ones = np.full((1000, 1), 0.5, np.float32)
        fades = marked(mark(FADE_IN, 0, 200), mark(FADE_OUT, 800, 1000), mark(STRIKE, 50, 60), length=1000)
        sound = self.read(fades, (0, 1000), samples=ones)
        curve = 0.5 * np.sin(np.pi / 2 * (np.arange(200) + 0.5) / 200)
        np.testing.assert_allclose(sound[:190, 0], np.delete(curve, np.s_[50:60]), atol=1e-6)
        np.testing.assert_allclose(sound[-200:, 0], curve[::-1], atol=1e-6)

    def test_a_crossfade_keeps_the_power_and_takes_its_length_off_the_whole(self):
        left, right = noise(-20, 1.0, seed=1), noise(-20, 1.0, seed=2)
        path = written(self.folder, right, RATE, "b.wav", "FLOAT")
        pieces = [
            Piece(span=Span("a", 0, RATE)),
            Piece(span=Span("b", 0, RATE), overlap_samples=RATE // 2),
            Piece(span=Span("a", 0, 20000), overlap_samples=1000),
        ]
        quiet = written(self.folder, left, RATE, "left.wav", "FLOAT")
        files = {"a": [Track(quiet)], "b": [Track(path)]}
        sound = self.rendered(pieces, **files)
        self.assertEqual(len(sound), 2 * RATE + 20000 - RATE // 2 - 1000)
        crossed = sound[RATE // 2 : RATE, 0]
        angle = np.pi / 2 * (np.arange(RATE // 2) + 0.5) / (RATE // 2)
        wanted = left[RATE // 2 :, 0] * np.cos(angle) + right[: RATE // 2, 0] * np.sin(angle)
        np.testing.assert_allclose(crossed, wanted, atol=1e-6)
        self.assertAlmostEqual(10 * np.log10(np.mean(crossed**2)), -20, delta=0.2)
        for start in (RATE // 2 - 5, RATE // 2 + 100, RATE - 1, RATE + RATE // 2 - 400):
            np.testing.assert_array_equal(self.rendered(pieces, start=start, end=start + 900, **files),
                                          sound[start : start + 900])  # fmt: skip

    def test_gain_is_what_was_asked_and_does_not_click(self):
        ones = np.full((30000, 1), 0.1, np.float32)
        sound = self.read(marked(mark(GAIN, 10000, 20000, value_db=6.0), length=30000), (0, 30000), samples=ones)
        np.testing.assert_allclose(20 * np.log10(sound[12000:18000, 0] / 0.1), 6.0, atol=1e-4)
        np.testing.assert_array_equal(sound[:10000], ones[:10000])
        self.assertLess(np.abs(np.diff(sound[:, 0])).max(), 0.001)

    def test_room_tone_has_the_level_of_the_room_and_is_never_silence(self):
        room = noise(-60, 3.0)
        room[RATE : 2 * RATE] = 0.3
        marks = marked(mark(TONE, RATE, 2 * RATE), length=3 * RATE)
        pieces = markup.pieces(marks, Span("a", 0, 3 * RATE), sample_rate_hz=RATE, tone=(0, RATE // 2))
        sound = self.rendered(pieces, room)
        self.assertEqual(len(sound), 3 * RATE)
        for start in range(RATE, 2 * RATE, RATE // 5):
            part = sound[start : start + RATE // 5]
            self.assertAlmostEqual(10 * np.log10(np.mean(part**2)), -60, delta=1.5)
        self.assertFalse((np.abs(sound) < 1e-9).all(axis=1).reshape(-1, 100).all(axis=1).any())

    def test_noise_is_lowered_where_it_was_asked_and_nowhere_else(self):
        room = noise(-50, 4.0)
        marks = marked(mark(HUSH, RATE, 3 * RATE, value_db=12), length=4 * RATE)
        pieces = markup.pieces(marks, Span("a", 0, 4 * RATE), sample_rate_hz=RATE, tone=(0, RATE))
        sound = self.rendered(pieces, room)
        level = 10 * np.log10(np.mean(sound[RATE + 5000 : 3 * RATE - 5000] ** 2))
        self.assertAlmostEqual(level, -62, delta=1.5)
        self.assertAlmostEqual(10 * np.log10(np.mean(sound[:RATE] ** 2)), -50, delta=0.3)
        self.assertEqual(len(sound), 4 * RATE)

    def test_a_pickup_stands_for_its_place_whatever_its_rate_and_length(self):
        other = written(self.folder, noise(-30, 0.5, rate_hz=48000), 48000, "b.wav")
        there = mark(PICKUP, 1000, 9000, recording="b", from_sample=2400, to_sample=12000, value_db=6.0)
        sound = self.read(marked(there), b=[Track(other)])
        self.assertEqual(len(sound), 60000 - 8000 + 8820)
        np.testing.assert_array_equal(sound[:1000], ramp()[:1000])
        np.testing.assert_array_equal(sound[-51000:], ramp()[9000:])
        self.assertAlmostEqual(10 * np.log10(np.mean(sound[1000:9820] ** 2)), -24, delta=0.8)

    def test_a_pickup_sounds_once_unless_all_its_place_is_struck_out(self):
        other = written(self.folder, noise(-30, 0.5), RATE, "b.wav", "FLOAT")
        there = mark(PICKUP, 10000, 20000, recording="b", from_sample=0, to_sample=5000)
        for struck, at in (
            ([(9000, 12000)], 9000),
            ([(9000, 10000)], 9000),
            ([(9000, 12000), (12500, 13000)], 9000),
            ([(15000, 16000)], 10000),
            ([(15000, 25000)], 10000),
            ([(12000, 14000), (9500, 12000)], 9500),
        ):
            with self.subTest(struck):
                marks = marked(there, *(mark(STRIKE, *each) for each in struck))
                sound = self.read(marks, b=[Track(other)])
                heard = soundfile.read(other, dtype="float32", frames=5000)[0]
                np.testing.assert_array_equal(sound[:at], ramp()[:at])
                np.testing.assert_array_equal(sound[at : at + 5000, 0], heard)
                after = max(20000, *(end for _, end in struck))
                np.testing.assert_array_equal(sound[at + 5000 :], ramp()[after:])
                # Two sections that meet inside its place hold it once between them.
                parts = [self.read(marks, span, b=[Track(other)]) for span in ((0, 14000), (14000, 60000))]
                np.testing.assert_array_equal(np.concatenate(parts), sound)
        gone = self.read(marked(there, mark(STRIKE, 9000, 20000)), b=[Track(other)])
        np.testing.assert_array_equal(gone, np.delete(ramp(), np.s_[9000:20000], axis=0))

    def test_aligned_voices_are_cut_together(self):
        host, guest = (ramp(50000) / 4, np.flip(ramp(50000)) / 4)
        paths = [written(self.folder, s, RATE, f"{n}.wav", "FLOAT") for n, s in (("host", host), ("guest", guest))]
        both = {"h": [Track(paths[0]), Track(paths[1], offset_samples=100)]}
        cuts = [(0, 5000), (20000, 50000)]
        sound = self.rendered([Piece(span=Span("h", *cut)) for cut in cuts], **both)
        shifted = np.concatenate([np.zeros((100, 1), np.float32), guest])[:50000]
        mixed = np.concatenate([(host + shifted)[a:b] for a, b in cuts])
        np.testing.assert_allclose(sound, mixed, atol=1e-7)

    def test_what_cannot_be_cut_is_said_in_a_sentence(self):
        for start, end, words in ((-1, 5, "before"), (5, 5, "empty"), (9, 3, "empty"), (0, 60001, "beyond")):
            with self.subTest(words), self.assertRaisesRegex(BadCut, words):
                marked(mark(STRIKE, start, end))
        for wrong in (mark("louder", 0, 9), mark(GAIN, 0, 9, value_db=400), mark(HUSH, 0, 9, value_db=-3)):
            with self.assertRaises(BadCut):
                marked(wrong)
        with self.assertRaisesRegex(BadCut, "no longer there"):
            self.rendered([Piece(span=Span("gone", 0, 9))])
        with self.assertRaisesRegex(BadCut, "longer than a piece"):
            self.rendered([Piece(span=Span("a", 0, 9)), Piece(span=Span("a", 0, 9), overlap_samples=10)])
        with self.assertRaisesRegex(BadCut, "struck out"):
            self.rendered([])
        with self.assertRaisesRegex(BadCut, "no quiet stretch"):
            markup.pieces(marked(mark(TONE, 0, 9)), Span("a", 0, 99), sample_rate_hz=RATE, tone=None)

    def test_marks_give_way_and_come_back(self):
        marks = marked(mark(STRIKE, 100, 900), mark(GAIN, 50, 500, value_db=3), mark(POINT, 300, 300, name="here"))
        marks = markup.cleared(marks, 200, 300)
        self.assertEqual(
            {(m.kind, m.start_sample, m.end_sample) for m in marks},
            {(GAIN, 50, 200), (GAIN, 300, 500), (STRIKE, 100, 200), (STRIKE, 300, 900), (POINT, 300, 300)},
        )
        self.assertEqual(len({m.id for m in marks}), len(marks))
        only = markup.kept_only(marks, 400, 600, within=(0, 60000))
        self.assertEqual([(m.start_sample, m.end_sample) for m in only if m.kind == STRIKE], [(0, 400), (600, 60000)])
        self.assertEqual(markup.from_list(markup.as_list(marks)), marks)
        pieces = markup.pieces(marks, Span("a", 0, 60000), sample_rate_hz=RATE, tone=None)
        self.assertEqual(kept_pieces.from_list(kept_pieces.as_list(pieces)), pieces)

    def test_many_marks_at_once_are_as_one_by_one(self):
        strikes = [mark(STRIKE, at * 100, at * 100 + 40) for at in range(300)]
        many = markup.set_marks(marked(mark(GAIN, 59000, 59100, value_db=1)), strikes, length_samples=60000)
        self.assertEqual([replace(m, id=0) for m in many][:300], strikes)
        meeting = markup.set_marks(many, [mark(STRIKE, 0, 150), mark(TONE, 30, 90)], length_samples=60000)
        self.assertEqual((meeting[0].start_sample, meeting[0].end_sample), (0, 150))
        with self.assertRaises(BadCut):
            markup.set_marks(many, [mark(STRIKE, 0, 1), mark(STRIKE, 0, 99999)], length_samples=60000)

    def test_a_finished_file_holds_what_remains(self):
        take = written(self.folder, speech(seconds=12), RATE, "take.wav")
        marks = marked(mark(STRIKE, RATE, 3 * RATE), length=12 * RATE)
        pieces = markup.pieces(marks, Span("t", 0, 11 * RATE), sample_rate_hz=RATE, tone=None)
        made = make(Programme(pieces, {"t": [Track(take)]}), shipped()["radio-playout"], self.folder / "made.wav")
        self.assertEqual(made.found.facts.frames, 9 * RATE)


def envelope_of(samples: np.ndarray, rate_hz: int):
    meter = Meter(rate_hz, ("FC",))
    meter.add(samples[:, None] if samples.ndim == 1 else samples)
    return meter.levels().envelope


class Pauses(TestCase):
    @skipUnless(PROMPTS.exists(), "the prompts are not installed")
    def test_a_take_cut_tight_is_not_taken_for_a_pause(self):
        for path in sorted(PROMPTS.glob("vm-*.wav"))[:40]:
            samples = soundfile.read(path, dtype="float32", always_2d=True)[0]
            loud = np.flatnonzero(np.abs(samples[:, 0]) > 0.02)
            tight = samples[loud[0] : loud[-1]]
            found = find_pauses(envelope_of(tight, 8000))
            self.assertLess(found.lengths_s.sum(), 0.3 * len(tight) / 8000, path.name)

    def test_pauses_lie_where_nobody_speaks(self):
        sound = noise(-65, 10.0)
        for start, end in ((1, 3), (4.5, 6), (6.25, 9)):
            sound[int(start * RATE) : int(end * RATE)] += noise(-25, end - start)[: int((end - start) * RATE + 0.5)]
        found = find_pauses(envelope_of(sound, RATE))
        np.testing.assert_allclose(found.starts_s, [0, 3, 9], atol=0.02)
        np.testing.assert_allclose(found.ends_s, [1, 4.5, 10], atol=0.02)
        self.assertAlmostEqual(found.noise_db, -65, delta=4)
        self.assertEqual(len(find_pauses(envelope_of(sound, RATE), shortest_s=0.2)), 4)
        np.testing.assert_allclose(longer_than(found, 1.0), [3.75], atol=0.02)
        np.testing.assert_allclose(longest(found, 2), [3.75], atol=0.02)
        with self.assertRaisesRegex(BadCut, "only 1 pauses"):
            longest(found, 3)
        self.assertEqual(len(find_pauses(envelope_of(sound, RATE), level_db=-5)), 1, "everything is a pause then")

    def test_dead_air_is_shortened_to_room_tone_and_never_to_silence(self):
        sound = noise(-65, 12.0)
        sound[2 * RATE : 4 * RATE] += noise(-25, 2.0)
        sound[8 * RATE : 10 * RATE] += noise(-25, 2.0)
        sound[5 * RATE : 8 * RATE - 2000] = 0
        shorter = shortened(find_pauses(envelope_of(sound, RATE)), RATE, longer_than_s=1.0, to_s=0.5)
        marks = markup.set_marks((), shorter, length_samples=len(sound))
        with tempfile.TemporaryDirectory() as folder:
            path = written(Path(folder), sound, RATE, "a.wav", "FLOAT")
            pieces = markup.pieces(marks, Span("a", 0, len(sound)), sample_rate_hz=RATE, tone=(0, RATE))
            with Programme(pieces, {"a": [Track(path)]}).opened() as reader:
                short = np.concatenate(list(reader.blocks()))
        self.assertAlmostEqual(len(short) / RATE, 0.5 + 2 + 0.5 + 2 + 0.5, delta=0.1)
        self.assertFalse(
            (short == 0).all(axis=1).reshape(-1)[: len(short) // 441 * 441].reshape(-1, 441).all(axis=1).any()
        )
        with self.assertRaises(BadCut):
            shortened(find_pauses(envelope_of(sound, RATE)), RATE, longer_than_s=1.0, to_s=1.0)

    def test_a_silent_recording_is_one_pause(self):
        found = find_pauses(envelope_of(np.zeros((RATE, 1), np.float32), RATE))
        self.assertEqual((len(found), len(longer_than(found, 0.1))), (1, 0))

    @skipUnless(PROMPTS.is_dir(), "the voice prompts are not installed")
    def test_boundaries_of_real_speech_are_found_and_no_word_is_cut(self):
        # Debian's asterisk-core-sounds-en-wav, joined with known gaps, at 30 dB SNR. A prompt begins and ends where
        # it first and last rises above that noise.
        found_edges, edges, cut = 0, 0, 0
        for seed in (1, 2, 3):
            sound, rate_hz, spoken, clean = joined_prompts(seed)
            pauses = find_pauses(envelope_of(sound, rate_hz))
            for (_, end), (start, _) in zip(spoken, spoken[1:], strict=False):
                for wanted, known in ((end, pauses.starts_s), (start, pauses.ends_s)):
                    edges += 1
                    found_edges += np.abs(known - wanted / rate_hz).min() <= 0.05
            for middle in pauses.middles_s:
                at = int(middle * rate_hz)
                cut += np.mean(clean[at - 80 : at + 80] ** 2) > 10 ** (-30 / 10) * 0.05**2 * 4
        self.assertGreaterEqual(found_edges / edges, 0.98)
        self.assertEqual(cut, 0)


def joined_prompts(seed: int, count: int = 120):
    """Prompts of one level, gaps of 0.5 to 1.5 s, noise 30 dB below: sound, rate, (start, end) of each, no noise."""
    random = np.random.default_rng(seed)
    parts, spoken, at = [], [], 0
    for path in random.permutation(sorted(PROMPTS.glob("*.wav"))):
        samples, rate_hz = soundfile.read(path, dtype="float32")
        if len(samples) < 0.6 * rate_hz:
            continue
        cell = rate_hz // 100
        power = np.mean(samples[: len(samples) // cell * cell].reshape(-1, cell) ** 2, axis=1)
        level = power[power > np.percentile(power, 95) / 100].mean()
        on = np.flatnonzero(power > level / 1000)
        words = samples[on[0] * cell : (on[-1] + 1) * cell] * 0.05 / np.sqrt(level)
        gap = int(random.uniform(0.5, 1.5) * rate_hz)
        parts += [np.zeros(gap, np.float32), words]
        spoken.append((at + gap, at + gap + len(words)))
        at = spoken[-1][1]
        if len(spoken) == count:
            break
    clean = np.concatenate([*parts, np.zeros(rate_hz, np.float32)])
    hiss = random.standard_normal(len(clean)) * 0.05 * 10 ** (-30 / 20)
    return (clean + hiss).astype(np.float32), rate_hz, spoken, clean


@skipUnless(PROMPTS.exists(), "the prompts are not installed")
class WhatRemains(TestCase):
    """Words at 1–3, 4–6, 7–9 and 10–12 of 13 seconds, with a second of pause between."""

    def setUp(self):
        starts = np.array([0.0, 3.0, 6.0, 9.0, 12.0])
        quiet = np.zeros(5, bool)
        self.pauses = FoundPauses(starts, starts + 1, quiet, level_db=-50, noise_db=-60, duration_s=13.0)

    def test_without_strikes_nothing_changes(self):
        found = remaining(self.pauses, [])
        np.testing.assert_allclose(found.middles_s, [3.5, 6.5, 9.5])
        np.testing.assert_allclose(found.lengths_s, [1, 1, 1])

    def test_a_pause_a_struck_word_and_a_pause_are_one(self):
        found = remaining(self.pauses, [(4.0, 6.0)])
        np.testing.assert_allclose(found.lengths_s, [2, 1])
        np.testing.assert_allclose(found.middles_s, [4.0, 9.5])
        np.testing.assert_allclose(longest(found, 2), [4.0])

    def test_pauses_inside_strikes_do_not_count(self):
        found = remaining(self.pauses, [(3.0, 7.0)])
        np.testing.assert_allclose(found.middles_s, [9.5])
        with self.assertRaisesRegex(BadCut, "only 1 pauses"):
            longest(found, 3)

    def test_what_is_struck_out_of_a_pause_is_not_its_length(self):
        found = remaining(self.pauses, [(6.2, 6.9)])
        np.testing.assert_allclose(found.lengths_s, [1, 0.3, 1])
        np.testing.assert_allclose(longer_than(found, 0.5), [3.5, 9.5])

    def test_before_the_first_word_that_remains_there_is_nothing_to_cut(self):
        found = remaining(self.pauses, [(1.0, 3.0), (10.0, 12.0)])
        np.testing.assert_allclose(found.middles_s, [6.5])

    def test_all_struck_out_leaves_no_pause(self):
        self.assertEqual(len(remaining(self.pauses, [(0.0, 13.0)]).lengths_s), 0)


class Retakes(TestCase):
    """Prompts that the same speaker recorded twice, for two sets of prompts (which are alike: from memory)."""

    def test_retakes_of_real_speech_are_found_and_the_last_whole_one_proposed(self):
        lines = [
            ("confbridge-begin-leader", "conf-waitforleader"),
            ("vm-tempgreeting",),
            ("please-try-again", "vm-pls-try-again"),
            ("spy-console",),
            ("conf-muted", "confbridge-muted"),
            ("tt-weasels",),
        ]
        parts, expected, at_s = [noise(-66, 1.0, rate_hz=8000)], [], 1.0
        for names in lines:
            takes = []
            for name in names:
                samples = soundfile.read(PROMPTS / f"{name}.wav", dtype="float32", always_2d=True)[0]
                takes.append((at_s, at_s + len(samples) / 8000))
                parts += [samples + noise(-66, len(samples) / 8000, rate_hz=8000), noise(-66, 1.2, rate_hz=8000)]
                at_s += len(samples) / 8000 + 1.2
                if name == "please-try-again":
                    # A false start: the first half of the same line.
                    half = len(samples) * 2 // 5
                    parts += [samples[:half], noise(-66, 1.2, rate_hz=8000)]
                    takes.append((at_s, at_s + half / 8000))
                    at_s += half / 8000 + 1.2
            if len(takes) > 1:
                expected.append(takes)
        with tempfile.TemporaryDirectory() as folder:
            path = written(Path(folder), np.concatenate(parts), 8000)
            found = find_retakes(path, find_pauses(envelope_of(np.concatenate(parts), 8000)))
        self.assertEqual([len(line.takes) for line in found], [2, 3, 2])
        for line, takes in zip(found, expected, strict=True):
            self.assertEqual(line.proposed, len(takes) - 1)
            for take, (start_s, end_s) in zip(line.takes, takes, strict=True):
                self.assertTrue(start_s - 0.05 < take.start_s < take.end_s < end_s + 0.05, (take, start_s, end_s))
        self.assertEqual([take.whole for take in found[1].takes], [True, False, True])

    def test_what_is_known_to_be_unlike_is_looked_at_no_further(self):
        random = np.random.default_rng(5)
        one, other = (random.standard_normal((200, 24)) for _ in range(2))
        one, other = (each / np.linalg.norm(each, axis=1, keepdims=True) for each in (one, other))
        near = one + 0.4 * other
        near /= np.linalg.norm(near, axis=1, keepdims=True)
        for held, like in ((one[:150], True), (near, True), (other, False)):
            whole = distance(one, held)
            self.assertEqual(whole < 0.26, like)
            self.assertEqual(distance(one, held, most=0.26), whole if like else np.inf)

    def test_a_pickup_is_brought_to_the_level_around_it(self):
        loud = soundfile.read(PROMPTS / "vm-tempgreeting.wav", dtype="float32", always_2d=True)[0]
        gain_db = matching_gain([(envelope_of(loud, 8000), 0, 9)], (envelope_of(loud * 0.25, 8000), 0, 9))
        self.assertAlmostEqual(gain_db, 12.04, delta=0.1)
        self.assertEqual(matching_gain([(envelope_of(loud * 0, 8000), 0, 9)], (envelope_of(loud, 8000), 0, 9)), 0.0)

    def test_where_nobody_speaks_around_it_the_whole_recording_is_gone_by(self):
        """Its only word is replaced: the room before and after says nothing of the voice."""
        word = tone(-20, 1, rate_hz=RATE, channels=1)
        room = noise(-64, 2)
        take, pickup = (envelope_of(np.concatenate([room, level * word, room]), RATE) for level in (1.0, 0.5))
        gain_db = matching_gain([(take, 0.0, 2.0), (take, 3.0, 5.0)], (pickup, 0.0, 5.0))
        self.assertAlmostEqual(gain_db, 6.02, delta=0.2)


class PuttingTogether(TestCase):
    def pages(self, **more) -> dict[str, MarkedRecording]:
        strike = marked(mark(STRIKE, 1000, 2000))
        return {
            "a": MarkedRecording(strike, (0, 400), RATE, 60000),
            "b": MarkedRecording((), (0, 400), RATE, 60000),
        } | more

    def test_joins_are_as_long_as_they_say_and_a_struck_stretch_goes(self):
        stretches = [
            Stretch(recording="a", start_sample=0, end_sample=3000),
            Stretch(recording="a", start_sample=1100, end_sample=1900, join=PAUSE, join_s=5),
            Stretch(recording="b", start_sample=0, end_sample=44100, join=PAUSE, join_s=0.5),
            Stretch(recording="a", start_sample=2000, end_sample=24050, join=CROSSFADE, join_s=0.1),
        ]
        pieces = assembled([stretches], self.pages())
        self.assertEqual([piece.samples for piece in pieces], [1000, 1000, 22050, 44100, 22050])
        self.assertEqual(pieces[-1].overlap_samples, 4410)
        self.assertAlmostEqual(starts_s(pieces, self.pages())[-1], (2000 + 22050 + 44100 + 22050 - 4410) / RATE)
        self.assertEqual(stretches_of(assembly_list(stretches)), tuple(stretches))

    def test_what_sounds_first_in_a_section_has_nothing_before_it_to_join(self):
        struck = Stretch(recording="a", start_sample=1100, end_sample=1900)
        for join in (CROSSFADE, PAUSE):
            crossed = Stretch(recording="b", start_sample=0, end_sample=44100, join=join, join_s=0.5)
            for second in ([crossed], [struck, crossed]):
                with self.subTest(join, struck=len(second) - 1):
                    first = [Stretch(recording="b", start_sample=0, end_sample=22050)]
                    pieces = assembled([first, second], self.pages())
                    self.assertEqual(sum(piece.samples for piece in pieces), 66150)
                    self.assertFalse(any(piece.overlap_samples for piece in pieces))

    def test_a_crossfade_is_as_long_in_a_section_of_another_rate(self):
        """Overlaps are told in samples of the programme, whose rate is that of the first piece of all."""
        pages = {"a": MarkedRecording((), None, 48000, 96000), "b": MarkedRecording((), None, 24000, 96000)}
        first = [Stretch(recording="a", start_sample=0, end_sample=48000)]
        second = [
            Stretch(recording="b", start_sample=0, end_sample=24000),
            Stretch(recording="b", start_sample=48000, end_sample=72000, join=CROSSFADE, join_s=0.25),
        ]
        pieces = assembled([first, second], pages)
        self.assertEqual([piece.overlap_samples for piece in pieces], [0, 0, 12000])
        self.assertEqual(starts_s(pieces, pages), [0.0, 1.0, 1.75, 2.75])
        self.assertEqual(starts_s(assembled([second], pages), pages), [0.0, 0.75, 1.75])

    def test_sections_cut_from_one_take_and_joined_again_are_one_piece(self):
        stretches = [Stretch(recording="b", start_sample=at, end_sample=at + 10000) for at in range(0, 60000, 10000)]
        self.assertEqual(assembled([stretches], self.pages()), (Piece(span=Span("b", 0, 60000)),))

    def test_a_stretch_cut_anywhere_sounds_as_it_did(self):
        """With gain, kind and fades, each of which belongs to all of it or to an end."""
        chance = np.random.default_rng(4)
        whole = Stretch(
            recording="b", start_sample=0, end_sample=60000, gain_db=-6.0, fade_in_s=0.2, fade_out_s=0.1, kind="music"
        )
        (one,) = assembled([[whole]], self.pages())
        for _ in range(20):
            cuts = chance.integers(8820, 55500, 3).tolist()
            parts = divided(whole, [*cuts, 0, 60000, 99999])
            self.assertEqual([part.start_sample for part in parts], [0, *sorted(set(cuts))])
            pieces = assembled([parts], self.pages())
            self.assertEqual({(piece.gain_db, piece.kind) for piece in pieces}, {(-6.0, "music")})
            self.assertEqual([piece.rise for piece in pieces], [one.rise] + [None] * (len(parts) - 1))
            self.assertEqual([piece.fall is not None for piece in pieces], [False] * (len(parts) - 1) + [True])
            self.assertEqual(pieces[-1].span.start_sample - pieces[-1].fall[1], -one.fall[1])

    def test_what_cannot_be_put_together_is_said(self):
        for stretch, said in (
            (Stretch(recording="gone", start_sample=0, end_sample=1), "no longer there"),
            (Stretch(recording="a", start_sample=5, end_sample=5), "empty"),
            (Stretch(recording="a", start_sample=5, end_sample=60001), "beyond the end"),
            (Stretch(recording="a", start_sample=-5, end_sample=60000), "before the recording"),
            (Stretch(recording="a", start_sample=0, end_sample=9, join="glue"), "no way to join"),
            (Stretch(recording="a", start_sample=0, end_sample=9, join=PAUSE, join_s=31), "30 s at most"),
        ):
            with self.subTest(said), self.assertRaisesRegex(BadCut, said):
                assembled([[stretch]], self.pages())
