"""Tables as CSV (RFC 4180), in as people's spreadsheets write them and out so that no spreadsheet runs them."""

import csv
import io
import re
from collections.abc import Iterable, Sequence
from typing import Any

from mastering.editing.texts import UnreadableText
from mastering.said import Said

SEPARATORS = {"\t": "tab", ";": "semicolon", "|": "bar", ",": "comma"}
"""The comma last: it stands in prose too, so where another sign parts the lines as well, that one is meant."""
_LOOKED_AT_LINES = 60
_RUNNABLE = re.compile(r"\s*[=+\-@＝＋－＠﹦﹢﹣﹫]|[\t\r\n]")  # noqa: RUF001
_SMART_QUOTED = re.compile(r"(?:(?<=^)|(?<=[\t,;|])) *[“„«]([^“”„«»\n]*)[”“»] *(?=$|[\t,;|])", re.MULTILINE)


def separator_of(text: str) -> str | None:
    """The sign that parts columns in a table, or None when it is no table.

    It is the sign that gives most lines the same number of columns, more than one.
    """
    lines = [line for line in text.split("\n")[:_LOOKED_AT_LINES] if line.strip()]
    best, best_share = None, 0.6
    for sign in SEPARATORS:
        try:
            counts = [len(row) for row in _rows("\n".join(lines), sign)]
        except UnreadableText:
            continue
        common = max(set(counts), key=counts.count, default=1)
        share = counts.count(common) / max(1, len(counts))
        if common > 1 and share > best_share:
            best, best_share = sign, share
    return best


def read_table(text: str, separator: str | None = None) -> list[list[str]]:
    """The rows of a table, without empty ones; cells have no outer white space.

    Raises UnreadableText, with the line, for a cell too large to be meant.
    """
    rows = _rows(text, separator or separator_of(text) or ",")
    return [cells for row in rows if any(cells := [_plain_again(cell.strip()) for cell in row])]


def write_table(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> str:
    """Write CSV with a header line. Cells a spreadsheet would run as a formula begin with an apostrophe."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(header)
    writer.writerows([_harmless(cell) for cell in row] for row in rows)
    return text.getvalue()


def _rows(text: str, separator: str) -> list[list[str]]:
    straight = _SMART_QUOTED.sub(lambda found: '"' + found.group(1).replace('"', '""') + '"', text)
    try:
        return list(csv.reader(io.StringIO(straight), delimiter=separator, skipinitialspace=True))
    except csv.Error as error:
        raise UnreadableText(Said("table-cannot-read", error=error)) from error


def _harmless(cell: Any) -> Any:
    return f"'{cell}" if isinstance(cell, str) and _RUNNABLE.match(cell) else "" if cell is None else cell


def _plain_again(cell: str) -> str:
    return cell[1:] if cell[:1] == "'" and _RUNNABLE.match(cell[1:]) else cell
