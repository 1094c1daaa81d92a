"""Rule sheets, runs for several outlets and handing over in a real browser."""

import csv
import io
import re
import zipfile
from pathlib import Path

from playwright.sync_api import expect

from mastering.tests.signals import speech, written
from sermovox.standins.known import STATION
from sermovox.ui.tests.running import BrowserTestCase


class Outlets(BrowserTestCase):
    def test_a_rule_is_written_in_its_place_and_what_cannot_be_is_said(self):
        self.page.goto("/outlets/")
        self.page.get_by_role("link", name="Slow connections").click()
        self.page.get_by_role("button", name="Change Bitrate", exact=True).click()
        form = self.page.locator("[data-rule-form]")
        expect(form.locator("[name=all-exactly]")).to_be_focused()
        form.locator("[name=all-at_most]").fill("50")
        form.get_by_role("button", name="Save").click()
        expect(form.get_by_role("alert")).to_contain_text("no 50 kbit/s as the highest at 22050 Hz")
        expect(form.locator("[name=all-at_most]")).to_have_value("50")
        form.locator("[name=all-at_most]").fill("48")
        form.locator("[name=source]").fill("mail of the station")
        form.locator("[name=dated]").fill("2026-03-03")
        form.get_by_role("button", name="Save").click()
        expect(self.page.locator(".said")).to_contain_text("Bitrate changed.")
        row = self.page.locator("#rule-bit_rate_kbps")
        expect(row).to_contain_text("16 to 48 kbit/s")
        expect(row).to_contain_text("mail of the station, 3 Mar 2026")

        # A rule is added, and the keyboard leaves a form without keeping anything.
        self.page.get_by_label("Add a rule about length and size").select_option("size_mb")
        form = self.page.locator("[data-rule-form]")
        form.locator("[name=all-at_most]").fill("25")
        form.locator("[name=source]").fill("what the line carries")
        form.get_by_role("button", name="Save").click()
        expect(self.page.locator("#rule-size_mb")).to_contain_text("at most 25 MB")
        self.page.get_by_role("link", name="Compare with it").click()
        expect(self.page.locator(".margin")).to_contain_text("2 of 10")
        self.page.go_back()
        self.page.get_by_role("button", name="Go back to it").click()
        expect(self.page.locator("#rule-bit_rate_kbps")).to_contain_text("16 to 56 kbit/s")
        expect(self.page.locator("#rule-size_mb")).to_have_count(0)

    def test_a_file_from_anywhere_is_held_against_an_outlet(self):
        path = written(self.running.data, speech(seconds=4), name="from-elsewhere.wav", subtype="FLOAT")
        self.page.goto("/outlets/radio-playout/")
        self.page.get_by_label("Files to check").set_input_files(str(path))
        self.page.keyboard.press("k")
        found = self.page.locator("#checked")
        expect(found).to_contain_text(re.compile(r"Fails \d of 6 rules"), timeout=60000)
        row = found.locator("tr", has_text="Bit depth")
        expect(row).to_contain_text("32-bit float")
        expect(row.get_by_role("img")).to_have_attribute("aria-label", "fails")

    def test_one_run_for_two_outlets_looked_at_first(self):
        self.page.goto("/productions/2/")
        for name in ("Audiobook retail", "Single-file audiobook"):
            self.page.get_by_role("checkbox", name=name).uncheck()
        expect(self.page.locator("#make")).to_have_text("Choose an outlet")
        for name in ("Own masters", "Volunteer reading archive"):
            self.page.get_by_role("checkbox", name=name).check()
        expect(self.page.locator("#make")).to_have_text("Make 12 files for 2 outlets")
        self.page.keyboard.press("k")
        expect(self.page.get_by_role("heading", level=1)).to_have_text("Before the files are made")
        expect(self.page.locator(".margin")).to_contain_text("about 0:")
        self.page.get_by_role("button", name="Make 12 files").click()
        expect(self.page.locator("#run[data-running=no]")).to_be_visible(timeout=120000)
        expect(self.page.get_by_role("status")).to_contain_text("Every file is made")
        self.page.get_by_role("navigation", name="Outlets of this run").get_by_text("Volunteer reading archive").click()
        expect(self.page.locator("#run[data-running=no]")).to_be_visible(timeout=120000)
        with self.page.expect_download() as download:
            self.page.get_by_role("link", name="all outlets of this run").click()
        names = zipfile.ZipFile(download.value.path()).namelist()
        self.assertIn("own-masters/masters/01-opening-credits.wav", names)
        self.assertIn("volunteer-archive/06-closing-credits.mp3", names)

        # The narrator's name changes; the tags follow.
        self.page.goto("/productions/2/edit/")
        self.page.get_by_label("Author").fill("O. Farrow")
        self.page.get_by_role("button", name="Save").click()
        expect(self.page).to_have_url(re.compile("/productions/2/$"))
        expect(self.page.locator("#rows")).to_contain_text("6 for Volunteer reading archive")
        runs = self.page.locator(".margin a[href^='/deliveries/']:not([href*=current])")
        runs.filter(has_text="Volunteer reading archive").click()
        expect(self.page).to_have_url(re.compile(r"/deliveries/\d+/$"))
        expect(self.page.locator("#run[data-running=no]")).to_be_visible()
        self.page.keyboard.press("t")
        expect(self.page.locator(".margin")).to_contain_text("6 of 6")
        self.page.get_by_role("button", name="Write the tags of the ticked files").click()
        expect(self.page.get_by_text("The tags of 6 files are written.")).to_be_visible()

    def test_a_delivery_arrives_at_the_station_over_a_line_that_drops(self):
        self.running.await_stand_ins()
        self.page.goto("/outlets/radio-playout/")
        self.page.keyboard.press("r")
        self.page.get_by_label("Server").fill(f"127.0.0.1:{self.running.stand_in_port}")
        self.page.get_by_label("User").fill(STATION.user)
        self.page.get_by_label("Password").fill("wrong")
        self.page.get_by_role("button", name="Save").click()
        expect(self.page.locator(".said")).to_contain_text("receives by FTP")
        self.page.keyboard.press("r")
        expect(self.page.locator("#reached")).to_contain_text(f"does not let “{STATION.user}” in")
        self.page.get_by_label("Password").fill(STATION.password)
        self.page.get_by_role("button", name="Save").click()
        expect(self.page.locator(".margin")).to_contain_text("kept, encrypted")
        self.page.get_by_role("button", name="Reach it now").click()
        expect(self.page.locator("#reached")).to_contain_text("is gone again")
        self.assert_accessible(self.page)

        self.page.goto("/stand-ins/station/")
        expect(self.page.locator("main")).to_contain_text("Nothing yet")
        self.page.get_by_label("It drops the line").fill("1")
        self.page.get_by_role("button", name="Apply").click()

        self.page.goto("/deliveries/1/")
        self.page.get_by_role("link", name="Send to Community radio playout").click()
        expect(self.page.get_by_label("All files")).to_be_checked()
        self.assert_accessible(self.page)
        self.page.keyboard.press("s")
        expect(self.page.locator("#run")).to_contain_text("It is tried again", timeout=30000)
        self.page.keyboard.press("g")
        expect(self.page.locator("#run")).to_contain_text("All 3 files have arrived", timeout=60000)
        with self.page.expect_download() as taken:
            self.page.keyboard.press("d")
        rows = list(csv.DictReader(io.StringIO(Path(taken.value.path()).read_text())))
        self.assertEqual([row["state"] for row in rows], ["arrived"] * 3)
        # Promised, late, and kept since it is there.
        self.page.goto("/sent/productions/1/")
        row = self.page.locator("tr", has_text="Community radio playout")
        expect(row).to_contain_text("3 of 3")
        row.get_by_role("combobox").select_option("once all passes and was listened to")
        row.get_by_label("is to have it by").fill("2026-01-31")
        row.get_by_label("is to have it by").press("Tab")
        expect(row).to_contain_text("kept")
        expect(row.get_by_role("combobox")).to_have_value("once all passes and was listened to")
        self.assert_accessible(self.page)
        self.page.goto("/stand-ins/station/")
        for row in rows:
            expect(self.page.locator("main")).to_contain_text(row["sha256"][:12])
        self.assert_accessible(self.page)
        self.page.goto("/sent/")
        expect(self.page.locator("tbody tr").last).to_contain_text("3 of 3")
        self.assert_accessible(self.page)
        self.page.goto("/deliveries/1/")
        expect(self.page.locator("#run")).to_contain_text("arrived")
