"""Every format that is written: exact in length, read by others, of the size that was said."""

import tempfile
import wave
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import av
import mutagen
import mutagen.mp3
import numpy as np
import soundfile

from mastering.audio.convert import to_held
from mastering.audio.encodings import Encoding, objections, size_range_bytes
from mastering.audio.formats import AVERAGE, CONSTANT, FLOAT_32, INT_16, INT_24, INT_32, MP3_KBPS, QUALITY, VARIABLE
from mastering.audio.reader import Reader
from mastering.audio.wav import Broadcast
from mastering.audio.writers import encoder_gain_db, open_writer
from mastering.tests.signals import speech

LOSSLESS = [
    *(("wav", "pcm", form) for form in (INT_16, INT_24, INT_32, FLOAT_32)),
    *((container, "pcm", form) for container in ("aiff", "caf") for form in (INT_16, INT_24, INT_32)),
    *(
        (container, codec, form)
        for container, codec in (("flac", "flac"), ("m4a", "alac"), ("caf", "alac"))
        for form in (INT_16, INT_24)
    ),
]
LOSSY = [
    {"container": "mp3", "mode": CONSTANT, "bit_rate_kbps": 128},
    {"container": "mp3", "mode": CONSTANT, "bit_rate_kbps": 8, "sample_rate_hz": 16000},
    {"container": "mp3", "mode": CONSTANT, "bit_rate_kbps": 320, "sample_rate_hz": 48000, "channels": 2},
    {"container": "mp3", "mode": CONSTANT, "bit_rate_kbps": 64, "sample_rate_hz": 11025},
    {"container": "mp3", "mode": CONSTANT, "bit_rate_kbps": 128, "channels": 2, "joint": False},
    {"container": "mp3", "mode": AVERAGE, "bit_rate_kbps": 64},
    {"container": "mp3", "mode": VARIABLE, "lowest_kbps": 16, "highest_kbps": 56, "sample_rate_hz": 22050},
    {"container": "mp3", "mode": QUALITY, "quality": 4, "channels": 2},
    {"container": "m4a", "bit_rate_kbps": 64},
    {"container": "m4b", "bit_rate_kbps": 96, "channels": 2},
    {"container": "ogg", "codec": "vorbis", "quality": 4},
    {"container": "ogg", "codec": "opus", "sample_rate_hz": 48000, "mode": CONSTANT, "bit_rate_kbps": 32},
    {"container": "ogg", "codec": "opus", "sample_rate_hz": 48000, "mode": AVERAGE, "bit_rate_kbps": 48, "channels": 2},
]


