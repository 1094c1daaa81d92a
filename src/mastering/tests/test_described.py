"""What file names say of sections. The names are ways of naming that narrators use: common practice, no source."""

from unittest import TestCase

from mastering.editing.roles import ROLE_WORDS, ROLES, rank_of
from mastering.naming.described import described

# Name: role, number, part and title that are meant.
_SAID = {
    "ch 1.wav": ("chapter", 1, None, "Chapter 1"),
    "ch01.wav": ("chapter", 1, None, "Chapter 1"),
    "Chapter_01_The Ford.wav": ("chapter", 1, None, "The Ford"),
    "CH-02-the-ford.aiff": ("chapter", 2, None, "the ford"),
    "Chapter IV.wav": ("chapter", 4, None, "Chapter 4"),
    "Salt and Cedar - 07 - Chapter Six - Fog.wav": ("chapter", 6, None, "Fog"),
    "Salt_and_Cedar-ch-03.wav": ("chapter", 3, None, "Chapter 3"),
    "ch 2 pt.2 - The end.wav": ("chapter", 2, 2, "The end"),
    "opening credits.wav": ("opening credits", None, None, "Opening credits"),
    "01 Opening Credits.wav": ("opening credits", None, None, "Opening credits"),
    "15_closing.wav": ("closing credits", None, None, "Closing"),
    "retail sample.mp3": ("sample", None, None, "Retail sample"),
    "Kap. 3.wav": ("chapter", 3, None, "Kapitel 3"),
    "kapitel_08_die_furt.wav": ("chapter", 8, None, "die furt"),
    "chapitre 4 - Le gué.flac": ("chapter", 4, None, "Le gué"),
    "Capítulo 7.wav": ("chapter", 7, None, "Capítulo 7"),
    "hoofdstuk 2.wav": ("chapter", 2, None, "Hoofdstuk 2"),
    "Vorwort.wav": ("foreword", None, None, "Vorwort"),
    "Folge 12 Nebel.wav": ("episode", 12, None, "Nebel"),
    "Ep 12 Fog.wav": ("episode", 12, None, "Fog"),
    "04 - The Ford.wav": (None, 4, None, "The Ford"),
    "01_first.wav": (None, 1, None, "first"),
}
# Names with words of revision, and what is left of them.
_REVISED = {
    "Episode 12 final.wav": ("episode", 12, "Episode 12"),
    "Ep 12 Fog v2.wav": ("episode", 12, "Fog"),
    "03_Kapitel_02_Die_Furt_neu.wav": ("chapter", 2, "Die Furt"),
    "ch 5 retake.wav": ("chapter", 5, "Chapter 5"),
    "Chapter 7 The Weir LONG.wav": ("chapter", 7, "The Weir"),
    "chapter_08 - The Lock (1).wav": ("chapter", 8, "The Lock"),
    "2026-03-01 Episode 4 Herons.wav": ("episode", 4, "Herons"),
    "Ch 9 The Bank 20260301.wav": ("chapter", 9, "The Bank"),
    "04 - The Ford take 3 FINAL (2).wav": (None, 4, "The Ford"),
    "Ch 2 The Final.wav": ("chapter", 2, "The Final"),
    "Chapter 3 Something New.wav": ("chapter", 3, "Something New"),
    "The Long Way.wav": (None, None, "The Long Way"),
    "Version 2.5.wav": (None, None, "Version 2.5"),
}
# Names that look as if they said something and do not.
_NOT_SAID = {
    "chair.wav": "chair",
    "chi-rho.wav": "chi rho",
    "captain.wav": "captain",
    "line dancing.wav": "line dancing",
    "Opening tune.wav": "Opening tune",
    "Introduction to trees.wav": "Introduction to trees",
    "3 little pigs.wav": "3 little pigs",
    "Chapter 12b.wav": "Chapter 12b",
    "2026-03-01 take.wav": "2026-03-01 take",
    "20260301.wav": "20260301",
    "take 3.wav": "take 3",
    "part 1.wav": "part 1",
    "salt and cedar.wav": "salt and cedar",
    "....wav": "Untitled",
    "": "Untitled",
}


class Described(TestCase):
    def test_role_number_part_and_title_are_read_in_many_ways_of_writing(self):
        for name, said in _SAID.items():
            with self.subTest(name):
                read = described(name, production="Salt and Cedar")
                self.assertEqual((read.role, read.number, read.part, read.title), said)

    def test_words_of_revision_are_no_titles_and_titles_are_not_taken_for_them(self):
        for name, said in _REVISED.items():
            with self.subTest(name):
                read = described(name)
                self.assertEqual((read.role, read.number, read.title), said)

    def test_what_says_nothing_is_a_title(self):
        for name, title in _NOT_SAID.items():
            with self.subTest(name):
                read = described(name, production="Salt and Cedar")
                self.assertFalse(read.is_more_than_a_title)
                self.assertEqual(read.title, title)

    def test_every_word_stands_for_a_role_and_credits_stand_at_the_ends(self):
        self.assertLessEqual(set(ROLE_WORDS.values()), set(ROLES))
        order = sorted(
            ["sample", "chapter", "closing credits", "foreword", "opening credits", "afterword"], key=rank_of
        )
        wanted = ["opening credits", "foreword", "chapter", "afterword", "closing credits", "sample"]
        self.assertEqual(order, wanted)
