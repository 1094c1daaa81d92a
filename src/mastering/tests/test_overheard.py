"""What is heard of a file while it is written is what is in it; where it is not, the file itself is decoded."""

import os
import signal
import tempfile
import threading
import time
from dataclasses import replace
from pathlib import Path
from unittest import TestCase
from unittest.mock import patch

import numpy as np
import soundfile

from mastering.audio.encodings import Encoding
from mastering.audio.formats import QUALITY
from mastering.audio.mp3 import Mp3Writer
from mastering.audio.overheard import Overheard
from mastering.audio.reader import Reader
from mastering.audio.waveform import WaveformWriter, waveform_frames
from mastering.errors import Cancelled
from mastering.meters.measurement import measure
from mastering.outlets.findings import PASS
from mastering.outlets.rulesheets import shipped
from mastering.pipeline import make
from mastering.tests.signals import noise, speech, written

CONSTANT_MONO = Encoding(container="mp3", sample_rate_hz=44100, channels=1, bit_rate_kbps=128)
LIKE_DECODED = 2e-5
"""Two decoders of layer III differ by less than what ISO/IEC 11172-4 allows one that is fully accurate (RMS 2^-15 / 12
of full scale, no sample off by more than 2^-14; from memory)."""


class Heard(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def write(self, encoding: Encoding, samples: np.ndarray) -> tuple[Path, Overheard, np.ndarray]:
        heard: list[np.ndarray] = []
        overheard = Overheard(encoding, heard.append)
        path = self.folder / f"{len(list(self.folder.iterdir()))}.mp3"
        writer = Mp3Writer(path, encoding, listener=overheard)
        for start in range(0, len(samples), 30000):
            writer.write(samples[start : start + 30000])
        writer.close()
        return path, overheard, np.concatenate(heard) if heard else np.empty((0, encoding.channels), np.float32)

    def sound(self, seconds: float, rate_hz: int, channels: int) -> np.ndarray:
        wide = np.repeat(noise(-20, seconds, rate_hz=rate_hz), channels, axis=1)
        return (wide * 32767).astype(np.int16)

    def test_it_is_what_any_decoder_finds_in_the_finished_file(self):
        for encoding in (
            CONSTANT_MONO,
            replace(CONSTANT_MONO, channels=2),
            replace(CONSTANT_MONO, sample_rate_hz=22050, bit_rate_kbps=64),
            replace(CONSTANT_MONO, mode=QUALITY, quality=4, bit_rate_kbps=None),
        ):
            for seconds in (0.2, 3.0, 7.77):
                with self.subTest(encoding=encoding, seconds=seconds):
                    sound = self.sound(seconds, encoding.sample_rate_hz, encoding.channels)
                    path, overheard, heard = self.write(encoding, sound)
                    with Reader(path) as reader:
                        decoded = np.concatenate(list(reader.blocks()))
                        facts = reader.facts()
                    self.assertEqual(heard.shape, decoded.shape)
                    self.assertLess(np.abs(heard - decoded).max(), LIKE_DECODED)
                    self.assertEqual(overheard.facts_of(path), facts)

    def test_whatever_differs_from_what_was_heard_is_not_proven(self):
        path, overheard, _ = self.write(CONSTANT_MONO, self.sound(3.0, 44100, 1))
        whole = path.read_bytes()
        told = whole.index(b"LAME") + 21

        def flipped(at: int) -> bytes:
            return whole[:at] + bytes([whole[at] ^ 1]) + whole[at + 1 :]

        self.assertIsNotNone(overheard.facts_of(path))
        for name, changed in {
            "one bit of sound": flipped(len(whole) // 2),
            "one bit of the last frame": flipped(len(whole) - 300),
            "the end cut off": whole[:-418],
            "a frame twice": whole + whole[-418:],
            "another length told": flipped(told + 2),
        }.items():
            with self.subTest(name):
                path.write_bytes(changed)
                self.assertIsNone(overheard.facts_of(path))

    def test_a_few_samples_are_left_to_the_finished_file_or_heard_whole(self):
        for count in (1, 100, 1152):
            with self.subTest(count):
                sound = self.sound(1.0, 44100, 1)[:count]
                path, overheard, heard = self.write(CONSTANT_MONO, sound)
                if overheard.facts_of(path):
                    self.assertEqual(len(heard), count)

    def test_what_goes_wrong_with_what_is_heard_is_told_and_nothing_waits_for_it(self):
        def fails(block: np.ndarray) -> None:
            raise OSError("disk full")

        before = threading.active_count()
        overheard = Overheard(CONSTANT_MONO, fails)
        writer = Mp3Writer(self.folder / "x.mp3", CONSTANT_MONO, listener=overheard)
        for _ in range(40):
            writer.write(self.sound(5.0, 44100, 1))
        writer.close()
        with self.assertRaisesRegex(OSError, "disk full"):
            overheard.facts_of(self.folder / "x.mp3")
        self.assertEqual(threading.active_count(), before)

    def test_writing_goes_on_where_nobody_listens_and_what_was_sent_lies_unread(self):
        def refused(*_, **__) -> None:
            time.sleep(0.5)
            raise soundfile.LibsndfileError(1)

        with patch("mastering.audio.overheard.soundfile.SoundFile", side_effect=refused):
            path, overheard, _ = self.write(CONSTANT_MONO, self.sound(30.0, 44100, 1))
        self.assertIsNone(overheard.facts_of(path))
        self.assertAlmostEqual(measure(path).facts.duration_s, 30.0, places=6)

    def test_nothing_waits_where_the_disk_is_full_when_it_is_closed_or_where_another_process_was_forked(self):
        before = threading.active_count()
        for forked in (False, True):
            overheard = Overheard(CONSTANT_MONO, lambda block: None)
            path = self.folder / f"{forked}.mp3"
            writer = Mp3Writer(path, CONSTANT_MONO, listener=overheard)
            writer.write(self.sound(5.0, 44100, 1))
            if forked:
                holder = os.fork()
                if not holder:
                    time.sleep(60)
                    os._exit(0)
                self.addCleanup(os.waitpid, holder, 0)
                self.addCleanup(os.kill, holder, signal.SIGKILL)
                writer.close()
                self.assertEqual(os.waitpid(holder, os.WNOHANG), (0, 0), "it is not there any more")
                self.assertIsNotNone(overheard.facts_of(path))
            else:
                with patch.object(writer, "_file") as file, self.assertRaises(OSError):
                    file.close.side_effect = OSError("disk full")
                    writer.close()
        self.assertEqual(threading.active_count(), before)


class Proven(TestCase):
    """The whole way: what is found of a finished file is what is in the finished file."""

    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        take = np.concatenate([noise(-66, 0.6), speech(seconds=8, peak=0.3), noise(-66, 1.2)])
        self.take = written(self.folder, take, 44100, "take.wav", "PCM_24")

    def make(self, **wishes):
        return make(self.take, shipped()["volunteer-archive"], self.folder / "made.mp3", **wishes)

    def test_figures_and_waveform_are_those_of_the_finished_file(self):
        with patch("mastering.making.proving.measure") as again:
            made = self.make(waveform=self.folder / "waveform")
        again.assert_not_called()
        found = measure(made.path, of_recording=False)
        self.assertEqual(made.found.facts, found.facts)
        self.assertEqual(made.found.figures(), found.figures())
        self.assertEqual(waveform_frames(self.folder / "waveform"), found.facts.frames)

    def test_a_file_damaged_after_it_was_written_is_judged_by_what_is_in_it(self):
        closed = Mp3Writer.close

        def damaged(writer: Mp3Writer) -> None:
            closed(writer)
            path = Path(writer._file.name)
            whole = path.read_bytes()
            middle = len(whole) // 2
            if path.parent == self.folder:
                path.write_bytes(whole[:middle] + bytes(60) + whole[middle + 60 :])

        with patch.object(Mp3Writer, "close", damaged):
            made = self.make()
        self.assertNotEqual(made.sheet.verdict, PASS)
        self.assertEqual(made.found.figures(), measure(made.path, of_recording=False).figures())

    def test_it_can_be_given_up_at_any_time_and_nothing_is_left(self):
        before = threading.active_count()
        for share in (0.3, 0.5, 0.7):

            def stages(stage: str, done: float, share: float = share) -> None:
                if done >= share:
                    raise Cancelled()

            with self.assertRaises(Cancelled):
                self.make(stages=stages, waveform=self.folder / "waveform")
            self.assertEqual(list(self.folder.glob("*made*")), [])
        self.assertEqual(threading.active_count(), before)

    def test_progress_leaves_little_for_what_is_proven_in_a_moment(self):
        for outlet, most in (("volunteer-archive", 1.0), ("own-masters", 0.9)):
            told: list[tuple[str, float]] = []
            target = self.folder / f"told {outlet}"
            make(self.take, shipped()[outlet], target, stages=lambda *each, told=told: told.append(each))
            encoded = max(share for stage, share in told if stage == "Levelling and encoding")
            self.assertTrue(most - 0.1 < encoded < most, (outlet, encoded))
            self.assertEqual(told[-1][1], 1.0)

    def test_a_full_disk_under_the_waveform_is_told(self):
        with (
            patch.object(WaveformWriter, "add", side_effect=OSError("disk full")),
            self.assertRaisesRegex(OSError, "disk full"),
        ):
            self.make(waveform=self.folder / "waveform")
        self.assertEqual(list(self.folder.glob("*made*")), [])
