"""A4 pages with the fonts of the application; text in any script they have."""

from pathlib import Path

from fpdf import FPDF

_FONTS = Path(__file__).resolve().parent / "static" / "vendor" / "fonts"
_INK, _RULE = (29, 27, 23), (143, 136, 122)
FAINT = (90, 85, 75)


class Paper(FPDF):
    """A document with one page begun. Its title stands at the foot of each."""

    def __init__(self, title: str):
        super().__init__()
        for style, name in (("", "sheet-serif.ttf"), ("B", "sheet-serif.ttf")):
            self.add_font("serif", style, _FONTS / name)
            self.add_font("sans", style, _FONTS / "sheet-sans.ttf")
        self.add_font("wide", fname=_FONTS / "sheet-wide.ttf")
        self.set_fallback_fonts(["wide"], exact_match=False)
        self.set_text_shaping(True)
        self.set_title(title)
        self.set_margins(18, 18)
        self.set_text_color(*_INK)
        self.set_draw_color(*_RULE)
        self._running_head = title
        self.add_page()

    def footer(self) -> None:
        self.set_y(-14)
        self.set_font("sans", size=8)
        self.cell(0, text=f"{self._running_head}, page {self.page_no()}", align="R")
