"""Stretches of a recording and the sections they go to, so that running order and recording keep step.

Common practice, no source.
"""

from unittest import TestCase

from mastering.editing.giving import Given, Lies, Waits, clash, give, placeholder

FRAMES = 1000


def given(*spans, lying=(), waiting=(), from_end=False) -> Given:
    waits = [Waits(position, position) for position in waiting]
    return give(spans, lying, waits, frames=FRAMES, from_end=from_end)


class Giving(TestCase):
    def test_what_waits_comes_first_in_the_order_of_time(self):
        self.assertEqual(given((500, 600), (0, 100), (200, 300), waiting=(1, 2, 3)).keys, (3, 1, 2))
        self.assertEqual(given((0, 100), (200, 300), waiting=(1, 2, 3)).keys, (1, 2))
        self.assertEqual(given((0, 100), (200, 300), waiting=(1, 2, 3), from_end=True).keys, (2, 3))

    def test_new_ones_follow_those_that_waited_or_precede_them_from_the_end(self):
        self.assertEqual(given((0, 10), (10, 20), (20, 30), waiting=(4,)), Given((4, None, None), None, 4))
        self.assertEqual(given((0, 10), (10, 20), (20, 30), waiting=(4,), from_end=True), Given((None, None, 4), 4))
        self.assertEqual(given((0, 10)), Given((None,), None, None))

    def test_only_what_waits_between_both_sides_is_given_to(self):
        lying = [Lies(2, 2, (100, 200)), Lies(5, 5, (600, 700))]
        self.assertEqual(given((300, 400), lying=lying, waiting=(1, 3, 4, 6)).keys, (3,))
        self.assertEqual(given((300, 400), lying=lying, waiting=(1, 6)), Given((None,), None, 2))
        self.assertEqual(given((0, 50), lying=lying, waiting=(3,)), Given((None,), 2, None))
        # The other way round in the running order, every place is as good.
        turned = [Lies(5, 5, (100, 200)), Lies(2, 2, (600, 700))]
        self.assertEqual(given((300, 400), lying=turned, waiting=(1, 6)).keys, (1,))

    def test_the_place_of_a_recording_that_came_in_alone_is_taken_by_the_first(self):
        alone = [Lies(3, 3, (0, FRAMES), whole=True)]
        self.assertEqual(given((100, 200), (300, 400), lying=alone, waiting=(1, 4)).keys, (3, 4))
        self.assertEqual(given((100, 200), (300, 400), lying=alone), Given((3, None), None, 3))
        self.assertIsNone(placeholder([(0, FRAMES)], alone, FRAMES))
        self.assertIsNone(placeholder([(0, 9)], [*alone, Lies(4, 4, (0, 50))], FRAMES))
        self.assertIsNone(placeholder([(0, 9)], [Lies(3, 3, (0, FRAMES))], FRAMES))

    def test_samples_in_common_are_found_and_edges_are_none(self):
        lying = [Lies(1, 1, (0, 100)), Lies(2, 2, (200, 300))]
        self.assertIsNone(clash([(100, 200)], lying))
        self.assertEqual(clash([(100, 201), (50, 60)], lying), lying[1])
        self.assertEqual(clash([(99, 150)], lying), lying[0])
