"""Proof sheets in a real browser: gone through by keys, listened through, read again, shared."""

from playwright.sync_api import expect

from sermovox.ui.tests.running import BrowserTestCase

TALES = "all five tales, one take.flac"


class Proof(BrowserTestCase):
    """The demonstration's long take and its planted mistakes; each test undoes what it did."""

    def setUp(self):
        super().setUp()
        self.open(self.page)

    def open(self, page) -> None:
        page.goto("/productions/4/")
        page.get_by_role("link", name=TALES).first.click()
        page.get_by_role("link", name="What was read").click()
        expect(page.locator("[data-found]")).to_have_count(5)

    def press(self, key: str, said: str) -> None:
        self.page.keyboard.press(key)
        expect(self.page.locator("#proof-said")).to_contain_text(said)

    def test_it_is_gone_through_by_keys(self):
        page = self.page
        for what in ("not read", "begun and broken off", "probably said otherwise", "read again later", "for 4.2 s"):
            expect(page.locator(".found-note", has_text=what)).to_be_visible()
        page.keyboard.press("j")
        page.keyboard.press(" ")
        expect(page.locator("[data-found] [aria-pressed=true]")).to_have_count(1)
        page.keyboard.press(" ")
        self.press("p", "To be read again: “Nobody on deck said a word about it.”")
        expect(page.locator("[data-found]")).to_have_count(4)
        # The next one has the focus.
        expect(page.locator("[data-found]:focus")).to_contain_text("begun and broken off")
        self.press("s", "Strike out: begun and broken off")
        page.keyboard.press("ArrowDown")
        expect(page.locator("[data-found]:focus")).to_contain_text("read again later")
        self.press("f", "It is fine")
        expect(page.locator(".proof-told")).to_contain_text("2 places are to be looked at. 3 are settled.")
        page.get_by_role("link", name="1 is to be read again").click()
        expect(page.locator(".pickups .meant")).to_have_text("Nobody on deck said a word about it.")
        page.go_back()
        # Going back shows how it is, not how it was.
        expect(page.locator("[data-found]")).to_have_count(2)
        for left in (3, 4, 5):
            page.get_by_role("button", name="Undo").click()
            expect(page.locator("[data-found]")).to_have_count(left)
        expect(page.locator("#proof-said")).to_contain_text("Undone")

    def test_listening_through_follows_the_text_and_notes_a_word(self):
        page = self.page
        page.get_by_role("link", name="Listen through").click()
        page.get_by_label("With the next note").fill("a breath")
        page.locator("#reading-text span", has_text="ferry").first.click()
        expect(page.locator("[data-act=play]")).to_contain_text("Stop")
        expect(page.locator("#reading-text .now")).to_be_visible()
        expect(page.locator("#reading-text .now")).not_to_have_text("ferry")
        page.locator("#reading-text").focus()
        page.keyboard.press("t")
        expect(page.locator("#noted-said")).to_contain_text("Noted: too fast or too slow at “")
        expect(page.locator("#reading-text .noted")).to_have_count(1)
        for key, speed in (("]", "1.25×"), ("]", "1.5×"), ("[", "1.25×")):
            page.keyboard.press(key)
            expect(page.locator("#speed")).to_have_text(speed)
        page.keyboard.press(" ")
        page.reload()
        expect(page.locator("#reading-text .noted")).to_have_count(1)
        page.get_by_role("link", name="The proof sheet").click()
        expect(page.locator(".found-note", has_text="a breath")).to_be_visible()
        page.keyboard.press("u")
        expect(page.locator("#proof-said")).to_contain_text("Undone: Noted")

    def test_somebody_with_the_link_hears_it_on_a_phone_and_remarks(self):
        page = self.page
        page.get_by_text("Make a link").click()
        page.get_by_label("For whom").fill("Ottoline Farrow")
        page.get_by_role("button", name="Make the link").click()
        address = page.locator(".margin").get_by_role("link", name="Ottoline Farrow").get_attribute("href")
        phone = self.new_page(viewport={"width": 390, "height": 844}, has_touch=True)
        phone.goto(address)
        self.assertFalse(phone.evaluate("document.documentElement.scrollWidth > innerWidth"))
        phone.locator("#reading-text span", has_text="captain").tap()
        expect(phone.locator("[data-act=play]")).to_contain_text("Stop")
        phone.get_by_label("About this word").fill("Slower here, please.")
        expect(phone.locator("[data-act=play]")).to_contain_text("Play")
        phone.get_by_role("button", name="Send the remark").click()
        expect(phone.locator("#noted-said")).to_have_text("Your remark is there.")
        self.assert_accessible(phone)
        page.reload()
        expect(page.locator(".found-note", has_text="Ottoline Farrow: Slower here, please.")).to_be_visible()
        page.get_by_role("button", name="End it").click()
        expect(page.get_by_text("The link has ended.")).to_be_visible()
        phone.reload()
        expect(phone.get_by_text("This link ended")).to_be_visible()
        self.running_remarks_gone()

    def running_remarks_gone(self) -> None:
        """Settled, so that the others find the five places that are open."""
        row = self.page.locator("[data-found]", has_text="Slower here, please.")
        row.get_by_role("button", name="It is fine").click()
        expect(self.page.locator("[data-found]")).to_have_count(5)

    def test_it_reads_well_by_light_by_dark_and_on_a_phone(self):
        self.assert_accessible(self.page)
        self.assert_focus_is_seen(self.page)
        for name in ("Listen through", "What is to be read again"):
            self.page.get_by_role("link", name=name).first.click()
            self.assert_accessible(self.page)
            self.page.go_back()
        phone = self.new_page(viewport={"width": 390, "height": 844}, has_touch=True)
        self.open(phone)
        self.assertFalse(phone.evaluate("document.documentElement.scrollWidth > innerWidth"))
