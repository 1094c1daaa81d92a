"""A kind of mark that nothing else knows is on the page, with its button and its key, and does what it does."""

import io
from dataclasses import replace

import numpy as np
import soundfile
from django.conf import settings
from django.contrib.staticfiles.testing import StaticLiveServerTestCase
from playwright.sync_api import expect

from mastering.tests.signals import speech
from mastering.tests.test_registers import TURNED, marked_with
from sermovox.ui.tests.base import AppTestCase
from sermovox.ui.tests.running import in_a_browser


class OwnMark(AppTestCase, StaticLiveServerTestCase):
    def test_it_is_set_by_its_key_seen_heard_and_undone(self):
        section = self.bring_in(speech(seconds=5), name="turning.wav")
        address = f"{self.live_server_url}/cutting/{section.recording_id}/"
        session = self.client.cookies[settings.SESSION_COOKIE_NAME].value
        with marked_with(replace(TURNED, key="B")), in_a_browser() as browser:
            page = browser.new_page()
            page.context.add_cookies([{"name": settings.SESSION_COOKIE_NAME, "value": session, "url": address}])
            page.goto(address)
            expect(page.locator("#page[data-shown-in-ms]")).to_be_attached()
            expect(page.get_by_role("button", name="Turn B")).to_be_visible()
            page.keyboard.press("a")
            page.keyboard.press("B")
            expect(page.locator("#page-said")).to_contain_text("Turn upside down 5.00 s")
            expect(page.locator("#contents li").filter(has_text="turned upside down")).to_be_visible()
            recorded, remains = (self._heard(page, address, mode) for mode in ("recorded", "remains"))
            np.testing.assert_allclose(remains, -recorded, atol=1e-4)
            page.keyboard.press("u")
            expect(page.locator("#page-said")).to_contain_text("Undone: Turn upside down")
            expect(page.locator("#contents li").filter(has_text="turned upside down")).to_have_count(0)
            np.testing.assert_array_equal(self._heard(page, address, "remains"), recorded)

    def _heard(self, page, address: str, mode: str) -> np.ndarray:
        answer = page.request.get(f"{address}listen.wav?start=1000&end=40000&mode={mode}")
        return soundfile.read(io.BytesIO(answer.body()))[0]
