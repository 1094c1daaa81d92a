"""The pattern language, what is wrong with names, pairing by name, renaming, and the examples in the documentation."""

import doctest
import importlib
import os
import pkgutil
import tempfile
from pathlib import Path
from unittest import TestCase, mock

import mastering
from mastering.naming.checks import check_names, numbered, with_ending
from mastering.naming.pairing import Target, pair, pair_best
from mastering.naming.patterns import FIELDS, FUNCTIONS, BadPattern, facts_of, plain, read_pattern
from mastering.naming.renaming import CannotRename, new_names, read_map, rename_all, take_back_broken_off
from mastering.outlets.outlet import DEFAULT_NAMES


def names(pattern: str, *sections: dict) -> list[str]:
    return [read_pattern(pattern).name(facts) for facts in facts_of(sections)]


class Patterns(TestCase):
    def test_fields_functions_and_free_text(self):
        section = {"place": 3, "title": "Blåbær & Fog", "author": "R. Ames", "number": None}
        for pattern, name in (
            ("{place}_{title}", "3_Blåbær & Fog"),
            ("{place|pad:3}-{title|plain|lower|join:-}", "003-blabaer-fog"),
            ("{title|upper|join:_}", "BLÅBÆR_FOG"),
            ("{author|join}", "R-Ames"),
            ("{title|most:4}", "Blåb"),
            ("ch[ {number}]{place}", "ch3"),
            ("{{x}} [[y]]", "{x} [y]"),
            ("{author|lower|capitals}", "R. Ames"),
        ):
            with self.subTest(pattern):
                self.assertEqual(names(pattern, section)[0], name)

    def test_every_field_and_every_function_can_be_used(self):
        for field in FIELDS:
            self.assertEqual(names(f"{{{field}}}", {field: "7"}), ["7"])
        for function in FUNCTIONS:
            self.assertTrue(names(f"{{title|{function}{':5' if function == 'most' else ''}}}", {"title": "salt"})[0])

    def test_numbers_are_padded_to_what_the_book_needs(self):
        made = names("{place|pad}", *({"place": n} for n in range(1, 121)))
        self.assertEqual((made[0], made[119]), ("001", "120"))
        self.assertEqual(made, sorted(made))

    def test_what_is_wrong_is_said(self):
        for pattern, said in (
            ("{titel}", "no field {titel}. Did you mean title"),
            ("{title|uper}", "no function “uper”. Did you mean upper"),
            ("{title", "no partner"),
            ("title}", "no partner"),
            ("[x", r"\[ without a \]"),
            ("x]", r"\] without a \["),
            ("{title|most:nine}", "wants a number"),
            ("{title|most}", "wants a number"),
        ):
            with self.subTest(pattern), self.assertRaisesRegex(BadPattern, said):
                read_pattern(pattern)

    def test_titles_become_safe_words_and_never_a_path(self):
        for title, name in (
            ("Chapter 1: The Keeper’s Wife", "01-chapter-1-the-keepers-wife"),
            ("../../etc/passwd", "01-etc-passwd"),
            ('a/b\\c:"d"|<e>?*', "01-a-b-c-d-e"),
            ("Ærø, blåbær und Größe", "01-aero-blabaer-und-grosse"),
            ("Глава первая", "01-глава-первая"),
            ("हिन्दी पाठ", "01-हिन्दी-पाठ"),
            ("🎙️🎧", "01"),
            ("x" * 300, "01-" + "x" * 60),
            ("two\nlines\there", "01-two-lines-here"),
        ):
            self.assertEqual(names(DEFAULT_NAMES, {"place": 1, "title": title}), [name])

    def test_accents_go_from_latin_and_greek_only(self):
        self.assertEqual(plain("Ångström Łódź ñ ß Ήλιος"), "Angstrom Lodz n ss Ηλιος")
        self.assertEqual(plain("й が"), "й が")


