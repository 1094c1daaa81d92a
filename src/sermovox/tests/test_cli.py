"""The core from a terminal."""

import contextlib
import csv
import io
import json
import os
import pty
import re
import shlex
import signal
import subprocess
import sys
import tempfile
from pathlib import Path
from unittest import TestCase, mock, skipUnless

import numpy as np
import soundfile

from mastering.editing.labels import Label
from mastering.outlets.rulesheets import shipped_text
from mastering.tagging.carried import read_carried
from mastering.tagging.markers import write_markers
from mastering.tagging.writing import sound_sha256
from mastering.tests.prompts import joined, prompts, there
from mastering.tests.signals import noise, picture, speech, written
from sermovox.cli import main, parser
from sermovox.terminal import COMMANDS, EXAMPLES, make
from sermovox.ui.tests.base import AppTestCase

PUBLIC_KEYS = """
path container codec channels sample_rate_hz bit_depth bit_rate_kbps duration_s size_bytes sample_peak_dbfs
true_peak_dbtp rms_dbfs rms_aes17_dbfs crest_factor_db integrated_lufs max_momentary_lufs max_short_term_lufs
loudness_range_lu noise_floor_dbfs head_s tail_s speech_share dropouts clipped_runs dc_offset correlation
channel_difference_db bandwidth_hz
""".split()


def run(*arguments) -> tuple[int, str, str]:
    """Exit status, standard output and standard error of a command."""
    out, err = io.StringIO(), io.StringIO()
    # A process of the test runner may have none of its own.
    alone = ["--jobs", "1"] if arguments[:1] and arguments[0] in ("measure", "check") else []
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        status = main([*(str(argument) for argument in arguments), *alone])
    return status, out.getvalue(), err.getvalue()


