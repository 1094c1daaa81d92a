"""Holding what was found against what is asked: the verdict, how near it is, and what to do."""

from dataclasses import replace
from math import isfinite

from mastering.outlets.demands import Items, Named, Range
from mastering.outlets.findings import FAIL, PASS, REMARK, Finding, Scale
from mastering.outlets.rules.kind import ASKED, LEVELS, PATTERN, UNTOLD, Asked, Examined, Figure
from mastering.said import Said, word

_SLACK_OF_NAMED = 0.5
"""How far a number may lie from one that is asked by name: rates and bitrates are whole numbers."""
_MOST_SHOWN = 120
NO_TEXT = Said("none")
THERE, THERE_IF_KNOWN = Said("there"), Said("there-if-anything-known")
NOTHING_KNOWN, THERE_UNKNOWN = Said("nothing-known"), Said("there-nothing-known")


def hold(asked: Asked, examined: Examined) -> Finding:
    """Hold one demand against one file."""
    if asked.kind.held:
        return asked.kind.held(asked, examined)
    return by_figure(asked, asked.kind.found(examined), examined)


def by_figure(asked: Asked, figure: Figure, examined: Examined | None = None) -> Finding:
    """Hold a figure against what is asked; where it fails, advice for this very file comes first."""
    verdict, advice = _verdict(asked, figure)
    special = asked.kind.advises(examined) if verdict == FAIL and examined and asked.kind.advises else ""
    return Finding(
        rule=asked.kind.name,
        label=asked.kind.label,
        asked=asked.kind.words(asked.demand),
        found=_found_text(asked, figure),
        verdict=verdict,
        advice=special or advice,
        source=asked.source,
        margin=_margin(asked, figure),
        scale=_scale(asked, figure),
    )


def by_text(asked: Asked, *, wanted: str, found: str, right: bool, advice: str) -> Finding:
    """A finding about a text."""
    return Finding(
        rule=asked.kind.name,
        label=asked.kind.label,
        asked=wanted,
        found=one_line(found or NO_TEXT),
        verdict=PASS if right else FAIL,
        advice="" if right else advice,
        source=asked.source,
    )


def by_extremes(asked: Asked, low: float, high: float, *, average: float) -> Finding:
    """Hold the lowest and the highest of many figures against a range, which has to hold all of them."""
    if not isinstance(asked.demand, Range) or low == high:
        return by_figure(asked, low)
    demand = asked.demand
    nearest = min((low, high), key=lambda each: min(each - demand.low, demand.high - each))
    unit = asked.kind.unit
    found = Said("range-and-average", low=low, high=high, unit=unit, average=average)
    return replace(by_figure(asked, nearest), found=found, scale=_scale(asked, low, high))


def one_line(text: str) -> str:
    """A text as a check sheet shows it."""
    if isinstance(text, Said):
        return text
    line = " ".join(str(text).split())
    return line if len(line) <= _MOST_SHOWN else f"{line[: _MOST_SHOWN - 1]}…"


def _found_text(asked: Asked, figure: Figure) -> str:
    if figure is None:
        return word("none")
    if isinstance(figure, str):
        return figure if asked.kind.takes == PATTERN else word(figure)
    return asked.kind.figure_words(figure)


def _scale(asked: Asked, *figures: Figure) -> Scale | None:
    numbers = tuple(figure for figure in figures if isinstance(figure, int | float))
    if not isinstance(asked.demand, Range) or not numbers:
        return None
    low, high = (edge if isfinite(edge) else None for edge in (asked.demand.low, asked.demand.high))
    return Scale(low=low, high=high, figures=numbers)


def _margin(asked: Asked, figure: Figure) -> str:
    """How far a figure lies from the nearest bound it could cross, or from the one it has crossed."""
    kind, demand = asked.kind, asked.demand
    if figure is None or isinstance(figure, str) or not isinstance(demand, Range):
        return ""
    if figure < demand.low - kind.slack:
        return Said("too-low", apart_words=kind.apart_words(demand.low - figure))
    if figure > demand.high + kind.slack:
        return Said("too-high", apart_words=kind.apart_words(figure - demand.high))
    spare = min(abs(figure - edge) for edge in demand.edges)
    return (
        Said("spare", apart_words=kind.apart_words(spare))
        if round(spare, max(kind.digits, 1))
        else Said("nothing-spare")
    )


def _verdict(asked: Asked, figure: Figure) -> tuple[str, str]:
    advice, demand = asked.kind.advice, asked.demand
    if figure == UNTOLD:
        return REMARK, Said("file-format-does-not-say")
    if isinstance(demand, Items):
        return (PASS, "") if figure == ASKED else (FAIL, advice.other)
    if isinstance(demand, Named):
        alike = asked.kind.alike or _is_one_of
        return (PASS, "") if alike(figure, demand) else (FAIL, advice.other)
    if isinstance(figure, str) or not isinstance(demand, Range):
        return FAIL, advice.other
    if figure is None:
        # No noise at all is within any ceiling; no loudness is not within any range, and no picture has no weight.
        if demand.low == -float("inf") and asked.kind.group == LEVELS:
            return (REMARK, advice.none) if advice.none else (PASS, "")
        return FAIL, advice.other or Said("there-nothing-measure-file")
    if demand.meets(figure, asked.kind.slack):
        return _pass_or_remark(asked, demand, figure)
    return FAIL, (advice.too_low if figure < demand.low else advice.too_high) or advice.other


def _is_one_of(figure: Figure, named: Named) -> bool:
    return any(is_exactly(figure, each) for each in named.values)


def is_exactly(figure: Figure, asked: str | int | float) -> bool:
    """Whether a figure is the one that is asked by name."""
    if isinstance(asked, str) or figure is None:
        return figure == asked
    return not isinstance(figure, str) and abs(figure - asked) <= _SLACK_OF_NAMED


def _pass_or_remark(asked: Asked, demand: Range, figure: float) -> tuple[str, str]:
    margin = min(abs(figure - edge) for edge in demand.edges)
    if asked.kind.close and margin < asked.kind.close:
        return REMARK, Said("passes-which-close", margin=margin, unit_apart=asked.kind.unit_apart)
    return PASS, ""
