"""The listening desk in a real browser: how soon it sounds, how it is switched, and rounds with hidden names."""

import re

from playwright.sync_api import expect

from sermovox.ui.tests.running import BrowserTestCase

# Three versions of a tone through the graph the desk plays by, switched half way: what of it is heard.
_SWITCHED = """async () => {
    const { together } = await import("/static/js/desk-sound.js");
    const rate = 48000, frames = rate / 10;
    const context = new OfflineAudioContext(1, rate, rate);
    const tone = (number, at) => 0.5 * Math.sin((2 * Math.PI * 100 * number * at) / rate);
    const buffers = [1, 2, 3].map((number) => {
        const buffer = new AudioBuffer({ length: frames, numberOfChannels: 1, sampleRate: rate });
        // A tone that comes round with the loop; which one is heard is told by its pitch.
        buffer.copyToChannel(Float32Array.from({ length: frames }, (_, at) => tone(number, at)), 0);
        return buffer;
    });
    const sound = together(context, buffers, [1, 1, 1], 0, 0);
    sound.turn(1, 0.5);
    const heard = (await context.startRendering()).getChannelData(0);
    const apart = (number, from, to) => {
        let most = 0;
        for (let at = from; at < to; at += 1) most = Math.max(most, Math.abs(heard[at] - tone(number, at)));
        return most;
    };
    let quietest = 1;
    for (let at = 0.49 * rate; at < 0.53 * rate; at += 240) {
        quietest = Math.min(quietest, Math.max(...heard.subarray(at, at + 480).map(Math.abs)));
    }
    return { before: apart(1, 1000, 0.5 * rate), after: apart(2, 0.52 * rate, rate - 1), quietest };
}"""


class Listening(BrowserTestCase):
    def open(self) -> None:
        self.page.goto("/listening/sections/5/?outlet=audiobook-retail")
        expect(self.page.locator("#desk-said")).to_have_text("Ready.", timeout=60000)

    def test_switching_leaves_no_gap_and_keeps_step(self):
        self.open()
        heard = self.page.evaluate(_SWITCHED)
        self.assertLess(heard["before"], 1e-4)
        # After twenty milliseconds nothing but the other one is heard, at the very place it has in the loop.
        self.assertLess(heard["after"], 1e-4)
        self.assertGreater(heard["quietest"], 0.2)

    def test_versions_are_played_switched_by_number_and_told_apart_under_hidden_names(self):
        page = self.page
        self.open()
        versions = page.locator(".version")
        # As planned, as recorded, the file of the section, the file of all sections, and what else was made meanwhile.
        before = versions.count()
        self.assertGreaterEqual(before, 4)
        page.get_by_label("Try a bitrate of").fill("32")
        page.get_by_role("button", name="Lay it on the desk").click()
        expect(versions).to_have_count(before + 1)
        expect(page.locator("#desk-said")).to_have_text("Ready.", timeout=60000)
        page.keyboard.press(" ")
        expect(page.locator("#desk-said")).to_have_text("Playing: As planned, not encoded")
        page.keyboard.press(str(before + 1))
        expect(page.locator("#desk-said")).to_contain_text("Playing: 32 kbit/s")
        # Eight, and what the clock of the sound went on by meanwhile; asked is less than twenty.
        expect(page.locator("#desk")).to_have_attribute("data-switched-ms", re.compile(r"^([89]|1\d)\.\d$"))
        expect(versions.nth(1)).to_contain_text("LUFS")
        expect(versions.nth(0)).to_contain_text("played −")
        page.keyboard.press("e")
        expect(versions.nth(0)).not_to_contain_text("played −")
        page.keyboard.press("h")
        expect(versions.first).to_be_hidden()
        page.keyboard.press("b")
        expect(page.locator("#desk-said")).to_have_text("Playing: Y")
        page.get_by_role("button", name="X is it").click()
        expect(page.locator("#blind-said")).to_contain_text("of 1 rounds right")
        self.assert_accessible(page)
        page.keyboard.press("h")
        expect(versions.nth(before)).to_contain_text("of 1 rounds right")
        page.keyboard.press(" ")
        expect(page.locator("#play")).to_have_text("Play")
        versions.nth(before).get_by_role("button", name="Take it away").click()
        expect(versions).to_have_count(before)
        self.assert_accessible(page)
