"""Check sheets to keep: of one delivery, or of files from anywhere, as HTML, PDF, CSV and JSON."""

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass

from django.template.loader import render_to_string
from fpdf.enums import XPos, YPos
from fpdf.fonts import FontFace

from mastering.editing.tables import write_table
from mastering.outlets.findings import FAIL, PASS, REMARK
from sermovox.deliveries import manifest
from sermovox.deliveries.bundles import Bundle
from sermovox.ui.paper import FAINT, Paper

COLUMNS = ("file", "verdict of the file", "rule", "asked", "found", "margin", "verdict", "advice", "source")
_SIGNS = {PASS: "passes", REMARK: "passes, close", FAIL: "FAILS"}
_WIDTHS = (40, 42, 42, 26, 24)


@dataclass(frozen=True)
class Sheet:
    """The findings of one file, as plain values, or of a delivery as a whole."""

    name: str
    verdict: str
    findings: Sequence[dict]
    remarks: Sequence[str] = ()

    @property
    def failing(self) -> list[dict]:
        return [finding for finding in self.findings if finding["verdict"] == FAIL]


def sheets_of(bundle: Bundle) -> list[Sheet]:
    """That of the delivery as a whole, where its outlet asks something of one, and its files'; failing ones first."""
    sheets = [Sheet(file.name, file.state, file.findings, file.remarks) for file in bundle.files]
    whole = bundle.together(manifest.asked_extras(bundle))
    if whole.findings:
        sheets.insert(0, Sheet("All files together", whole.verdict, whole.as_list()))
    return sorted(sheets, key=lambda sheet: not sheet.failing)


def as_html(bundle: Bundle) -> str:
    """A page that stands by itself, to be kept or printed."""
    context = {"bundle": bundle, "outlet": bundle.outlet, "sheets": sheets_of(bundle)}
    return render_to_string("deliveries/check_sheets_alone.html", context)


def as_csv(sheets: Sequence[Sheet]) -> str:
    """One line for each rule of each file."""
    return write_table(
        COLUMNS,
        (
            (sheet.name, sheet.verdict, f["label"], f["asked"], f["found"], f.get("margin", ""), f["verdict"])
            + (f["advice"], f["source"])
            for sheet in sheets
            for f in sheet.findings
        ),
    )


def as_json(bundle: Bundle) -> str:
    """All of it, with the rules it was held against."""
    document = {
        "production": bundle.production.title,
        "outlet": bundle.outlet_key,
        "made_at": bundle.made_at.isoformat(timespec="seconds"),
        "rules": bundle.outlet_toml,
        "sheets": [asdict(sheet) for sheet in sheets_of(bundle)],
    }
    return json.dumps(document, indent=2, ensure_ascii=False)


def as_pdf(bundle: Bundle) -> bytes:
    """The check sheets on A4."""
    pdf = Paper(f"Check sheets: {bundle.production.title}, {bundle.outlet.title}")
    _line(pdf, "serif", 20, 9, bundle.production.title)
    made = bundle.made_at.strftime("%Y-%m-%d %H:%M UTC")
    _line(pdf, "sans", 10, 5, f"For {bundle.outlet.title}, made {made}")
    for sheet in sheets_of(bundle):
        pdf.ln(5)
        _line(pdf, "serif", 13, 7, sheet.name)
        _line(pdf, "sans", 9, 5, sheet.verdict)
        _table(pdf, sheet)
        for remark in sheet.remarks:
            _line(pdf, "sans", 8, 4, remark)
    return bytes(pdf.output())


def _table(pdf: Paper, sheet: Sheet) -> None:
    pdf.set_font("sans", size=8)
    with pdf.table(
        col_widths=_WIDTHS, borders_layout="HORIZONTAL_LINES", line_height=4, text_align="LEFT", padding=(1, 1.5, 1, 0)
    ) as table:
        table.row(("Rule", "Asked", "Found", "Margin", "Verdict"), style=FontFace(color=FAINT))
        for finding in sheet.findings:
            row = [finding[each] for each in ("label", "asked", "found")]
            table.row((*row, finding.get("margin", ""), _SIGNS.get(finding["verdict"], finding["verdict"])))
    for finding in sheet.failing:
        _line(pdf, "sans", 8, 4, f"{finding['label']}: {finding['advice']}")


def _line(pdf: Paper, font: str, size: int, height: int, text: str) -> None:
    pdf.set_font(font, size=size)
    pdf.multi_cell(0, height, text, new_x=XPos.LMARGIN, new_y=YPos.NEXT)
