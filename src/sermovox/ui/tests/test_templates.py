"""How templates read: what no formatter holds, as none knows where white space counts."""

from pathlib import Path

from django.test import SimpleTestCase

_TOP = Path(__file__).resolve().parents[2]
_WIDTH = 120


class Templates(SimpleTestCase):
    def test_no_line_is_wider_than_those_of_the_code(self):
        wide = [
            f"{path.relative_to(_TOP)}:{number}"
            for path in sorted(_TOP.rglob("templates/**/*.html"))
            for number, line in enumerate(path.read_text(encoding="utf-8").splitlines(), start=1)
            if len(line) > _WIDTH
        ]
        self.assertEqual(wide, [])
