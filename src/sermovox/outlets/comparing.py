"""Two rule sheets beside each other."""

from dataclasses import dataclass

from mastering.outlets.checksheet import asked_text
from mastering.outlets.outlet import Outlet, Rule
from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.rules.kind import GROUPS
from mastering.said import Said, word


@dataclass(frozen=True)
class Line:
    """What two outlets ask by one rule; empty where one does not ask."""

    label: str
    group: str
    first: tuple[str, ...]
    second: tuple[str, ...]

    @property
    def alike(self) -> bool:
        return self.first == self.second


def compared(first: Outlet, second: Outlet) -> list[Line]:
    """Every rule either of them states, in the order of a rule sheet."""
    names = {rule.name for rule in (*first.rules, *second.rules)}
    lines = [
        Line(RULE_KINDS[name].label, RULE_KINDS[name].group, asks(first.rule(name)), asks(second.rule(name)))
        for name in RULE_KINDS
        if name in names
    ]
    return sorted(lines, key=lambda line: GROUPS.index(line.group))


def asks(rule: Rule | None) -> tuple[str, ...]:
    """What a rule asks, a line for each kind of file it tells apart."""
    if rule is None:
        return ()
    return tuple(
        Said("of-kind", kind=word(variant), words=asked_text(rule, demand)) if variant else asked_text(rule, demand)
        for variant, demand in rule.demands.items()
    )
