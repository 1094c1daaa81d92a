"""Words found in recordings: human voices with their texts, and known gaps between them."""

import json
import subprocess
import tempfile
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from unittest import TestCase, skipUnless
from xml.etree import ElementTree
from zipfile import ZipFile

import numpy as np

from mastering.editing.texts import UnreadableText
from mastering.errors import Cancelled
from mastering.meters.measurement import measure
from mastering.tests.prompts import RATE_HZ, Take, coughed, joined, over, prompts, there, unlike
from mastering.tests.signals import noise, written
from mastering.words.brought import heard_of
from mastering.words.hearing import HeardScript, hear
from mastering.words.kept import as_bytes, from_bytes
from mastering.words.lines import in_sentences, script_entries, script_lines, sentences, word_texts
from mastering.words.proof import (
    AGAIN,
    BROKEN_OFF,
    ELSEWHERE,
    HESITATION,
    MISSING,
    OTHERWISE,
    OUTSIDE,
    LineSpan,
    not_counting,
    proof,
    readings_that_count,
    remaining,
    set_apart,
    spans_of_lines,
)
from mastering.words.readalong import AUDIO_FOLDER, MIME_NAME, MIME_TYPE, read_along
from mastering.words.readings import HeardWord, Reading, counting
from mastering.words.spoken import RATE_HZ as SPOKEN_HZ
from mastering.words.spoken import CannotSpeak, languages, speak, voice_for, words_of
from mastering.words.timed import TimedText, as_rows, as_srt, as_transcript, as_vtt, in_cues, read_timed


def heard_in(take: Take, language: str, lines: list[str] | None = None, **more) -> HeardScript:
    with tempfile.TemporaryDirectory() as folder:
        path = take.write(Path(folder) / "take.wav")
        envelope = measure(path).levels.envelope
        return hear(path, take.lines if lines is None else lines, language=language, envelope=envelope, **more)


def share_right(heard: HeardScript, take: Take, right: Callable[[Reading, float, float], bool]) -> float:
    """The share of the lines whose last whole reading was found, and found right."""
    counted = readings_that_count(heard)
    truth = take.last_whole()
    found = [
        (reading := counted[line]) is not None and right(reading, place.start_s, place.end_s)
        for line, place in truth.items()
    ]
    return sum(found) / len(found)


def starts_right(reading: Reading, start_s: float, _end_s: float) -> bool:
    return abs(reading.start_s - start_s) <= 0.1


def ends_right(reading: Reading, start_s: float, end_s: float) -> bool:
    return abs(reading.start_s - start_s) <= 0.25 and abs(reading.end_s - end_s) <= 0.25


