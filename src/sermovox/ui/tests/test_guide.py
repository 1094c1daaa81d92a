"""The guide: every page opens, its links lead somewhere, and it calls things as the screens do."""

import html
import re
from pathlib import Path

import sermovox
from sermovox.ui.guide import pages
from sermovox.ui.tests.base import AppTestCase

_TOP = Path(sermovox.__file__).parent
_NAMED = re.compile(r"\*\*([^*]+?):?\*\*")
_OWN = {
    "One production for the whole series",
    "One production for each episode",
    "A chapter was recorded again",
    "How small a file may be",
}
"""What the guide itself sets off, to be found by."""


class Guide(AppTestCase):
    def test_every_page_opens_and_leads_on(self):
        self.assertEqual(len(pages()), 9)
        for name, page in pages().items():
            answer = self.client.get(f"/guide/{name}/")
            self.assertContains(answer, page.title)
            for address in re.findall(r'<div class="guide">.*</div>', answer.content.decode(), re.DOTALL):
                for link in re.findall(r'href="(/[^"]*)"', address):
                    self.assertEqual(self.client.get(link).status_code, 200, link)
        self.assertContains(self.client.get("/guide/"), "First steps")
        self.assertEqual(self.client.get("/guide/nonsense/").status_code, 404)

    def test_what_it_names_is_called_so_on_a_screen(self):
        shown = "\n".join(path.read_text() for path in _TOP.rglob("templates/**/*.html"))
        shown += "\n".join(path.read_text() for path in (*_TOP.rglob("board/*.py"), *_TOP.rglob("static/js/*.js")))
        words = html.unescape(shown)
        for path in (_TOP / "ui" / "guide").glob("*.md"):
            for named in _NAMED.findall(path.read_text().replace("\n", " ")):
                named = " ".join(named.split())
                if named not in _OWN and not named.startswith("Allow hush"):
                    self.assertIn(named, words, f"{path.name} speaks of “{named}”")

    def test_keys_it_names_are_keys_of_a_screen(self):
        screens = "\n".join(path.read_text() for path in _TOP.rglob("templates/**/*.html"))
        keys = set(re.findall(r'(?:data-key=|% key )"(.)"', screens))
        for path in (_TOP / "ui" / "guide").glob("*.md"):
            for key in re.findall(r"`(.)`", path.read_text()):
                self.assertIn(key, keys, f"{path.name} speaks of the key {key}")
