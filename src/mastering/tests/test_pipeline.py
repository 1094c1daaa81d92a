"""The whole way: a recording and an outlet in, a proven file out, and nothing left behind when it fails."""

import hashlib
import resource
import signal
import tempfile
from pathlib import Path
from unittest import TestCase, skipUnless

import mutagen.mp3
import numpy as np
import soundfile

from mastering.errors import Cancelled, CannotMake, FileInTheWay, UnreadableRecording
from mastering.making.job import Order
from mastering.making.proving import MOST_ATTEMPTS
from mastering.meters.measurement import measure
from mastering.outlets.findings import FAIL
from mastering.outlets.rulesheets import parse, shipped, shipped_text
from mastering.outlets.rulesheets import written as written_sheet
from mastering.pipeline import make, make_all
from mastering.tagging.carried import read_carried
from mastering.tagging.inscription import Chapter
from mastering.tests.signals import PROMPTS, noise, real_speech, speech, told, written


class Making(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        self.out = self.folder / "out"
        self.out.mkdir()

    def make(self, samples, key="podcast-host", *, rate_hz=44100, name="take.wav", subtype="PCM_16", **options):
        recording = written(self.folder, samples, rate_hz, name, subtype)
        outlet = options.pop("outlet", None) or shipped()[key]
        encoding = outlet.encoding_from(samples.shape[1], content_kind="speech")
        says = told(outlet, container=encoding.container) if options.pop("inscribed", True) else {}
        return make(recording, outlet, self.out / f"{key}.{encoding.extension}", **says, **options)

    def test_each_outlet_s_file_passes_its_own_rules(self):
        for key in shipped():
            with self.subTest(key):
                made = self.make(np.repeat(speech(peak=0.1, seconds=12), 2, axis=1), key)
                self.assertNotEqual(made.sheet.verdict, FAIL, made.sheet.findings)
                self.assertEqual(made.path.stat().st_size, made.found.facts.size_bytes)
        self.assertEqual(len(list(self.out.iterdir())), len(shipped()), "only finished files are left")

    def test_rate_channels_and_depth_are_brought_to_the_outlet_s(self):
        both = np.repeat(speech(rate_hz=48000, seconds=12), 2, axis=1)
        made = self.make(both, "volunteer-archive", rate_hz=48000, subtype="FLOAT")
        self.assertNotEqual(made.sheet.verdict, FAIL)
        info = mutagen.mp3.MP3(made.path).info
        self.assertEqual((info.channels, info.sample_rate, info.bitrate), (1, 44100, 128000))
        made = self.make(both, "radio-playout", rate_hz=48000, subtype="FLOAT")
        other = soundfile.info(made.path)
        self.assertEqual((other.channels, other.samplerate, other.subtype), (2, 44100, "PCM_16"))
        self.assertAlmostEqual(made.found.facts.duration_s, 12.0, delta=0.001)

    def test_the_same_recording_and_rules_give_the_same_bytes(self):
        for key in shipped():
            digests = set()
            for _ in range(2):
                made = self.make(speech(peak=1.0, seconds=4), key, replace=True)
                digests.add(hashlib.sha256(made.path.read_bytes()).hexdigest())
            self.assertEqual(len(digests), 1, key)

    def test_several_outlets_in_one_run_get_the_files_they_would_get_alone(self):
        keys = ("audiobook-retail", "podcast-host", "slow-connections", "booked-job", "own-masters")
        alone = {key: self.make(speech(peak=0.1, seconds=6), key, replace=True).path.read_bytes() for key in keys}
        orders, reads = [], []
        for key in keys:
            outlet = shipped()[key]
            encoding = outlet.encoding(channels=1, content_kind="speech")
            target = self.out / f"together-{key}.{encoding.extension}"
            orders.append(Order(outlet=outlet, target=target, **told(outlet, container=encoding.container)))
        told_of = lambda stage, share: reads.append((stage, share))  # noqa: E731
        made = make_all(self.folder / "take.wav", orders, stages=told_of)
        for key, each in zip(keys, made, strict=True):
            self.assertEqual(each.path.read_bytes(), alone[key], key)
        self.assertEqual([share for _, share in reads], sorted(share for _, share in reads))

    def test_one_outlet_that_cannot_be_does_not_keep_the_others_from_theirs(self):
        taken = self.out / "taken.mp3"
        taken.write_bytes(b"mine")
        outlet = shipped()["podcast-host"]
        recording = written(self.folder, speech())
        first, second = make_all(
            recording, [Order(outlet=outlet, target=taken), Order(outlet=outlet, target=self.out / "free.mp3")]
        )
        self.assertIsInstance(first, FileInTheWay)
        self.assertTrue(second.path.exists())
        self.assertEqual(taken.read_bytes(), b"mine")

    def test_nothing_is_left_when_the_disk_is_full_or_may_not_be_written(self):
        recording = written(self.folder, speech())
        outlet = shipped()["podcast-host"]
        with self.assertRaises(OSError):
            make(recording, outlet, self.out / "missing" / "a.mp3")
        before = resource.getrlimit(resource.RLIMIT_FSIZE)
        ignored = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        try:
            # A file may grow to 50 kB and no more: writing fails in the middle, as on a full disk.
            resource.setrlimit(resource.RLIMIT_FSIZE, (50_000, before[1]))
            for key in ("podcast-host", "own-masters", "single-file-audiobook"):
                with self.assertRaises((OSError, CannotMake)):
                    make(recording, shipped()[key], self.out / "a.out")
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, before)
            signal.signal(signal.SIGXFSZ, ignored)
        self.assertEqual(list(self.out.iterdir()), [])

    def test_chapters_move_with_the_sound(self):
        outlet = shipped()["single-file-audiobook"]
        marks = (Chapter(start_s=0, end_s=4, title="One"), Chapter(start_s=4, end_s=12, title="Two"))
        asked = parse(written_sheet(outlet) + '\n[[rules]]\nname = "head_s"\nat_least = 3\nsource = "a test"\n')
        made = make(
            written(self.folder, speech()), asked, self.out / "a.m4b", **told(asked, container="m4b", chapters=marks)
        )
        moved_s = made.plan.edges.head_s
        self.assertGreater(moved_s, 1)
        found = read_carried(made.path).chapters
        self.assertAlmostEqual(found[1].start_s, 4 + moved_s, places=2)
        self.assertEqual(found[0].start_s, 0)

    def test_a_known_measurement_changes_nothing_in_the_file(self):
        first = self.make(speech()).path.read_bytes()
        known = measure(self.folder / "take.wav")
        again = self.make(speech(), measured=lambda: known, replace=True).path.read_bytes()
        self.assertEqual(first, again)

    def test_what_needs_no_change_passes_bit_for_bit(self):
        samples = speech()
        samples *= 10 ** (-3 / 20) / np.abs(samples).max()
        whole = np.round(samples * 32768) / 32768
        made = self.make(whole, "radio-playout")
        if made.plan.gain_db == 0:
            back, _ = soundfile.read(made.path, dtype="float32", always_2d=True)
            np.testing.assert_array_equal(back, whole.astype(np.float32))
        self.assertLess(abs(made.plan.gain_db), 0.001)

    def test_a_file_pushed_over_its_ceiling_is_made_again_and_says_so(self):
        # Hard-limited noise at a low bitrate: coding moves its peaks far more than speech's.
        text = shipped_text("volunteer-archive").replace("exactly = 128", "exactly = 64")
        text = text.replace("target = -18", "target = -6").replace("tolerance = 1", "tolerance = 9")
        made = self.make(noise(-12, 6), outlet=parse(text))
        self.assertGreater(made.attempts, 1)
        self.assertLessEqual(made.attempts, MOST_ATTEMPTS)
        self.assertTrue(any("made again" in remark for remark in made.remarks), made.remarks)
        self.assertLessEqual(made.found.levels.true_peak_dbtp, -1.0)

    def test_a_lossy_source_is_told(self):
        made = self.make(speech(), name="take.mp3", subtype=None)
        self.assertTrue(any("lossy" in remark for remark in made.remarks))

    def test_a_finished_file_is_not_overwritten_unasked(self):
        made = self.make(speech())
        before = made.path.read_bytes()
        with self.assertRaises(FileInTheWay):
            self.make(speech(peak=0.2))
        self.assertEqual(made.path.read_bytes(), before)
        self.make(speech(peak=0.2, seed=9), replace=True)
        self.assertNotEqual(made.path.read_bytes(), before)

    def test_a_name_taken_meanwhile_is_not_overwritten_either(self):
        target = self.out / "podcast-host.mp3"

        def stages(stage, share):
            target.write_bytes(b"somebody else's")

        with self.assertRaises(FileInTheWay):
            self.make(speech(), stages=stages)
        self.assertEqual(target.read_bytes(), b"somebody else's")

    def test_nothing_is_left_when_it_is_cancelled_or_cannot_be(self):
        def cancel(stage, share):
            if stage == "Levelling and encoding":
                raise Cancelled("Cancelled.")

        with self.assertRaises(Cancelled):
            self.make(speech(), stages=cancel)
        with self.assertRaises(CannotMake):
            self.make(np.zeros((44100, 1)))
        with self.assertRaisesRegex(CannotMake, "8 channels"):
            self.make(np.repeat(speech(), 8, axis=1))
        (self.folder / "bad.wav").write_text("no sound")
        with self.assertRaises(UnreadableRecording):
            make(self.folder / "bad.wav", shipped()["podcast-host"], self.out / "bad.mp3")
        self.assertEqual(list(self.out.iterdir()), [])

    def test_the_recording_is_never_touched(self):
        recording = written(self.folder, speech())
        recording.chmod(0o444)
        before = recording.read_bytes()
        make(recording, shipped()["podcast-host"], self.out / "a.mp3")
        self.assertEqual(recording.read_bytes(), before)

    def test_progress_runs_from_nothing_to_all(self):
        for samples in (speech(seconds=30), np.repeat(speech(seconds=30), 2, axis=1)):
            shares = []
            stages = lambda stage, share, told=shares: told.append(share)  # noqa: E731
            self.make(samples, "volunteer-archive", stages=stages, replace=True)
            self.assertEqual(shares, sorted(shares))
            self.assertAlmostEqual(shares[-1], 1.0, delta=0.01)

    @skipUnless(PROMPTS.exists(), "asterisk-core-sounds-en-wav is not installed")
    def test_real_speech_meets_the_loudness_asked(self):
        for path in real_speech()[::6]:
            outlet = shipped()["volunteer-archive"]
            made = make(path, outlet, self.out / f"{path.stem}.mp3", **told(outlet, container="mp3"))
            failing = [f.rule for f in made.sheet.findings if f.verdict == FAIL]
            self.assertEqual(failing, [], path.name)
