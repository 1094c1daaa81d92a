"""The kinds of rule an outlet may state, by group. A new kind is one new entry of its group's module."""

from mastering.outlets.rules import artwork, delivery, levels, making, size, tags
from mastering.outlets.rules.kind import GROUPS, RuleKind
from mastering.said import Said

RULE_KINDS: dict[str, RuleKind] = {}
"""Every kind by its name, in the order of a rule sheet."""


def register(kind: RuleKind) -> None:
    """Add a kind, at the end of its group."""
    if kind.name in RULE_KINDS:
        raise ValueError(Said("there-kind-rule-called-already", name=kind.name))
    every = [*RULE_KINDS.values(), kind]
    every.sort(key=lambda each: GROUPS.index(each.group))
    RULE_KINDS.clear()
    RULE_KINDS.update({each.name: each for each in every})


for _module in (making, levels, size, delivery, tags, artwork):
    for _kind in _module.KINDS:
        register(_kind)
