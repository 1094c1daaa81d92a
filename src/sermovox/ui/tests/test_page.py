"""The page of a recording in a real browser: marked like a manuscript, by mouse, keys and touch, and heard."""

from playwright.sync_api import expect

from mastering.tests.signals import picture
from sermovox.ui.tests.running import BrowserTestCase

TALES = "all five tales, one take.flac"


class OnThePage(BrowserTestCase):
    """The demonstration's long take; each test undoes what it did."""

    def setUp(self):
        super().setUp()
        self.open(self.page)

    def open(self, page) -> None:
        # The ink alone, in lines of half a minute; its words have tests of their own.
        page.context.add_cookies([{"name": "sermovox-lines-words", "value": "5", "url": self.running.address}])
        page.add_init_script("localStorage['sermovox-page'] ??= JSON.stringify({ words: false })")
        page.goto("/productions/4/")
        page.get_by_role("link", name=TALES).first.click()
        page.get_by_role("link", name="Cut it on its page").click()
        expect(page.locator("#page[data-shown-in-ms]")).to_be_attached()
        expect(page.locator("#pauses-said")).to_contain_text("pauses between words", use_inner_text=False)

    def drag(self, x1: int, y1: int, x2: int, y2: int, page=None) -> None:
        """Over the text of the page, from its own left upper corner."""
        page = page or self.page
        box = page.locator("#scroller").bounding_box()
        page.mouse.move(box["x"] + x1, box["y"] + y1)
        page.mouse.down()
        page.mouse.move(box["x"] + x2, box["y"] + y2, steps=5)
        page.mouse.up()

    def contents(self, page=None):
        return (page or self.page).locator("#contents li")

    def press(self, key: str, said: str = "", page=None) -> None:
        page = page or self.page
        page.keyboard.press(key)
        if said:
            expect(page.locator("#page-said")).to_contain_text(said)

    def test_a_take_becomes_named_sections_and_comes_back_from_a_restart(self):
        page = self.page
        page.get_by_text("Cut into sections", exact=True).click()
        expect(page.get_by_text("5 sections wait in the running order")).to_be_visible()
        page.get_by_role("button", name="Show the cuts").click()
        expect(page.locator("#split-said")).to_have_text("4 cuts, so 5 sections.")
        page.get_by_role("button", name="Make the sections").click()
        expect(self.contents()).to_have_count(5)
        for title in ("The Ferry That Waited", "A Suitcase of Stones", "Low Water"):
            expect(page.locator(".begins", has_text=title)).to_be_visible()
        self.drag(180, 90, 420, 90)
        self.press("k", "Strike out")
        expect(self.contents()).to_have_count(6)
        self.running.stop()
        self.running.start()
        page.reload()
        expect(self.contents()).to_have_count(6)
        self.press("u", "Undone: Strike out")
        self.press("u", "Undone: Cut into 5 sections")
        expect(self.contents()).to_have_count(0)
        self.press("i", "Done again: Cut into 5 sections")
        page.goto("/productions/4/")
        expect(page.locator("#rows tbody tr").filter(has_text="Low Water")).to_contain_text("0:16")
        page.get_by_role("link", name="History").click()
        expect(page.get_by_role("row").filter(has_text="Strike out")).to_contain_text("Maren Askew")
        page.go_back()
        page.keyboard.press("u")
        expect(page.locator("#rows tbody tr").filter(has_text="Low Water")).to_contain_text("none yet")

    def test_all_of_it_goes_by_keys(self):
        page = self.page
        page.locator("#scroller").focus()
        self.press("e")
        self.press("s")
        expect(page.locator("#chosen")).to_contain_text("s selected")
        self.press("j", "Room tone over")
        page.keyboard.press("Escape")
        self.press("Home")
        here = page.locator("#where").inner_text()
        self.press("v")
        expect(page.locator("#lens")).to_be_visible()
        for _ in range(24):
            self.press(".")
        expect(page.locator("#where")).to_have_text(here[:-1] + "1")
        expect(page.locator("#lens-said")).to_contain_text("sample 24 ")
        self.press("v")
        self.press("End")
        self.press("Shift+ArrowDown")
        self.press("L", "Mend the clicks of 8.00 s")
        self.press("u", "Undone: Mend the clicks")
        self.press("g")
        expect(page.locator("#ask-value")).to_be_focused()
        page.locator("#ask-value").fill("-4")
        self.press("Enter", "Gain of 8.00 s")
        self.press("Escape")
        self.press("m")
        page.locator("#ask-value").fill("Look here")
        self.press("Enter", "Mark the place")
        expect(self.contents()).to_have_count(3)
        expect(self.contents().filter(has_text="mark “Look here”")).to_be_visible()
        keys = page.locator("[data-key]").evaluate_all("all => all.map((each) => each.dataset.key)")
        self.assertEqual(sorted(keys), sorted(set(keys)), "no key does two things")
        self.press("?")
        for does in ("Strike out what is selected", "To the next pause", "Play around the cut, as it will sound"):
            expect(page.locator("#keys").get_by_text(does)).to_be_visible()
        page.get_by_role("button", name="Close").click()
        expect(page.locator("#keys")).to_be_hidden()
        for _ in range(3):
            self.press("u", "Undone")
        expect(self.contents()).to_have_count(0)

    def test_what_is_heard_begins_where_it_is_asked_and_skips_what_is_struck(self):
        page = self.page
        self.drag(300, 90, 700, 90)
        self.press("k", "Strike out")
        self.press("c")
        expect(page.locator("#page[data-started-in-ms]")).to_be_attached()
        expect(page.locator("#playhead")).to_be_visible()
        heard = page.evaluate("""async () => {
            const places = [];
            for (let at = 0; at < 40; at += 1) {
                await new Promise((wake) => setTimeout(wake, 100));
                places.push(new DOMMatrix(document.querySelector("#playhead").style.transform).e);
            }
            return places;
        }""")
        self.assertTrue(any(place < 302 for place in heard) and any(place > 698 for place in heard), heard)
        self.assertFalse([place for place in heard if 310 < place < 690], "what is struck out is passed over")
        page.get_by_role("button", name="Undo", exact=False).click()
        expect(self.contents()).to_have_count(0)

    def test_while_it_plays_keys_act_where_it_is_heard_and_the_time_moves(self):
        page = self.page
        page.locator("#scroller").focus()
        self.press("Home")
        page.locator("#reaction").fill("0.5")
        page.locator("#reaction").press("Tab")
        page.locator("#scroller").focus()
        self.press(" ")
        expect(page.locator("#page[data-started-in-ms]")).to_be_attached()
        page.wait_for_function("document.querySelector('#where').textContent > '0:02.000'")
        heard = page.evaluate("document.querySelector('#where').textContent")
        self.press("m")
        page.locator("#ask-value").fill("Where I heard it")
        self.press("Enter", "Mark the place")
        said = self.contents().filter(has_text="Where I heard it").inner_text()
        at = page.evaluate("JSON.parse(document.querySelector('#page-start').textContent).marks.length")
        self.assertEqual(at, 0, "nothing was marked before")
        rate, marks = page.evaluate(
            "fetch(document.querySelector('#page').dataset.address + 'state/').then((a) => a.json())"
            ".then((s) => [Number(document.querySelector('#page').dataset.rate), s.marks])"
        )
        at_s = marks[0]["start_sample"] / rate
        heard_s = float(heard.split(":")[1])
        self.assertTrue(heard_s - 0.55 <= at_s <= heard_s + 0.4, (said, at_s, heard_s))
        self.press(" ")
        self.press("u", "Undone")

    def test_a_second_window_is_told(self):
        other = self.new_page()
        self.open(other)
        self.drag(300, 90, 500, 90)
        self.press("k", "Strike out")
        expect(other.locator("#page-said")).to_contain_text("changed in another window")
        expect(self.contents(other)).to_have_count(1)
        self.press("u", "Undone")

    def test_only_the_lines_on_view_are_there_and_say_what_they_hold(self):
        page = self.page
        page.locator("#per-line").fill("0")
        lines = page.get_by_role("listitem").filter(has_text="pauses")
        expect(lines.first).to_contain_text("0:00 to 0:05")
        self.assertLess(page.locator("#lines > li").count(), 16)
        first = page.locator("#lines > li").first
        self.assertEqual(first.get_attribute("aria-setsize"), "14")
        page.locator("#scroller").focus()
        page.keyboard.press("Control+End")
        expect(page.locator("#lines > li").last).to_contain_text("1:05 to 1:06")
        page.locator("#per-line").fill("1")

    def test_a_point_gets_a_link_and_a_picture(self):
        page = self.page
        page.goto("/sections/5/")
        page.get_by_role("link", name="Cut it on its page").click()
        expect(page.locator("#page[data-shown-in-ms]")).to_be_attached()
        self.press("End")
        self.press("m")
        page.locator("#ask-value").fill("The glass falls")
        self.press("Enter", "Mark the place")
        page.get_by_role("link", name="links and pictures").click()
        expect(page.get_by_label("Title of the mark").nth(1)).to_have_value("The glass falls")
        page.get_by_label("Link of the mark").nth(1).fill("harbour.example/glass")
        sent = {"name": "glass.jpg", "mimeType": "image/jpeg", "buffer": picture(side=80)}
        page.get_by_label("Picture of the mark").nth(1).set_input_files(sent)
        page.get_by_role("button", name="Save").click()
        shown = page.get_by_role("img", name="The picture of the mark")
        expect(shown).to_have_count(1)
        self.assertEqual(shown.evaluate("image => image.naturalWidth"), 80)
        expect(page.get_by_label("Link of the mark").nth(1)).to_have_value("https://harbour.example/glass")
        page.get_by_role("link", name="its page").click()
        expect(page.locator("#page[data-shown-in-ms]")).to_be_attached()
        for words in ("Change the chapter marks", "Mark the place"):
            self.press("u", f"Undone: {words}")

    def test_touch_points_and_marks(self):
        page = self.new_page(viewport={"width": 390, "height": 844}, has_touch=True)
        self.open(page)
        box = page.locator("#scroller").bounding_box()
        page.touchscreen.tap(box["x"] + 120, box["y"] + 90)
        page.get_by_role("button", name="From here", exact=True).tap()
        page.touchscreen.tap(box["x"] + 260, box["y"] + 90)
        page.get_by_role("button", name="To here", exact=True).tap()
        expect(page.locator("#chosen")).to_contain_text("s selected")
        page.get_by_role("button", name="Strike out").tap()
        expect(page.locator("#page-said")).to_contain_text("Strike out")
        page.get_by_role("button", name="Undo").tap()
        expect(page.locator("#page-said")).to_contain_text("Undone")
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390)

    def test_no_serious_fault_for_those_who_do_not_see_it(self):
        page = self.page
        self.open(page)
        for note in page.locator("#notes summary").all()[1:]:
            note.click()
        page.get_by_role("button", name="Show the cuts").click()
        self.assert_accessible(page)
        for address in ("/cutting/sections/1/", "/productions/4/history/"):
            page.goto(address)
            self.assert_accessible(page)

    def test_pieces_of_a_section_are_put_in_order_by_dragging(self):
        page = self.page
        page.goto("/cutting/sections/1/")
        page.get_by_label("Recording", exact=True).select_option("sign-off.flac")
        page.get_by_role("button", name="Add it").click()
        pieces = page.locator("#pieces tbody tr")
        expect(pieces).to_have_count(2)
        pieces.nth(1).locator(".grip").drag_to(pieces.nth(0).locator(".grip"), target_position={"x": 5, "y": 3})
        expect(pieces.first).to_contain_text("sign-off.flac")
        pieces.nth(1).locator("select[name=join]").select_option("pause")
        pieces.nth(1).get_by_label("Seconds of the join").fill("2")
        pieces.nth(1).get_by_role("button", name="Save the changes of piece 2").click()
        expect(page.locator("#hear-said")).to_contain_text("of 0:23")
        page.get_by_role("button", name="Hear it as it will sound").click()
        expect(page.locator("#hear-said")).not_to_contain_text("0:00 of")
        for what in ("Change a piece", "Move a piece", "Add a piece"):
            page.keyboard.press("u")
            expect(page.get_by_text(f"Undone: {what}")).to_be_visible()
        expect(pieces).to_have_count(1)

    def test_pieces_are_drawn_in_ink_and_their_ends_moved_under_the_magnifier(self):
        page = self.page
        page.goto("/cutting/sections/2/")
        names = page.locator(".piece-name")
        expect(names).to_have_count(1)
        ink = page.locator("#picture > canvas")
        page.locator("[data-recording]", has_text="opening-tune.flac").drag_to(
            ink, target_position={"x": 700, "y": ink.bounding_box()["height"] - 30}
        )
        expect(names).to_have_count(2)
        expect(names.nth(1)).to_contain_text("opening-tune.flac")
        end = page.get_by_role("button", name="End of piece 2")
        end.focus()
        expect(page.locator("#edge-said")).to_contain_text("in opening-tune.flac")
        for _ in range(4):
            page.keyboard.press("Shift+ArrowLeft")
        page.keyboard.press("Alt+ArrowLeft")
        expect(page.locator("#edge-said")).to_contain_text("−2.000 s from where it is")
        page.keyboard.press("Escape")
        expect(page.locator("#edge-said")).to_contain_text("Drag, or arrow keys")
        for _ in range(4):
            page.keyboard.press("Shift+ArrowLeft")
        page.keyboard.press("Enter")
        row = page.locator("#pieces tbody tr").nth(1)
        expect(row.get_by_label("End of piece 2")).to_have_value("0:11.300")
        start = page.get_by_role("button", name="Start of piece 2")
        box = start.bounding_box()
        page.mouse.move(box["x"] + 4, box["y"] + 20)
        page.mouse.down()
        page.mouse.move(box["x"] + 64, box["y"] + 20, steps=4)
        page.mouse.up()
        expect(row.get_by_label("Start of piece 2")).not_to_have_value("0:00.000")
        names.nth(1).drag_to(names.nth(0))
        expect(names.nth(0)).to_contain_text("opening-tune.flac")
        page.locator("#picture > canvas").click(position={"x": 300, "y": 40})
        expect(page.locator("#hear-said")).not_to_contain_text("0:00 of")
        self.assert_accessible(page)
        for what in ("Move a piece", "Change a piece", "Change a piece", "Add a piece"):
            page.keyboard.press("u")
            expect(page.get_by_text(f"Undone: {what}")).to_be_visible()
        expect(names).to_have_count(1)


