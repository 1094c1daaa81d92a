"""What was found in finished files, on A4."""

from collections.abc import Sequence

from fpdf.enums import XPos, YPos
from fpdf.fonts import FontFace

from mastering.outlets.findings import FAIL, PASS, REMARK
from mastering.outlets.reports import Checked, worst_first
from mastering.said import Said, together, word
from sermovox.ui.paper import FAINT, Paper

_SIGNS = {PASS: Said("passes"), REMARK: Said("passes-close"), FAIL: Said("fails-loudly")}
_WIDTHS = (40, 42, 42, 26, 24)


def as_pdf(title: str, head: str, intro: str, files: Sequence[Checked], language: str) -> bytes:
    """A summary, the worst first, then each file with every rule. `title` stands at the foot of each page."""
    pdf = Paper(title, language)
    _line(pdf, "serif", 20, 9, head)
    _line(pdf, "sans", 10, 5, intro)
    pdf.ln(3)
    for file in worst_first(files):
        _line(
            pdf,
            "sans",
            9,
            4.5,
            together([together([file.name, word(file.verdict)], ": "), *([file.worst] if file.worst else [])], ". "),
        )
    for file in worst_first(files):
        pdf.ln(5)
        _line(pdf, "serif", 13, 7, file.name)
        _line(pdf, "sans", 9, 5, file.said or word(file.verdict))
        if file.findings:
            _table(pdf, file)
        for remark in file.remarks:
            _line(pdf, "sans", 8, 4, remark)
    return bytes(pdf.output())


def _table(pdf: Paper, file: Checked) -> None:
    pdf.set_font("sans", size=8)
    with pdf.table(
        col_widths=_WIDTHS, borders_layout="HORIZONTAL_LINES", line_height=4, text_align="LEFT", padding=(1, 1.5, 1, 0)
    ) as table:
        heads = (
            Said("rule"),
            Said("asked"),
            Said("found"),
            Said("margin"),
            Said("verdict"),
        )
        table.row([pdf.say(each) for each in heads], style=FontFace(color=FAINT))
        for finding in file.findings:
            row = [finding[each] for each in ("label", "asked", "found")]
            row += [finding.get("margin", ""), _SIGNS.get(finding["verdict"], finding["verdict"])]
            table.row([pdf.say(each) for each in row])
    for finding in file.failing:
        _line(pdf, "sans", 8, 4, together([finding["label"], finding["advice"]], ": "))


def _line(pdf: Paper, font: str, size: int, height: float, text: str) -> None:
    pdf.set_font(font, size=size)
    pdf.multi_cell(0, height, pdf.say(text), new_x=XPos.LMARGIN, new_y=YPos.NEXT)
