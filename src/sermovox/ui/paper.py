"""A4 pages with the fonts of the application; text in any script they have."""

from pathlib import Path

from fpdf import FPDF

from mastering.said import Said, speak

_FONTS = Path(__file__).resolve().parent / "static" / "vendor" / "fonts"
_INK, _RULE = (29, 27, 23), (143, 136, 122)
FAINT = (90, 85, 75)


class Paper(FPDF):
    """A document with one page begun, in a language. Its title stands at the foot of each."""

    def __init__(self, title: str, language: str):
        super().__init__()
        self.language = language
        for style, name in (("", "sheet-serif.ttf"), ("B", "sheet-serif.ttf")):
            self.add_font("serif", style, _FONTS / name)
            self.add_font("sans", style, _FONTS / "sheet-sans.ttf")
        self.add_font("wide", fname=_FONTS / "sheet-wide.ttf")
        self.set_fallback_fonts(["wide"], exact_match=False)
        self.set_text_shaping(True)
        title = self.say(title)
        self.set_title(title)
        self.set_lang(language)
        self.set_margins(18, 18)
        self.set_text_color(*_INK)
        self.set_draw_color(*_RULE)
        self._running_head = title
        self.add_page()

    def footer(self) -> None:
        self.set_y(-14)
        self.set_font("sans", size=8)
        foot = Said("page-of-paper", head=self._running_head, number=self.page_no())
        self.cell(0, text=self.say(foot), align="R")

    def say(self, text: str) -> str:
        """A sentence in the language of the document; other text as it is."""
        return speak(text, self.language)
