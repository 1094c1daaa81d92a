"""Bringing work in, in a real browser: uploads that break off, the running order, scripts, pairing and names."""

import hashlib
import re
import tempfile
from pathlib import Path

from playwright.sync_api import expect

from mastering.tests.signals import noise, speech, written
from sermovox.ui.tests.running import ARGUMENTS, CHROMIUM, BrowserTestCase
from sermovox.ui.tests.slowline import SlowLine


class Desk(BrowserTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        kept = tempfile.TemporaryDirectory()
        cls.addClassCleanup(kept.cleanup)
        cls.folder = Path(kept.name)

    def begin(self, title: str, page=None) -> None:
        page = page or self.page
        page.goto("/productions/new/")
        page.get_by_label("Title", exact=True).fill(title)
        page.get_by_role("button", name="Begin").click()
        expect(page.get_by_role("heading", name=title)).to_be_visible()
        # Its keys are there once all of it is.
        page.wait_for_load_state()

    def choose(self, *paths: Path, page=None) -> None:
        (page or self.page).get_by_label("Recordings to bring in").set_input_files([str(path) for path in paths])

    def takes(self, *names: str) -> list[Path]:
        return [written(self.folder, speech(seconds=3, seed=40 + n), name=name) for n, name in enumerate(names)]

    def expect_titles(self, *titles: str) -> None:
        expect(self.page.locator("#rows a.title")).to_have_text(list(titles))

    # About 20 MB over a line of 4 MB/s, which breaks.

    def on_a_slow_line(self) -> None:
        self.line = SlowLine(self.running.port, bytes_per_s=4e6)
        self.addCleanup(self.line.end)
        self.profile = tempfile.mkdtemp(dir=self.folder)
        self.open_browser()

    def open_browser(self) -> None:
        """A browser of its own that keeps what it knows, as a person's does."""
        kind = self.browser.browser_type
        at = f"http://127.0.0.1:{self.line.port}"
        self.window = kind.launch_persistent_context(
            self.profile, executable_path=CHROMIUM, args=ARGUMENTS, base_url=at
        )
        self.addCleanup(self.window.close)
        self.page = self.window.pages[0]
        self.page.set_default_timeout(20000)
        self.page.on("pageerror", lambda error: self.troubles.append(str(error)))

    def under_way(self):
        return self.page.locator("#under-way")

    def incoming(self) -> set[Path]:
        """What has not arrived whole. Another test may have left something there."""
        return set((self.running.data / "incoming").iterdir())

    def stored(self) -> set[str]:
        return {path.name for path in (self.running.data / "recordings").rglob("*") if path.is_file()}

    def test_the_page_is_left_the_line_breaks_and_it_arrives_all_the_same(self):
        self.on_a_slow_line()
        path = written(self.folder, noise(-20, 210, seed=1), name="long one.wav")
        self.begin("Left")
        self.choose(path)
        row = self.page.locator(".coming li")
        expect(row).to_contain_text("MB/s, about")
        expect(row).to_contain_text("left")
        self.page.get_by_role("link", name="Outlets").click()
        expect(self.under_way()).to_contain_text("Sending 1 recording")
        self.line.cut()
        self.page.wait_for_timeout(1500)
        self.line.mend()
        self.page.get_by_role("link", name="Productions").click()
        expect(self.under_way()).to_contain_text("Sending 1 recording")
        expect(self.under_way()).to_be_hidden(timeout=40000)
        self.assertIn(hashlib.sha256(path.read_bytes()).hexdigest(), self.stored())

    def test_the_browser_is_closed_and_the_same_file_goes_on_from_where_it_was(self):
        self.on_a_slow_line()
        path = written(self.folder, noise(-20, 210, seed=2), name="long two.wav")
        self.begin("Closed")
        address, before = self.page.url, self.incoming()
        self.choose(path)
        expect(self.page.locator(".coming li")).to_contain_text("MB of")
        self.page.wait_for_timeout(2500)
        self.window.close()
        (half,) = self.incoming() - before
        came = half.stat().st_size
        self.assertGreater(came, 1_000_000)

        self.open_browser()
        self.page.goto(address)
        sent = []
        self.window.on("request", lambda request: sent.append(request))
        self.choose(path)
        expect(self.page.locator("#rows a.title")).to_have_text(["long two"], timeout=40000)
        self.assertIn(hashlib.sha256(path.read_bytes()).hexdigest(), self.stored())
        self.assertEqual(self.incoming(), before)
        self.assertEqual(len([r for r in sent if r.method == "POST" and "/uploads/into/" in r.url]), 0)

    def test_what_broke_off_can_be_given_up(self):
        self.on_a_slow_line()
        path = written(self.folder, noise(-20, 210, seed=3), name="long three.wav")
        self.begin("Given up")
        before = self.incoming()
        self.choose(path)
        row = self.page.locator(".coming li")
        expect(row).to_contain_text("MB of")
        row.get_by_role("button", name="Stop").click()
        expect(row).to_have_count(0)
        self.page.wait_for_timeout(500)
        self.assertEqual(self.incoming(), before)

    def test_what_is_stopped_while_it_begins_leaves_nothing(self):
        self.on_a_slow_line()
        self.begin("Stopped early")
        path, before = written(self.folder, noise(-20, 20, seed=4), name="long four.wav"), self.incoming()
        self.line.answers_after_s = 1.5
        self.choose(path)
        row = self.page.locator(".coming li")
        expect(row).to_contain_text("beginning")
        while self.incoming() == before:
            self.page.wait_for_timeout(50)
        row.get_by_role("button", name="Stop").click()
        expect(row).to_have_count(0)
        self.line.answers_after_s = 0.0
        self.page.wait_for_timeout(3000)
        self.assertEqual(self.incoming(), before)

    def test_rows_are_moved_by_mouse_and_by_key_and_every_change_is_taken_back(self):
        self.begin("Moves")
        self.choose(*self.takes("a.wav", "b.wav", "c.wav"))
        self.expect_titles("a", "b", "c")
        expect(self.page.locator(".coming li")).to_have_count(0)
        rows = self.page.locator("#rows tbody tr")
        # All rows in sight, so that the page does not scroll below the mouse.
        self.page.set_viewport_size({"width": 1280, "height": 1100})
        rows.nth(0).locator(".grip").drag_to(rows.nth(2), target_position={"x": 200, "y": 50})
        self.expect_titles("b", "c", "a")
        rows.nth(2).focus()
        # As fast as they can be pressed: they are done one after the other.
        self.page.keyboard.press("Alt+ArrowUp")
        self.page.keyboard.press("Alt+ArrowUp")
        self.expect_titles("a", "b", "c")
        self.page.keyboard.press("s")
        self.expect_titles("a", "a", "b", "c")
        self.page.keyboard.press("ArrowDown")
        self.page.keyboard.press("t")
        self.expect_titles("a", "b", "c")
        expect(rows.nth(1)).to_be_focused()
        for titles in (("a", "a", "b", "c"), ("a", "b", "c"), ("b", "a", "c"), ("b", "c", "a")):
            self.page.keyboard.press("Control+z")
            self.expect_titles(*titles)
        self.page.reload()
        self.page.keyboard.press("u")
        self.expect_titles("a", "b", "c")
        self.page.keyboard.press("U")
        self.expect_titles("b", "c", "a")
        self.page.reload()
        self.expect_titles("b", "c", "a")

    def test_an_answer_that_comes_too_late_takes_nothing_away(self):
        self.page.goto("/productions/2/")
        boxes = self.page.locator("#rows input[name=section]")
        count = boxes.count()
        # What is chosen by hand stays so, whatever is new, changed or up to date.
        boxes.nth(0).set_checked(True)
        boxes.nth(1).set_checked(True)
        boxes.nth(1).uncheck()
        # Two answers for the same rows, the first asked for by the page itself.
        ask = "htmx.ajax('GET', document.querySelector('#rows').getAttribute('hx-get').replace(/seen=\\w+/, 'seen='), "
        ask += "{ target: '#rows', swap: 'in-place' })"
        self.page.evaluate(f"Promise.all([{ask}, {ask}, {ask}])")
        self.page.wait_for_timeout(500)
        expect(boxes).to_have_count(count)
        expect(boxes.nth(1)).not_to_be_checked()
        expect(boxes.nth(0)).to_be_checked()

    def test_rows_that_were_asked_for_before_a_move_do_not_take_it_back(self):
        self.begin("Late")
        self.choose(*self.takes("a.wav", "b.wav", "c.wav"))
        self.expect_titles("a", "b", "c")
        expect(self.page.locator(".coming li")).to_have_count(0)
        rows, late = self.page.locator("#rows tbody tr"), []
        self.page.route("**/rows/?**", lambda route: late.append((route, None if late else route.fetch())))
        with self.page.expect_request("**/rows/?**"):
            self.page.evaluate("""() => {
              const rows = document.querySelector("#rows");
              rows.setAttribute("hx-get", rows.getAttribute("hx-get").replace(/seen=\\w+/, "seen="));
              for (const row of rows.querySelectorAll("tr[data-drawn]")) row.removeAttribute("data-drawn");
              htmx.trigger(rows, "again");
            }""")
        rows.nth(2).focus()
        with self.page.expect_response("**/change/**"):
            self.page.keyboard.press("Alt+ArrowUp")
        self.expect_titles("a", "c", "b")
        self.page.wait_for_timeout(200)
        # Read before the move, told after it; what is asked for after that is told in the end.
        route, answer = late[0]
        route.fulfill(response=answer)
        self.page.wait_for_timeout(500)
        self.expect_titles("a", "c", "b")
        self.page.unroute_all(behavior="ignoreErrors")
        self.page.keyboard.press("Alt+ArrowUp")
        self.page.reload()
        self.expect_titles("c", "a", "b")

    def test_a_move_that_is_refused_is_taken_back_on_the_page(self):
        self.begin("Refused")
        self.choose(*self.takes("a.wav", "b.wav"))
        self.expect_titles("a", "b")
        expect(self.page.locator(".coming li")).to_have_count(0)
        self.page.route("**/change/**", lambda route: route.fulfill(status=500, body=""))
        self.page.locator("#rows tbody tr").nth(1).focus()
        with self.page.expect_response("**/change/**"):
            self.page.keyboard.press("Alt+ArrowUp")
        self.expect_titles("a", "b")

    def test_rows_that_are_as_they_were_are_looked_at_again_all_the_same(self):
        self.begin("Looked at")
        self.page.keyboard.press("a")
        self.expect_titles("New section")
        self.page.wait_for_timeout(1000)
        # Nothing has changed; something else of the page is drawn a while later.
        with self.page.expect_response("**/rows/?**") as unchanged:
            self.page.evaluate("htmx.trigger('#rows', 'again')")
        self.assertEqual(unchanged.value.status, 204)
        self.page.wait_for_timeout(1500)
        self.page.evaluate("htmx.trigger('#arrivals', 'again')")
        # Every eight seconds.
        with self.page.expect_request("**/rows/?**", timeout=12000):
            pass

    def test_an_answer_that_takes_a_row_for_known_that_is_another_by_now_leaves_it(self):
        self.begin("Late")
        for _ in range(2):
            self.page.keyboard.press("a")
        self.expect_titles("New section", "New section")
        late = []

        def answered(route):
            # As if rows had changed before it came: one is another by now, one is gone.
            answer = route.fetch()
            known = re.search(r'data-drawn="(\w+)" data-known', answer.text())
            if late or not known:
                return route.fulfill(response=answer)
            gone = '<tbody><tr id="row-0" data-section="0" data-drawn="1" data-known></tr>'
            late.append(answer.text().replace(known[1], "0" * 12).replace("<tbody>", gone))
            return route.fulfill(response=answer, body=late[0])

        self.page.route("**/rows/?**", answered)
        asks = "htmx.ajax('GET', document.querySelector('#rows').getAttribute('hx-get').replace(/seen=\\w+/, 'seen='), "
        self.page.evaluate(f"{asks} {{ target: '#rows', swap: 'in-place' }})")
        self.page.wait_for_timeout(500)
        self.expect_titles("New section", "New section")
        # What it could not tell is asked for whatever it is.
        self.assertEqual(len(late), 1)
        expect(self.page.locator("#rows")).to_have_attribute("hx-get", re.compile(r"seen=(&|$)"))

    def test_a_recording_is_dragged_from_the_margin_onto_its_row(self):
        self.begin("Tray")
        for _ in range(2):
            self.page.keyboard.press("a")
            expect(self.page.locator("#said")).to_contain_text("new section")
        expect(self.page.locator("#rows tbody tr")).to_have_count(2)
        self.choose(*self.takes("late.wav"))
        expect(self.page.locator("#tray li")).to_have_text(["late.wav"])
        expect(self.page.locator(".coming li")).to_have_count(0)
        self.page.locator("#tray li").drag_to(self.page.locator("#rows tbody tr").nth(1))
        expect(self.page.locator("#said")).to_contain_text("has late.wav")
        expect(self.page.locator("#tray")).to_have_count(0)
        expect(self.page.locator("#rows tbody tr").nth(1)).to_contain_text("late.wav")
        self.page.locator("#rows tbody tr").nth(1).get_by_role("button", name="Change").click()
        self.page.get_by_role("menuitem", name="Take its recording away").press("Enter")
        expect(self.page.locator("#tray li")).to_have_text(["late.wav"])

    def test_a_line_set_from_its_script_to_files_of_the_client_s_names(self):
        script = self.folder / "lines.txt"
        script.write_text("GT_010: Who goes there?\nGT_020: Only the tide.\nGT_030: Then come in.\n")
        self.begin("The Gate")
        self.page.get_by_role("link", name="Sections from a script").click()
        self.page.locator("#script-file").set_input_files(str(script))
        proof = self.page.locator(".proof")
        expect(proof).to_contain_text("GT_030")
        expect(proof).to_contain_text("Only the tide.")
        self.page.get_by_role("button", name="Make 3 sections").click()
        expect(self.page.locator("#rows")).to_contain_text("3 sections without a recording")

        self.choose(*self.takes("gate 30 take 2.wav", "gate 10 take 1.wav", "gate 20 take 7.wav", "room.wav"))
        expect(self.page.locator("#tray li")).to_have_count(4)
        self.page.get_by_role("link", name="Pair recordings with sections").click()
        expect(self.page.locator(".left-over")).to_contain_text("room.wav")
        fields = self.page.locator("#pairing input[list]")
        for at, name in enumerate(("gate 10 take 1.wav", "gate 20 take 7.wav", "gate 30 take 2.wav")):
            expect(fields.nth(at)).to_have_value(name)
        self.page.get_by_role("button", name="Pair them so").click()
        expect(self.page.locator("#rows input[name=section]:enabled")).to_have_count(3, timeout=60000)

        self.page.get_by_role("checkbox", name="Community radio playout").check()
        self.page.get_by_role("button", name="Make 3 files").click()
        expect(self.page.locator("#run[data-running=no]")).to_be_visible(timeout=60000)
        names = self.page.locator("#run tbody tr a[href*='/files/']:first-child")
        for name in ("GT_010.wav", "GT_020.wav", "GT_030.wav"):
            expect(self.page.locator("#run")).to_contain_text(name)
        self.assertGreaterEqual(names.count(), 3)

        # The same again: nothing is made unasked; it is asked what to do, and the answer is kept.
        self.page.keyboard.press("o")
        expect(self.page.locator("#make")).to_have_text("All are up to date")
        expect(self.page.locator("#make")).to_be_disabled()
        self.page.locator("#all").check()
        self.page.get_by_role("button", name="Make again for Community radio playout").click()
        expect(self.page.get_by_role("heading", name="All 3 files are up to date")).to_be_visible()
        self.page.get_by_role("button", name="Make them again").click()
        expect(self.page.get_by_role("heading", name="3 files of these names are there already")).to_be_visible()
        self.page.get_by_label("Skip").check()
        self.page.get_by_label("do so from now on").check()
        self.page.get_by_role("button", name="Go on").click()
        expect(self.page.get_by_role("status").first).to_contain_text("nothing was made")

    def test_a_pattern_is_shown_while_it_is_written_and_names_are_dictated(self):
        self.begin("Patterns")
        self.choose(*self.takes("one.wav", "two.wav"))
        self.expect_titles("one", "two")
        self.page.get_by_role("link", name="Names of the files").click()
        # Part by part: letters of one, another added, and the order changed by a key.
        parts = self.page.locator(".part")
        expect(parts).to_have_count(2)
        parts.nth(1).locator("summary").click()
        parts.nth(1).get_by_label("Letters").select_option("upper")
        expect(self.page.locator(".name")).to_have_text(["01-ONE.mp3", "02-TWO.mp3"])
        parts.nth(0).locator("summary").click()
        parts.nth(0).get_by_label("Digits").select_option("4")
        expect(self.page.locator(".name")).to_have_text(["0001-ONE.mp3", "0002-TWO.mp3"])
        self.page.get_by_label("Add a part").select_option("production")
        expect(self.page.locator(".name")).to_have_text(["0001-ONE-Patterns.mp3", "0002-TWO-Patterns.mp3"])
        parts.nth(2).locator("summary").focus()
        self.page.keyboard.press("Alt+ArrowLeft")
        expect(self.page.locator(".name")).to_have_text(["0001-Patterns-ONE.mp3", "0002-Patterns-TWO.mp3"])
        parts.nth(1).locator("summary").click()
        parts.nth(1).get_by_role("button", name="Take it out").click()
        expect(parts).to_have_count(2)
        self.page.locator(".examples button").first.click()
        expect(self.page.locator(".name")).to_have_text(["01-one.mp3", "02-two.mp3"])
        self.assert_accessible(self.page)
        # And as text.
        self.page.get_by_text("The pattern as text").click()
        pattern = self.page.get_by_label("Pattern for")
        expect(pattern).to_have_value("{place|pad:2}[-{title|plain|lower|join:-|most:60}]")
        pattern.fill("{title|upper}_")
        self.page.get_by_role("button", name="place", exact=True).click()
        expect(pattern).to_have_value("{title|upper}_{place}")
        expect(self.page.locator(".name")).to_have_text(["ONE_1.mp3", "TWO_2.mp3"])
        pattern.fill("CON")
        expect(self.page.get_by_role("status").first).to_contain_text("2 names cannot be used")
        self.page.get_by_text("Names the client dictates").click()
        self.page.get_by_label("One name a line").fill("VO_A\nVO_B")
        self.page.get_by_role("button", name="Set 2 names").click()
        expect(self.page.locator(".name")).to_have_text(["VO_A.mp3", "VO_B.mp3"])
