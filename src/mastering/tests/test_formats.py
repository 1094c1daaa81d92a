"""The formats people send. docs/formats.md is the table of what is held here."""

import struct
import tempfile
from pathlib import Path
from unittest import TestCase

import av
import numpy as np
import soundfile
import soxr
from scipy.signal import fftconvolve

from mastering.audio.reader import Reader
from mastering.meters.measurement import measure
from mastering.meters.remarks import remarks
from mastering.tests.signals import PROMPTS, encoded, noise, speech, written

# name, encoder, sample rate, options, container found, codec found
BY_LIBAV = [
    ("take.caf", "pcm_s16le", 44100, {}, "caf", "pcm_s16le"),
    ("alac.caf", "alac", 44100, {}, "caf", "alac"),
    ("alac.m4a", "alac", 44100, {"muxer": "mp4"}, "mp4", "alac"),
    ("book.m4b", "aac", 44100, {"muxer": "mp4"}, "mp4", "aac"),
    ("bare.aac", "aac", 44100, {"muxer": "adts"}, "aac", "aac"),
    ("voice.opus", "libopus", 48000, {}, "ogg", "opus"),
    ("stream.webm", "libopus", 48000, {}, "matroska", "opus"),
    ("one.wma", "wmav1", 44100, {"bit_rate": 128000}, "asf", "wmav1"),
    ("two.wma", "wmav2", 44100, {"bit_rate": 128000}, "asf", "wmav2"),
    ("phone.amr", "libopencore_amrnb", 8000, {"bit_rate": 12200}, "amr", "amrnb"),
    ("old.rm", "real_144", 8000, {}, "rm", "real_144"),
    ("old.flv", "nellymoser", 22050, {}, "flv", "nellymoser"),
    ("layer2.mp2", "mp2", 44100, {}, "mp3", "mp2"),
    ("dolby.ac3", "ac3", 44100, {}, "ac3", "ac3"),
    ("dictation.wav", "adpcm_ima_wav", 44100, {}, "wav", "adpcm_ima_wav"),
    ("exchange.wav", "pcm_alaw", 8000, {}, "wav", "pcm_alaw"),
    ("wide.g722", "g722", 16000, {}, "g722", "g722"),
    ("compressed.aifc", "pcm_alaw", 8000, {"muxer": "aiff"}, "aiff", "pcm_alaw"),
    ("swapped.aifc", "pcm_s16le", 44100, {"muxer": "aiff"}, "aiff", "pcm_s16le"),
    ("sun.au", "pcm_s16be", 44100, {}, "au", "pcm_s16be"),
    ("long.w64", "pcm_s16le", 44100, {}, "w64", "pcm_s16le"),
    ("pack.wv", "wavpack", 44100, {}, "wv", "wavpack"),
    ("pack.tta", "tta", 44100, {}, "tta", "tta"),
]
# name, format and subtype as libsndfile calls them, container and codec found, depth, float
BY_LIBSNDFILE = [
    ("sixteen.wav", "WAV", "PCM_16", "wav", "pcm_s16le", 16, False),
    ("twentyfour.wav", "WAV", "PCM_24", "wav", "pcm_s24le", 24, False),
    ("thirtytwo.wav", "WAV", "PCM_32", "wav", "pcm_s32le", 32, False),
    ("eight.wav", "WAV", "PCM_U8", "wav", "pcm_u8", 8, False),
    ("float.wav", "WAV", "FLOAT", "wav", "pcm_f32le", 32, True),
    ("double.wav", "WAV", "DOUBLE", "wav", "pcm_f64le", 64, True),
    ("extensible.wav", "WAVEX", "PCM_24", "wav", "pcm_s24le", 24, False),
    ("large.wav", "RF64", "PCM_16", "wav", "pcm_s16le", 16, False),
    ("gsm.wav", "WAV", "GSM610", "wav", "gsm_ms", None, False),
    ("apple.aiff", "AIFF", "PCM_24", "aiff", "pcm_s24be", 24, False),
    ("apple.caf", "CAF", "PCM_24", "caf", "pcm_s24be", 24, False),
    ("small.flac", "FLAC", "PCM_24", "flac", "flac", 24, False),
    ("vorbis.ogg", "OGG", "VORBIS", "ogg", "vorbis", None, False),
    ("opus.ogg", "OGG", "OPUS", "ogg", "opus", None, False),
    ("layer3.mp3", "MP3", "MPEG_LAYER_III", "mp3", "mp3", None, False),
]


def likeness(found: np.ndarray, sent: np.ndarray) -> float:
    """The highest correlation of two sounds over all shifts, 0 to 1."""
    correlation = fftconvolve(found, sent[::-1])
    return float(np.abs(correlation).max() / np.sqrt(np.sum(found**2) * np.sum(sent**2)))


