"""Samples in and out: what is read, what is refused with which sentence, and what is written."""

import struct
import tempfile
import wave
from pathlib import Path
from unittest import TestCase

import av
import mutagen.mp3
import numpy as np
import soundfile

from mastering.audio.convert import resampled, to_16_bit, to_channels
from mastering.audio.reader import Reader
from mastering.audio.waveform import FRAMES_PER_PAIR, WaveformWriter, columns, waveform_frames
from mastering.audio.writers import Encoding, encoder_gain_db, open_writer
from mastering.errors import UnreadableRecording
from mastering.tests.signals import noise, speech, tone, written, written_aac


class InFolder(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def read(self, path: Path):
        with Reader(path) as reader:
            samples = np.concatenate(list(reader.blocks()))
            return samples, reader.facts()

    def refusal(self, path: Path) -> str:
        with self.assertRaises(UnreadableRecording) as caught:
            self.read(path)
        return str(caught.exception)


class Reading(InFolder):
    def test_lossless_formats_give_the_samples_back(self):
        samples = np.round(speech(seconds=3) * 32767) / 32768
        for name, subtype, depth in (
            ("a.wav", "PCM_16", 16),
            ("b.wav", "PCM_24", 24),
            ("c.wav", "PCM_32", 32),
            ("d.wav", "FLOAT", 32),
            ("e.aiff", "PCM_16", 16),
            ("f.aiff", "PCM_24", 24),
            ("g.flac", "PCM_16", 16),
            ("h.flac", "PCM_24", 24),
        ):
            with self.subTest(name):
                found, facts = self.read(written(self.folder, samples, name=name, subtype=subtype))
                np.testing.assert_array_equal(found, samples.astype(np.float32))
                self.assertEqual(facts.bit_depth, depth)
                self.assertEqual(facts.floating_point, subtype == "FLOAT")
                self.assertFalse(facts.lossy)

    def test_lossy_formats_are_known_as_such(self):
        for path in (
            written(self.folder, speech(seconds=12), name="a.mp3", subtype=None),
            written_aac(self.folder, speech(seconds=12)),
        ):
            _, facts = self.read(path)
            self.assertTrue(facts.lossy)
            self.assertIsNone(facts.bit_depth)
            self.assertAlmostEqual(facts.duration_s, 12.0, delta=0.05)

    def test_rates_from_8_to_192_khz(self):
        for rate_hz in (8000, 11025, 22050, 48000, 96000, 192000):
            _, facts = self.read(written(self.folder, noise(-20, 0.5, rate_hz=rate_hz), rate_hz, f"{rate_hz}.wav"))
            self.assertEqual(facts.sample_rate_hz, rate_hz)

    def test_eight_channels(self):
        _, facts = self.read(written(self.folder, np.zeros((4000, 8)) + 0.1, name="eight.wav"))
        self.assertEqual(facts.channels, 8)

    def test_the_sound_of_a_video_is_read(self):
        path = self.folder / "film.mp4"
        with av.open(str(path), "w") as container:
            picture = container.add_stream("mpeg4", rate=10)
            picture.width = picture.height = 64
            picture.pix_fmt = "yuv420p"
            sound = container.add_stream("aac", rate=44100)
            sound.layout = "mono"
            for place in range(10):
                frame = av.VideoFrame.from_ndarray(np.zeros((64, 64, 3), np.uint8), format="rgb24")
                frame.pts = place
                container.mux(picture.encode(frame))
            container.mux(picture.encode())
            samples = np.ascontiguousarray(noise(-20, 1).T[:, :44032])
            for start in range(0, 44032, 1024):
                part = np.ascontiguousarray(samples[:, start : start + 1024])
                frame = av.AudioFrame.from_ndarray(part, format="fltp", layout="mono")
                frame.sample_rate, frame.pts = 44100, start
                container.mux(sound.encode(frame))
            container.mux(sound.encode())
        _, facts = self.read(path)
        self.assertTrue(facts.has_video)
        self.assertAlmostEqual(facts.duration_s, 1.0, delta=0.1)

    def test_what_is_not_a_number_does_not_spread(self):
        samples = noise(-20, 1).astype(np.float32)
        samples[100], samples[200] = np.nan, np.inf
        found, _ = self.read(written(self.folder, samples, name="nan.wav", subtype="FLOAT"))
        self.assertTrue(np.isfinite(found).all())


class Refusing(InFolder):
    def test_empty_file(self):
        path = self.folder / "empty.wav"
        path.touch()
        self.assertIn("empty (0 bytes)", self.refusal(path))

    def test_text_named_wav(self):
        path = self.folder / "text.wav"
        path.write_text("Chapter one. It was not a recording." * 50)
        self.assertIn("not a sound file", self.refusal(path))

    def test_header_without_sound(self):
        self.assertTrue(self.refusal(written(self.folder, np.zeros((0, 1)), name="none.wav")))

    def test_header_with_no_channels(self):
        path = written(self.folder, noise(-20, 1))
        whole = bytearray(path.read_bytes())
        whole[22:24] = b"\0\0"
        path.write_bytes(whole)
        self.assertTrue(self.refusal(path))

    def test_a_wav_out_of_a_pipe_is_read_to_its_end(self):
        """What programs leave where the size would stand, when they cannot go back (common practice, no source)."""
        whole = written(self.folder, speech(seconds=3)).read_bytes()
        at = whole.index(b"data") + 4
        for size in (0, 0x7FFFF000, 0x7FFFFFDB, 0x7FFFFFFF, 0x80000000, 0xFFFFF000, 0xFFFFFFDB, 0xFFFFFFFF):
            for riff in (0, size, 0xFFFFFFFF):
                piped = self.folder / "piped.wav"
                head = whole[:4] + struct.pack("<I", riff) + whole[8:at]
                piped.write_bytes(head + struct.pack("<I", size) + whole[at + 4 :])
                with self.subTest(size=hex(size), riff=hex(riff)):
                    self.assertEqual(len(self.read(piped)[0]), 132300)

    def test_cut_off_recordings_say_where(self):
        for name in ("take.wav", "take.flac", "take.aiff", "take.mp3"):
            whole = written(self.folder, speech(seconds=12), name=name, subtype=None if "mp3" in name else "PCM_16")
            cut = self.folder / f"cut-{name}"
            cut.write_bytes(whole.read_bytes()[: whole.stat().st_size // 2])
            with self.subTest(name):
                self.assertRegex(self.refusal(cut), r"stops after 0:0\d, though it says it is 0:12 long.*Copy it again")

    def test_a_recorder_that_never_wrote_the_size_is_forgiven(self):
        path = written(self.folder, noise(-20, 2))
        whole = bytearray(path.read_bytes())
        whole[4:8] = whole[40:44] = struct.pack("<I", 0xFFFFFFFF)
        path.write_bytes(whole)
        found, _ = self.read(path)
        self.assertEqual(len(found), 2 * 44100)

    def test_a_list_of_other_files_is_not_followed(self):
        secret = written(self.folder, noise(-20, 1), name="secret.wav")
        for name, text in (
            ("list.m3u8", f"#EXTM3U\n#EXT-X-TARGETDURATION:5\n#EXTINF:5,\n{secret}\n#EXT-X-ENDLIST\n"),
            ("list.wav", f"ffconcat version 1.0\nfile '{secret}'\n"),
        ):
            path = self.folder / name
            path.write_text(text)
            self.assertTrue(self.refusal(path))


class Writing(InFolder):
    def test_wav_as_another_reader_sees_it(self):
        path = self.folder / "out.wav"
        writer = open_writer(path, Encoding(container="wav", sample_rate_hz=44100, channels=1))
        block = (np.arange(5000)[:, None] - 2500).astype(np.int16)
        writer.write(block)
        writer.close()
        with wave.open(str(path)) as other:  # Python's own reader
            self.assertEqual((other.getnchannels(), other.getsampwidth(), other.getframerate()), (1, 2, 44100))
            np.testing.assert_array_equal(np.frombuffer(other.readframes(5000), "<i2"), block[:, 0])

    def test_mp3_is_constant_and_of_the_size_that_follows_by_arithmetic(self):
        for channels, kbps in ((1, 128), (2, 128), (1, 192), (1, 96)):
            path = self.folder / f"{channels}-{kbps}.mp3"
            encoding = Encoding(container="mp3", sample_rate_hz=44100, channels=channels, bit_rate_kbps=kbps)
            writer = open_writer(path, encoding)
            writer.write((noise(-20, 20) * 32767).astype(np.int16).repeat(channels, axis=1))
            writer.close()
            expected = kbps * 1000 / 8 * 20
            self.assertLess(abs(path.stat().st_size - expected) / expected, 0.005)
            info = mutagen.mp3.MP3(path).info  # a reader that shares no code with the writer
            self.assertEqual((info.bitrate, info.sample_rate, info.channels), (kbps * 1000, 44100, channels))
            _, facts = self.read(path)
            self.assertTrue(facts.constant_bit_rate)

    def test_what_the_encoder_takes_off_is_known(self):
        encoding = Encoding(container="mp3", sample_rate_hz=44100, channels=1, bit_rate_kbps=128)
        path = self.folder / "tone.mp3"
        writer = open_writer(path, encoding)
        writer.write((tone(-10, 3, rate_hz=44100, hz=440, channels=1) * 32768).astype(np.int16))
        writer.close()
        samples, _ = self.read(path)
        level = 10 * np.log10(np.mean(samples[44100:88200].astype(float) ** 2)) + 3.01
        self.assertAlmostEqual(level - -10, encoder_gain_db(encoding), delta=0.03)


class Converting(TestCase):
    def test_16_bit_comes_back_bit_for_bit_without_dither(self):
        whole = np.random.default_rng(1).integers(-32768, 32767, (5000, 2), np.int16)
        (back,) = to_16_bit(iter([whole.astype(np.float32) / 32768]), dither=False)
        np.testing.assert_array_equal(back, whole)

    def test_dither_is_triangular_and_keeps_what_is_smaller_than_a_step(self):
        quiet = np.full((400000, 1), 0.3 / 32768, np.float32)
        (dithered,) = to_16_bit(iter([quiet]), dither=True)
        self.assertAlmostEqual(dithered.mean(), 0.3, delta=0.01)
        # Rounding error of 1/12 and triangular noise of 1/6 of a squared step (by arithmetic).
        self.assertAlmostEqual(dithered.var(), 1 / 12 + 1 / 6, delta=0.01)
        self.assertGreaterEqual(dithered.min(), -2)

    def test_resampling_keeps_length_and_level(self):
        blocks = [tone(-6, 1, rate_hz=48000, channels=1)] * 3
        out = np.concatenate(list(resampled(iter(blocks), from_hz=48000, to_hz=44100, channels=1)))
        self.assertEqual(len(out), 3 * 44100)
        self.assertAlmostEqual(20 * np.log10(np.abs(out[44100:88200]).max()), -6, delta=0.02)

    def test_mono_is_the_mean_and_stereo_the_same_twice(self):
        stereo = np.array([[0.5, 0.1], [0.0, -1.0]], np.float32)
        np.testing.assert_allclose(next(to_channels(iter([stereo]), 1)), [[0.3], [-0.5]], atol=1e-7)
        np.testing.assert_array_equal(next(to_channels(iter([stereo[:, :1]]), 2)), stereo[:, [0, 0]])


class Drawing(InFolder):
    def test_the_waveform_holds_each_stretch_s_extremes(self):
        samples = noise(-12, 1)
        path = self.folder / "drawn"
        writer = WaveformWriter(path)
        for start in range(0, len(samples), 999):
            writer.add(samples[start : start + 999])
        writer.close()
        pairs = columns(path, 10**6)
        self.assertEqual(len(pairs), -(-len(samples) // FRAMES_PER_PAIR))
        self.assertEqual(pairs[0, 1], round(float(samples[:FRAMES_PER_PAIR].max()) * 127))
        few = columns(path, 7)
        self.assertEqual((few[:, 0].min(), few[:, 1].max()), (pairs[:, 0].min(), pairs[:, 1].max()))

    def test_any_stretch_of_a_long_recording_is_drawn_from_a_few_thousand_pairs(self):
        samples = noise(-22, 60)
        samples[30 * 44100] = 1.0
        path = self.folder / "drawn"
        writer = WaveformWriter(path)
        for start in range(0, len(samples), 70_000):
            writer.add(samples[start : start + 70_000])
        writer.close()
        self.assertEqual(waveform_frames(path), len(samples))
        whole = columns(path, 100)
        self.assertEqual((len(whole), whole[49:51, 1].max()), (100, 127))
        start, end = 29 * 44100, 31 * 44100
        part = columns(path, 200, start_frame=start, end_frame=end)
        self.assertEqual((len(part), part[:, 1].max(), part[99:101, 1].max()), (200, 127, 127))
        fine = columns(path, 10**6, start_frame=start, end_frame=end)
        first = start // FRAMES_PER_PAIR * FRAMES_PER_PAIR
        self.assertEqual(fine[0, 0], round(float(samples[first : first + FRAMES_PER_PAIR].min()) * 127))
        self.assertEqual(len(columns(path, 50, start_frame=10**9)), 0)

    def test_a_drawing_that_is_not_whole_is_known_as_such(self):
        path = self.folder / "half"
        WaveformWriter(path)._file.close()
        path.write_bytes(path.read_bytes()[:5])
        with self.assertRaises(ValueError):
            columns(path, 10)

    def test_nothing_draws_nothing(self):
        path = self.folder / "none"
        WaveformWriter(path).close()
        self.assertEqual(len(columns(path, 100)), 0)


class Depths(InFolder):
    def test_depth_is_read_from_the_file_not_guessed(self):
        path = written(self.folder, noise(-20, 1), name="x.flac", subtype="PCM_24")
        self.assertEqual(soundfile.info(path).subtype, "PCM_24")
        self.assertEqual(self.read(path)[1].bit_depth, 24)
