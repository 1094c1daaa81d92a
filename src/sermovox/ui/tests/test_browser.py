"""The real interface in a real browser, from upload to downloaded ZIP."""

import csv
import io
import os
import re
import signal
import tempfile
import threading
import time
import urllib.request
import zipfile
from pathlib import Path

from playwright.sync_api import expect

from mastering.meters.measurement import measure
from mastering.tests.signals import speech, written
from sermovox.ui.tests.running import BrowserTestCase, Running


class WholeWay(BrowserTestCase):
    def begin(self, title: str) -> None:
        self.page.goto("/")
        self.page.keyboard.press("n")
        expect(self.page.get_by_placeholder("its title")).to_be_focused()
        self.page.keyboard.type(title)
        self.page.get_by_role("button", name="Begin", exact=True).click()
        expect(self.page.get_by_role("heading", name=title)).to_be_visible()
        self.page.wait_for_load_state()

    def bring_in(self, *paths: Path) -> None:
        self.page.get_by_label("Recordings to bring in").set_input_files([str(path) for path in paths])

    def test_from_upload_to_downloaded_archive(self):
        with tempfile.TemporaryDirectory() as folder:
            one = written(folder, speech(seconds=9), name="first part.wav", subtype="PCM_24")
            two = written(folder, speech(seconds=7, seed=5, rate_hz=48000), 48000, "second part.flac")
            self.begin("Ash and Alder")
            self.bring_in(two, one)
            rows = self.page.locator("#rows tbody tr")
            expect(rows).to_have_count(2)
            # The demonstration's own recordings are measured first.
            expect(self.page.locator("#rows input[name=section]:enabled")).to_have_count(2, timeout=240000)

            # The slip.
            rows.filter(has_text="first part").get_by_role("link", name="0:09").click()
            for fact in ("pcm_s24le", "44100 Hz", "24 bit", "mono", "0:09"):
                expect(self.page.locator(".slip")).to_contain_text(fact)
            self.page.keyboard.press("o")

            # Choose the outlet and make.
            self.page.get_by_role("checkbox", name="Volunteer reading archive").check()
            make = self.page.get_by_role("button", name="Make 2 files for Volunteer reading archive")
            make.click()
            made = "Every file is made, was decoded again and passes."
            expect(self.page.get_by_role("status")).to_have_text(made, timeout=60000)
            expect(self.page).to_have_title(re.compile("^✓ done"))

            # The check sheet.
            self.page.get_by_role("link", name="01-first-part.mp3").click()
            loudness = self.page.get_by_role("row").filter(has_text="Integrated loudness")
            expect(loudness).to_contain_text("−18 ±1 LUFS")
            expect(loudness).to_contain_text("passes")
            found = float(loudness.locator("td").nth(3).inner_text().split()[0].replace("−", "-"))
            self.page.keyboard.press("o")

            # The archive, held against what is on the sheet.
            with self.page.expect_download() as download:
                self.page.get_by_role("link", name="Download all as ZIP").click()
            archive = zipfile.ZipFile(download.value.path())
            self.assertEqual(
                sorted(archive.namelist()),
                ["01-first-part.mp3", "02-second-part.mp3", "manifest.csv", "manifest.json"],
            )
            out = Path(folder) / "out.mp3"
            out.write_bytes(archive.read("01-first-part.mp3"))
            self.assertAlmostEqual(measure(out).levels.integrated_lufs, found, delta=0.06)
            manifest = list(csv.DictReader(io.StringIO(archive.read("manifest.csv").decode())))
            self.assertEqual([row["verdict"][:6] for row in manifest], ["passes", "passes"])

    def test_a_recording_is_dropped_onto_the_page_and_bad_ones_are_explained(self):
        self.begin("Thistle")
        self.page.evaluate(
            """() => {
                const files = new DataTransfer();
                files.items.add(new File(["Once upon a time"], "story.wav"));
                files.items.add(new File([], "nothing.wav"));
                window.dispatchEvent(new DragEvent("drop", { dataTransfer: files, bubbles: true, cancelable: true }));
            }"""
        )
        arriving = self.page.locator(".coming")
        expect(arriving).to_contain_text("This is not a sound file")
        expect(arriving).to_contain_text("This file is empty (0 bytes)")
        arriving.get_by_role("button", name="Put away").first.click()
        expect(arriving.locator("li")).to_have_count(1)

    def test_of_many_files_a_few_are_shown_and_all_can_be_stopped(self):
        self.begin("A Shelf of Slips")
        self.page.evaluate(
            """() => {
                const files = new DataTransfer();
                const named = (number) => new File(["Once upon a time"], `${number}.wav`);
                for (let number = 1; number <= 1000; number += 1) files.items.add(named(number));
                window.dispatchEvent(new DragEvent("drop", { dataTransfer: files, bubbles: true, cancelable: true }));
            }"""
        )
        arriving = self.page.locator(".coming")
        expect(arriving).to_contain_text("and 980 more")
        expect(arriving.locator("li")).to_have_count(20)
        # What something has happened to stands first.
        expect(arriving).to_contain_text("This is not a sound file", timeout=60000)
        expect(arriving.locator("li")).to_have_count(20)
        arriving.get_by_role("button", name="Stop all").click()
        expect(arriving.locator("li")).to_have_count(0)

    def test_source_and_result_play_and_seek(self):
        self.page.goto("/deliveries/")
        runs = (
            self.page.get_by_role("row")
            .filter(has_text="The Lamp and the Barometer")
            .filter(has_text="Audiobook retail")
        )
        runs.last.get_by_role("link").click()
        expect(self.page.locator("#run[data-running=no]")).to_be_visible(timeout=60000)
        self.page.get_by_role("link", name="02-oil-wick-and-weather.mp3").click()
        source = self.page.get_by_role("group", name="Recording")
        result = self.page.get_by_role("group", name="Finished file")
        for player in (source, result):
            clock = player.locator("[data-clock]")
            player.get_by_role("button", name="Play").click()
            expect(clock).not_to_contain_text("0:00 of", timeout=8000)
            # Held still, so that it is the key alone that moves it by five seconds, however busy the machine is.
            player.get_by_role("button", name="Pause").click()
            at_s = int(clock.inner_text().partition(" ")[0].removeprefix("0:"))
            player.get_by_role("slider").press("ArrowRight")
            expect(clock).to_contain_text(f"0:{at_s + 5:02} of", timeout=4000)
            player.get_by_role("button", name="Play").click()
        expect(source.get_by_role("button", name="Play")).to_be_visible()  # one at a time
        self.page.keyboard.press("x")
        expect(source.get_by_role("button", name="Pause")).to_be_visible()
        expect(source.locator("[data-clock]")).to_contain_text("0:0")
        canvas = source.locator("canvas")
        box = canvas.bounding_box()
        canvas.click(position={"x": box["width"] * 0.3, "y": box["height"] * 0.75})
        expect(source.locator("[data-clock]")).to_contain_text("0:1", timeout=4000)

    def test_keys_are_listed_and_work(self):
        self.page.goto("/")
        self.page.keyboard.press("?")
        expect(self.page.locator("#keys")).to_contain_text("Begin a production")
        self.page.keyboard.press("Escape")
        expect(self.page.locator("#keys")).to_be_hidden()
        self.page.keyboard.press("2")
        expect(self.page.get_by_role("heading", name="Outlets")).to_be_visible()

    def test_it_fits_a_phone_and_twice_the_size(self):
        pages = ("", "script/", "pairing/", "names/", "sheet/", "edit/")
        addresses = (
            "/",
            "/outlets/podcast-host/",
            "/deliveries/",
            "/recordings/storage/",
            "/levels/2/",
            "/levels/sections/6/",
            "/cutting/sections/5/chapters/",
            "/cutting/sections/5/",
            "/cutting/2/",
            "/sent/",
            "/guide/",
        ) + tuple(f"/productions/{key}/{page}" for key in (2, 3) for page in pages)
        # A phone, and a window of 1280 pixels at 200 %, where every pixel of a page is two.
        for width, height in ((390, 844), (640, 400)):
            page = self.new_page(viewport={"width": width, "height": height})
            for address in addresses:
                page.goto(address)
                self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), width, address)