class Checks(TestCase):
    def told(self, *given: str, extension: str | None = None) -> dict[int, list[str]]:
        found: dict[int, list[str]] = {}
        for problem in check_names(given, extensions=[extension] * len(given) if extension else None):
            found.setdefault(problem.index, []).append(("grave: " if problem.grave else "remark: ") + problem.words)
        return found

    def test_good_names_have_no_problems(self):
        self.assertEqual(self.told("01-salt.mp3", "02-cedar.mp3", extension="mp3"), {})

    def test_two_files_with_one_name(self):
        self.assertIn("the same name", self.told("a.wav", "a.wav")[1][0])
        self.assertIn("only in case", self.told("Salt.wav", "salt.WAV")[1][0])
        self.assertIn("how it is coded", self.told("café.wav", "cafe\u0301.wav")[1][0])

    def test_what_a_system_refuses(self):
        # Windows, macOS, Linux, FTP and URL rules: see the sources named in mastering/naming/checks.py, from memory.
        for name, said in (
            ("a:b.wav", "grave: Windows refuses :"),
            ('say "so".wav', "grave: Windows refuses"),
            ("a/b.wav", "grave: A slash"),
            ("CON.wav", "grave: Windows keeps"),
            ("lpt1.final.wav", "grave: Windows keeps"),
            ("salt .", "grave: Windows drops"),
            ("salt.wav ", "grave: Windows drops"),
            ("tab\there.wav", "grave: There is a sign in it that cannot be seen"),
            ("rtl\u202egnp.wav", "grave: There is a sign in it that cannot be seen"),
            (".wav", "grave: It begins with a full stop"),
            ("", "grave: There is no name"),
            ("x" * 252 + ".wav", "grave: It is longer than the 255 bytes"),
            ("ж" * 130 + ".wav", "grave: It is longer than the 255 bytes"),
            ("жук.wav", "remark: Some FTP servers"),
            ("two words.wav", "remark: Web addresses"),
            ("-rf.wav", "remark: A hyphen in front"),
        ):
            with self.subTest(name):
                self.assertTrue(any(told.startswith(said) for told in self.told(name).get(0, [])), self.told(name))

    def test_names_that_would_not_sort_and_the_padding_that_mends_it(self):
        problems = check_names([f"{n}-x.mp3" for n in (1, 2, 10)])
        self.assertEqual([p.index for p in problems], [2])
        self.assertIn("before “2-x.mp3”", problems[0].words)
        self.assertIn("2 digits", problems[0].mend)
        self.assertFalse(problems[0].grave)
        self.assertIn("Begin with {place|pad}", check_names(["salt.mp3", "cedar.mp3"])[0].mend)

    def test_an_ending_against_the_format(self):
        self.assertIn("takes .mp3", self.told("take.wav", extension="mp3")[0][0])
        self.assertEqual(self.told("Dr. No.mp3", extension="mp3").get(0, [""])[0][:6], "remark")
        self.assertEqual(with_ending("Dr. No", "mp3"), "Dr. No.mp3")
        self.assertEqual(with_ending("take.WAV", "wav"), "take.WAV")

    def test_a_name_that_is_taken_is_numbered(self):
        self.assertEqual(numbered("a.mp3", {"a.mp3", "a-2.mp3"}), "a-3.mp3")
        self.assertEqual(numbered("A.mp3", {"a.mp3"}), "A-2.mp3")

    def test_a_thousand_names_are_checked_at_once(self):
        given = [f"{n:04}-{'word-' * 8}.mp3" for n in range(1000)]
        self.assertEqual(check_names(given, extensions=["mp3"] * 1000), [])


class Pairing(TestCase):
    BOOK = [
        Target(1, None, "Opening credits", "opening credits"),
        Target(2, 1, "Salt", "chapter"),
        Target(3, 2, "Cedar", "chapter"),
        Target(4, 10, "The Keeper’s Wife", "chapter"),
    ]

    def test_by_number_the_one_that_tells_files_apart(self):
        found = pair(["2026-03 ch 10 t2.wav", "2026-03 ch 1 t1.wav", "2026-03 ch 2 t4.wav"], self.BOOK, "number")
        self.assertEqual(found, {1: 1, 2: 2, 3: 0})

    def test_by_number_in_the_dictated_name(self):
        lines = [Target(n, None, "…", "line", f"wb_toll_0{n}0") for n in (1, 2, 3)]
        self.assertEqual(pair(["toll 30 take 2.wav", "toll 10 take 3.wav"], lines, "number"), {0: 1, 2: 0})

    def test_a_number_twice_pairs_nothing(self):
        self.assertEqual(pair(["ch 1 a.wav", "ch 1 b.wav", "ch 2.wav"], self.BOOK, "number"), {2: 2})

    def test_by_likeness(self):
        found = pair(
            ["keepers_wife_FINAL.wav", "cedar (edited).wav", "opening.wav", "thunder.wav"], self.BOOK, "similar"
        )
        self.assertEqual(found, {3: 0, 2: 1, 0: 2})

    def test_in_sorted_order_ten_comes_after_nine(self):
        found = pair(["b10.wav", "b9.wav", "b1.wav"], self.BOOK, "order")
        self.assertEqual(found, {0: 2, 1: 1, 2: 0})

    def test_the_way_that_pairs_most_is_proposed(self):
        self.assertEqual(pair_best(["1.wav", "2.wav", "10.wav"], self.BOOK)[0], "number")
        self.assertEqual(pair_best(["salt.wav", "cedar.wav", "opening credits.wav"], self.BOOK)[0], "similar")
        self.assertEqual(pair_best(["qx.wav", "zz.wav", "yy.wav", "ww.wav"], self.BOOK)[0], "order")
        self.assertEqual(pair([], self.BOOK, "similar"), {})


