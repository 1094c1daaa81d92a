"""Levels in a real browser: rows that open, treatments that answer at once, and hearing before and after."""

import re
import tempfile
from pathlib import Path

from playwright.sync_api import expect

from mastering.tests.signals import speech, written
from sermovox.ui.tests.running import BrowserTestCase


class Levels(BrowserTestCase):
    def open_rows(self):
        self.page.goto("/levels/2/?outlet=audiobook-retail")
        rows = self.page.locator(".levels tbody tr")
        expect(rows).to_have_count(6)
        # The demonstration's own recordings are measured first.
        expect(self.page.locator(".order-head")).to_contain_text(re.compile("cannot meet|will meet"), timeout=240000)
        return rows

    def test_a_noisy_section_is_opened_treated_heard_and_undone(self):
        rows = self.open_rows()
        noisy = rows.filter(has_text="What the Barometer Knew")
        expect(noisy).to_contain_text(re.compile(r"Noise floor by \d+\.\d dB"))
        self.page.keyboard.press("w")
        expect(rows.first).to_contain_text("What the Barometer Knew")
        noisy.locator(".range").click(position={"x": 200, "y": 5})
        expect(self.page).to_have_title(re.compile("^Levels of What the Barometer Knew"))
        expect(self.page.locator(".collisions")).to_contain_text(
            re.compile(r"Hush of \d+ dB or a quieter room would do")
        )

        # What a treatment would do is shown at once, and nothing is kept before that is said.
        self.page.get_by_label("Hush: steady noise down").focus()
        self.page.get_by_label("Hush: steady noise down").select_option("if needed")
        expect(self.page.locator(".steps")).to_contain_text("steady noise 10.0 dB lower")
        expect(self.page.get_by_label("Hush: steady noise down")).to_be_focused()
        self.page.get_by_label("by at most").fill("16")
        expect(self.page.locator(".verdict-passes")).to_contain_text("Meets every level rule of Audiobook retail")
        expect(self.page.locator(".over-time .loud")).to_have_count(0)
        self.page.get_by_role("button", name="Back to how it is").click()
        expect(self.page.locator(".collisions")).to_be_visible()
        expect(self.page.get_by_label("Hush: steady noise down")).to_have_value("never")
        expect(self.page.get_by_role("button", name="Treat it so")).to_be_hidden()
        self.page.reload()
        expect(self.page.locator(".over-time .loud")).not_to_have_count(0)
        self.page.get_by_label("Hush: steady noise down").select_option("if needed")
        self.page.get_by_label("by at most").fill("16")
        expect(self.page.locator(".verdict-passes")).to_be_visible()

        # It is heard within a second, and from the same place the other way.
        self.page.locator(".over-time svg").click(position={"x": 300, "y": 80})
        self.page.keyboard.press("a")
        expect(self.page.locator("[data-hear=after]")).to_have_attribute("aria-pressed", "true", timeout=1500)
        self.page.wait_for_function("Number(document.querySelector('.playing').getAttribute('x1')) > 0")
        self.page.keyboard.press("x")
        expect(self.page.locator("[data-hear=before]")).to_have_attribute("aria-pressed", "true")
        self.page.keyboard.press("b")
        expect(self.page.locator("[data-hear=before]")).to_have_attribute("aria-pressed", "false")

        # Noise is learned from what is picked by keyboard, and all of it is taken back.
        curve = self.page.locator(".over-time svg")
        curve.focus()
        self.page.keyboard.press("Shift+ArrowRight")
        self.page.get_by_role("button", name="Learn it from the selection").click()
        self.page.keyboard.press("t")
        expect(self.page.get_by_role("button", name="Take the quietest stretch")).to_be_visible()
        # htmx takes a moment before it knows the buttons that came in.
        self.page.wait_for_timeout(200)
        self.page.keyboard.press("u")
        said = "hush if needed, hush of 16 dB, noise learned from a place"
        expect(self.page.locator("#plan .said")).to_contain_text(f"Undone: Treat “What the Barometer Knew”: {said}")
        expect(self.page.locator(".collisions")).to_be_visible()

    def test_several_are_treated_together(self):
        rows = self.open_rows()
        for at in (0, 1):
            rows.nth(at).get_by_role("checkbox").check()
        self.page.locator("#treat [name=together]").select_option("one for the set")
        self.page.get_by_role("button", name="Apply").click()
        expect(self.page.locator("#rows .said")).to_contain_text("2 sections are treated: one gain for the set")
        gains = [rows.nth(at).locator("td").nth(4).inner_text() for at in (0, 1)]
        self.assertEqual(gains[0], gains[1])
        expect(rows.nth(0)).to_contain_text("set")
        expect(rows.nth(0).get_by_role("checkbox")).to_be_checked()
        self.page.keyboard.press("u")
        expect(self.page.locator("#rows .said")).to_contain_text("Undone: Treat 2 sections")

    def test_a_whole_book_is_told_by_pointing_and_ticked_by_dragging(self):
        page = self.page
        self.open_rows()
        expect(page.locator(".column")).to_have_count(6)
        with tempfile.TemporaryDirectory() as folder:
            takes = [written(Path(folder), speech(seconds=3, seed=n), name=f"{n} winter.wav") for n in range(1, 9)]
            page.goto("/productions/new/")
            page.get_by_label("Title", exact=True).fill("Eight Winters")
            page.get_by_role("button", name="Begin").click()
            page.get_by_label("Recordings to bring in").set_input_files([str(path) for path in takes])
            expect(page.locator("#rows a.title")).to_have_count(8, timeout=60000)
        page.goto(page.url.split("?")[0].replace("productions", "levels"))
        columns = page.locator(".column")
        expect(columns).to_have_count(8, timeout=60000)
        expect(page.locator(".order-head")).to_contain_text(re.compile("cannot meet|will meet"), timeout=60000)
        columns.nth(2).hover()
        expect(page.locator("#column-said")).to_contain_text(re.compile(r"^3\. .*LUFS|^3\. .*dBFS"))
        spots = [columns.nth(at).locator(".ground").bounding_box() for at in (1, 4)]
        for at, box in enumerate(spots):
            page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 60, steps=6)
            if at == 0:
                page.mouse.down()
        page.mouse.up()
        ticked = page.locator("#rows tbody [name=section]:checked")
        expect(ticked).to_have_count(4)
        expect(page.locator(".column.ticked")).to_have_count(4)
        # By keys the same: to the next column, ticked and opened.
        page.locator(".columns-of").focus()
        for key in ("End", " "):
            page.keyboard.press(key)
        expect(ticked).to_have_count(5)
        self.assert_accessible(page)
        page.keyboard.press("Enter")
        expect(page).to_have_title(re.compile("^Levels of 8|^Levels of .*[Ww]inter"))
