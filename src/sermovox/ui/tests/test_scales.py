"""A figure among what is asked, as it is drawn."""

from unittest import TestCase

from sermovox.ui.scales import drawn


def scale(low, high, *figures):
    return drawn({"low": low, "high": high, "figures": figures})


class Scales(TestCase):
    def test_what_is_inside_is_drawn_inside_and_what_is_outside_outside(self):
        for low, high, figure, inside in (
            (-23, -18, -22.5, True),
            (-23, -18, -25, False),
            (None, -60, -70, True),
            (None, -60, -49.1, False),
            (192, None, 192, True),
            (0.5, 1, 3.0, False),
            (None, 0, 0, True),
        ):
            with self.subTest(low=low, high=high, figure=figure):
                found = scale(low, high, figure)
                start, width = found.band
                self.assertEqual(start <= found.figures[0] <= start + width + 0.01, inside)
                self.assertTrue(0 < found.figures[0] < 100)
                self.assertTrue(all(0 < edge < 100 for edge in found.edges))
                self.assertEqual(found.width, 0)

    def test_what_is_open_reaches_the_end(self):
        self.assertEqual(scale(None, -60, -70).band[0], 0.0)
        start, width = scale(192, None, 200).band
        self.assertEqual(start + width, 100.0)

    def test_several_figures_are_a_stretch_from_the_lowest_to_the_highest(self):
        found = scale(96, 160, 64, 192)
        self.assertLess(found.figures[0], found.band[0])
        self.assertGreater(found.figures[1], sum(found.band))
        self.assertGreater(found.width, 50)