@skipUnless(there(), "the prompts of three languages and their texts are not installed")
class HumanVoices(TestCase):
    """The texts are those of Debian's asterisk-core-sounds; where each was put is known to the sample."""

    def test_lines_in_order_are_found_where_they_begin(self):
        take = joined("fr", 30, seed=21)
        begun: list[HeardScript] = []
        heard = heard_in(take, "fr", so_far=begun.append)
        self.assertTrue(begun)
        for earlier in begun:
            self.assertGreater(len(earlier.readings), 1)
            self.assertEqual(earlier.readings, heard.readings[: len(earlier.readings)])
        # What is said differs from the text in one prompt of some fifty.
        self.assertGreaterEqual(share_right(heard, take, starts_right), 0.96)
        self.assertLess(heard.doubt, 0.25)
        self.assertFalse(heard.is_another)

    def test_the_last_whole_reading_counts_where_lines_were_begun_again(self):
        take = joined("en", 30, seed=22, false_starts=0.2, repeats=0.1)
        heard = heard_in(take, "en")
        self.assertEqual(share_right(heard, take, ends_right), 1.0)
        found = [finding.kind for finding in proof(heard)]
        whole = [place for place in take.places if place.whole]
        self.assertEqual(found.count(BROKEN_OFF), len(take.places) - len(whole))
        self.assertEqual(found.count(AGAIN), len(whole) - len(take.last_whole()))

    def test_what_was_left_out_and_what_is_in_no_script_is_named(self):
        take = joined("it", 30, seed=23, left_out_every=10, added_every=10)
        found = proof(heard_in(take, "it"))
        self.assertEqual({finding.line for finding in found if finding.kind == MISSING}, {9, 19, 29})
        outside = [finding for finding in found if finding.kind == OUTSIDE]
        for place in (place for place in take.places if place.line is None):
            middle_s = (place.start_s + place.end_s) / 2
            self.assertTrue(any(each.start_s < middle_s < each.end_s for each in outside), place)

    def test_a_sentence_that_was_replaced_by_another_is_not_taken_as_read(self):
        for language, snr_db in (("en", 10.0), ("fr", 10.0)):
            take, random = joined(language, 24, seed=31, snr_db=snr_db), np.random.default_rng(3)
            others = [prompt.text for prompt in unlike(language) if prompt.text not in take.lines]
            lines, replaced = list(take.lines), set(range(2, 24, 4))
            for at in replaced:
                words = len(lines[at].split())
                alike = [text for text in others if abs(len(text.split()) - words) <= 2] or others
                lines[at] = alike[random.integers(len(alike))]
            heard = heard_in(take, language, lines)
            told = {
                finding.line: finding.end_s - finding.start_s
                for finding in proof(heard)
                if finding.kind in (MISSING, OTHERWISE)
            }
            with self.subTest(language, snr_db=snr_db):
                self.assertEqual(replaced - told.keys(), set())
                whole = {at for at, each in enumerate(readings_that_count(heard)) if each and told.get(at, 0) > 1.2}
                # One prompt of some fifty is not what its text says.
                self.assertLessEqual(len(whole - replaced), 1)

    def test_a_cough_after_a_reading_is_no_part_of_it_nor_of_the_next(self):
        for language in ("en", "it"):
            take = coughed(joined(language, 24, seed=1, snr_db=60.0))
            with self.subTest(language):
                self.assertGreaterEqual(share_right(heard_in(take, language), take, ends_right), 0.83)

    def test_a_noisy_room_costs_little(self):
        take = joined("en", 30, seed=24, snr_db=10.0)
        heard = heard_in(take, "en")
        self.assertGreaterEqual(share_right(heard, take, starts_right), 0.945)
        self.assertGreaterEqual(share_right(heard, take, ends_right), 0.935)

    def test_somebody_else_softly_below_costs_little(self):
        take, other = joined("fr", 30, seed=26), joined("it", 30, seed=7)
        take = replace(take, samples=over(take.samples, other.samples, 20.0))
        heard = heard_in(take, "fr")
        self.assertGreaterEqual(share_right(heard, take, starts_right), 0.945)
        self.assertGreaterEqual(share_right(heard, take, ends_right), 0.935)

    def test_endings_below_the_noise_are_not_cut_off(self):
        take = joined("fr", 30, seed=24, snr_db=10.0)
        self.assertGreaterEqual(share_right(heard_in(take, "fr"), take, ends_right), 0.8)

    def test_words_inside_a_line_are_found(self):
        take, truth = joined_words("it", 15)
        counted = readings_that_count(heard_in(take, "it"))
        right = []
        for reading, starts in zip(counted, truth, strict=True):
            found = {word.word: word.start_s for word in reading.words} if reading else {}
            right += [abs(found.get(at, 1e9) - start) <= 0.15 for at, start in enumerate(starts)]
        self.assertGreaterEqual(np.mean(right), 0.9)

    def test_another_text_is_told_from_the_right_one(self):
        take = joined("it", 12, seed=25)
        others = [prompt.text for prompt in prompts("it") if prompt.text not in take.lines][:40]
        self.assertTrue(heard_in(take, "it", others).is_another)
        self.assertTrue(heard_in(take, "en", joined("en", 12, seed=25).lines).is_another)

    def test_a_recording_that_begins_in_the_middle_of_a_long_script_is_found_there(self):
        take = joined("en", 10, seed=26)
        before = [prompt.text for prompt in prompts("en") if prompt.text not in take.lines][:150]
        heard = heard_in(take, "en", [*before, *take.lines, *before])
        counted = readings_that_count(heard)[len(before) : len(before) + 10]
        found = [
            reading is not None and abs(reading.start_s - take.last_whole()[line].start_s) <= 0.1
            for line, reading in enumerate(counted)
        ]
        self.assertEqual(sum(found), 10)


