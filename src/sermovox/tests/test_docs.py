"""What the documents name is there: files by their place or ending of it, modules, and names of the code."""

import re
from pathlib import Path
from unittest import TestCase

from mastering.outlets.rules import RULE_KINDS

_TOP = Path(__file__).resolve().parents[3]
_CODE = re.compile(r"`([^`\n]+)`")
_FILE = re.compile(r"[\w./-]+\.(?:py|js|css|toml|html|md|txt|po|png)")
_NAME = re.compile(r"[A-Za-z]\w*(?:\.\w+)*(?:\(\))?")
_MODULE = re.compile(r"(?:sermovox|mastering)(?:\.\w+)+")
_OUTSIDE = {"var/tests.txt", "nohup"}
"""What a test run writes, and a program of the system."""


def _documents() -> list[Path]:
    return sorted([*_TOP.glob("docs/*.md"), _TOP / "README.md", _TOP / "CONTRIBUTING.md"])


class Documents(TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        kept = [path for root in ("src", "bin", "docs") for path in (_TOP / root).rglob("*") if path.is_file()]
        kept += [path for path in _TOP.iterdir() if path.is_file()]
        cls.files = [f"/{path.relative_to(_TOP).as_posix()}" for path in kept]
        sources = [path for path in kept if path.suffix in {".py", ".js", ".html", ".css", ".toml"}]
        sources += [_TOP / "pyproject.toml", *(path for path in kept if path.parent.name == "bin")]
        texts = [path.read_text(encoding="utf-8") for path in sources]
        cls.words = {word for text in texts for word in re.findall(r"\w+", text)} | set(RULE_KINDS) | _OUTSIDE
        cls.written = {name for text in texts for name in _FILE.findall(text)} | _OUTSIDE

    def wrong(self, token: str) -> bool:
        if _MODULE.fullmatch(token):
            place = "/src/" + token.replace(".", "/")
            return not any(file.startswith((f"{place}.py", f"{place}/")) for file in self.files) and self.no_word(token)
        if _FILE.fullmatch(token):
            end = "/" + token.lstrip("./")
            # It is kept here, or the code writes one of that name.
            return token not in self.written and not any(file.endswith(end) for file in self.files)
        return bool(_NAME.fullmatch(token)) and self.no_word(token)

    def no_word(self, token: str) -> bool:
        return not set(re.findall(r"\w+", token)) <= self.words

    def test_what_they_name_is_there(self):
        for document in _documents():
            tokens = set(_CODE.findall(document.read_text(encoding="utf-8")))
            with self.subTest(document.name):
                self.assertEqual(sorted(filter(self.wrong, tokens)), [])

    def test_what_they_link_to_is_there(self):
        for document in _documents():
            links = re.findall(r"\]\((?!https?:|#)([^)#\s]+)", document.read_text(encoding="utf-8"))
            with self.subTest(document.name):
                self.assertEqual([link for link in links if not (document.parent / link).exists()], [])