class Formats(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def put(self, samples: np.ndarray, **facts) -> tuple[Path, Encoding]:
        """Write float32 samples as one channel or two alike, and return the file."""
        encoding = Encoding(**({"sample_rate_hz": 44100, "channels": 1} | facts))
        self.assertEqual(objections(encoding), [])
        path = self.folder / f"out.{encoding.extension}"
        path.unlink(missing_ok=True)
        writer = open_writer(path, encoding, frames=len(samples))
        wide = samples.repeat(encoding.channels, axis=1)
        blocks = (wide[at : at + 65536] for at in range(0, len(wide), 65536))
        for block in to_held(blocks, holds=encoding.holds, dither=False):
            writer.write(block)
        writer.close()
        return path, encoding

    def read(self, path: Path):
        with Reader(path) as reader:
            return np.concatenate(list(reader.blocks())), reader.facts()

    def test_lossless_formats_keep_every_sample_as_another_library_reads_them(self):
        samples = np.round(speech(seconds=3) * 32767).astype(np.float32) / 32768
        for container, codec, form in LOSSLESS:
            for channels in (1, 2):
                with self.subTest(container=container, form=form, channels=channels):
                    path, _ = self.put(samples, container=container, codec=codec, sample_format=form, channels=channels)
                    found, facts = self.read(path)
                    np.testing.assert_array_equal(found, samples.repeat(channels, axis=1))
                    self.assertEqual((facts.bit_depth, facts.floating_point), (int(form[:2]), form == FLOAT_32))
                    if codec != "alac":
                        other, rate_hz = soundfile.read(path, always_2d=True)
                        self.assertEqual(rate_hz, 44100)
                        np.testing.assert_array_equal(other, samples.repeat(channels, axis=1))

    def test_lossy_formats_are_as_long_as_their_source_to_the_sample_and_as_large_as_said(self):
        for facts in LOSSY:
            with self.subTest(facts):
                samples = speech(rate_hz=facts.get("sample_rate_hz", 44100), seconds=12.3)
                path, encoding = self.put(samples, **facts)
                found, kept = self.read(path)
                self.assertEqual(len(found), len(samples))
                # The sound is at its place: shifted by one millisecond it would be far from its source.
                gain = 10 ** (encoder_gain_db(encoding) / 20)
                error = found[:, 0] - samples[:, 0] * gain
                self.assertLess(error.std(), 0.5 * samples.std())
                low, high = size_range_bytes(encoding, len(samples) / encoding.sample_rate_hz)
                self.assertTrue(low * 0.995 <= path.stat().st_size <= high * 1.005, (low, path.stat().st_size, high))
                if encoding.mode == CONSTANT:
                    self.assertTrue(kept.constant_bit_rate)
                    self.assertAlmostEqual(kept.bit_rate_kbps, encoding.bit_rate_kbps, delta=0.5)

    def test_another_library_reads_the_header_frame_of_an_mp3(self):
        expected = {
            CONSTANT: mutagen.mp3.BitrateMode.CBR,
            AVERAGE: mutagen.mp3.BitrateMode.ABR,
            VARIABLE: mutagen.mp3.BitrateMode.VBR,
            QUALITY: mutagen.mp3.BitrateMode.VBR,
        }
        samples = speech(seconds=12)
        for facts in (
            {"mode": CONSTANT, "bit_rate_kbps": 96},
            {"mode": AVERAGE, "bit_rate_kbps": 64},
            {"mode": VARIABLE, "lowest_kbps": 32, "highest_kbps": 96},
            {"mode": QUALITY, "quality": 5},
        ):
            path, _ = self.put(samples, container="mp3", **facts)
            info = mutagen.mp3.MP3(path).info
            self.assertEqual(info.bitrate_mode, expected[facts["mode"]])
            self.assertEqual(info.encoder_info.split()[0], "LAME")
            self.assertAlmostEqual(info.length, 12, places=2)

    def test_every_frame_of_a_variable_mp3_is_within_its_bounds(self):
        samples = speech(rate_hz=22050, seconds=30)
        samples[: 22050 * 3] = 0
        path, _ = self.put(
            samples, container="mp3", sample_rate_hz=22050, mode=VARIABLE, lowest_kbps=16, highest_kbps=56
        )
        with av.open(str(path)) as container:
            sizes = {packet.size for packet in container.demux(audio=0) if packet.size}
        rates_kbps = {size * 8 * 22050 / 576 / 1000 for size in sizes}
        self.assertGreaterEqual(min(rates_kbps), 15.5)
        self.assertLessEqual(max(rates_kbps), 56.5)
        self.assertGreater(len(rates_kbps), 2)

    def test_windows_media_loses_no_word_at_either_end(self):
        # The format cannot say how much its decoder drops, so it may be longer, never shorter.
        for rate_hz in (8000, 22050, 44100):
            samples = speech(rate_hz=rate_hz, seconds=5)
            path, _ = self.put(samples, container="wma", bit_rate_kbps=64, sample_rate_hz=rate_hz)
            found, facts = self.read(path)
            self.assertEqual((facts.container, facts.codec), ("asf", "wmav2"))
            self.assertGreaterEqual(len(found), len(samples))
            self.assertLess((found[: len(samples)] - samples).std(), 0.2 * samples.std())

    def test_a_broadcast_wave_says_what_it_is(self):
        encoding = Encoding(container="wav", sample_rate_hz=48000, channels=1, sample_format=INT_24, broadcast=True)
        path = self.folder / "out.wav"
        writer = open_writer(
            path, encoding, broadcast=Broadcast(description="Tide tables", originator="Mill", date="2026-11-25")
        )
        writer.write(np.zeros((101, 1), np.int32))
        writer.close()
        with av.open(str(path)) as container:
            said = container.metadata
            self.assertEqual(said["comment"], "Tide tables")
            self.assertEqual((said["encoded_by"], said["date"]), ("Mill", "2026-11-25"))
        self.assertEqual(soundfile.info(path).frames, 101)

    def test_above_four_gigabytes_a_wav_is_rf64(self):
        encoding = Encoding(container="wav", sample_rate_hz=44100, channels=1)
        path = self.folder / "long.wav"
        # What is promised decides; a hundred samples tell as much as three thousand million.
        writer = open_writer(path, encoding, frames=3 << 30)
        writer.write(np.arange(100, dtype=np.int16)[:, None])
        writer.close()
        self.assertEqual(path.read_bytes()[:4], b"RF64")
        self.assertEqual(soundfile.info(path).frames, 100)
        np.testing.assert_array_equal(self.read(path)[0][:, 0] * 32768, np.arange(100))
        with self.subTest("and below it a plain one that Python's own reader takes"):
            path, _ = self.put(speech(seconds=3), container="wav")
            with wave.open(str(path)) as other:
                self.assertEqual(other.getnframes(), 3 * 44100)

    def test_the_same_samples_give_the_same_bytes(self):
        samples = speech(seconds=5)
        for facts in (*LOSSY, {"container": "wma", "bit_rate_kbps": 64}, {"container": "flac"}):
            rate_hz = facts.get("sample_rate_hz", 44100)
            first = self.put(samples[: rate_hz * 2], **facts)[0].read_bytes()
            self.assertEqual(self.put(samples[: rate_hz * 2], **facts)[0].read_bytes(), first, facts)


class Impossible(TestCase):
    def test_what_cannot_be_is_said_with_the_nearest_that_can(self):
        for facts, said in (
            # ISO/IEC 13818-3 has no layer III above 160 kbit/s at 22.05 kHz (from memory).
            (
                {"container": "mp3", "sample_rate_hz": 22050, "bit_rate_kbps": 320},
                "no 320 kbit/s at 22050 Hz in mono; the nearest is 160",
            ),
            # RFC 6716: Opus plays at 48 kHz.
            (
                {"container": "ogg", "codec": "opus", "bit_rate_kbps": 32},
                "no sample rate of 44100 Hz; the nearest is 48000 Hz",
            ),
            ({"container": "mp3", "bit_rate_kbps": 100}, "nearest is 96"),
            ({"container": "mp3"}, "needs one"),
            ({"container": "mp3", "mode": VARIABLE, "lowest_kbps": 16, "highest_kbps": 56}, "16 kbit/s as the lowest"),
            ({"container": "mp3", "mode": QUALITY, "quality": 12}, "from 0 (best) to 9"),
            ({"container": "mp3", "mode": QUALITY, "quality": 4.5}, "a whole number"),
            ({"container": "mp3", "sample_rate_hz": 96000, "bit_rate_kbps": 128}, "nearest is 48000"),
            ({"container": "m4a", "mode": CONSTANT, "bit_rate_kbps": 64}, "average here, not constant"),
            ({"container": "m4a", "bit_rate_kbps": 400}, "nearest is 264"),
            ({"container": "flac", "sample_format": FLOAT_32}, "16-bit integer or 24-bit integer"),
            ({"container": "aiff", "sample_format": FLOAT_32}, "not 32-bit float"),
            ({"container": "m4b", "codec": "alac"}, "does not go into m4b"),
            ({"container": "wma", "bit_rate_kbps": 8}, "nearest is 24"),
        ):
            with self.subTest(facts):
                encoding = Encoding(**({"sample_rate_hz": 44100, "channels": 1} | facts))
                self.assertIn(said, " ".join(objections(encoding)))

    def test_every_bitrate_of_every_layer_is_written(self):
        for rate_hz, known in MP3_KBPS.items():
            for kbps in known:
                encoding = Encoding(container="mp3", sample_rate_hz=rate_hz, channels=1, bit_rate_kbps=kbps)
                self.assertEqual(objections(encoding), [])
                with tempfile.TemporaryDirectory() as name:
                    path = Path(name) / "a.mp3"
                    writer = open_writer(path, encoding)
                    writer.write(np.zeros((rate_hz, 1), np.int16))
                    writer.close()
                    info = mutagen.mp3.MP3(path).info
                    # The frame that heads the file may be larger than the others: it is counted in here.
                    self.assertAlmostEqual(info.bitrate, kbps * 1000, delta=200)
                    self.assertEqual(info.sample_rate, rate_hz)


class Sizes(TestCase):
    """Worked examples of the trade (common practice, no source)."""

    def megabytes(self, seconds: float, **facts) -> tuple[float, float]:
        encoding = Encoding(**({"sample_rate_hz": 44100, "channels": 1} | facts))
        return tuple(size / 1e6 for size in size_range_bytes(encoding, seconds))

    def test_worked_examples(self):
        # 705 MB of 44.1 kHz 16-bit stereo become an MP3 of 32 MB at 64 kbit/s in mono.
        stereo = 44100 * 2 * 2
        low, high = self.megabytes(705e6 / stereo, container="mp3", bit_rate_kbps=64)
        self.assertEqual(low, high)
        self.assertAlmostEqual(low, 32, delta=0.5)
        # 30.8 MiB of the same, just over three minutes: 7 MB at 320 kbit/s.
        seconds = 30.8 * 2**20 / stereo
        self.assertAlmostEqual(
            self.megabytes(seconds, container="mp3", bit_rate_kbps=320, channels=2)[0], 7.3, delta=0.1
        )
        # One minute, 5.05 MiB in mono: 321 kB at a variable bitrate of 16 to 56 kbit/s.
        low, high = self.megabytes(
            5.05 * 2**20 / 88200, container="mp3", sample_rate_hz=22050, mode=VARIABLE, lowest_kbps=16, highest_kbps=56
        )
        self.assertTrue(low < 0.321 < high)
        # 8.1 MB of 44.1 kHz 24-bit stereo, about 31 s: 739 kB at 192 kbit/s.
        seconds = 8.1e6 / (44100 * 6)
        self.assertAlmostEqual(self.megabytes(seconds, container="mp3", bit_rate_kbps=192)[0], 0.739, delta=0.005)
        # A book of 7.13 GB in stereo WAV: 662 MB at 128 kbit/s. 7.13 and 662 are rounded, and 7.13 GB are 11.2 hours.
        self.assertAlmostEqual(self.megabytes(7.13e9 / stereo, container="mp3", bit_rate_kbps=128)[0], 662, delta=20)
        # PCM: 176,400 bytes a second (by arithmetic).
        self.assertAlmostEqual(self.megabytes(100, container="wav", channels=2)[0], 17.64, places=3)

    def test_lowest_and_highest_change_the_range(self):
        encoding = Encoding(
            container="mp3", sample_rate_hz=22050, channels=1, mode=VARIABLE, lowest_kbps=16, highest_kbps=56
        )
        wider = replace(encoding, highest_kbps=112)
        self.assertEqual(size_range_bytes(wider, 60)[1], 2 * size_range_bytes(encoding, 60)[1])
