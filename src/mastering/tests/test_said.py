"""Sentences as values: English by themselves, any language when spoken, the same after they were kept."""

import json
import pickle
from copy import deepcopy
from unittest import TestCase

import numpy as np

from mastering import said
from mastering.outlets.demands import Named, Range
from mastering.said import Said, UnknownSentence, both, either, figured, plain, revived, speak, together, within, word

PASSED = Said("nothing-below-hz", rumble_hz=80.0)


class Sentences(TestCase):
    def test_a_sentence_is_english_wherever_only_text_is_wanted(self):
        self.assertEqual(PASSED, "nothing below 80 Hz")
        self.assertEqual(f"It says: {PASSED}", "It says: nothing below 80 Hz")
        self.assertEqual({PASSED: 1}["nothing below 80 Hz"], 1)

    def test_it_stays_a_sentence_as_the_text_of_an_error(self):
        error = ValueError(PASSED)
        self.assertEqual(speak(str(error), "de"), "nichts unter 80 Hz")
        self.assertIs(str(PASSED), PASSED)

    def test_numbers_are_written_as_each_language_does_and_names_are_not_touched(self):
        told = Said("comes-to-asks-for", label="Title 2.5", figure=np.float32(-22.53), unit="LUFS", asked="x", why="")
        self.assertEqual(speak(told, "de"), "Title 2.5 kommt auf -22,5 LUFS; der Abnehmer verlangt x. ")
        self.assertEqual(speak(figured("1,200.5 Hz"), "de-AT"), "1.200,5 Hz")
        self.assertEqual(speak("1.5 Salt", "de"), "1.5 Salt")

    def test_one_and_more(self):
        for count, wanted in ((1, "ein Wort hat ein Loch"), (3, "3 Wörter haben ein Loch")):
            self.assertEqual(speak(Said("words-hole", count=count), "de"), wanted)

    def test_sentences_hold_sentences(self):
        told = Said("what-asks-stands-against-one", told=PASSED, rivals=both([PASSED, "Ines"]))
        self.assertIn("nichts unter 80 Hz und Ines", speak(told, "de"))
        self.assertEqual(speak(either(["a", "b", PASSED]), "fr"), f"a, b ou {speak(PASSED, 'fr')}")
        self.assertEqual(either([PASSED]), PASSED)
        self.assertEqual(speak(together([PASSED, "Ines"], "; ") + ".", "de"), "nichts unter 80 Hz; Ines.")
        self.assertEqual(speak("Ines: " + PASSED, "de"), "Ines: nichts unter 80 Hz")

    def test_a_label_within_a_sentence_keeps_its_capital_where_the_language_wants_it(self):
        label = Said("hush-label")
        self.assertEqual(within(label), str.lower(label))
        self.assertEqual(speak(within(label), "de"), speak(label, "de"))
        self.assertEqual(speak(within(label), "es"), speak(label, "es").lower())

    def test_what_the_code_calls_something_is_a_word_and_what_people_write_is_not(self):
        self.assertEqual(speak(word("joint stereo"), "de"), "Joint Stereo")
        self.assertEqual(word("Salt and Cedar"), "Salt and Cedar")
        self.assertNotIsInstance(word("Salt and Cedar"), Said)
        self.assertNotIsInstance(word("nothing-below-hz"), Said, "a key is no word")

    def test_demands_are_said(self):
        self.assertEqual(speak(Range(low=0.5, high=1).words("s"), "de"), "0,5 bis 1 s")
        self.assertEqual(speak(Range(low=-20, high=-18, target=-19).words("LUFS"), "de"), "-19 ±1 LUFS")
        self.assertEqual(speak(Named((96, 64)).words("kbit/s"), "fr"), "96 ou 64 kbit/s")

    def test_a_language_that_nobody_wrote_is_english(self):
        self.assertEqual(speak(PASSED, "nl"), "nothing below 80 Hz")

    def test_a_key_that_no_catalogue_holds_is_refused(self):
        with self.assertRaises(UnknownSentence):
            Said("nobody-wrote-this")


class Kept(TestCase):
    def test_sentences_come_back_from_json_pickle_and_copies(self):
        every = [
            PASSED,
            Said("words-hole", count=2),
            Said("what-asks-stands-against-one", told=PASSED, rivals=both([PASSED, "Ines"])),
            together([PASSED, "Ines"], "; "),
            figured("-22.5 dBFS"),
            within(Said("hush-label")),
        ]
        for told in every:
            for again in (
                revived(json.loads(json.dumps(plain(told)))),
                pickle.loads(pickle.dumps(told)),
                deepcopy(told),
            ):
                self.assertIsInstance(again, Said)
                self.assertEqual(again, told)
                for language in ("de", "es", "fr"):
                    self.assertEqual(speak(again, language), speak(told, language))
        self.assertEqual(revived(plain({"a": every, "b": (1, None)})), {"a": every, "b": [1, None]})

    def test_a_figure_that_is_no_number_is_kept_all_the_same(self):
        for figure in (float("-inf"), float("nan"), np.float32("inf")):
            told = Said("nothing-below-hz", rumble_hz=figure)
            again = revived(json.loads(json.dumps(plain(told), allow_nan=False)))
            self.assertEqual(again, told)
            self.assertIn(str(figure), speak(again, "de"))

    def test_as_one_line_of_text(self):
        self.assertEqual(speak(said.read(said.written(PASSED)), "de"), "nichts unter 80 Hz")
        for text in ("", "Salt", '{"say": ', '{"say": 3}', '{"say": "nobody-wrote-this"}'):
            self.assertEqual(said.read(text), text)
            self.assertEqual(said.written(text), text)

    def test_one_that_was_written_by_another_version_is_the_english_that_was_written(self):
        kept = plain(PASSED) | {"say": "gone-since"}
        self.assertEqual(revived([kept]), ["nothing below 80 Hz"])
        kept = plain(PASSED) | {"with": {}}
        self.assertEqual(revived(kept), "nothing below 80 Hz")