class Terminal(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        self.take = written(self.folder, speech())

    def run_(self, *arguments) -> tuple[int, str, str]:
        return run(*arguments)

    def test_measure_speaks_json_with_the_public_keys(self):
        status, out, _ = self.run_("measure", self.take, self.take, "--json")
        rows = json.loads(out)
        self.assertEqual((status, len(rows)), (0, 2))
        self.assertEqual(list(rows[0]), PUBLIC_KEYS)
        self.assertEqual((rows[0]["channels"], rows[0]["bit_depth"], rows[0]["duration_s"]), (1, 16, 6.0))

    def test_what_an_outlet_asks_of_all_files_is_held_against_all_that_are_made(self):
        takes = [self.take.rename(self.folder / "chapter 1.wav")]
        takes.append(written(self.folder, speech(seed=8), name="chapter 2.wav"))
        make = ("make", *takes, "--outlet", "audiobook-retail")
        status, printed, _ = self.run_(*make, "--out", self.folder / "out")
        self.assertEqual(status, 1)
        self.assertRegex(printed, r"All files in .*out: fails")
        self.assertIn("without opening credits, closing credits", printed)
        self.assertIn("such as “opening credits.wav”", printed)
        takes += [
            written(self.folder, speech(seed=at), name=f"{name}.wav")
            for at, name in enumerate(("opening credits", "closing credits", "retail sample"), 20)
        ]
        make = ("make", *takes, "--outlet", "audiobook-retail", "--json")
        _, printed, _ = self.run_(*make, "--out", self.folder / "whole")
        rows = json.loads(printed)
        self.assertEqual(len(rows), 5)
        found = {finding["rule"]: finding["verdict"] for finding in rows[0]["delivery"]["findings"]}
        self.assertEqual(found["sections_required"], "passes")
        # One file says nothing of what else there is.
        _, printed, _ = self.run_("make", takes[0], "--outlet", "audiobook-retail", "--out", self.folder / "one")
        self.assertNotIn("without opening credits", printed)

    def test_how_it_went_is_told_in_the_end_and_little_else_where_that_is_wished(self):
        bad = self.folder / "bad.wav"
        bad.write_text("Once upon a time")
        make = ("make", self.take, bad, "--outlet", "volunteer-archive", "--out", self.folder / "out")
        status, printed, told = self.run_(*make, "--quiet")
        self.assertEqual((status, printed), (1, ""))
        self.assertRegex(told, r"1 made, 1 pass, 0 fail, 1 could not be; \d+\.\d MB in, \d\.\d MB out, 0:\d\d\.")
        made = next((self.folder / "out").iterdir())
        reports = self.folder / "sheets"
        check = ("check", self.take, made, bad, "--outlet", "volunteer-archive", "--reports", reports, "--quiet")
        status, printed, told = self.run_(*check)
        self.assertEqual(status, 1)
        self.assertIn(f"{self.take}: fails", printed)
        self.assertNotIn(str(made), printed)
        self.assertIn("2 checked, 1 pass, 1 fail, 1 could not be", told)
        self.assertIn("bad.wav: This is not a sound file", (reports / "report.txt").read_text())
        told = self.run_("check", self.take, bad, "--outlet", "volunteer-archive", "--csv")[1]
        lines = list(csv.DictReader(io.StringIO(told)))
        self.assertEqual({line["file"] for line in lines}, {str(self.take)})
        self.assertIn("Integrated loudness", {line["label"] for line in lines})
        kinds = ["report.csv", "report.html", "report.json", "report.pdf", "report.txt"]
        self.assertEqual(sorted(path.name for path in reports.iterdir()), kinds)

    def test_ctrl_c_says_what_was_finished(self):
        later = written(self.folder, speech(seconds=3), name="z.wav")
        made = make.make_all

        def broken_off(source, *rest, **more):
            if source == later:
                raise KeyboardInterrupt
            return made(source, *rest, **more)

        with mock.patch.object(make, "make_all", broken_off):
            asked = ("make", self.take, later, "--outlet", "volunteer-archive", "--out", self.folder / "out")
            status, _, told = self.run_(*asked)
        self.assertEqual(status, 130)
        self.assertIn("Stopped. 1 made, 1 pass, 0 fail", told)
        self.assertIn(f"Finished before that:\n  {self.folder / 'out'}", told)

    def test_each_command_has_an_example_and_shells_are_told_of_all_of_them(self):
        self.assertEqual(EXAMPLES.keys(), COMMANDS.keys())
        for shell in ("bash", "zsh", "fish"):
            status, printed, _ = self.run_("completion", shell)
            self.assertEqual(status, 0)
            for word in (*COMMANDS, "reports", "hush-db"):
                self.assertIn(word, printed)
        for name, example in EXAMPLES.items():
            asked = [word for word in shlex.split(example.partition(" > ")[0])[1:] if word]
            parser([name]).parse_args(asked)

    def test_a_name_that_looks_like_an_option_is_explained(self):
        with contextlib.chdir(self.folder):
            written(self.folder, speech(seconds=4), name="-odd.wav")
            told = io.StringIO()
            with contextlib.redirect_stderr(told), self.assertRaises(SystemExit):
                main(["measure", "-odd.wav"])
            self.assertIn("write ./-odd.wav, or -- before all names", told.getvalue())
            self.assertEqual(self.run_("measure", "./-odd.wav")[0], 0)

    def test_silence_is_null_not_minus_infinity(self):
        path = written(self.folder, np.zeros((44100, 1)), name="silence.wav")
        _, out, _ = self.run_("measure", path, "--json")
        self.assertIsNone(json.loads(out)[0]["integrated_lufs"])

    def test_a_take_is_cut_by_its_pauses_and_the_pieces_are_the_take(self):
        status, out, _ = self.run_("pauses", self.take, "--sections", "3")
        self.assertEqual((status, out.count("\n")), (0, 3))
        (self.folder / "marks.txt").write_text(out)
        cut = ("cut", self.take, "--marks", self.folder / "marks.txt", "--out", self.folder / "p")
        self.assertEqual(self.run_(*cut)[0], 0)
        pieces = [soundfile.read(path, dtype="int16")[0] for path in sorted((self.folder / "p").iterdir())]
        self.assertEqual(len(pieces), 3)
        np.testing.assert_array_equal(np.concatenate(pieces), soundfile.read(self.take, dtype="int16")[0])
        self.assertIn("exists already", self.run_(*cut)[2])
        (self.folder / "bad.txt").write_text("1\t2\tA\n9\t99\tB\n")
        status, _, err = self.run_("cut", self.take, "--marks", self.folder / "bad.txt", "--out", self.folder / "q")
        self.assertEqual((status, "Line 2 lies beyond the end" in err, (self.folder / "q").exists()), (1, True, False))
        copy = self.folder / "copy.wav"
        self.run_("marks", self.take, "--from", self.folder / "marks.txt", "--copy", copy)
        self.assertEqual(self.run_("marks", copy)[1].count("Section"), 3)

    def test_the_plan_says_what_it_takes_and_what_stands_in_the_way(self):
        loud = written(
            self.folder, speech(peak=0.05) + 3e-3 * np.sign(np.sin(np.arange(6 * 44100)))[:, None], name="hiss.wav"
        )
        status, out, _ = self.run_("plan", self.take, loud, "--outlet", "audiobook-retail", "--json")
        noisy, good = json.loads(out)
        self.assertEqual((status, good["collisions"]), (1, []))
        self.assertTrue(-23 <= good["predicted"]["rms_dbfs"] <= -18)
        self.assertIn("its noise floor is at", noisy["collisions"][0])
        out = self.run_("plan", self.take, "--outlet", "volunteer-archive")[1]
        self.assertRegex(out, r"Gain +\+\d\.\d dB")
        uneven = self.run_("plan", self.take, loud, "--outlet", "volunteer-archive", "--together", "--json")[1]
        self.assertEqual(len({row["gain_db"] for row in json.loads(uneven)}), 1)
        treated = ("--rumble", "--hush", "always", "--hush-db", "6", "--ride", "if-needed")
        out = self.run_("plan", self.take, "--outlet", "volunteer-archive", *treated)[1]
        self.assertRegex(out, r"Rumble filter +nothing below 70 Hz\n +Hush +steady noise 6\.0 dB lower")
        status, _, complaint = self.run_("plan", self.take, "--outlet", "volunteer-archive", "--rumble", "900")
        self.assertEqual(status, 1)
        self.assertIn("would thin the voice", complaint)
        self.assertEqual(self.run_("plan", self.folder / "none.wav", "--outlet", "volunteer-archive")[0], 1)

    def test_files_are_taken_in_the_order_of_their_numbers(self):
        for number in (1, 2, 10, 11):
            written(self.folder, speech(seconds=3, seed=number), name=f"ch {number}.wav")
        given = [self.folder / f"ch {number}.wav" for number in (1, 10, 11, 2)]
        make = ("make", *given, "--outlet", "booked-job", "--json", "--names", "{place|pad:2}-{source}")
        _, printed, told = self.run_(*make, "--out", self.folder / "a")
        names = [Path(row["path"]).name for row in json.loads(printed)]
        self.assertEqual(names, ["01-ch 1.wav", "02-ch 2.wav", "03-ch 10.wav", "04-ch 11.wav"])
        self.assertLess(told.index("ch 2.wav"), told.index("ch 10.wav"), "the order is printed")
        _, printed, _ = self.run_(*make, "--out", self.folder / "b", "--as-given")
        self.assertIn("02-ch 10.wav", [Path(row["path"]).name for row in json.loads(printed)])
        for command in ("plan", "check"):
            _, printed, _ = self.run_(command, *given, "--outlet", "booked-job", "--json")
            self.assertEqual([Path(row["path"]).name for row in json.loads(printed)][1], "ch 2.wav", command)

    def test_a_stereo_file_ends_as_what_it_is(self):
        """A sheet that asks for MP3 in mono and WAV in stereo."""
        sheet = self.folder / "mixed.toml"
        sheet.write_text(
            'format = 2\nkey = "mixed"\ntitle = "Mixed"\nsummary = "Two."\n'
            '[[rules]]\nname = "container"\nsource = "a test"\n'
            'mono = { exactly = "mp3" }\nstereo = { exactly = "wav" }\n'
            '[[rules]]\nname = "channels"\nsource = "a test"\nexactly = "as recorded"\n'
            '[[rules]]\nname = "sample_rate_hz"\nsource = "a test"\nexactly = 44100\n'
            '[[rules]]\nname = "bit_rate_kbps"\nsource = "a test"\nmono = { exactly = 128 }\n'
        )
        stereo = written(self.folder, speech(seconds=3).repeat(2, axis=1), name="st.wav")
        out = self.folder / "out"
        self.run_("make", self.take, stereo, "--outlet", sheet, "--out", out, "--as-given")
        self.assertEqual(sorted(path.name for path in out.iterdir()), ["01-take.mp3", "02-st.wav"])
        wrong = out / "wrong.mp3"
        (out / "02-st.wav").rename(wrong)
        _, printed, _ = self.run_("check", wrong, "--outlet", sheet, "--json")
        (row,) = json.loads(printed)
        container = next(finding for finding in row["findings"] if finding["rule"] == "container")
        self.assertEqual((container["verdict"], container["found"]), ("fails", "wav, in a file that ends in .mp3"))

    def test_advice_names_options_and_no_screen(self):
        hiss = written(self.folder, speech(peak=0.2) + noise(-45, 6), name="hiss.wav")
        out = self.folder / "out"
        _, printed, _ = self.run_("make", hiss, "--outlet", "audiobook-retail", "--out", out, "--json")
        (row,) = json.loads(printed)
        advice = {finding["rule"]: finding["advice"] for finding in row["findings"] if finding["verdict"] == "fails"}
        self.assertIn("--hush", advice["noise_floor_dbfs"])
        _, text, _ = self.run_("make", hiss, "--outlet", "podcast-host", "--out", self.folder / "b")
        self.assertIn("--artwork", text)
        self.assertNotIn("Facts and artwork", text)

    def test_sides_of_opposite_polarity_are_told_and_mended(self):
        voice = speech(seconds=6)
        source = written(self.folder, np.concatenate([voice, -0.98 * voice], axis=1), name="opposite.wav")
        _, text, _ = self.run_("plan", source, "--outlet", "volunteer-archive")
        self.assertIn("as they are of opposite polarity", text)
        _, text, _ = self.run_("make", source, "--outlet", "volunteer-archive", "--out", self.folder / "out")
        self.assertIn("Made mono from the sum of both sides, one of them turned upside down", text)
        status, text, _ = self.run_("plan", source, "--outlet", "volunteer-archive", "--mono", "sum")
        self.assertEqual(status, 1)
        self.assertIn("mono loses", text)

    def test_a_broadcast_wave_says_the_same_when_it_is_made_again(self):
        both = ("--outlet", "own-masters", "--fact", "title=Ørkenens Süße 海", "--fact", "narrator=Zoë Łuk")
        for folder in ("a", "b"):
            self.run_("make", self.take, *both, "--out", self.folder / folder)
        (one,), (two,) = ((self.folder / folder).glob("*.wav") for folder in ("a", "b"))
        self.assertEqual(one.read_bytes(), two.read_bytes())
        raw = one.read_bytes()
        said = raw[raw.index(b"bext") + 8 :][:512]
        self.assertEqual(said[:256].rstrip(b"\0"), b"Orkenens Susse Hai")
        self.assertEqual(said[256:288].rstrip(b"\0"), b"Zoe Luk")
        self.assertRegex(said[320:338].decode(), r"^\d{4}-\d\d-\d\d\d\d:\d\d:\d\d$")

    def test_a_slash_in_a_label_is_replaced_and_said(self):
        (self.folder / "marks.txt").write_text("0\t2\tOne/Two\n2\t4\tThree\n")
        out = self.folder / "pieces"
        status, _, told = self.run_("cut", self.take, "--marks", self.folder / "marks.txt", "--out", out)
        self.assertEqual((status, sorted(path.name for path in out.iterdir())), (0, ["01-one-two.wav", "02-three.wav"]))
        self.assertIn("“One/Two” holds a slash", told)

    def test_make_then_check(self):
        out_folder = self.folder / "out"
        status, out, _ = self.run_("make", self.take, "--outlet", "volunteer-archive", "--out", out_folder, "--json")
        (row,) = json.loads(out)
        self.assertEqual(status, 0)
        self.assertEqual(Path(row["path"]).name, "01-take.mp3")
        self.assertEqual(self.run_("check", row["path"], "--outlet", "volunteer-archive")[0], 0)
        status, out, _ = self.run_("check", row["path"], "--outlet", "radio-playout", "--json")
        self.assertEqual(status, 1)
        self.assertEqual(json.loads(out)[0]["verdict"], "fails")

    def test_several_outlets_in_one_run_each_in_a_folder_of_its_own(self):
        out, cover = self.folder / "out", self.folder / "cover.jpg"
        cover.write_bytes(picture())
        options = ("--outlet", "podcast-host", "--outlet", "own-masters", "--out", out, "--artwork", cover)
        status, printed, err = self.run_("make", self.take, *options, "--fact", "narrator=Ilse Ørum", "--json")
        self.assertEqual(status, 0, err + printed)
        self.assertEqual(sorted(row["outlet"] for row in json.loads(printed)), ["own-masters", "podcast-host"])
        made = out / "podcast-host" / "01-take.mp3"
        self.assertEqual(read_carried(made).tags["artist"], "Ilse Ørum")
        checked = self.run_("check", out / "own-masters" / "01-take.wav", "--outlet", "own-masters", "--json")
        found = {finding["rule"]: finding["verdict"] for finding in json.loads(checked[1])[0]["findings"]}
        self.assertEqual(found["broadcast_wave"], "passes")
        status, _, err = self.run_("make", self.take, *options, "--fact", "colour=red")
        self.assertIn("“colour=red” is no fact", err)

    def test_an_outlet_of_one_file_gets_all_joined_with_a_chapter_for_each(self):
        second = written(self.folder, speech(seconds=5, seed=4, rate_hz=48000), 48000, "second.flac")
        out = self.folder / "out"
        both = ("--outlet", "single-file-audiobook", "--outlet", "own-masters", "--fact", "production=Ebb and Flow")
        status, _, wrong = self.run_("make", *both, "--out", out, "--as-given", self.take, second)
        self.assertEqual((status, wrong.splitlines()[0]), (1, "In this order:"), "the single file has no cover")
        (joined,) = (out / "single-file-audiobook").iterdir()
        self.assertEqual((joined.name, len(list((out / "own-masters").rglob("*.wav")))), ("ebb-and-flow.m4b", 2))
        found = read_carried(joined)
        self.assertEqual([(round(c.start_s, 1), c.title) for c in found.chapters], [(0, "take"), (6.0, "second")])
        self.assertEqual(found.tags["title"], "Ebb and Flow")
        sample = written(self.folder, speech(seconds=3, seed=6), name="Retail sample.wav")
        _, _, told = self.run_("make", *both[:2], *both[4:], "--out", self.folder / "c", self.take, second, sample)
        self.assertIn("Retail sample.wav: not in the file of the whole", told)
        (joined,) = (self.folder / "c").iterdir()
        self.assertEqual({c.title for c in read_carried(joined).chapters}, {"take", "second"})
        status, _, wrong = self.run_("make", *both[:2], "--out", self.folder / "b", self.take, self.folder / "no.wav")
        self.assertIn("is not there", wrong)
        self.assertEqual((status, list((self.folder / "b").iterdir())), (1, []))

    def test_marks_inside_a_recording_become_chapters_where_they_are_asked(self):
        marked = self.folder / "marked.wav"
        labels = [Label(3.0, 3.0, "The mill"), Label(4.5, 4.5, "The tide")]
        write_markers(self.take, marked, labels, container="wav", sample_rate_hz=44100)
        sheet = self.folder / "own.toml"
        asked = 'name = "chapters"\nexactly = "from marks"\nsource = "a test"\n'
        sheet.write_text(shipped_text("internet-station") + f"\n[[rules]]\n{asked}")
        self.run_("make", "--outlet", sheet, "--out", self.folder / "out", marked)
        (made,) = (self.folder / "out").iterdir()
        chapters = read_carried(made).chapters
        self.assertEqual(
            [(round(c.start_s), c.title) for c in chapters], [(0, "marked"), (3, "The mill"), (4, "The tide")]
        )

    def test_files_that_are_to_be_alike_are_stereo_where_one_is(self):
        wide = written(self.folder, speech(seconds=4).repeat(2, axis=1), name="wide.wav")
        _, printed, _ = self.run_(
            "make", self.take, wide, "--outlet", "audiobook-retail", "--out", self.folder / "out", "--json"
        )
        self.assertEqual([row["channels"] for row in json.loads(printed)], [2, 2])
        sheet = self.folder / "mine.toml"
        sheet.write_text(self.run_("outlets", "podcast-host")[1])
        both = ("--outlet", "podcast-host", "--outlet", sheet, "--out", self.folder / "two")
        self.assertIn("have the same key", self.run_("make", self.take, *both)[2])
        self.assertFalse((self.folder / "two").exists())

    def test_an_outlet_of_one_s_own_is_a_rule_sheet(self):
        sheet = self.folder / "mine.toml"
        sheet.write_text(self.run_("outlets", "internet-station")[1].replace("exactly = 64", "exactly = 80"))
        out = self.folder / "out"
        self.assertEqual(self.run_("make", self.take, "--outlet", sheet, "--out", out)[0], 0)
        self.assertEqual(self.run_("check", out / "01-take.mp3", "--outlet", sheet)[0], 0)
        status, printed, _ = self.run_("check", out / "01-take.mp3", "--outlet", "internet-station", "--csv")
        self.assertEqual(status, 1)
        self.assertIn("Bitrate,64 kbit/s,80 kbit/s", printed)
        sheet.write_text("format = 9\n")
        self.assertIn("newer Sermovox", self.run_("check", out / "01-take.mp3", "--outlet", sheet)[2])

    def test_tags_are_compared_and_written_without_touching_the_sound(self):
        out = self.folder / "out"
        self.run_("make", self.take, "--outlet", "internet-station", "--out", out)
        made = out / "01-take.mp3"
        before = sound_sha256(made)
        options = ("tags", made, "--outlet", "internet-station", "--fact", "title=Ebb", "--fact", "narrator=Ilse")
        _, printed, _ = self.run_(*options, "--json")
        self.assertEqual(json.loads(printed)[0]["differing"]["title"], "Ebb")
        _, printed, _ = self.run_(*options, "--write", "--json")
        self.assertEqual(json.loads(printed)[0]["differing"], {})
        self.assertEqual((read_carried(made).tags["artist"], sound_sha256(made)), ("Ilse", before))
        status, _, err = self.run_(
            "tags", made, "--outlet", "internet-station", "--write", "--fact", f"title={'x' * 9999}"
        )
        self.assertEqual(status, 1)
        self.assertIn("9,999 characters", err)
        self.assertEqual(read_carried(made).tags["title"], "Ebb")

    def test_what_happens_to_a_file_of_that_name_is_said_or_nothing_is_written(self):
        out = self.folder / "out"
        arguments = ("make", self.take, "--outlet", "internet-station", "--out", out)
        self.assertEqual(self.run_(*arguments)[0], 0)
        first = (out / "01-take.mp3").read_bytes()
        (out / "01-take.mp3").write_bytes(b"mine")
        status, _, err = self.run_(*arguments)
        self.assertEqual(status, 1)
        self.assertIn("exists already", err)
        self.assertEqual(self.run_(*arguments, "--existing", "skip")[0], 0)
        self.assertEqual(self.run_(*arguments, "--existing", "keep-both")[0], 0)
        self.assertEqual((out / "01-take.mp3").read_bytes(), b"mine")
        self.assertEqual((out / "01-take-2.mp3").read_bytes(), first)
        self.assertEqual(self.run_(*arguments, "--existing", "replace")[0], 0)
        self.assertEqual((out / "01-take.mp3").read_bytes(), first)
        self.assertEqual(len(list(out.iterdir())), 2)

    def test_names_follow_the_pattern_language(self):
        out = self.folder / "out"
        options = ("--outlet", "internet-station", "--out", out, "--names", "{place|pad:3}_{source|upper}")
        self.assertEqual(self.run_("make", self.take, *options)[0], 0)
        self.assertEqual([path.name for path in out.iterdir()], ["001_TAKE.mp3"])
        status, _, err = self.run_(
            "make", self.take, "--outlet", "internet-station", "--out", out, "--names", "{nothing}"
        )
        self.assertEqual(status, 1)
        self.assertIn("nothing", err)

    def test_files_are_renamed_by_a_map_and_back(self):
        folder, table = self.folder / "files", self.folder / "map.csv"
        folder.mkdir()
        for name in ("a.mp3", "b.mp3"):
            (folder / name).write_text(name)
        table.write_text("\ufeffold name;new name\na.mp3;b.mp3\nb.mp3;c.mp3\n", encoding="utf-8")
        self.assertEqual(self.run_("rename", table, "--in", folder)[0], 0)
        self.assertEqual({p.name: p.read_text() for p in folder.iterdir()}, {"b.mp3": "a.mp3", "c.mp3": "b.mp3"})
        self.assertEqual(self.run_("rename", table, "--in", folder, "--undo")[0], 0)
        self.assertEqual({p.name: p.read_text() for p in folder.iterdir()}, {"a.mp3": "a.mp3", "b.mp3": "b.mp3"})
        table.write_text("a.mp3,b.mp3\n")
        status, _, err = self.run_("rename", table, "--in", folder)
        self.assertEqual(status, 1)
        self.assertIn("same name", err)

    def test_a_bad_file_is_named_and_the_others_are_done(self):
        bad = self.folder / "bad.wav"
        bad.write_text("not a recording")
        status, out, err = self.run_("measure", bad, self.folder / "gone.wav", self.take, "--json")
        self.assertEqual((status, len(json.loads(out))), (1, 1))
        self.assertIn("bad.wav: This is not a sound file", err)
        self.assertIn("gone.wav: The file is not there", err)

    def test_several_are_measured_at_a_time_and_told_in_their_order(self):
        takes = [written(self.folder, speech(seconds=3 + 2 * (at % 3)), name=f"{at}.wav") for at in range(1, 6)]
        (self.folder / "6.wav").write_text("not a recording")
        takes.append(self.folder / "6.wav")
        told = []
        for jobs in ("1", "3"):
            for command in (["measure"], ["check", "--outlet", "audiobook-retail"]):
                line = [sys.executable, "-m", "sermovox.cli", *command, *map(str, takes), "--jobs", jobs, "--json"]
                done = subprocess.run(line, capture_output=True, text=True)
                self.assertEqual(done.returncode, 1)
                told.append((json.loads(done.stdout), re.sub(r"; \d+:\d\d\.$", "", done.stderr.strip())))
        self.assertEqual(told[:2], told[2:])
        self.assertEqual([row["path"] for row in told[0][0]], [str(path) for path in takes[:5]])
        self.assertIn("6.wav: This is not a sound file", told[0][1])
        for wrong in ("0", "-1", "many"):
            with self.assertRaises(SystemExit), contextlib.redirect_stderr(io.StringIO()) as err:
                main(["measure", str(self.take), "--jobs", wrong])
            self.assertIn("is no number of files", err.getvalue())

    def test_progress_of_all_is_told_where_somebody_looks_and_ctrl_c_ends_it(self):
        takes = [written(self.folder, noise(-30, 200, seed=at), name=f"{at}.wav") for at in range(4)]
        ours, theirs = pty.openpty()
        line = [sys.executable, "-m", "sermovox.cli", "measure", *map(str, takes), "--jobs", "2"]
        running = subprocess.Popen(line, stdout=subprocess.PIPE, stderr=theirs, start_new_session=True)
        os.close(theirs)
        seen = b""
        while b"left" not in seen:
            seen += os.read(ours, 1000)
        self.assertRegex(seen.decode(), r"Measuring: \d of 4 files, \d+%, \d+:\d\d left")
        os.killpg(running.pid, signal.SIGINT)
        self.assertNotEqual(running.wait(20), 0)
        running.stdout.close()
        os.close(ours)

    def test_outlets_are_listed_and_unknown_ones_named(self):
        self.assertIn("audiobook-retail", self.run_("outlets")[1])
        status, _, err = self.run_("check", self.take, "--outlet", "nowhere")
        self.assertEqual(status, 1)
        self.assertIn("no outlet called “nowhere”", err)

    def test_the_core_s_commands_need_no_database_and_no_django(self):
        code = "import sys; from sermovox.cli import main; main(['outlets']); sys.exit('django' in sys.modules)"
        self.assertEqual(subprocess.run([sys.executable, "-c", code], capture_output=True).returncode, 0)


class Desk(AppTestCase):
    """The commands that work on productions."""

    def test_recordings_are_added_by_the_production_s_key(self):
        take, bad = written(self.folder, speech(seconds=3), name="in.wav"), self.folder / "bad.wav"
        bad.write_text("no sound")
        self.assertIn(f"{self.production.key:40} Salt and Cedar", run("productions")[1])
        status, out, err = run("add", take, bad, take, self.folder / "gone.wav", "--production", self.production.key)
        self.assertEqual(status, 1)
        self.assertIn("in.wav is in;", out)
        self.assertIn("in.wav is here already", out)
        self.assertIn("bad.wav: This is not a sound file", err)
        self.assertIn("gone.wav", err)
        self.assertEqual(self.production.sections.get().title, "in")
        self.assertTrue(take.exists())
        status, _, err = run("add", take, "--production", "nowhere")
        self.assertEqual(status, 1)
        self.assertIn(f"There are: {self.production.key}", err)

    def test_verifying_names_what_is_damaged(self):
        recording = self.bring_in().recording
        self.assertEqual(
            run("verify")[:2],
            (
                0,
                (
                    "1 recordings are whole, 0 damaged, 0 missing.\n"
                    "0 finished files are whole, 0 damaged, 0 missing.\n"
                    "1 pictures are whole, 0 damaged, 0 missing.\n"
                    "0 files and folders could be read by others on this machine, and can no more.\n"
                    "1 lengths of sections are right, 0 were wrong and are mended.\n"
                ),
            ),
        )
        recording.path.chmod(0o644)
        recording.path.write_bytes(b"x")
        status, out, _ = run("verify")
        self.assertEqual(status, 1)
        self.assertIn("which is take.wav in Salt and Cedar, is damaged.", out)


@skipUnless(there(), "the prompts and their texts are not installed")
class Words(TestCase):
    """Lines of a human voice whose places are known: Debian's asterisk-core-sounds-en."""

    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        self.take = joined("en", 8, seed=4, left_out_every=4)
        self.file = self.take.write(self.folder / "take.wav")
        self.script = self.folder / "lines.tsv"
        rows = [f"VO_1.{at:03}_Fog\t{text}" for at, text in enumerate(self.take.lines)]
        self.script.write_text("\n".join(rows), "utf-8")

    def test_a_row_for_each_line_and_dashes_where_it_was_not_read(self):
        status, out, err = run("words", self.file, "--script", self.script)
        self.assertEqual((status, err), (0, ""))
        rows = [row.split("\t") for row in out.splitlines()]
        self.assertEqual([row[2] for row in rows], [" ".join(text.split()) for text in self.take.lines])
        self.assertEqual([at for at, row in enumerate(rows) if row[:2] == ["-", "-"]], [3, 7])
        for line, place in self.take.last_whole().items():
            self.assertRegex(rows[line][0], r"^\d+\.\d{3}$")
            self.assertAlmostEqual(float(rows[line][0]), place.start_s, delta=0.1)
            self.assertAlmostEqual(float(rows[line][1]), place.end_s, delta=0.25)

    def test_a_script_cuts_its_lines_under_the_names_the_client_dictates(self):
        status, _, err = run("cut", self.file, "--script", self.script, "--out", self.folder / "lines")
        self.assertEqual(status, 0)
        self.assertEqual(err.count("was not read"), 2)
        read = self.take.last_whole()
        self.assertEqual(sorted(path.name for path in (self.folder / "lines").iterdir()),
                         [f"VO_1.{line:03}_Fog.wav" for line in sorted(read)])  # fmt: skip
        for line, place in read.items():
            with soundfile.SoundFile(self.folder / "lines" / f"VO_1.{line:03}_Fog.wav") as piece:
                spoken_s = place.end_s - place.start_s
                self.assertGreaterEqual(piece.frames / piece.samplerate, spoken_s)
                self.assertLessEqual(piece.frames / piece.samplerate, spoken_s + 0.9)

    def test_another_text_is_refused_and_nothing_is_cut(self):
        other = self.folder / "other.txt"
        other.write_text("\n".join(prompt.text for prompt in prompts("en") if prompt.text not in self.take.lines))
        status, _, err = run("cut", self.file, "--script", other, "--out", self.folder / "lines")
        self.assertEqual(status, 1)
        self.assertIn("Hardly anything that is said in take.wav stands in other.txt.", err)
        self.assertFalse((self.folder / "lines").exists())

    def test_a_script_without_words_and_a_strange_language_are_refused(self):
        empty = self.folder / "empty.txt"
        empty.write_text("\n---\n")
        self.assertIn("There are no words in empty.txt", run("words", self.file, "--script", empty)[2])
        self.assertIn("is not spoken here", run("words", self.file, "--script", self.script, "--language", "tlh-x")[2])
