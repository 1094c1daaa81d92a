"""What can be done on a proof sheet: each is one change of its page, among all that can be done to it."""

from mastering.editing.pieces import BadCut
from mastering.said import Said, word
from sermovox.cutting.edits import commands, number_value
from sermovox.cutting.edits import do as do
from sermovox.cutting.models import Page
from sermovox.cutting.sectioning import clock_of
from sermovox.cutting.wordcuts import strike_said
from sermovox.proofing.sheet import FINE, NOTED, OPEN, STRUCK, WANTED, Row, Sheet, word_at

_MOST_NOTED = 5000
_LONGEST_NOTE = 500
_GONE = Said("no-longer-sheet-shows-how")


@commands("settle")
def _settle(page: Page, values: dict) -> str:
    """Say what is to be done about something found: nothing, read it again, strike it out; or take that back."""
    sheet, wanted = Sheet(page), str(values.get("as", ""))
    row = _row(sheet, values)
    if wanted == OPEN:
        page.set_proof({row.key: row.kept(OPEN) if row.is_noted else None})
        return Said("open-again", told=row.told)
    if wanted == FINE:
        page.set_proof({row.key: row.kept(FINE)})
        return Said("it-is-fine-of", told=row.told)
    if wanted == WANTED and row.can_be_read_again:
        page.set_proof({row.key: row.kept(WANTED) | {"note": _note(values) or row.note}})
        return Said("to-be-read-again", short=_short(row))
    if wanted == STRUCK and row.can_be_struck:
        strike_said(page, sheet.words, [(row.start_s, row.end_s)])
        page.set_proof({row.key: row.kept(STRUCK)})
        return Said("strike-out-label", told=row.told)
    raise BadCut(Said("cannot-done-about"))


@commands("note")
def _note_word(page: Page, values: dict) -> str:
    """Note something about the word that was heard at a time, seconds."""
    kind, at_s = str(values.get("kind", "")), number_value(values, "at_s", 0.0)
    if kind not in NOTED:
        raise BadCut(Said("say-what-noted-misread-noise"))
    if not 0 <= at_s <= page.recording.frames / page.sample_rate_hz:
        raise BadCut(Said("lies-outside-recording"))
    if len(page.proof) >= _MOST_NOTED:
        raise BadCut(Said("page-takes-notes-most", most_noted=_MOST_NOTED))
    free = 1 + max((int(key[1:]) for key in page.proof if key[:1] == "n" and key[1:].isdecimal()), default=0)
    row = {"kind": kind, "start_s": at_s, "end_s": at_s, "note": _note(values), "as": OPEN} | word_at(page, at_s)
    page.set_proof({f"n{free}": row})
    where = Said("at", row=row["word"]) if "word" in row else ""
    return Said(
        "noted-of", noted=word(NOTED[kind]), where=where, page=clock_of(page, round(at_s * page.sample_rate_hz))
    )


@commands("unnote")
def _unnote(page: Page, values: dict) -> str:
    row = _row(Sheet(page), values)
    if not row.is_noted:
        raise BadCut(_GONE)
    page.set_proof({row.key: None})
    return Said("take-note-away")


def _row(sheet: Sheet, values: dict) -> Row:
    row = sheet.row(str(values.get("key", "")))
    if row is None:
        raise BadCut(_GONE)
    return row


def _note(values: dict) -> str:
    return " ".join(str(values.get("note") or "").split())[:_LONGEST_NOTE]


def _short(row: Row) -> str:
    return f"“{row.sentence[:80]}”" if row.sentence else Said("what-noted")
