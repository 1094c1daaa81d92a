"""Handing over in a real browser: from how an outlet receives to a receipt, over a line that drops."""

import csv
import io
from pathlib import Path

from playwright.sync_api import expect

from sermovox.standins.station import PASSWORD, USER
from sermovox.ui.tests.running import BrowserTestCase


class Sending(BrowserTestCase):
    def test_a_delivery_arrives_at_the_station_over_a_line_that_drops(self):
        self.page.goto("/outlets/radio-playout/")
        self.page.keyboard.press("r")
        self.page.get_by_label("Server").fill(f"127.0.0.1:{self.running.stand_in_port}")
        self.page.get_by_label("User").fill(USER)
        self.page.get_by_label("Password").fill("wrong")
        self.page.get_by_role("button", name="Save").click()
        expect(self.page.locator(".said")).to_contain_text("receives by FTP")
        self.page.keyboard.press("r")
        expect(self.page.locator("#reached")).to_contain_text(f"does not let “{USER}” in")
        self.page.get_by_label("Password").fill(PASSWORD)
        self.page.get_by_role("button", name="Save").click()
        expect(self.page.locator(".margin")).to_contain_text("kept, encrypted")
        self.page.get_by_role("button", name="Reach it now").click()
        expect(self.page.locator("#reached")).to_contain_text("is gone again")
        self.assert_accessible(self.page)

        self.page.goto("/stand-ins/station/")
        expect(self.page.locator("main")).to_contain_text("Nothing yet")
        self.page.get_by_label("It drops the line").fill("1")
        self.page.get_by_role("button", name="So be it").click()

        self.page.goto("/deliveries/1/")
        self.page.get_by_role("link", name="Send to Community radio playout").click()
        expect(self.page.get_by_label("All files")).to_be_checked()
        self.assert_accessible(self.page)
        self.page.keyboard.press("s")
        expect(self.page.locator("#run")).to_contain_text("It is tried again", timeout=30000)
        self.assert_accessible(self.page)
        self.page.keyboard.press("g")
        expect(self.page.locator("#run")).to_contain_text("All 3 files have arrived", timeout=60000)
        with self.page.expect_download() as taken:
            self.page.keyboard.press("d")
        rows = list(csv.DictReader(io.StringIO(Path(taken.value.path()).read_text())))
        self.assertEqual([row["state"] for row in rows], ["arrived"] * 3)
        self.page.goto("/stand-ins/station/")
        for row in rows:
            expect(self.page.locator("main")).to_contain_text(row["sha256"][:12])
        self.assert_accessible(self.page)
        self.page.goto("/sent/")
        expect(self.page.locator("tbody tr")).to_contain_text("3 of 3")
        self.assert_accessible(self.page)
        self.page.goto("/deliveries/1/")
        expect(self.page.locator("#run")).to_contain_text("arrived")
