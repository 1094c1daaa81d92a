"""Proof sheets and pickup lists as CSV and on A4."""

from collections.abc import Sequence

from django.utils.translation import get_language
from fpdf.enums import XPos, YPos

from mastering.clock import clock
from mastering.editing.tables import write_table
from mastering.said import ENGLISH, Said
from sermovox.proofing.pickups import Pickup
from sermovox.proofing.sheet import Row
from sermovox.ui.paper import FAINT, Paper
from sermovox.ui.words import said

FINDS = Said("proof-sheet-finds-sentences-missing")
"""What can be found and what cannot. Of 36 single words exchanged in the texts of Debian's prompts 12 were found."""
_HEADER = ("start", "end", "what", "settled", "sentence", "note")
_PICKUP_HEADER = ("number", "recording", "at", "why", "before", "sentence", "after", "note")


def sheet_as_csv(rows: Sequence[Row]) -> str:
    """A proof sheet with a header line; times in h:mm:ss with three decimals."""
    told = [
        (
            clock(row.start_s, 3),
            clock(row.end_s, 3),
            said(row.told),
            said(row.settled_told),
            row.sentence,
            row.note,
        )
        for row in rows
    ]
    return write_table(_HEADER, [*told, ("", "", said(FINDS), "", "", "")])


def sheet_as_pdf(title: str, intro: str, rows: Sequence[Row]) -> bytes:
    """A proof sheet: each place with its sentence."""
    pdf = Paper(title, get_language() or ENGLISH)
    _line(pdf, "serif", 20, 9, title)
    _line(pdf, "sans", 10, 5, pdf.say(intro))
    _line(pdf, "sans", 9, 4.5, said(FINDS), faint=True)
    for row in rows:
        pdf.ln(3)
        settled = f" · {said(row.settled_told)}" if row.settled else ""
        _line(pdf, "sans", 9, 4.5, f"{clock(row.start_s)} · {said(row.told)}{settled}", faint=True)
        if row.sentence:
            _line(pdf, "serif", 11, 5.5, row.sentence)
        if row.note:
            _line(pdf, "sans", 9, 4.5, row.note)
    return bytes(pdf.output())


def pickups_as_csv(pickups: Sequence[Pickup]) -> str:
    """A pickup list with a header line."""
    told = [
        (
            number,
            each.page.recording.name,
            clock(each.row.start_s, 3),
            said(each.row.told),
            each.row.before,
            each.row.sentence,
            each.row.after,
            each.row.note,
        )
        for number, each in enumerate(pickups, 1)
    ]
    return write_table(_PICKUP_HEADER, told)


def pickups_as_pdf(title: str, intro: str, pickups: Sequence[Pickup]) -> bytes:
    """A pickup list, large enough to read from."""
    pdf = Paper(title, get_language() or ENGLISH)
    _line(pdf, "serif", 20, 9, title)
    _line(pdf, "sans", 10, 5, pdf.say(intro))
    for number, each in enumerate(pickups, 1):
        row = each.row
        pdf.ln(6)
        with pdf.unbreakable() as whole:
            where = f"{number} · {each.page.recording.name}, {clock(row.start_s)} · {said(row.told)}"
            _line(whole, "sans", 9, 5, f"{where} · {row.note}" if row.note else where, faint=True)
            if row.before:
                _line(whole, "serif", 12, 6.5, row.before, faint=True)
            _line(whole, "serif", 18, 9.5, row.sentence)
            if row.after:
                _line(whole, "serif", 12, 6.5, row.after, faint=True)
    return bytes(pdf.output())


def _line(pdf, font: str, size: int, height: float, text: str, *, faint: bool = False) -> None:
    pdf.set_font(font, size=size)
    colour = pdf.text_color
    if faint:
        pdf.set_text_color(*FAINT)
    pdf.multi_cell(0, height, text, new_x=XPos.LMARGIN, new_y=YPos.NEXT)
    pdf.set_text_color(colour)
