"""Marks go in and out in open formats, and nothing is brought in by halves."""

import json
import struct
import tempfile
from pathlib import Path
from unittest import TestCase

import numpy as np
import soundfile
from mutagen.id3 import ID3

from mastering.audio.reader import Reader
from mastering.editing.labels import Label, read_labels, write_labels
from mastering.editing.texts import UnreadableText
from mastering.errors import CannotMake
from mastering.tagging.markers import read_markers, write_markers
from mastering.tests.signals import encoded, speech, written, written_aac

LABELS = [Label(0.5, 0.5, "Wind, south"), Label(1.25, 2.0, "Glaß “falling”"), Label(3.0, 3.0, "Home")]


class Text(TestCase):
    def test_every_text_format_gives_back_what_went_in(self):
        for kind in ("txt", "csv", "json"):
            text = write_labels(LABELS, kind)
            self.assertEqual(read_labels(text, kind, duration_s=5), LABELS, kind)
        cue = read_labels(write_labels(LABELS, "cue", file_name="take.wav"), "cue", duration_s=5)
        self.assertEqual([label.name for label in cue], [label.name for label in LABELS])
        for found, label in zip(cue, LABELS, strict=True):
            self.assertLess(abs(found.start_s - label.start_s), 1 / 75)

    def test_clock_times_and_a_first_line_of_headings_are_read(self):
        self.assertEqual(read_labels("1:05.5\t1:06\tName\n", "txt", duration_s=99), [Label(65.5, 66.0, "Name")])
        self.assertEqual(read_labels("start,end,name\n1,2,A\n", "csv", duration_s=9), [Label(1.0, 2.0, "A")])

    def test_a_cue_sheet_says_that_it_rounds(self):
        self.assertIn("REM Times are rounded to 1/75 s", write_labels(LABELS, "cue", file_name="take.wav"))

    def test_a_cue_sheet_counts_75_frames_to_a_second(self):
        sheet = 'FILE "a.wav" WAVE\n  TRACK 01 AUDIO\n    TITLE "One"\n    INDEX 00 00:00:00\n    INDEX 01 01:02:30\n'
        self.assertEqual(read_labels(sheet, "cue", duration_s=99), [Label(62.4, 62.4, "One")])

    def test_whatever_is_wrong_is_said_with_its_line(self):
        many = "".join(f"{at}\t{at}\tx\n" for at in range(10_000))
        for text, kind, said in (
            ("1,5\t2\tA", "txt", "Line 1: “1,5” has a comma for a point. Write 1.5."),
            ("1\t2\tA\n\n-3\t4\tB", "txt", "Line 3 has a time before the start"),
            ("4\t5\tA\n1\t2\tB", "txt", "Line 2 starts before the one above"),
            ("4\t3\tA", "txt", "Line 1 ends before it starts"),
            ("4 5 A", "txt", "Line 1 has no tab"),
            ("1\t2\tA\n11\t12\tB", "txt", "Line 2 lies beyond the end"),
            (many, "txt", "Line 5001: there are more than 5000"),
            ("start,end\nsoon,2", "csv", "Line 2: “soon” is no time"),
            ("TRACK 01\nINDEX 01 1:2:3", "cue", "Line 2: “INDEX 01 1:2:3” is no index"),
            ('{"chapters": [\n{"startTime": 1},,]}', "json", "Line 2: this is no JSON"),
            (json.dumps({"chapters": [{"title": "x"}]}), "json", "Chapter 1 has no startTime"),
            ('{"chapters": [{"startTime": 1e999}]}', "json", "Chapter 1 has a time that cannot be"),
            ("", "txt", "There are no marks in this file"),
        ):
            with self.subTest(text[:40]), self.assertRaises(UnreadableText) as caught:
                read_labels(text, kind, duration_s=20_000 if text == many else 10)
            self.assertIn(said, str(caught.exception))


class InsideFiles(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def copied(self, source: Path, container: str, labels=LABELS) -> list[Label]:
        target = source.with_name("marked" + source.suffix)
        write_markers(source, target, labels, container=container, sample_rate_hz=44100)
        with Reader(source) as before, Reader(target) as after:
            np.testing.assert_array_equal(np.concatenate(list(before.blocks())), np.concatenate(list(after.blocks())))
        return read_markers(target, sample_rate_hz=44100)

    def test_wav_cues_come_back_to_the_sample_and_replace_those_before(self):
        path = written(self.folder, speech(seconds=5), 44100, "a.wav")
        self.assertEqual(self.copied(path, "wav"), LABELS)
        again = self.folder / "again.wav"
        write_markers(self.folder / "marked.wav", again, LABELS[:1], container="wav", sample_rate_hz=44100)
        self.assertEqual(read_markers(again, sample_rate_hz=44100), LABELS[:1])
        self.assertEqual(soundfile.info(again).frames, soundfile.info(path).frames)

    def test_a_note_beside_a_cue_does_not_take_the_place_of_its_label(self):
        """Multimedia Programming Interface and Data Specifications 1.0, chapter 3: `labl` names, `note` comments."""
        path = written(self.folder, speech(seconds=4), 44100, "a.wav")

        def chunk(name: bytes, body: bytes) -> bytes:
            return name + struct.pack("<I", len(body)) + body + bytes(len(body) % 2)

        cues = struct.pack("<I", 2) + b"".join(
            struct.pack("<II4sIII", key, 0, b"data", 0, 0, 44100 * key) for key in (1, 2)
        )
        said = [(b"labl", 1, b"Named\0"), (b"note", 1, b"a comment\0"), (b"note", 2, b"only this\0")]
        for order in (said, said[::-1]):
            told = b"adtl" + b"".join(chunk(kind, struct.pack("<I", key) + text) for kind, key, text in order)
            marked = self.folder / f"{order[0][1]}.wav"
            body = path.read_bytes()[8:] + chunk(b"cue ", cues) + chunk(b"LIST", told)
            marked.write_bytes(chunk(b"RIFF", body))
            self.assertEqual(
                [label.name for label in read_markers(marked, sample_rate_hz=44100)], ["Named", "only this"]
            )

    def test_id3_chapters_are_those_of_another_library(self):
        path = encoded(self.folder, speech(seconds=5), "a.mp3", "mp3", bit_rate=128000)
        self.assertEqual(self.copied(path, "mp3"), LABELS)
        tags = ID3(self.folder / "marked.mp3")
        self.assertEqual(tags.getall("CTOC")[0].child_element_ids, ["chapter001", "chapter002", "chapter003"])

    def test_mp4_chapters_keep_their_places_though_they_have_no_gaps(self):
        found = self.copied(written_aac(self.folder, speech(seconds=5)), "mp4")
        self.assertEqual(
            [(label.start_s, label.name) for label in found], [(each.start_s, each.name) for each in LABELS]
        )
        self.assertEqual(found[1].end_s, 2.0)

    def test_a_container_without_marks_and_too_many_chapters_are_refused(self):
        flac = written(self.folder, speech(seconds=4), 44100, "a.flac")
        with self.assertRaises(CannotMake):
            self.copied(flac, "flac")
        many = [Label(at / 100, at / 100, "x") for at in range(300)]
        with self.assertRaises(CannotMake):
            self.copied(encoded(self.folder, speech(seconds=4), "a.mp3", "mp3", bit_rate=128000), "mp3", many)
        self.assertEqual(read_markers(flac, sample_rate_hz=44100), [])