class _Accessible(BrowserTestCase):
    """No serious fault in access, by light or dark, and a focus that is seen."""

    def hold(self, *addresses: str) -> None:
        for address in addresses:
            self.page.goto(address)
            if address.endswith("/script/"):
                self.page.get_by_label("The text", exact=True).fill("Opening credits\nChapter 1")
                expect(self.page.get_by_role("button", name="Make 2 sections")).to_be_visible()
            self.assert_accessible(self.page)
            self.assert_focus_is_seen(self.page)

    def order(self) -> str:
        self.page.goto("/")
        return self.page.get_by_role("link", name="The Lamp and the Barometer").get_attribute("href")


class AProductionIsAccessible(_Accessible):
    def test_from_its_running_order_to_its_levels(self):
        order = self.order()
        self.page.goto(order)
        section = self.page.locator("#rows .title").first.get_attribute("href")
        pages = (f"{order}{page}/" for page in ("script", "names", "sheet", "edit"))
        self.hold(order, section, *pages, "/productions/new/", "/productions/3/pairing/")
        self.hold("/levels/2/?outlet=audiobook-retail", "/levels/sections/6/?outlet=audiobook-retail")
        self.hold("/cutting/sections/5/chapters/", "/cutting/sections/5/", "/cutting/2/")


class WhatComesOfItIsAccessible(_Accessible):
    def test_runs_outlets_what_was_sent_and_storage(self):
        self.page.goto("/deliveries/")
        run = self.page.get_by_role("link", name="The Lamp and the Barometer").first.get_attribute("href")
        self.page.goto(run)
        expect(self.page.locator("#run[data-running=no]")).to_be_visible(timeout=60000)
        sheet = self.page.locator("#run tbody a").first.get_attribute("href")
        self.hold("/", "/?q=lamp", run, sheet, "/deliveries/", "/guide/")
        self.hold("/outlets/", "/outlets/podcast-host/", "/outlets/podcast-host/versions/")
        self.hold("/sent/", "/sent/productions/2/", "/sent/outlets/podcast-host/")
        self.hold("/recordings/storage/", "/recordings/storage/bin/", "/recordings/storage/of/1/")
        self.hold("/stand-ins/station/", "/stand-ins/mailbox/", "/account/sign-in/")


