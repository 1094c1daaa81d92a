"""The running order on paper: its lines, as CSV and as PDF."""

from dataclasses import dataclass

from django.db.models import Subquery, Value
from django.db.models.functions import Coalesce
from django.utils.translation import get_language
from fpdf.enums import XPos, YPos
from fpdf.fonts import FontFace

from mastering.clock import clock
from mastering.editing.tables import write_table
from mastering.said import ENGLISH, Said
from sermovox.productions.models import Piece, Production, SectionQuerySet
from sermovox.ui.paper import FAINT, Paper

_COLUMNS = (8, 36, 74, 22, 50)
"""Widths in mm: place, role and number, title, length, recording or file name."""


@dataclass(frozen=True)
class Line:
    """One section as it is printed. `starts_s` is where it begins when all are played one after the other."""

    place: int
    what: str
    title: str
    duration_s: float | None
    starts_s: float
    recording: str
    exact_name: str
    script: str


def lines(production: Production) -> list[Line]:
    """All sections in running order."""
    found, at_s = [], 0.0
    for place, section in enumerate(_sections_of(production), 1):
        found.append(
            Line(
                place,
                section.in_words,
                section.title,
                section.duration_s,
                at_s,
                section.recorded,
                section.exact_name,
                section.script,
            )
        )
        at_s += section.duration_s or 0.0
    return found


def _sections_of(production: Production) -> SectionQuerySet:
    name = Piece.of_each().filter(place=0).values("recording__name")
    return production.sections.with_duration().annotate(recorded=Coalesce(Subquery(name), Value("")))


def as_csv(production: Production) -> str:
    """The running order as CSV with a header line; it can be read back as a script."""
    header = ("place", "role", "number", "part", "title", "content", "length", "recording", "file name", "text")
    rows = [
        (
            place,
            s.role,
            s.number,
            s.part,
            s.title,
            s.content_kind,
            clock(s.duration_s) if s.duration_s else "",
            s.recorded,
            s.exact_name,
            s.script,
        )
        for place, s in enumerate(_sections_of(production), 1)
    ]
    return write_table(header, rows)


def as_pdf(production: Production) -> bytes:
    """The running order as a PDF on A4, with the fonts of the application; text in any script they have."""
    pdf = _Printed(production.title, get_language() or ENGLISH)
    pdf.heading(production)
    total_s = 0.0
    faint = FontFace(color=FAINT)
    with pdf.table(
        col_widths=_COLUMNS, borders_layout="HORIZONTAL_LINES", line_height=5, text_align="LEFT", padding=(1, 1.5, 1, 0)
    ) as table:
        heads = ("", Said("section"), Said("title-label"), Said("length"), Said("recording-label"))
        table.row([pdf.say(each) for each in heads], style=faint)
        for line in lines(production):
            total_s += line.duration_s or 0.0
            length = clock(line.duration_s) if line.duration_s is not None else "–"
            table.row(
                (str(line.place), pdf.say(line.what), line.title, length, line.exact_name or line.recording or "–")
            )
    pdf.ln(4)
    pdf.cell(text=pdf.say(Said("recorded-all", total_s=clock(total_s))))
    return bytes(pdf.output())


class _Printed(Paper):
    def heading(self, production: Production) -> None:
        self.set_font("serif", size=20)
        self.multi_cell(0, 9, production.title, new_x=XPos.LMARGIN, new_y=YPos.NEXT)
        self.set_font("sans", size=10)
        author = Said("by-author", author=production.author) if production.author else ""
        narrator = Said("read", narrator=production.narrator) if production.narrator else ""
        facts = [production.subtitle, author, narrator, production.publisher, production.year, production.language]
        self.multi_cell(
            0, 5, ", ".join(self.say(str(fact)) for fact in facts if fact), new_x=XPos.LMARGIN, new_y=YPos.NEXT
        )
        self.ln(4)
