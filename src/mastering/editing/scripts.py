"""A running order out of what people have: a list of chapters, a manuscript, a table, a script with file names."""

import re
import statistics
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from mastering.editing.roles import NUMBERED, ROLE_WORDS, as_number
from mastering.editing.tables import SEPARATORS, read_table, separator_of
from mastering.said import Said

LAYOUTS = {
    "lines": Said("each-line-section"),
    "headings": Said("headings-sections-what-stands-below"),
    "columns": Said("table-columns-name-title-text"),
    "pairs": Said("name-one-line-text-next"),
}
COLUMN_SEPARATORS = SEPARATORS | {":": "colon", "=": Said("equals-sign"), " - ": "hyphen", "  ": Said("two-spaces")}
COLUMNS = {
    "": Said("leave-out"),
    "number": "number",
    "role": "role",
    "title": "title",
    "name": Said("file-name"),
    "text": Said("spoken-text"),
}
_COLUMN_WORDS = {
    "number": "number no no. nr nr. num # chapter episode".split(),
    "role": "role type section kind".split(),
    "title": "title heading chapter-title titel titre".split(),
    "name": "name file filename file-name audio wav id key client-name code".split(),
    "text": "text line script copy dialogue words prompt transcript".split(),
}
_LONGEST_TITLE = 200
_OPENING = re.compile(
    r"^(?P<role>[^\W\d_]+(?: credits)?)\b[ .]*"
    r"(?:(?P<number>\d{1,5}|[ivxlc]+|[a-z-]+)\b)?\s*[:.\-–—)]*\s*(?P<title>.*)$",
    re.IGNORECASE,
)
_NUMBERED = re.compile(r"^(?P<number>\d{1,5})(?:\s*[.):\-–—]\s*|\s+)(?P<title>\S.*)$")
_NAME_LIKE = re.compile(r"^[\w().+-]{1,120}$")
_NAMED_FILE = re.compile(r"^[^\\/:*?\"<>|\t]{1,120}\.(wav|mp3|aiff?|flac|ogg|m4a|wma)$", re.IGNORECASE)
_LOOKED_AT_LINES = 200


@dataclass(frozen=True, kw_only=True)
class Entry:
    """What will become a section. `name` is the file name a client dictates, `text` what is spoken, `heading` the line
    it stands under, as it was written.
    """

    role: str
    number: int | None = None
    title: str
    name: str = ""
    text: str = ""
    heading: str = field(default="", compare=False)


@dataclass(frozen=True, kw_only=True)
class Layout:
    """How a script is laid out. `separator`, `header` and `columns` speak of tables only."""

    kind: str
    separator: str = ""
    header: bool = False
    columns: tuple[str, ...] = ()


def recognised(text: str) -> Layout:
    """Find out how a script is laid out, from its first 200 lines."""
    lines = [line for line in text.split("\n") if line.strip()][:_LOOKED_AT_LINES]
    if not lines:
        return Layout(kind="lines")
    if sum(line.startswith("#") for line in lines) and not _mostly_tabs(lines):
        return Layout(kind="headings")
    sample = "\n".join(lines)
    separator = separator_of(sample)
    # Prose has commas too: a comma or a hyphen parts columns only where a name or a number stands before it.
    if separator == "\t" or (separator and _begins_with_names(read_table(sample, separator))):
        return table_layout(text, separator)
    if _alternates(lines):
        return Layout(kind="pairs")
    for sign in (":", "=", " - ", "  "):
        rows = [line.split(sign, 1) for line in lines]
        if all(len(row) == 2 for row in rows) and _begins_with_names(rows):
            return table_layout(text, sign)
    openings = sum(_opening(line) is not None for line in lines)
    if openings and statistics.median(len(line) for line in lines) > 90 and openings < len(lines):
        return Layout(kind="headings")
    return Layout(kind="lines")


