"""The check sheet: what was asked, what was found in the finished file, the verdict, and advice."""

from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from statistics import median

from mastering.meters.measurement import Measurement
from mastering.outlets.outlet import Outlet, Rule
from mastering.outlets.rules import AS_SOURCE, MONO, OF_DELIVERIES, STEREO, Demand, meets

PASS, REMARK, FAIL = "passes", "passes with a remark", "fails"
_BIT_RATE_SLACK = 0.5


@dataclass(frozen=True, kw_only=True)
class Finding:
    """One rule held against one file. `asked` and `found` are written out, with units."""

    rule: str
    label: str
    asked: str
    found: str
    verdict: str
    advice: str
    source: str


@dataclass(frozen=True)
class CheckSheet:
    """All findings of one file, in the outlet's order."""

    findings: tuple[Finding, ...]

    @property
    def verdict(self) -> str:
        return verdict_of(finding.verdict for finding in self.findings)

    def as_list(self) -> list[dict[str, str]]:
        return [asdict(finding) for finding in self.findings]


def verdict_of(verdicts: Iterable[str]) -> str:
    """The worst of some verdicts."""
    found = set(verdicts)
    return FAIL if FAIL in found else REMARK if REMARK in found else PASS


def check(measurement: Measurement, outlet: Outlet, *, content_kind: str = "speech") -> CheckSheet:
    """Hold a measured file against every rule of an outlet that speaks of such a file."""
    findings = []
    for rule in outlet.rules:
        demand = rule.demand(channels=measurement.facts.channels, content_kind=content_kind)
        if demand and rule.name not in OF_DELIVERIES:
            findings.append(_finding(rule, demand, measurement))
    return CheckSheet(tuple(findings))


def consistency(loudness_lufs: Sequence[float | None], outlet: Outlet) -> list[Finding | None]:
    """Hold the files of a delivery against each other: how far each lies from the median loudness of all.

    None for files without a loudness, and for all where the outlet does not ask.
    """
    rule = next((rule for rule in outlet.rules if rule.name == "consistency_lu"), None)
    known = [loudness for loudness in loudness_lufs if loudness is not None]
    if rule is None or not known:
        return [None] * len(loudness_lufs)
    middle, demand = median(known), rule.demands[None]
    return [None if found is None else _held(rule, demand, abs(found - middle)) for found in loudness_lufs]


def asked_text(rule: Rule, demand: Demand) -> str:
    """Write a demand out, with its unit: "-19 ±1 LUFS", "at most -3 dBFS", "0.5 to 1 s"."""
    unit = f" {rule.kind.unit}" if rule.kind.unit else ""
    if demand.exactly == AS_SOURCE:
        return f"{MONO} or {STEREO}, {AS_SOURCE}"
    if demand.exactly is not None:
        return f"{demand.exactly}{unit}"
    if demand.target is not None:
        tolerance = demand.high - demand.target
        return f"{demand.target:g} ±{tolerance:g}{unit}" if tolerance else f"{demand.target:g}{unit}"
    if demand.low is None:
        return f"at most {demand.high:g}{unit}"
    if demand.high is None:
        return f"at least {demand.low:g}{unit}"
    return f"{demand.low:g} to {demand.high:g}{unit}"


def _finding(rule: Rule, demand: Demand, measurement: Measurement) -> Finding:
    return _held(rule, demand, rule.kind.figure(measurement))


def _held(rule: Rule, demand: Demand, figure: str | float | None) -> Finding:
    verdict, advice = _verdict(rule, demand, figure)
    return Finding(
        rule=rule.name,
        label=rule.kind.label,
        asked=asked_text(rule, demand),
        found=_found_text(rule, figure),
        verdict=verdict,
        advice=advice,
        source=rule.source,
    )


def _found_text(rule: Rule, figure: str | float | None) -> str:
    if figure is None:
        return "none"
    if isinstance(figure, str):
        return figure
    digits = rule.kind.digits
    # Adding zero takes the sign off a minus nought.
    return f"{round(figure, digits) + 0.0:.{digits}f} {rule.kind.unit}".strip()


def _verdict(rule: Rule, demand: Demand, figure: str | float | None) -> tuple[str, str]:
    advice = rule.kind.advice
    if demand.exactly is not None:
        return (PASS, "") if _is_exactly(figure, demand.exactly) else (FAIL, advice.other)
    if figure is None:
        # No noise at all is within any ceiling; no loudness is not within any range.
        return (PASS, "") if demand.low is None else (FAIL, "There is nothing to measure in this file.")
    if meets(figure, demand):
        return _pass_or_remark(rule, demand, figure)
    return FAIL, advice.too_low if demand.low is not None and figure < demand.low else advice.too_high


def _is_exactly(figure: str | float | None, asked: str | int) -> bool:
    if asked == AS_SOURCE:
        return figure in (MONO, STEREO)
    if isinstance(asked, str) or figure is None:
        return figure == asked
    return abs(figure - asked) <= _BIT_RATE_SLACK


def _pass_or_remark(rule: Rule, demand: Demand, figure: float) -> tuple[str, str]:
    margins = [abs(figure - edge) for edge in (demand.low, demand.high) if edge is not None]
    if rule.kind.close and min(margins) < rule.kind.close:
        return REMARK, f"It passes by {min(margins):.2f} {rule.kind.unit}, which is close."
    return PASS, ""
