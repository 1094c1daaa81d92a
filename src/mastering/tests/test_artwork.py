"""Pictures: what is one, what is said of it, and what an outlet gets."""

import io
import random
from unittest import TestCase

from PIL import Image

from mastering.outlets.rulesheets import shipped
from mastering.tagging.artwork import ArtworkRule, BadArtwork, fitted, inspect, obstacles, remarks

RULE = ArtworkRule(at_least_px=600, at_most_px=1200, at_most_bytes=500_000, source="test")


def picture(width=1600, height=1600, *, mode="RGB", form="PNG", busy=False, **options) -> bytes:
    made = Image.new(mode, (width, height), 255 if mode in ("L", "P", "1") else None)
    if busy:
        made = Image.frombytes("RGB", (width, height), random.Random(1).randbytes(3 * width * height))
    kept = io.BytesIO()
    made.save(kept, form, **options)
    return kept.getvalue()


class Looking(TestCase):
    def test_size_colour_and_weight(self):
        data = picture(800, 600, form="JPEG")
        facts = inspect(data)
        self.assertEqual((facts.format, facts.width_px, facts.height_px, facts.colour), ("JPEG", 800, 600, "colour"))
        self.assertEqual(facts.size_bytes, len(data))

    def test_what_a_producer_should_know_is_said(self):
        for data, said in (
            (picture(800, 600), "Not square: 800 × 600"),
            (picture(300, 300), "Small"),
            (picture(mode="CMYK", form="JPEG"), "printing colours"),
            (picture(mode="RGBA"), "see-through"),
        ):
            with self.subTest(said):
                self.assertIn(said, " ".join(remarks(inspect(data))))
        self.assertEqual(remarks(inspect(picture())), ())

    def test_what_is_no_picture_is_refused(self):
        moving = io.BytesIO()
        frames = [Image.new("RGB", (50, 50), colour) for colour in ("red", "blue")]
        frames[0].save(moving, "PNG", save_all=True, append_images=frames[1:])
        svg = b'<svg xmlns="http://www.w3.org/2000/svg"><script>alert(1)</script></svg>'
        for data, said in (
            (b"no picture at all", "not a picture in JPEG or PNG"),
            (b"", "not a picture"),
            (svg, "not a picture"),
            (picture(form="GIF"), "not a picture in JPEG or PNG"),
            (picture(busy=True)[:20_000], "stops in the middle"),
            (moving.getvalue(), "moves"),
            (picture(20_000, 20_000, mode="1"), "more pixels than any outlet takes"),
            (picture(9000, 9000, mode="1"), "9000 × 9000 pixels are more than any"),
            (b"\xff\xd8" + b"\0" * (33 << 20), "more than 32 MiB"),
        ):
            with self.subTest(said), self.assertRaisesRegex(BadArtwork, said):
                inspect(data)


class Fitting(TestCase):
    def test_it_becomes_a_light_square_jpeg_and_is_never_enlarged(self):
        for side, wanted in ((1600, 1200), (900, 900)):
            facts = inspect(fitted(picture(side, side, busy=True), RULE))
            self.assertEqual((facts.format, facts.width_px, facts.height_px), ("JPEG", wanted, wanted))
            self.assertLessEqual(facts.size_bytes, RULE.at_most_bytes)

    def test_what_cannot_fit_says_why(self):
        for data, said in ((picture(1600, 900), "not square"), (picture(300, 300), "not enlarged")):
            self.assertIn(said, obstacles(inspect(data), RULE))
            with self.assertRaisesRegex(BadArtwork, said):
                fitted(data, RULE)
        tight = ArtworkRule(at_least_px=600, at_most_px=1200, at_most_bytes=20_000, source="test")
        with self.assertRaisesRegex(BadArtwork, "less detail"):
            fitted(picture(busy=True), tight)

    def test_colours_of_every_kind_become_rgb_on_white(self):
        for mode, form in (("RGBA", "PNG"), ("P", "PNG"), ("L", "PNG"), ("1", "PNG"), ("CMYK", "JPEG"), ("LA", "PNG")):
            with (
                self.subTest(mode),
                Image.open(io.BytesIO(fitted(picture(700, 700, mode=mode, form=form), RULE))) as made,
            ):
                self.assertEqual((made.mode, made.size), ("RGB", (700, 700)))
        with Image.open(io.BytesIO(fitted(picture(700, 700, mode="RGBA"), RULE))) as made:
            self.assertEqual(made.getpixel((5, 5)), (255, 255, 255))

    def test_an_outlet_may_ask_for_a_picture(self):
        rule = shipped()["podcast-host"].artwork
        self.assertEqual((rule.at_least_px, rule.at_most_px), (600, 1200))
        self.assertTrue(rule.source)
        self.assertIsNone(shipped()["radio-playout"].artwork)
