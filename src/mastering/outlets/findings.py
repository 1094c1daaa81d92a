"""What was found in a finished file, rule by rule, and the verdict on it."""

from collections.abc import Iterable
from dataclasses import asdict, dataclass
from typing import Any

PASS, REMARK, FAIL = "passes", "passes with a remark", "fails"


@dataclass(frozen=True, kw_only=True)
class Scale:
    """What was asked and found as bare numbers, in the unit of the rule: `low` and `high` None where it is open, the
    lowest and the highest figure where there are several.
    """

    low: float | None
    high: float | None
    figures: tuple[float, ...]


@dataclass(frozen=True, kw_only=True)
class Finding:
    """One rule held against one file, or against all of a delivery; figures are written out, with units. `scale` is
    there where a range is asked and a figure was found.
    """

    rule: str
    label: str
    asked: str
    found: str
    verdict: str
    advice: str
    source: str
    margin: str = ""
    scale: Scale | None = None


@dataclass(frozen=True)
class CheckSheet:
    """All findings of one file, in the outlet's order."""

    findings: tuple[Finding, ...]

    @property
    def verdict(self) -> str:
        return verdict_of(finding.verdict for finding in self.findings)

    def as_list(self) -> list[dict[str, Any]]:
        return [asdict(finding) for finding in self.findings]


def verdict_of(verdicts: Iterable[str]) -> str:
    """The worst of some verdicts."""
    found = set(verdicts)
    return FAIL if FAIL in found else REMARK if REMARK in found else PASS
