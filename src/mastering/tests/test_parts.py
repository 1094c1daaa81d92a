"""Patterns as rows of parts: what can be put together says the same as what was written."""

from unittest import TestCase

from mastering.naming.parts import AS_NEEDED, EXAMPLES, Part, parts_of, text_of
from mastering.naming.patterns import FIELDS, BadPattern, facts_of, read_pattern


class Parts(TestCase):
    def test_what_is_put_together_reads_as_it_was_written(self):
        for text in (*EXAMPLES, "{title}", "[{number}]", "a[[b]]{{c}}{place}", "{place} - [{title}]", "plain", ""):
            with self.subTest(text=text):
                parts = parts_of(text)
                self.assertEqual(read_pattern(text_of(parts)).parts, read_pattern(text).parts)
                self.assertEqual(parts_of(text_of(parts)), parts)

    def test_each_choice_is_in_the_name(self):
        facts = facts_of([{"place": 7, "title": "Äther und Öl, weit"}, {"place": 112}])[0]
        title = Part(field="title", before="_", plain=True, letters="upper", join="-", most="12")
        for parts, name in (
            ([Part(field="place"), title], "7_ATHER-UND-OL"),
            ([Part(field="place", digits=AS_NEEDED)], "007"),
            ([Part(field="place", digits="5"), Part(field="number", before="x", optional=True)], "00007"),
            ([Part(field="", before="{a}"), Part(field="place")], "{a}7"),
        ):
            self.assertEqual(read_pattern(text_of(parts)).name(facts), name)

    def test_what_says_more_than_parts_can_stays_written(self):
        for text in (
            "{title|upper|lower}",
            "[{title} {number}]",
            "[{title}.]",
            "{title|lower|plain}",
            "[[{title}]]x[a]",
        ):
            self.assertIsNone(parts_of(text), text)
        with self.assertRaises(BadPattern):
            parts_of("{tilte}")

    def test_each_field_is_a_part(self):
        self.assertEqual([parts_of(f"{{{name}}}") for name in FIELDS], [[Part(field=name)] for name in FIELDS])