class Words(BrowserTestCase):
    """The demonstration's long take with its text; each test undoes what it did."""

    def setUp(self):
        super().setUp()
        self.open(self.page)

    def open(self, page) -> None:
        page.goto("/productions/4/")
        page.get_by_role("link", name=TALES).first.click()
        page.get_by_role("link", name="Cut it on its page").click()
        expect(page.locator("#text-said")).to_contain_text("words are under their ink", use_inner_text=False)
        expect(page.locator("#pauses-said")).to_contain_text("pauses between words", use_inner_text=False)

    def strip(self, line: int, x: int) -> tuple[float, float]:
        """A spot on the words of a line."""
        box = self.page.locator("#lines li:not([hidden])").nth(line).bounding_box()
        margin = float(self.page.locator("#scroller").evaluate("each => each.clientWidth < 620 ? 74 : 168"))
        return box["x"] + margin + x, box["y"] + box["height"] - 9

    def test_words_are_found_struck_out_and_read_to_those_who_do_not_see(self):
        page = self.page
        page.keyboard.press("/")
        page.keyboard.type("One day, he WALK")
        expect(page.locator("#found")).to_have_text("1 of 1")
        expect(page.locator("#chosen")).to_contain_text("0:07.1")
        page.keyboard.press("Escape")
        page.keyboard.press("k")
        expect(page.locator("#page-said")).to_contain_text("Strike out 1.5")
        page.keyboard.press("u")
        expect(page.locator("#page-said")).to_contain_text("Undone")
        lines = page.locator("#lines li .visually-hidden")
        expect(lines.filter(has_text="the words: every evening the baker came running. One day he")).to_have_count(1)
        page.keyboard.press("/")
        page.keyboard.type("the last but one")
        expect(page.locator("#found")).to_have_text("1 of 2")
        page.keyboard.press("Enter")
        expect(page.locator("#found")).to_have_text("2 of 2")
        page.locator("#find").fill("nowhere to be found")
        expect(page.locator("#found")).to_have_text("not on this page")

    def test_a_section_begins_at_a_heading_found_by_its_words(self):
        page = self.page
        page.keyboard.press("/")
        page.keyboard.type("a suitcase of")
        expect(page.locator("#found")).to_have_text("1 of 1")
        page.keyboard.press("Escape")
        page.keyboard.press("Escape")
        expect(page.locator("#chosen")).not_to_contain_text("selected")
        page.keyboard.press("n")
        # In the pause before its first word.
        expect(page.locator("#page-said")).to_contain_text("at 0:14")
        page.keyboard.press("u")
        expect(page.locator("#page-said")).to_contain_text("Undone")

    def test_a_word_is_heard_from_by_a_click_and_words_are_selected_by_dragging(self):
        page = self.page
        x, y = self.strip(0, 125)
        page.mouse.click(x, y)
        expect(page.locator("[data-do=play]")).to_contain_text("Stop")
        expect(page.locator("#spoken")).to_be_visible()
        page.keyboard.press(" ")
        expect(page.locator("[data-do=play]")).to_contain_text("Play")
        page.mouse.move(*self.strip(1, 380))
        page.mouse.down()
        page.mouse.move(*self.strip(1, 480), steps=4)
        page.mouse.up()
        # From the middle of the pause before “One” to that of the one after “walked.”
        expect(page.locator("#chosen")).to_have_text("1.510 s selected, 0:07.140 to 0:08.650")
        page.mouse.dblclick(*self.strip(0, 20 + 125))
        expect(page.locator("#chosen")).to_contain_text("s selected, 0:00.")
        page.keyboard.press("Escape")
        page.locator("#scroller").press("Home")
        for key in ("Control+ArrowRight", "Control+ArrowRight", "Control+Shift+ArrowRight"):
            page.keyboard.press(key)
        expect(page.locator("#chosen")).to_contain_text("s selected, 0:0")
        self.page.get_by_label("Words", exact=True).uncheck()
        expect(page.locator("#chosen")).to_contain_text("s selected")

    def test_what_does_not_count_goes_at_once_and_another_reading_can_be_kept(self):
        page = self.page
        page.locator("details[data-note=retakes] > summary").click()
        expect(page.get_by_text("2 sentences were read more than once.")).to_be_visible()
        page.get_by_role("button", name="Strike out what does not count").click()
        expect(page.locator("#page-said")).to_have_text("Strike out 2 readings that do not count.")
        expect(page.get_by_role("button", name="Strike out what does not count")).to_be_hidden()
        page.get_by_role("button", name="Keep this reading").last.click()
        expect(page.locator("#page-said")).to_contain_text("Keep the reading at 0:35")
        for said in ("Undone: Keep the reading", "Undone: Strike out 2 readings"):
            page.keyboard.press("u")
            expect(page.locator("#page-said")).to_contain_text(said)

    def test_the_headings_of_the_text_become_its_sections(self):
        page = self.page
        page.locator("details[data-note=split] > summary").click()
        page.get_by_label("By the headings or lines of the text").check()
        page.get_by_role("button", name="Show the cuts").click()
        expect(page.locator("#split-said")).to_have_text("5 sections, 1 to be heard first, 0 not read.")
        first = page.locator("#split-sections li").first
        expect(first).to_contain_text("A Suitcase of Stones")
        expect(first).to_contain_text("the end is unsure")
        page.get_by_role("button", name="Make the sections").click()
        expect(page.locator("#page-said")).to_have_text("Make 5 sections by the text.")
        for title in ("The Ferry That Waited", "A Suitcase of Stones"):
            expect(page.locator(".begins", has_text=title)).to_be_visible()
        page.keyboard.press("u")
        expect(page.locator("#page-said")).to_contain_text("Undone: Make 5 sections by the text")

    def test_it_reads_well_by_light_by_dark_and_on_a_phone(self):
        page = self.page
        for name in ("text", "retakes", "split"):
            page.locator(f"details[data-note={name}]").evaluate("each => { each.open = true; }")
        self.assert_accessible(page)
        phone = self.page = self.new_page(viewport={"width": 390, "height": 844}, has_touch=True)
        self.open(phone)
        self.assertFalse(phone.evaluate("document.documentElement.scrollWidth > innerWidth"))
        x, y = self.strip(0, 60)
        phone.touchscreen.tap(x, y)
        expect(phone.locator("[data-do=play]")).to_contain_text("Stop")