class UnderWay(BrowserTestCase):
    """Long work: progress, cancelling, a killed worker, many files and many readers at once."""

    # It waits for work more than for the browser, and goes beside the others.
    alone = takes_long = True

    @classmethod
    def begin_running(cls) -> None:
        # One of its own, as it is killed.
        cls.running = Running()
        cls.addClassCleanup(cls.running.end)

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        kept = tempfile.TemporaryDirectory()
        cls.addClassCleanup(kept.cleanup)
        cls.long = written(kept.name, speech(seconds=150), name="long.wav")
        cls.short = [written(kept.name, speech(seconds=4, seed=n), name=f"part {n}.wav") for n in range(40)]

    def begin_with(self, title: str, paths: list[Path]) -> None:
        self.page.goto("/productions/new/")
        self.page.get_by_label("Title", exact=True).fill(title)
        self.page.get_by_role("button", name="Begin").click()
        self.page.get_by_label("Recordings to bring in").set_input_files([str(path) for path in paths])
        ready = self.page.locator("#rows input[name=section]:enabled")
        try:
            expect(ready).to_have_count(len(paths), timeout=240000)
        except AssertionError as error:
            seen = self.page.locator("main").inner_text()
            raise AssertionError(f"{error}\nOn the page:\n{seen}\nIn the log:\n{self.running.log()[-3000:]}") from error
        self.page.get_by_role("checkbox", name="Volunteer reading archive").check()

    def finished_files(self) -> list[Path]:
        """Those of the long recording: by their size, as each is called the same on the disk."""
        found = (self.running.data / "deliveries").rglob("*.mp3")
        return [path for path in found if path.stat().st_size > 2_000_000]

    def test_1_progress_is_shown_and_a_run_can_be_cancelled(self):
        before = self.finished_files()
        self.begin_with("Cancelled", [self.long])
        self.page.get_by_role("button", name="Make 1 file").click()
        expect(self.page.locator("#run tbody")).to_contain_text("Levelling and encoding")
        self.page.wait_for_function("/^\\d+ % ·/.test(document.title)")
        expect(self.page.locator("#run")).to_contain_text("left")
        self.page.get_by_role("button", name="Cancel").click()
        expect(self.page.get_by_role("status")).to_have_text("Of 1 file: 1 was cancelled.")
        time.sleep(2)
        self.assertEqual(self.finished_files(), before)
        self.page.get_by_role("button", name="Run the rest again").click()
        expect(self.page.locator("#run[data-running=no]")).to_contain_text("passes", timeout=60000)
        self.assertEqual(len(self.finished_files()), len(before) + 1)

    def test_2_a_killed_worker_leaves_nothing_half_and_the_file_is_made_all_the_same(self):
        before = set(self.finished_files())
        self.begin_with("Killed", [self.long])
        self.page.get_by_role("button", name="Make 1 file").click()
        expect(self.page.locator("#run tbody")).to_contain_text("Levelling and encoding")
        for process in self.running.processes("sermovox.running.worker"):
            os.kill(process, signal.SIGKILL)
        self.assertEqual(set(self.finished_files()), before, "nothing that looks finished is left")
        expect(self.page.locator("#run[data-running=no]")).to_contain_text("passes", timeout=60000)
        self.assertEqual(len(set(self.finished_files()) - before), 1)
        self.assertEqual(list((self.running.data / "deliveries").rglob("*.making")), [])

    def test_3_forty_files_while_pages_are_read(self):
        self.begin_with("Forty", self.short)
        answers, stop = [], threading.Event()
        cookie = "; ".join(f"{c['name']}={c['value']}" for c in self.page.context.cookies())
        address = self.page.url

        def read():
            while not stop.is_set():
                asked = urllib.request.Request(address, headers={"Cookie": cookie})
                with urllib.request.urlopen(asked, timeout=30) as answer:
                    answers.append(answer.status)
                    answer.read()
                stop.wait(0.1)

        readers = [threading.Thread(target=read) for _ in range(3)]
        for reader in readers:
            reader.start()
        try:
            self.page.get_by_role("button", name="Make 40 files for Volunteer reading archive").click()
            expect(self.page.locator("#run[data-running=no]")).to_be_visible(timeout=120000)
        finally:
            stop.set()
            for reader in readers:
                reader.join()
        expect(self.page.get_by_role("status")).to_contain_text("Every file is made")
        self.assertGreater(len(answers), 30)
        self.assertEqual(set(answers), {200})
        self.assertNotIn("locked", self.running.log())

    def test_4_it_stops_cleanly_and_what_was_under_way_goes_on_at_the_next_start(self):
        self.begin_with("Stopped", [self.long])
        self.page.get_by_role("button", name="Make 1 file").click()
        expect(self.page.locator("#run tbody")).to_contain_text("Levelling and encoding")
        address = self.page.url
        self.page.goto("about:blank")
        self.assertEqual(self.running.stop(), 0)
        self.assertEqual(
            self.running.processes("sermovox.running.worker") + self.running.processes("sermovox.running.server"), []
        )
        self.running.start()
        self.page.goto(address)
        expect(self.page.locator("#run[data-running=no]")).to_contain_text("passes", timeout=60000)

    def test_5_workers_do_not_outlive_a_killed_supervisor(self):
        self.running.process.kill()
        self.running.process.wait()
        deadline = time.monotonic() + 10
        while self.running.processes("sermovox.running.worker") + self.running.processes("sermovox.running.server"):
            self.assertLess(time.monotonic(), deadline, "server and workers end with the one that started them")
            time.sleep(0.1)
        self.running.start()