class Renaming(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        for name in ("a.wav", "b.wav", "c.wav"):
            (self.folder / name).write_text(name)

    def moves(self, *pairs):
        return [(self.folder / old, self.folder / new) for old, new in pairs]

    def found(self) -> dict[str, str]:
        return {path.name: path.read_text() for path in self.folder.iterdir()}

    def test_names_change_places(self):
        rename_all(self.moves(("a.wav", "b.wav"), ("b.wav", "a.wav"), ("c.wav", "C.wav")))
        self.assertEqual(self.found(), {"a.wav": "b.wav", "b.wav": "a.wav", "C.wav": "c.wav"})

    def test_a_name_in_the_way_leaves_everything_as_it_was(self):
        with self.assertRaisesRegex(CannotRename, "already"):
            rename_all(self.moves(("a.wav", "x.wav"), ("b.wav", "c.wav")))
        self.assertEqual(set(self.found()), {"a.wav", "b.wav", "c.wav"})

    def test_a_disk_that_refuses_in_the_middle_leaves_everything_as_it_was(self):
        with self.assertRaisesRegex(CannotRename, "as before"):
            rename_all(self.moves(("a.wav", "x.wav"), ("b.wav", "nowhere/b.wav")))
        self.assertEqual(self.found(), {name: name for name in ("a.wav", "b.wav", "c.wav")})

    def test_one_broken_off_anywhere_gives_the_old_names_back(self):
        names = {name: name for name in ("a.wav", "b.wav", "c.wav")}
        really = os.rename
        for steps in range(6):
            for moves in (
                (("a.wav", "b.wav"), ("b.wav", "c.wav"), ("c.wav", "a.wav")),
                (("a.wav", "b.wav"), ("b.wav", "c.wav"), ("c.wav", "d.wav")),
            ):
                outcomes = iter([really] * steps)

                def rename(old, new, outcomes=outcomes):
                    next(outcomes)(old, new)

                with mock.patch("mastering.naming.renaming.os.rename", rename), self.assertRaises(StopIteration):
                    rename_all(self.moves(*moves))
                self.assertIn("have their old names back", take_back_broken_off(self.folder))
                self.assertEqual(self.found(), names, (steps, moves))
        self.assertEqual(take_back_broken_off(self.folder), "")

    def test_a_map_that_does_not_fit_says_what_is_wrong(self):
        listed = ["a.wav", "b.wav"]
        for pairs, said in (
            ([("a.wav", "1.wav"), ("x.wav", "2.wav")], "There is no file"),
            ([("a.wav", "1.wav"), ("a.wav", "2.wav")], "a.wav.* twice"),
            ([("a.wav", "b.wav")], "same name"),
            ([("a.wav", "a:b.wav")], "Windows refuses"),
            ([("a.wav", "a.mp3")], "ending"),
        ):
            with self.subTest(said), self.assertRaisesRegex(CannotRename, said):
                new_names(listed, pairs)
        self.assertEqual(new_names(listed, [("b.wav", "c.wav")]), ["a.wav", "c.wav"])

    def test_a_map_is_read_with_headings_or_without(self):
        for text in ("Old name;New name\na.wav;b.wav", "old\tnew\na.wav\tb.wav", "a.wav,b.wav\n\n"):
            with self.subTest(text):
                self.assertEqual(read_map(text), [("a.wav", "b.wav")])
        for text, said in (("", "empty"), ("old name,new name\n", "empty"), ("old,new\na.wav,b.wav\nc.wav,", "Line 3")):
            with self.subTest(text), self.assertRaisesRegex(CannotRename, said):
                read_map(text)


class Examples(TestCase):
    def test_the_examples_in_the_documentation_run(self):
        for module in pkgutil.walk_packages(mastering.__path__, "mastering."):
            if ".tests" not in module.name:
                found = doctest.testmod(importlib.import_module(module.name))
                self.assertEqual(found.failed, 0, module.name)