def table_layout(text: str, separator: str) -> Layout:
    """The layout of a table with this separator: whether it has a header, and what each column holds."""
    rows = rows_of(text, separator)[:_LOOKED_AT_LINES]
    width = max((len(row) for row in rows), default=0)
    if not rows:
        return Layout(kind="columns", separator=separator)
    named = [_column_by_word(cell) for cell in rows[0]]
    header = _looks_like_header(rows)
    columns = [*named, *[""] * (width - len(named))] if header else _columns_by_content(rows, width)
    return Layout(kind="columns", separator=separator, header=header, columns=tuple(columns))


def rows_of(text: str, separator: str) -> list[list[str]]:
    """The rows of a table in a script."""
    if separator in SEPARATORS:
        return read_table(text, separator)
    return [[cell.strip() for cell in line.split(separator, 1)] for line in text.split("\n") if line.strip()]


def entries(text: str, layout: Layout, *, role: str | None = None) -> list[Entry]:
    """What a script becomes, in order.

    Parameters
    ----------
    role
        The role of every section, one of ROLES; None lets each line say it, chapter where it does not.
    """
    found = {"lines": _by_lines, "headings": _by_headings, "pairs": _by_pairs}.get(layout.kind)
    made = found(text) if found else _by_columns(text, layout)
    if role:
        made = [replace(entry, role=role) for entry in made]
    return made


def entry_of(line: str, *, text: str = "") -> Entry:
    """Read one heading: "Chapter 3: Fog", "3. Fog", "Dedication", "Fog"."""
    line = " ".join(line.lstrip("#").split())
    opening = _opening(line)
    if opening:
        role, number, title = opening
        return Entry(role=role, number=number, title=(title or line)[:_LONGEST_TITLE], text=text)
    numbered = _NUMBERED.match(line)
    if numbered:
        return Entry(
            role="chapter", number=int(numbered["number"]), title=numbered["title"][:_LONGEST_TITLE], text=text
        )
    return Entry(role="chapter", title=line[:_LONGEST_TITLE], text=text)


def _by_lines(text: str) -> list[Entry]:
    return [replace(entry_of(line), heading=line) for line in text.split("\n") if line.strip("# \t")]


def _by_headings(text: str) -> list[Entry]:
    lines = text.split("\n")
    marked = any(line.startswith("#") for line in lines)
    found: list[Entry] = []
    below: list[str] = []

    def close() -> None:
        if found:
            found[-1] = replace(found[-1], text="\n".join(below).strip())
        below.clear()

    for line in lines:
        heading = line.startswith("#") if marked else len(line) < 90 and _opening(line.strip()) is not None
        if heading and line.strip("# \t"):
            close()
            found.append(replace(entry_of(line), heading=line))
        else:
            below.append(line.strip())
    close()
    return found


def _by_pairs(text: str) -> list[Entry]:
    lines = [line.strip() for line in text.split("\n") if line.strip()]
    return [
        Entry(role="line", title=_title_of(spoken, name), name=name, text=spoken)
        for name, spoken in zip(lines[::2], [*lines[1::2], ""], strict=False)
    ]


def _by_columns(text: str, layout: Layout) -> list[Entry]:
    rows = rows_of(text, layout.separator or "\t")
    found = []
    for row in rows[1:] if layout.header else rows:
        cells = dict(zip(layout.columns, row, strict=False))
        cells.pop("", None)
        if any(cells.values()):
            found.append(_entry_of_cells(cells))
    return found


def _entry_of_cells(cells: dict[str, str]) -> Entry:
    spoken, name = cells.get("text", ""), cells.get("name", "")
    title = " ".join((cells.get("title") or "").split())
    read = entry_of(title) if title else None
    role = ROLE_WORDS.get(cells.get("role", "").strip().lower()) or ("line" if name else read.role if read else "line")
    if read and (cells.get("number") or name):
        read = replace(read, title=title)
    number = as_number(cells.get("number", ""))
    return Entry(
        role=role,
        number=number if number is not None else read.number if read else None,
        title=(read.title if read else _title_of(spoken, name))[:_LONGEST_TITLE],
        name=name[:255],
        text=spoken,
    )


