"""The proof sheet of a recording: what was read against its text, what a listener noted, and what was settled of it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from mastering.said import Said
from mastering.words import proof
from mastering.words.hearing import HeardScript
from mastering.words.lines import word_texts
from mastering.words.proof import ProofFinding
from sermovox.cutting.models import Page
from sermovox.cutting.sectioning import sections_on
from sermovox.cutting.texts import Words, gone
from sermovox.productions.models import Section
from sermovox.proofing.models import Remark

OPEN, FINE, WANTED, STRUCK, PUT_IN = "", "fine", "pickup", "struck", "put in"
MISREAD, NOISE, PACE, PRONUNCIATION, OTHER = "misread", "noise", "pace", "pronunciation", "other"
REMARK = "remark"
NOTED = {
    MISREAD: "misread",
    NOISE: Said("noise"),
    PACE: Said("too-fast-too-slow"),
    PRONUNCIATION: Said("pronounced-otherwise"),
    OTHER: "noted",
}
"""What a listener may note, as it is said."""
_TOLD = {
    proof.MISSING: Said("not-read-2"),
    proof.IN_PART: Said("read-part"),
    proof.AGAIN: Said("read-again-later"),
    proof.BROKEN_OFF: Said("begun-broken-off"),
    proof.OUTSIDE: Said("not-text"),
    proof.OTHERWISE: Said("probably-said-otherwise"),
    proof.ELSEWHERE: Said("read-another-order"),
}
_SETTLED = {OPEN: "open", FINE: "fine", WANTED: Said("read-again-2"), STRUCK: Said("struck-out"), PUT_IN: "put in"}
_STRIKES = (proof.AGAIN, proof.BROKEN_OFF, proof.OUTSIDE)
_PICKUPS = (proof.MISSING, proof.IN_PART, proof.OTHERWISE, proof.ELSEWHERE, *NOTED, REMARK)
_AROUND_S = 1.0
_KEPT = ("kind", "line", "start_s", "end_s", "sentence", "before", "after", "note", "word_number")
"""What is kept of a row once it is settled or noted."""


@dataclass(frozen=True)
class Row:
    """Something to be looked at: its `key`, where it is, seconds, the sentence with the one before and after it, and
    whether it is settled and how. `parts` is the sentence word by word, each with whether it is the one that is meant;
    `word_number` tells which word a listener noted.
    """

    key: str
    kind: str
    line: int | None
    start_s: float
    end_s: float
    sentence: str = ""
    before: str = ""
    after: str = ""
    note: str = ""
    settled: str = OPEN
    word_number: int | None = None
    parts: Sequence[tuple[str, bool]] = field(default=(), compare=False)

    @property
    def told(self) -> str:
        """What it is, in words."""
        if self.kind == proof.HESITATION:
            return Said("nothing-said-s", end_s=self.end_s - self.start_s)
        return _TOLD.get(self.kind) or NOTED.get(self.kind, "remarked")

    @property
    def settled_told(self) -> str:
        """How it is settled, in words."""
        return _SETTLED[self.settled]

    @property
    def is_noted(self) -> bool:
        """Whether a listener noted it, and can take that away."""
        return self.kind in NOTED

    @property
    def can_be_struck(self) -> bool:
        return self.kind in _STRIKES

    @property
    def can_be_read_again(self) -> bool:
        return self.kind in _PICKUPS

    @property
    def heard_s(self) -> tuple[float, float]:
        """What is played of it: a moment more on both sides."""
        return max(0.0, self.start_s - _AROUND_S), self.end_s + _AROUND_S

    def kept(self, settled: str) -> dict[str, Any]:
        """As it is kept once it is settled."""
        return {name: value for name in _KEPT if (value := getattr(self, name)) not in ("", None)} | {"as": settled}


class Sheet:
    """What there is to be looked at on one page."""

    def __init__(self, page: Page):
        self.page = page
        self.words = Words(page)

    def rows(self, section: Section | None = None) -> list[Row]:
        """All of it in the order of the recording, or what of it belongs to one section."""
        found = {row.key: row for row in self._found()} if self.words.heard else {}
        for row in self._remarks():
            found[row.key] = row
        for key, kept in self.page.proof.items():
            if key not in found:
                found[key] = _row_of(key, kept)
        # Of several that are missing in one place, the first in the text comes first.
        rows = sorted(found.values(), key=lambda row: (row.start_s, row.end_s, row.line or 0, row.key))
        return [row for row in rows if self._is_of(row, section)] if section else rows

    def row(self, key: str) -> Row | None:
        """The one with this key."""
        return next((row for row in self.rows() if row.key == key), None)

    def _found(self) -> Iterator[Row]:
        """What is found by machine and is neither struck out nor replaced."""
        heard = self.words.remaining
        spared = self._in_other_recordings()
        for finding in proof.proof(heard, gone(self.page), self.words.put_in):
            if finding.kind == proof.MISSING and finding.line in spared:
                continue
            key = f"{finding.kind}:{'' if finding.line is None else finding.line}:{round(finding.start_s * 1000)}"
            kept = self.page.proof.get(key, {})
            # What was struck out and came back is open again.
            settled = OPEN if kept.get("as") in (STRUCK, PUT_IN) else kept.get("as", OPEN)
            line = finding.line
            yield Row(
                key,
                finding.kind,
                line,
                finding.start_s,
                finding.end_s,
                sentence=self._sentence(line),
                before=self._sentence(line - 1) if line else "",
                after=self._sentence(line + 1) if line is not None else "",
                note=kept.get("note", ""),
                settled=settled,
                parts=_parts(heard, finding),
            )

    def _remarks(self) -> Iterator[Row]:
        """What others have to say, by the links they were given."""
        for remark in Remark.objects.filter(shared__page=self.page).select_related("shared"):
            key = f"g{remark.pk}"
            kept = {"note": f"{remark.called}: {remark.text}"} | remark.place | self.page.proof.get(key, {})
            yield _row_of(key, kept | {"kind": REMARK})

    def _sentence(self, line: int | None) -> str:
        lines = self.words.certainly_heard.lines
        return lines[line] if line is not None and 0 <= line < len(lines) else ""

    def _in_other_recordings(self) -> set[int]:
        """The lines of sections that are put together of several pieces: what is missing here may stand in another."""
        owners = self.words.text.sections if self.words.text else []
        shared = {section.pk for section, _, _ in sections_on(self.page) if len(section.made_of) > 1}
        return {line for line, owner in enumerate(owners) if owner in shared}

    def _is_of(self, row: Row, section: Section) -> bool:
        owners = self.words.text.sections if self.words.text else []
        if row.line is not None and row.line < len(owners):
            return owners[row.line] == section.pk
        rate_hz = self.page.sample_rate_hz
        key = str(self.page.recording_id)
        spans = [(s.start_sample / rate_hz, s.end_sample / rate_hz) for s in section.stretches() if s.recording == key]
        return any(start_s <= row.start_s < end_s for start_s, end_s in spans)


def word_at(page: Page, at_s: float) -> dict[str, Any]:
    """The word that was being said at a time, or the last one before, with its sentence; nothing where there are none.
    As a row is kept.
    """
    heard = Words(page).heard
    before = [reading for reading in heard.readings if reading.start_s <= at_s] if heard else []
    if heard is None or not before:
        return {}
    reading = before[-1]
    word = [word for word in reading.words if word.start_s <= at_s][-1]
    lines, line = heard.lines, reading.line
    return {
        "line": line,
        "word": word_texts(lines[line])[word.word],
        "word_number": word.word,
        "start_s": word.start_s,
        "end_s": word.end_s,
        "sentence": lines[line],
        "before": lines[line - 1] if line else "",
        "after": lines[line + 1] if line + 1 < len(lines) else "",
    }


def _row_of(key: str, kept: dict[str, Any]) -> Row:
    facts = {"line": None, "start_s": 0.0, "end_s": 0.0} | {name: kept[name] for name in _KEPT if name in kept}
    texts = word_texts(kept.get("sentence", "")) if "word_number" in kept else []
    parts = [(text, at == kept["word_number"]) for at, text in enumerate(texts)]
    return Row(key, settled=kept.get("as", OPEN), parts=parts, **facts)


def _parts(heard: HeardScript, finding: ProofFinding) -> list[tuple[str, bool]]:
    """The sentence word by word, with those that are doubtful, or that were read of it."""
    if finding.line is None:
        return []
    texts = word_texts(heard.lines[finding.line])
    meant: set[int] = set()
    if finding.kind in (proof.OTHERWISE, proof.IN_PART, proof.BROKEN_OFF):
        for reading in heard.readings:
            if reading.line == finding.line:
                inside = [w.word for w in reading.words if finding.start_s <= w.start_s < finding.end_s]
                meant.update(inside)
    return [(text, at in meant) for at, text in enumerate(texts)]
