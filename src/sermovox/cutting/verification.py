"""How long sections sound, as it is kept, held against what they are made of."""

from collections.abc import Iterator

from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.cutting.programmes import Assembly
from sermovox.productions import order
from sermovox.productions.models import Production

_ALIKE_S = 1e-4


def verify_lengths() -> Iterator[tuple[str, bool]]:
    """What each section is called, and whether its length was right; it is now. Where a recording is not there nothing
    can be told.
    """
    for production in Production.objects.all():
        made, wrong = Assembly(production), []
        for section in production.sections.with_pieces():
            try:
                length_s = made.told_length_s(section)
            except MasteringError:
                continue
            right = _alike(section.length_s, length_s)
            if not right:
                wrong.append({"pk": section.pk, "length_s": length_s})
            yield Said("of", title=section.title, title_2=production.title), right
        order.write(production, wrong)


def _alike(one: float | None, other: float | None) -> bool:
    return one == other or (one is not None and other is not None and abs(one - other) < _ALIKE_S)
