"""A pattern as a row of parts, each a field with a few choices: what can be put together without writing a pattern."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from mastering.naming.patterns import Field, Piece, read_pattern

LETTERS = ("lower", "upper", "capitals")
AS_NEEDED = ""
"""Noughts in front as many as the book needs."""
EXAMPLES = (
    "{place|pad:2}[-{title|plain|lower|join:-|most:60}]",
    "{place|pad} {title}",
    "{production} - {place|pad} - {title}",
    "{author} - {production} - {place|pad:3}",
    "{code|upper}_{place|pad:3}",
    "{role|capitals}[ {number}][ - {title}]",
)
"""Patterns to start from, as names of files are commonly made; common practice, no source."""
_ESCAPED = str.maketrans({sign: sign * 2 for sign in "{}[]"})


@dataclass(frozen=True, kw_only=True)
class Part:
    """A field with what stands before it; without a field a text alone.

    `digits` is None for a number as it is, AS_NEEDED, or at least how many; `letters` one of LETTERS or empty; `join`
    the sign between words, None where they stay as they are; `most` the most characters, empty for all. What is
    `optional` disappears with what stands before it where the field is empty.
    """

    field: str
    before: str = ""
    optional: bool = False
    digits: str | None = None
    letters: str = ""
    plain: bool = False
    join: str | None = None
    most: str = ""


def parts_of(text: str) -> list[Part] | None:
    """A pattern in parts; None where it says more than parts can. Raises BadPattern."""
    wanted = read_pattern(text).parts
    found = list(_merged(_part(piece) for piece in wanted))
    parts = [part for part in found if part is not None]
    return parts if len(parts) == len(found) and read_pattern(text_of(parts)).parts == wanted else None


def text_of(parts: Sequence[Part]) -> str:
    """The pattern that parts stand for.

    >>> text_of([Part(field="place", digits="2"), Part(field="title", before="-", letters="lower", optional=True)])
    '{place|pad:2}[-{title|lower}]'
    """
    return "".join(map(_written, parts))


def _part(piece: Piece) -> Part | None:
    if isinstance(piece, str):
        return Part(field="", before=piece)
    if isinstance(piece, Field):
        return _of_field(piece)
    *before, last = piece or ("",)
    if not isinstance(last, Field) or not all(isinstance(each, str) for each in before):
        return None
    return _of_field(last, before="".join(before), optional=True)


def _of_field(field: Field, *, before: str = "", optional: bool = False) -> Part:
    """What of its functions there are choices for; the rest is lost, which `parts_of` finds out."""
    said = dict(field.functions)
    return Part(
        field=field.name,
        before=before,
        optional=optional,
        digits=said.get("pad"),
        letters=next((letters for letters in LETTERS if letters in said), ""),
        plain="plain" in said,
        join=said.get("join"),
        most=said.get("most", ""),
    )


def _merged(parts: Iterable[Part | None]) -> Iterator[Part | None]:
    """A text goes with the field after it, unless that may disappear."""
    text: Part | None = None
    for part in parts:
        if text and part and part.field and not part.optional:
            yield Part(**(vars(part) | {"before": text.before}))
            text = None
            continue
        if text:
            yield text
        text = part if part and not part.field else None
        if text is None:
            yield part
    if text:
        yield text


def _written(part: Part) -> str:
    before = part.before.translate(_ESCAPED)
    if not part.field:
        return before
    functions = [
        _with("pad", part.digits),
        "plain" if part.plain else "",
        part.letters,
        _with("join", part.join),
        f"most:{part.most}" if part.most else "",
    ]
    field = "|".join([part.field, *filter(None, functions)])
    return f"[{before}{{{field}}}]" if part.optional else f"{before}{{{field}}}"


def _with(name: str, argument: str | None) -> str:
    return "" if argument is None else f"{name}:{argument}" if argument else name