def voice(rate_hz: int) -> np.ndarray:
    """A few seconds of a human voice at a rate, shape (frames, 1); Debian's prompts where they are installed."""
    prompts = sorted(PROMPTS.glob("*.wav"), key=lambda path: -path.stat().st_size)
    if not prompts:
        return speech(rate_hz=rate_hz, seconds=4)
    samples, found_hz = soundfile.read(prompts[12], dtype="float32")
    return soxr.resample(samples[: 6 * found_hz], found_hz, rate_hz)[:, None] * np.float32(0.8)


class Formats(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def read(self, path: Path):
        with Reader(path) as reader:
            return np.concatenate(list(reader.blocks())), reader.facts()

    def test_what_libav_writes_is_read_back_as_the_same_voice(self):
        for name, codec, rate_hz, options, container, found_codec in BY_LIBAV:
            with self.subTest(name):
                sent = voice(rate_hz)
                found, facts = self.read(encoded(self.folder, sent, name, codec, rate_hz=rate_hz, **options))
                self.assertEqual((facts.container, facts.codec), (container, found_codec))
                self.assertEqual((facts.sample_rate_hz, facts.channels), (rate_hz, 1))
                self.assertAlmostEqual(len(found) / rate_hz, len(sent) / rate_hz, delta=0.1)
                # Speech coders at 8 kHz keep the sound of a voice rather than its samples.
                self.assertGreater(likeness(found[:, 0], sent[:, 0]), 0.7 if codec == "real_144" else 0.85)

    def test_what_libsndfile_writes_is_read_back_as_the_same_voice(self):
        for name, form, subtype, container, codec, depth, floating in BY_LIBSNDFILE:
            with self.subTest(name):
                rate_hz = 8000 if subtype == "GSM610" else 48000
                sent = voice(rate_hz)
                path = self.folder / name
                soundfile.write(path, sent, rate_hz, format=form, subtype=subtype)
                found, facts = self.read(path)
                self.assertEqual((facts.container, facts.codec), (container, codec))
                self.assertEqual((facts.bit_depth, facts.floating_point), (depth, floating))
                self.assertEqual(facts.lossy, depth is None)
                self.assertGreater(likeness(found[:, 0], sent[:, 0]), 0.9)

    def test_a_broadcast_wave_keeps_what_the_recorder_wrote(self):
        # The bext chunk: EBU Tech 3285, from memory. 602 bytes and a coding history.
        path = written(self.folder, noise(-20, 1), 48000)
        bext = struct.pack(
            "<256s32s32s10s8sII", b"Chapter 4, second take", b"Portable recorder", b"REF", b"2026-03-09", b"14:05:30",
            (48000 * 50730) & 0xFFFFFFFF, (48000 * 50730) >> 32,
        ).ljust(602, b"\0")  # fmt: skip
        plain = path.read_bytes()
        chunk = b"bext" + struct.pack("<I", len(bext)) + bext
        path.write_bytes(plain[:12] + chunk + plain[12:])
        found, facts = self.read(path)
        self.assertEqual(len(found), 44100)
        self.assertEqual(facts.description, "Chapter 4, second take")
        self.assertEqual(facts.originator, "Portable recorder")
        self.assertEqual(facts.originated, "2026-03-09 14:05:30")
        self.assertEqual(facts.time_reference_s, 50730)

    def test_the_sound_of_a_film_is_taken_with_a_word_about_its_tracks(self):
        sent, path = voice(48000), self.folder / "film.mp4"
        with av.open(str(path), "w") as film:
            pictures = film.add_stream("mpeg4", rate=25)
            pictures.width, pictures.height, pictures.pix_fmt = 64, 48, "yuv420p"
            tracks = [film.add_stream("aac", rate=48000, layout="mono") for _ in range(2)]
            for number in range(25):
                picture = av.VideoFrame.from_ndarray(np.full((48, 64, 3), 10 * number, np.uint8))
                film.mux(pictures.encode(picture))
            for track, samples in zip(tracks, (sent, np.zeros_like(sent)), strict=True):
                frame = av.AudioFrame.from_ndarray(samples.T.copy(), format="fltp", layout="mono")
                frame.sample_rate = 48000
                film.mux(track.encode(frame))
                film.mux(track.encode())
            film.mux(pictures.encode())
        found, facts = self.read(path)
        self.assertEqual((facts.container, facts.codec, facts.has_video), ("mp4", "aac", True))
        self.assertGreater(likeness(found[:, 0], sent[:, 0]), 0.9)
        said = " ".join(remarks(measure(path)))
        self.assertIn("There is a picture as well", said)
        self.assertIn("There are 2 sound tracks; the first is used", said)

    def test_a_plain_wave_has_no_such_facts(self):
        _, facts = self.read(written(self.folder, noise(-20, 1)))
        self.assertEqual((facts.description, facts.originator, facts.time_reference_s), ("", "", None))
