"""What was found in a finished file, rule by rule, and the verdict on it."""

from collections.abc import Iterable
from dataclasses import asdict, dataclass

PASS, REMARK, FAIL = "passes", "passes with a remark", "fails"


@dataclass(frozen=True, kw_only=True)
class Finding:
    """One rule held against one file, or against all of a delivery; figures are written out, with units."""

    rule: str
    label: str
    asked: str
    found: str
    verdict: str
    advice: str
    source: str
    margin: str = ""


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
