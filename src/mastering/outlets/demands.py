"""What a rule may ask of a file: named values, a range, a pattern, or all of a list."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from math import inf, isfinite
from typing import Any

from mastering.said import Said, either, figured, together, word

Value = str | int | float


@dataclass(frozen=True)
class Named:
    """One value, or one of several; a file is made with the first."""

    values: tuple[Value, ...]

    @property
    def first(self) -> Value:
        return self.values[0]

    def stated(self) -> dict[str, Any]:
        """As TOML states it."""
        return {"exactly": self.first} if len(self.values) == 1 else {"one_of": list(self.values)}

    def words(self, unit: str = "") -> str:
        """Written out, with its unit: "96 or 64 kbit/s"."""
        return _with_unit(either(_spoken(each) for each in self.values), unit)


@dataclass(frozen=True, kw_only=True)
class Range:
    """From `low` to `high`, infinite where it is open, perhaps with an aim."""

    low: float = -inf
    high: float = inf
    target: float | None = None

    @property
    def first(self) -> None:
        """No value is named."""
        return

    @property
    def edges(self) -> list[float]:
        """Those that are not open."""
        return [edge for edge in (self.low, self.high) if isfinite(edge)]

    def inside(self, most: float) -> float:
        """How far inside its edges something is put: `most`, but a quarter of it at most."""
        return min(most, (self.high - self.low) / 4)

    def meets(self, figure: float, slack: float = 0.005) -> bool:
        """Whether a figure lies in it, to half of the last place shown."""
        return self.low - slack <= figure <= self.high + slack

    def missed_by(self, figure: float | None) -> float:
        """By how much a figure misses it; 0 where it does not, or where nothing can be said."""
        if figure is None or self.meets(figure):
            return 0.0
        return self.low - figure if figure < self.low else figure - self.high

    def moved(self, by: float) -> "Range":
        """The same range, so much higher."""
        return Range(low=self.low + by, high=self.high + by)

    def stated(self) -> dict[str, Any]:
        """As TOML states it."""
        if self.target is not None:
            return {"target": self.target, "tolerance": round(self.high - self.target, 6)}
        bounds = {"at_least": self.low, "at_most": self.high}
        return {name: value for name, value in bounds.items() if isfinite(value)}

    def words(self, unit: str = "", written: Callable[[float], str] = "{:g}".format) -> str:
        """Written out, with its unit: "-19 ±1 LUFS", "at most -3 dBFS", "0.5 to 1 s"; `written` is how a figure is."""
        if self.target is not None:
            tolerance, aim = self.high - self.target, written(self.target)
            return _with_unit(figured(f"{aim} ±{written(tolerance)}" if tolerance else aim), unit)
        if not isfinite(self.low):
            return _with_unit(Said("most", written=figured(written(self.high))), unit)
        if not isfinite(self.high):
            return _with_unit(Said("least", written=figured(written(self.low))), unit)
        return _with_unit(
            Said("from-low-to-high", low=figured(written(self.low)), high=figured(written(self.high))), unit
        )


@dataclass(frozen=True)
class Pattern:
    """A text with fields, as names have it."""

    text: str

    @property
    def first(self) -> str:
        return self.text

    def stated(self) -> dict[str, Any]:
        """As TOML states it."""
        return {"exactly": self.text}

    def words(self, unit: str = "") -> str:
        """Written out."""
        return _with_unit(self.text, unit)


@dataclass(frozen=True)
class Items:
    """All of a list."""

    values: tuple[str, ...]

    @property
    def first(self) -> tuple[str, ...]:
        return self.values

    def stated(self) -> dict[str, Any]:
        """As TOML states it."""
        return {"exactly": list(self.values)}

    def words(self, unit: str = "") -> str:
        """Written out."""
        return _with_unit(together(map(word, self.values), ", "), unit)


Demand = Named | Range | Pattern | Items
OPEN = Range()
"""Asks for nothing."""


def canonical(demand: Demand) -> dict[str, Any]:
    """What is demanded as plain values, the same however it is worded or written: 3 is 3.0.

    >>> canonical(Range(high=-3)) == canonical(Range(high=-3.0)) == {"at_most": -3.0}
    True
    """
    return {name: _plainly(value) for name, value in demand.stated().items()}


def _plainly(value: Any) -> Any:
    if isinstance(value, list):
        return [_plainly(each) for each in value]
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else value


def range_of(demands: Mapping[str, Demand], name: str) -> Range | None:
    """The range that is asked by a rule; None where it asks for none."""
    demand = demands.get(name)
    return demand if isinstance(demand, Range) else None


def _spoken(value: Value) -> str:
    return word(value) if isinstance(value, str) else figured(str(value))


def _with_unit(text: str, unit: str) -> str:
    return together([text, unit]) if unit else text