def _title_of(spoken: str, name: str) -> str:
    """A line's title is how it begins."""
    words = " ".join(spoken.split())
    return words if len(words) <= 60 else words[:60].rsplit(" ", 1)[0] + " …" if words else name


def _opening(line: str) -> tuple[str, int | None, str] | None:
    """Role, number and title of a line that begins with a role; None when it does not."""
    found = _OPENING.match(line.lstrip("# "))
    if not found:
        return None
    role = ROLE_WORDS.get(found["role"].lower())
    if role is None:
        return None
    number = as_number(found["number"] or "")
    if found["number"] and number is None:
        # "Opening tune", "Line dancing": the word after the role is part of a title, not a number.
        if role not in ("foreword", "afterword", "dedication") or len(line) > 60:
            return None
        return role, None, line.lstrip("# ")
    if number is None and found["title"] and role in NUMBERED:
        return None
    return role, number, found["title"].strip()


def _mostly_tabs(lines: Sequence[str]) -> bool:
    return sum("\t" in line for line in lines) > len(lines) / 2


def _is_name(cell: str) -> bool:
    """Whether this could be a file name a client gives: an ending of audio, or one word that is not plain prose."""
    cell = cell.strip()
    if _NAMED_FILE.match(cell):
        return True
    return bool(_NAME_LIKE.match(cell)) and bool(re.search(r"[\d_]|[a-z][A-Z]", cell) or cell.isupper())


def _begins_with_names(rows: Sequence[Sequence[str]]) -> bool:
    if _looks_like_header(rows):
        return True
    firsts = [row[0] for row in rows if row]
    named = sum(_is_name(cell) or cell.strip().isdecimal() for cell in firsts)
    return bool(firsts) and named >= 0.8 * len(firsts)


def _looks_like_header(rows: Sequence[Sequence[str]]) -> bool:
    if not rows or len(rows[0]) < 2 or any(cell.strip().isdecimal() for cell in rows[0]):
        return False
    words = [word for cell in rows[0] if (word := _column_by_word(cell))]
    return len(words) >= max(2, len(rows[0]) / 2) and len(set(words)) == len(words)


def _alternates(lines: Sequence[str]) -> bool:
    """Whether every other line is a name and those between are not."""
    names, spoken = lines[::2], lines[1::2]
    if not spoken:
        return False
    return (
        sum(map(_is_name, names)) >= 0.8 * len(names)
        and sum(map(_is_name, spoken)) <= 0.2 * len(spoken)
        and len(set(names)) >= 0.8 * len(names)
    )


def _column_by_word(cell: str) -> str:
    word = "-".join(cell.lower().split())
    return next((kind for kind, words in _COLUMN_WORDS.items() if word in words), "")


def _columns_by_content(rows: Sequence[Sequence[str]], width: int) -> list[str]:
    columns = [[row[at].strip() if at < len(row) else "" for row in rows] for at in range(width)]
    kinds = [""] * width
    lengths = [statistics.mean(map(len, column)) if column else 0 for column in columns]
    for at, column in enumerate(columns):
        filled = [cell for cell in column if cell]
        if not filled:
            continue
        share = Counter(
            "role" if cell.lower() in ROLE_WORDS else "number" if cell.isdecimal() and len(cell) < 6
            else "name" if _is_name(cell) else "" for cell in filled
        )  # fmt: skip
        kind, count = share.most_common(1)[0]
        if kind and kind not in kinds and count >= 0.7 * len(filled):
            kinds[at] = kind
    rest = sorted((at for at in range(width) if not kinds[at]), key=lambda at: lengths[at], reverse=True)
    if rest:
        # What is said is the longest; a table of chapters has titles and no text.
        longest = rest[0]
        kinds[longest] = "text" if "name" in kinds or lengths[longest] > 80 else "title"
        for at in rest[1:]:
            if "title" not in kinds and lengths[at] > 2:
                kinds[at] = "title"
    return kinds
