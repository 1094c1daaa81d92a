"""A figure among what is asked, as it is drawn: places on a line, percent from its left."""

from collections.abc import Mapping
from dataclasses import dataclass

_MARGIN = 0.18
"""Of what is shown, to either side."""
_LEAST_SHARE = 0.25
"""Of an edge that stands alone, so that what is near it lies near it."""


@dataclass(frozen=True)
class Drawn:
    """`band` is where what is asked starts and how wide it is, `edges` where it is closed; `figures` are the lowest and
    the highest that were found, which are mostly one.
    """

    band: tuple[float, float]
    edges: tuple[float, ...]
    figures: tuple[float, float]

    @property
    def width(self) -> float:
        """Of what was found; 0 for one figure."""
        return round(self.figures[1] - self.figures[0], 2)


def drawn(scale: Mapping) -> Drawn:
    """Lay out what `mastering.outlets.findings.Scale` holds."""
    low, high, figures = scale["low"], scale["high"], scale["figures"]
    edges = [edge for edge in (low, high) if edge is not None]
    first, last = min(*edges, *figures), max(*edges, *figures)
    wanted = max(last - first, _LEAST_SHARE * abs(edges[0]) if len(edges) == 1 else 0.0) or 1.0
    beside = (wanted - (last - first)) / 2 + _MARGIN * wanted
    start, width = first - beside, (last - first) + 2 * beside

    def place(value: float) -> float:
        return round(100 * (value - start) / width, 2)

    left = 0.0 if low is None else place(low)
    right = 100.0 if high is None else place(high)
    return Drawn(
        (left, round(right - left, 2)),
        tuple(map(place, edges)),
        (place(min(figures)), place(max(figures))),
    )
