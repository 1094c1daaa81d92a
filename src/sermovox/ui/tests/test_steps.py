"""What somebody does in a working week, in the browser, with every step counted: a step is a click, a key, a drop, or
one thing typed. Waiting for the machine is none.
"""

import base64
import re
import tempfile
from pathlib import Path

import numpy as np
from playwright.sync_api import expect

from mastering.tests.signals import noise, speech, written
from sermovox.ui.tests.running import BrowserTestCase

_DROP = """([names, bytes, on]) => {
    const files = new DataTransfer();
    const content = (text) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
    names.forEach((name, at) => files.items.add(new File([content(bytes[at])], name)));
    const target = on ? document.querySelector(on) : document.body;
    for (const type of ["dragover", "drop"]) {
        target.dispatchEvent(new DragEvent(type, { dataTransfer: files, bubbles: true, cancelable: true }));
    }
}"""


class Steps(BrowserTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        kept = tempfile.TemporaryDirectory()
        cls.addClassCleanup(kept.cleanup)
        cls.folder = Path(kept.name)

    def setUp(self):
        super().setUp()
        self.steps = 0

    def click(self, role: str, name: str) -> None:
        self.steps += 1
        self.page.get_by_role(role, name=name).click()

    def press(self, key: str) -> None:
        self.steps += 1
        self.page.keyboard.press(key)

    def drop(self, *paths: Path, on: str = "") -> None:
        """Drop files somewhere on the page, or onto something."""
        self.steps += 1
        bytes_64 = [base64.b64encode(path.read_bytes()).decode() for path in paths]
        self.page.evaluate(_DROP, [[path.name for path in paths], bytes_64, on])

    def take(self, name: str, *, seed: int = 3, seconds: float = 5, samples: np.ndarray | None = None) -> Path:
        samples = speech(seconds=seconds, seed=seed, rate_hz=22050) if samples is None else samples
        return written(self.folder, samples, 22050, name)

    def expect_ready(self, count: int) -> None:
        expect(self.page.locator("#rows input[name=section]:enabled")).to_have_count(count, timeout=60000)

    def test_a_broken_line_is_said_and_what_was_dropped_begins_once_it_is_back(self):
        self.page.goto("/")
        self.page.context.set_offline(True)
        self.drop(self.take("Rowan.wav"))
        expect(self.page.locator("#begin-said")).to_contain_text("Nothing was begun")
        self.page.context.set_offline(False)
        self.drop(self.take("Rowan.wav"))
        expect(self.page.get_by_role("heading", name="Rowan")).to_be_visible()

    def test_on_a_phone_a_place_is_marked_where_it_was_heard(self):
        self.page = self.new_page(viewport={"width": 390, "height": 844}, has_touch=True)
        self.page.goto("/")
        self.drop(self.take("Larch.wav", seconds=30))
        self.expect_ready(1)
        self.page.locator("#rows .title").first.tap()
        self.page.get_by_role("button", name="Play", exact=True).tap()
        clock = self.page.locator("[data-clock]")
        expect(clock).to_have_text(re.compile("^0:0[1-9] of"))
        self.page.get_by_role("button", name="Mark this place").tap()
        expect(clock).to_have_text(re.compile("^Mark the place 0:"))
        self.page.keyboard.press("e")
        expect(self.page.locator("#contents .is-mark")).to_have_count(1)

    def test_the_next_episode_of_a_series_for_two_outlets(self):
        self.page.goto("/productions/new/")
        self.page.keyboard.type("The Tern Hour 11")
        self.page.keyboard.press("Enter")
        self.page.get_by_label("Recordings to bring in").set_input_files([str(self.take("ep 11 - Terns.flac"))])
        self.expect_ready(1)
        for outlet in ("Volunteer reading archive", "Community radio playout"):
            self.page.get_by_role("checkbox", name=outlet).check()
        self.page.keyboard.press("m")
        expect(self.page.locator("#run[data-running=no]")).to_be_visible(timeout=60000)
        self.page.goto("/")

        self.steps = 0
        self.click("button", "Another like this: The Tern Hour 11")
        expect(self.page.get_by_role("heading", name="The Tern Hour 12")).to_be_visible()
        self.drop(self.take("tonight.flac", seed=8))
        self.expect_ready(1)
        expect(self.page.locator("#rows tbody")).to_contain_text("episode 12")
        self.press(";")
        expect(self.page.locator("#run[data-running=no]")).to_be_visible(timeout=60000)
        self.assertLessEqual(self.steps, 4)
        order = self.page.get_by_role("link", name="The Tern Hour 12").first
        order.click()
        expect(self.page.locator("#rows tbody td[data-outlet][data-done=yes]")).to_have_count(2)

    def test_from_a_failing_noise_floor_to_a_file_that_passes(self):
        self.page.goto("/productions/new/")
        self.page.keyboard.type("A Noisy Room")
        self.page.keyboard.press("Enter")
        samples = speech(seconds=12, peak=0.3, rate_hz=22050) + noise(-62, 12, rate_hz=22050)
        self.page.get_by_label("Recordings to bring in").set_input_files(
            [str(self.take("noisy.flac", samples=samples))]
        )
        self.expect_ready(1)
        self.page.get_by_role("checkbox", name="Audiobook retail").check()
        self.page.keyboard.press("m")
        expect(self.page.locator("#run[data-running=no]")).to_be_visible(timeout=60000)
        self.page.locator("#run tbody a").first.click()
        expect(self.page.locator("h1 + .byline")).to_contain_text("fails")

        self.steps = 0
        self.click("button", "Hear it so first")
        hear = self.page.get_by_role("button", name="Hear it so first")
        expect(hear).to_have_attribute("aria-pressed", "true")
        self.click("button", "and make it again")
        expect(self.page.locator("#run[data-running=no]")).to_be_visible(timeout=60000)
        made = self.page.locator("#run tbody tr").filter(has_text="01-noisy")
        expect(made).to_contain_text("passes")
        self.assertLessEqual(self.steps, 2)

    def test_a_book_of_named_files_from_dropping_them_to_its_order_and_a_chapter_recorded_again(self):
        names = [
            "Reed - ch 1.flac",
            "Reed - ch 2 The Weir.flac",
            "Reed - closing credits.flac",
            "Reed - opening credits.flac",
        ]
        self.page.goto("/")
        self.drop(*(self.take(name, seed=20 + at, seconds=4) for at, name in enumerate(names)))
        expect(self.page.get_by_role("heading", name="Reed", exact=True)).to_be_visible()
        self.expect_ready(4)
        titles = self.page.locator("#rows a.title")
        expect(titles).to_have_text(["Opening credits", "Chapter 1", "The Weir", "Closing credits"])
        expect(self.page.locator("#rows")).to_contain_text("4 sections took role, number and title")
        self.assertEqual(self.steps, 1, "no row was edited")
        self.page.keyboard.press("u")
        expect(titles).to_have_text([name.removesuffix(".flac") for name in names])
        self.page.keyboard.press("u")
        expect(titles.first).to_have_text("Opening credits")

        # A chapter is recorded again.
        self.steps = 0
        row = self.page.locator("#rows tr").filter(has_text="The Weir")
        section = row.get_attribute("data-section")
        self.drop(self.take("weir again.flac", seed=41), on=f"tr[data-section='{section}']")
        asked = self.page.get_by_role("dialog")
        expect(asked).to_contain_text("Replace the recording of “The Weir”?")
        self.assertEqual(self.steps, 1)
        self.page.keyboard.press("m")  # no key of the page acts behind the question
        self.assertTrue(asked.is_visible())
        asked.get_by_role("button", name="Replace it").click()
        expect(row).to_contain_text("weir again.flac")
        expect(self.page.locator("#tray")).to_contain_text("Reed - ch 2 The Weir")
        self.page.keyboard.press("u")
        expect(row).to_contain_text("Reed - ch 2 The Weir")

    def test_one_long_take_for_many_lines_leads_to_its_page(self):
        self.page.goto("/productions/new/")
        self.page.keyboard.type("Forty Lines")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="Forty Lines")).to_be_visible()
        self.page.keyboard.press("w")
        self.page.get_by_label("The text", exact=True).fill("\n".join(f"Line number {n}" for n in range(40)))
        self.page.get_by_role("button", name="Make 40 sections").click()
        self.page.get_by_label("Recordings to bring in").set_input_files([str(self.take("session.flac"))])
        expect(self.page.locator(".next-step")).to_contain_text("cut it on its page", timeout=60000)
        self.press(";")
        expect(self.page).to_have_url(re.compile("/cutting/"))
        self.assertEqual(self.steps, 1)