def joined_words(language: str, lines: int) -> tuple[Take, list[list[float]]]:
    """Lines of single words joined with next to no gap, and where each word begins, seconds."""
    pool = [prompt for prompt in prompts(language, 0.15, 1.5) if prompt.text.strip(".,!? ").isalpha()]
    random = np.random.default_rng(3)
    parts, texts, truth, length = [], [], [], 0
    for _ in range(lines):
        words, starts = [], []
        for at in range(random.integers(5, 12)):
            gap = random.uniform(0.3, 1.2) if at == 0 else random.uniform(0, 0.08)
            parts.append(np.zeros(int(gap * RATE_HZ), np.float32))
            prompt = pool[random.integers(len(pool))]
            length += len(parts[-1])
            starts.append(length / RATE_HZ)
            parts.append(prompt.samples)
            length += len(prompt.samples)
            words.append(prompt.text.strip(".,!? "))
        texts.append(" ".join(words))
        truth.append(starts)
    samples = np.concatenate(parts)
    samples = samples + np.random.default_rng(1).standard_normal(len(samples)).astype(np.float32) * 1e-3
    return Take(samples, texts, []), truth


class Speaking(TestCase):
    def test_the_machine_says_each_word_at_its_place(self):
        line = "Größe: Ça va – 12 Äpfel"
        (spoken,) = speak([line], "de")
        words = [line[start:end] for start, end in words_of(line)]
        self.assertEqual(words, ["Größe:", "Ça", "va", "12", "Äpfel"])
        self.assertEqual([word for _, word in spoken.words][0], 0)
        self.assertEqual({word for _, word in spoken.words}, set(range(5)))
        places = [at for at, _ in spoken.words]
        self.assertEqual(places, sorted(places))
        self.assertLess(places[-1], len(spoken.samples))
        self.assertGreater(len(spoken.samples), SPOKEN_HZ)

    def test_unspaced_scripts_have_a_word_for_each_character(self):
        self.assertEqual(["短い 人"[start:end] for start, end in words_of("短い 人")], ["短", "い", "人"])

    def test_text_that_was_made_to_do_harm_is_spoken_as_text(self):
        lines = ["", "...", "\ud800\x00\x1b[31m", "<speak><audio src='/etc/passwd'/></speak>", "[[h@'loU]]", "a" * 5000]
        spoken = list(speak(lines, "en"))
        self.assertEqual(len(spoken), len(lines))
        self.assertEqual(spoken[0].words, ())
        self.assertTrue(all(number == 0 for _, number in spoken[5].words))

    def test_a_language_nobody_speaks_here_is_named(self):
        with self.assertRaisesRegex(CannotSpeak, "“tlh-x”.*not spoken here"):
            voice_for("tlh-x")
        self.assertEqual(voice_for("fr_CA"), "fr")
        self.assertEqual(voice_for("EN-gb"), "en-gb")
        self.assertGreater(len(languages()), 100)

    def test_a_voice_speaks_each_of_its_languages(self):
        """Many a language is one of several that a voice has: British English, Norwegian, Chinese."""
        for language, line in (("en-gb", "Nobody came."), ("no", "Ingen kom."), ("pt-pt", "Veio."), ("zh", "今天早上")):
            with self.subTest(language):
                (spoken,) = speak([line], language)
                self.assertGreater(len(spoken.samples), SPOKEN_HZ // 4)


class ShortScripts(TestCase):
    LINES = ["The lamp was lit.", "Nobody had seen the keeper.", "It rained.", "The boat came late.", "Who was it?"]

    def test_a_script_of_few_lines_is_found_and_one_of_a_single_line(self):
        quiet = np.zeros(SPOKEN_HZ // 2, np.float32)
        spoken = [line.samples / np.float32(1 << 16) for line in speak(self.LINES, "en")]
        take = Take(np.concatenate([part for each in spoken for part in (quiet, each)]), self.LINES, [])
        for lines in (1, 2, 3, 5):
            with self.subTest(lines=lines):
                counted = readings_that_count(heard_in(take, "en", self.LINES[:lines]))
                self.assertTrue(all(reading and reading.whole for reading in counted))


class WithoutWords(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def heard(self, samples: np.ndarray, lines: list[str]) -> HeardScript:
        path = written(self.folder, samples)
        return hear(path, lines, language="en", envelope=measure(path).levels.envelope)

    def test_a_script_of_nothing_leaves_nothing_to_find(self):
        for lines in ([], [""], ["...", "—"]):
            with self.subTest(lines=lines):
                self.assertEqual(self.heard(noise(-30, 2.0), lines).readings, ())

    def test_a_recording_of_nothing_holds_no_words(self):
        heard = self.heard(np.zeros((44100, 1), np.float32), ["Someone was to read this."])
        self.assertEqual(heard.readings, ())
        self.assertEqual([finding.kind for finding in proof(heard)], [MISSING])

    def test_it_is_given_up_while_the_script_is_spoken_and_while_it_is_listened_for(self):
        path = written(self.folder, noise(-30, 4.0))
        envelope = measure(path).levels.envelope
        for share in (0.1, 0.35, 0.55):
            with self.subTest(share=share):
                told: list[float] = []

                def tell(done: float, share=share, told=told) -> None:
                    told.append(done)
                    if done >= share:
                        raise Cancelled("Given up.")

                with self.assertRaises(Cancelled):
                    hear(path, ["Nobody will ever hear this."] * 40, language="en", envelope=envelope, progress=tell)
                self.assertTrue(all(done < share for done in told[:-1]), told)
                self.assertEqual(told, sorted(told))


class Lines(TestCase):
    def test_of_a_table_the_spoken_text_is_read_and_of_prose_each_line(self):
        table = "fog_01.wav\tThe fog came in.\nfog_02.wav\tNobody saw it.\n"
        self.assertEqual([(line.text, line.name) for line in script_lines(table)],
                         [("The fog came in.", "fog_01.wav"), ("Nobody saw it.", "fog_02.wav")])  # fmt: skip
        self.assertEqual([line.text for line in script_lines("# Fog\n\n  It   came.\n---\n")], ["Fog", "It came."])

    def test_a_long_line_is_read_in_sentences(self):
        long = "Dr. Fenn went to St. Ives in the rain. " * 9
        self.assertEqual(sentences(long), ["Dr. Fenn went to St. Ives in the rain."] * 9)
        self.assertEqual(sentences("One. Two."), ["One. Two."])
        told, parts = in_sentences(["Short. Line.", long.strip()])
        self.assertEqual((len(told), parts), (10, [range(1), range(1, 10)]))

    def test_a_line_lies_where_the_last_whole_reading_of_its_sentences_does(self):
        """Three sentences make a line: where it lies, by the sentences that were read and when each began."""
        for read, span in (
            ([(0, 1.0), (1, 2.0), (2, 3.0)], (1.0, 4.0, True)),
            ([(0, 1.0), (1, 2.0), (2, 3.0), (0, 11.0), (1, 12.0), (2, 13.0)], (11.0, 14.0, True)),
            ([(0, 1.0), (1, 2.0), (2, 3.0), (0, 11.0)], (1.0, 4.0, True)),
            ([(0, 1.0), (1, 2.0), (1, 3.0), (2, 4.0)], (1.0, 5.0, True)),
            ([(0, 1.0), (2, 3.0)], (1.0, 4.0, False)),
            ([], None),
        ):
            with self.subTest(read=read):
                readings = tuple(Reading(line, at, at + 1, True, (HeardWord(0, at, at + 1, 0.0),)) for line, at in read)
                heard = HeardScript(("One.", "Two.", "Three."), (1, 1, 1), readings, (), 20.0, 0.0)
                self.assertEqual(spans_of_lines(heard, [range(3)]), [span and LineSpan(*span)])


class Counting(TestCase):
    """Of several readings of a line the last whole one counts; where none is whole, the longest, of such the last."""

    def counted(self, *read: tuple[bool, int]) -> float:
        words = [tuple(HeardWord(n, at, at + 1, 0.0) for n in range(count)) for at, (_, count) in enumerate(read)]
        readings = tuple(
            Reading(0, at, at + 1, whole, own) for at, ((whole, _), own) in enumerate(zip(read, words, strict=True))
        )
        (found,) = counting(readings, 1)
        return found.start_s

    def test_the_one_that_counts(self):
        self.assertEqual(self.counted((True, 4), (True, 4)), 1)
        self.assertEqual(self.counted((True, 4), (False, 3)), 0)
        self.assertEqual(self.counted((False, 3), (False, 2)), 0)
        self.assertEqual(self.counted((False, 2), (False, 2)), 1)
        self.assertEqual(self.counted((False, 3), (True, 4), (False, 3)), 1)


class Timed(TestCase):
    SAID = [TimedText(0.5, 61.25, "Salt & <road>"), TimedText(3661.0, 3662.0, "Two\nlines")]

    def test_webvtt(self):
        """The header, times with three decimals and escaped text (W3C WebVTT, from memory)."""
        self.assertEqual(
            as_vtt(self.SAID),
            "WEBVTT\n\n00:00:00.500 --> 00:01:01.250\nSalt &amp; &lt;road&gt;\n\n"
            "01:01:01.000 --> 01:01:02.000\nTwo lines\n",
        )

    def test_subrip(self):
        self.assertTrue(
            as_srt(self.SAID).startswith("1\n00:00:00,500 --> 00:01:01,250\nSalt & <road>\n\n2\n01:01:01,000")
        )

    def test_transcript(self):
        told = json.loads(as_transcript(self.SAID))
        self.assertEqual(told["version"], "1.0.0")
        self.assertEqual(told["segments"][0], {"startTime": 0.5, "endTime": 61.25, "body": "Salt & <road>"})

    def test_rows_of_lines(self):
        rows = as_rows([((0.5, 61.25), "Salt\troad"), (None, "Not read")])
        self.assertEqual(rows, "0.500\t61.250\tSalt road\n-\t-\tNot read\n")


class Brought(TestCase):
    """What another recogniser heard: WebVTT and SubRip after the W3C's draft and common practice, from memory."""

    CUES = (TimedText(0.5, 2.0, "The fog came in, & stayed."), TimedText(2.0, 3.25, "Nobody <saw> it."))

    def test_each_format_comes_back_as_it_went(self):
        for write in (as_vtt, as_srt, as_transcript):
            with self.subTest(write.__name__):
                self.assertEqual(tuple(read_timed(write(self.CUES), duration_s=4.0)), self.CUES)

    def test_what_is_no_list_of_words_is_said_with_its_place(self):
        cue = "WEBVTT\n\n00:00:01.000 --> 00:00:02.000\nOne.\n\n"
        for text, told in (
            ("Nothing here.", "no words with times"),
            ("", "no words with times"),
            ("{}", "no transcript"),
            ("[1, 2]", "no transcript"),
            ("[" * 100_000, "no transcript"),
            ('{"segments": [{"startTime": "x"}]}', "no transcript"),
            (cue + "00:00:00.500 --> 00:00:00.900\nTwo.\n", "Cue 2 begins before"),
            (cue + "00:00:03.000 --> 00:00:02.000\nTwo.\n", "Cue 2 ends before it begins"),
            (cue + "01:00:03.000 --> 01:00:04.000\nTwo.\n", "beyond the end"),
        ):
            with self.subTest(text[:20]), self.assertRaisesRegex(UnreadableText, told):
                read_timed(text, duration_s=10.0)

    def test_styles_voices_and_short_times_are_read(self):
        text = "WEBVTT - by hand\n\nNOTE none\n\n1\n01:02.5 --> 01:03.25 line:0\n<v Ann>Well,\nthen</v>\n"
        self.assertEqual(read_timed(text, duration_s=99.0), [TimedText(62.5, 63.25, "Well, then")])

    def test_its_words_share_the_time_of_their_cue_and_reach_into_no_other(self):
        heard = heard_of(
            [TimedText(1.0, 3.0, "One three"), TimedText(2.0, 4.0, "—"), TimedText(2.5, 9.0, "Last")], duration_s=4.0
        )
        self.assertEqual(heard.lines, ("One three", "Last"))
        places = [(word.start_s, word.end_s) for reading in heard.readings for word in reading.words]
        self.assertEqual(places, [(1.0, 1.0 + 1.5 * 3 / 8), (1.0 + 1.5 * 3 / 8, 2.5), (2.5, 4.0)])
        self.assertEqual(from_bytes(as_bytes(heard)).lines, heard.lines)
        with self.assertRaises(ValueError):
            from_bytes(b'{"form": 0}')

    def test_cues_are_parted_between_words_by_so_many_characters(self):
        words = [TimedText(at, at + 1, word) for at, word in enumerate("It was a very dark night".split())]
        self.assertEqual([cue.text for cue in in_cues([words], 10)], ["It was a", "very dark", "night"])
        self.assertEqual([(cue.start_s, cue.end_s) for cue in in_cues([words])], [(0, 6)])
        self.assertEqual([cue.text for cue in in_cues([words[:1]], 1)], ["It"])


class Proof(TestCase):
    """What is said of readings at known places."""

    LINES = ("It was dark and still.", "Nobody came by.", "So we went home then.")

    def heard(self, *readings: tuple[int, float], apart: dict[int, float] | None = None) -> HeardScript:
        """Readings of whole lines from a time on, half a second to a word; `apart` by the number of the reading."""
        told = []
        for number, (line, at) in enumerate(readings):
            words = tuple(
                HeardWord(word, at + word / 2, at + word / 2 + 0.5, (apart or {}).get(number, 0.0))
                for word in range(len(self.LINES[line].split()))
            )
            told.append(Reading(line, words[0].start_s, words[-1].end_s, True, words))
        return HeardScript(self.LINES, (5, 3, 5), tuple(told), (), 60.0, 0.0)

    def kinds(self, heard: HeardScript, **more) -> list[tuple[str, int | None]]:
        return [(finding.kind, finding.line) for finding in proof(heard, **more)]

    def test_words_far_from_how_they_sound_were_said_otherwise(self):
        heard = self.heard((0, 1.0), (1, 4.0), (2, 6.0), apart={1: 0.6})
        self.assertEqual(self.kinds(heard), [(OTHERWISE, 1)])
        # What is nowhere as far away, and is so throughout, was another sentence.
        self.assertEqual(self.kinds(self.heard((0, 1.0), (1, 4.0), (2, 6.0), apart={1: 0.3})), [(OTHERWISE, 1)])
        self.assertEqual(self.kinds(self.heard((0, 1.0), (1, 4.0), (2, 6.0), apart={1: 0.19})), [])
        # Where nothing sounds as it should, less is said by that.
        everywhere = self.heard((0, 1.0), (1, 4.0), (2, 6.0), apart={0: 0.25, 1: 0.3, 2: 0.25})
        self.assertEqual(self.kinds(everywhere), [])

    def test_lines_that_changed_places_are_named(self):
        self.assertEqual(self.kinds(self.heard((0, 1.0), (2, 4.0), (1, 7.0))), [(ELSEWHERE, 2)])

    def test_a_long_wait_is_one_unless_it_is_struck_out(self):
        heard = self.heard((0, 1.0), (1, 9.0), (2, 11.0))
        self.assertEqual(self.kinds(heard), [(HESITATION, 1)])
        self.assertEqual(self.kinds(heard, gone=[(4.0, 8.0)]), [])

    def test_what_is_gone_was_not_read_and_what_was_put_in_is_not_missing(self):
        heard = self.heard((0, 1.0), (1, 4.0), (2, 6.0))
        left = remaining(heard, [(4.0, 5.6)])
        self.assertEqual(self.kinds(left), [(MISSING, 1)])
        self.assertEqual(self.kinds(left, put_in={1}), [])
        # Only the most part of a word that is gone makes it gone.
        self.assertEqual(remaining(heard, [(4.0, 4.2)]).readings, heard.readings)

    def test_a_reading_of_a_line_that_was_put_in_does_not_count(self):
        heard = self.heard((0, 1.0), (1, 4.0), (2, 6.0))
        self.assertEqual([each.line for each in not_counting(heard, {1})], [1])

    def test_what_is_cut_out_leaves_one_pause(self):
        heard = self.heard((0, 1.0), (1, 4.0), (2, 6.0))
        self.assertEqual(set_apart(heard, 4.0, 5.5), (4.0, 6.0))
        self.assertEqual(set_apart(heard, 6.0, 8.5), (5.5, 8.5))


class WordTexts(TestCase):
    def test_signs_stay_with_the_word_they_belong_to(self):
        for line, words in (
            ("“Go on,” he said — “before (the river) changes.”",
             ["“Go", "on,”", "he", "said —", "“before", "(the", "river)", "changes.”"]),
            ("– Oui, dit-il !", ["– Oui,", "dit-il !"]),
            ("“Wait” — no.", ["“Wait” —", "no."]),
            ("—", []),
        ):  # fmt: skip
            self.assertEqual(word_texts(line), words)
            self.assertEqual(len(word_texts(line)), len(words_of(line)))

    def test_headings_are_read_with_what_stands_below_them(self):
        text = "Above all.\n# Chapter 1: Fog\nIt came.\n\nIt went.\n# Chapter 2: Sun\nIt stayed.\n"
        told = [(entry.title, lines) for entry, lines in script_entries(text)]
        self.assertEqual(told, [("Fog", ["Chapter 1: Fog", "It came.", "It went."]),
                                ("Sun", ["Chapter 2: Sun", "It stayed."])])  # fmt: skip
        self.assertEqual(
            sentences("He said no. No. Then he left us.", together=0), ["He said no.", "No. Then he left us."]
        )


class ReadAlong(TestCase):
    """EPUB 3.3 with Media Overlays; where it is installed, the reference checker of that standard has the last word."""

    def book(self) -> dict[str, bytes]:
        sentences = [
            [TimedText(0.5, 0.9, "Fog & rain"), TimedText(0.9, 1.5, "<came>\x07.")],
            [TimedText(2.0, 3.25, "“Nobody” saw it.")],
        ]
        return read_along(sentences, title='The "Lamp"', author="O. Farrow", narrator="M. Askew", language="en",
                          audio_name="sound.mp3", changed_at=datetime(2026, 11, 29, 12, tzinfo=UTC))  # fmt: skip

    def test_each_sentence_leads_to_its_sound(self):
        book = self.book()
        smil = ElementTree.fromstring(book["book/text.smil"])
        text = ElementTree.fromstring(book["book/text.xhtml"])
        said = {each.get("id"): each.text for each in text.iter("{http://www.w3.org/1999/xhtml}p")}
        self.assertEqual(list(said.values()), ["Fog & rain <came> .", "“Nobody” saw it."])
        told = []
        for par in smil.iter("{http://www.w3.org/ns/SMIL}par"):
            where, audio = par
            self.assertIn(where.get("src").partition("#")[2], said)
            told.append((audio.get("src"), audio.get("clipBegin"), audio.get("clipEnd")))
        self.assertEqual(told, [("audio/sound.mp3", "00:00:00.500", "00:00:01.500"),
                                ("audio/sound.mp3", "00:00:02.000", "00:00:03.250")])  # fmt: skip
        self.assertIn(b'<meta property="media:duration">00:00:02.250</meta>', book["book/package.opf"])

    @skipUnless(Path("/usr/bin/epubcheck").exists(), "the reference checker is not installed")
    def test_the_reference_checker_finds_nothing(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "book.epub"
            with ZipFile(path, "w") as book:
                book.writestr(MIME_NAME, MIME_TYPE)
                for name, content in self.book().items():
                    book.writestr(name, content)
                book.write(written(Path(folder), noise(-30, 4.0)), f"{AUDIO_FOLDER}sound.mp3")
            done = subprocess.run(["java", "-jar", "/usr/bin/epubcheck", path], capture_output=True, text=True)
        told = [line for line in done.stderr.splitlines() if line.startswith(("ERROR", "FATAL", "WARNING"))]
        # The sound is a stand-in.
        self.assertEqual([line for line in told if "sound.mp3" not in line], [])
