"""A rule as a form: what stands in it, and what was written into it."""

import datetime

from mastering.outlets.outlet import VARIANTS, BadOutlet, Outlet, Rule
from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.rules.kind import CHOICE, GROUPS, LIST, NUMBER, PATTERN, RANGE
from mastering.said import Said
from sermovox.outlets.comparing import asks

_BOUNDS = ("at_least", "at_most", "target", "tolerance")


def fields_of(name: str, rule: Rule | None) -> dict:
    """What the form of a rule shows."""
    kind = RULE_KINDS[name]
    variants = [None] if kind.same_for_all else [None, *VARIANTS]
    demands = rule.demands if rule else {}
    return {
        "name": name,
        "kind": kind,
        "rule": rule,
        "rows": [_row(kind, variant, demands.get(variant)) for variant in variants],
        "varied": any(variant is not None for variant in demands),
        "source": rule.source if rule else "",
        "dated": rule.dated.isoformat() if rule and rule.dated else "",
        "is_choice": kind.takes == CHOICE,
        "is_pattern": kind.takes == PATTERN,
        "is_list": kind.takes == LIST,
        "is_number": kind.takes == NUMBER,
        "is_range": kind.takes in (NUMBER, RANGE),
    }


def _row(kind, variant: str | None, demand) -> dict:
    said = demand.stated() if demand else {}
    values = said.get("one_of") or ([said["exactly"]] if "exactly" in said else [])
    if kind.takes == LIST:
        values = values[0] if values else []
    row = {"variant": variant or "all", "label": variant, "values": values}
    row |= {key: said.get(key, "") for key in _BOUNDS}
    row["text"] = ", ".join(f"{value}" for value in values)
    # One more than are chosen, so that another can be.
    row["chosen"] = [*values, ""] if len(values) < len(kind.choices) else values
    return row


def entry_from(name: str, posted) -> dict:
    """A rule as TOML would state it, from a form. Raises BadOutlet."""
    entry: dict = {"name": name, "source": posted.get("source", "").strip()}
    if dated := posted.get("dated", "").strip():
        try:
            entry["dated"] = datetime.date.fromisoformat(dated)
        except ValueError as error:
            raise BadOutlet(Said("no-day-write-2026-03", dated=dated)) from error
    for variant in (None, *VARIANTS):
        said = _said(name, variant or "all", posted)
        if said:
            entry |= said if variant is None else {variant: said}
    return entry


def _said(name: str, variant: str, posted) -> dict:
    kind = RULE_KINDS[name]
    if kind.takes == LIST:
        chosen = posted.getlist(f"{variant}-list")
        return {"exactly": chosen} if chosen else {}
    if kind.takes == PATTERN:
        text = posted.get(f"{variant}-pattern", "").strip()
        return {"exactly": text} if text else {}
    if kind.takes == CHOICE:
        return _values(list(dict.fromkeys(filter(None, posted.getlist(f"{variant}-choice")))))
    texts = posted.get(f"{variant}-exactly", "").replace(";", ",").split(",")
    if numbers := [_number(text, kind.label) for text in texts if text.strip()]:
        return _values(numbers)
    bounds = {key: text for key in _BOUNDS if (text := posted.get(f"{variant}-{key}", "").strip())}
    if "target" in bounds:
        bounds = {key: bounds[key] for key in ("target", "tolerance") if key in bounds}
    else:
        bounds.pop("tolerance", None)
    return {key: _number(text, kind.label) for key, text in bounds.items()}


def _values(values: list) -> dict:
    if not values:
        return {}
    return {"exactly": values[0]} if len(values) == 1 else {"one_of": values}


def _number(text: str, label: str) -> float:
    text = text.strip().replace("−", "-")
    try:
        return float(text)
    except ValueError as error:
        raise BadOutlet(Said("no-number-write-figures-alone", label=label, text=text)) from error


def groups_of(outlet: Outlet) -> list[tuple[str, list[dict], list[tuple[str, str]]]]:
    """The rules of an outlet as they are read on its sheet, group by group."""
    found: list[tuple[str, list[dict], list[tuple[str, str]]]] = []
    for group in GROUPS:
        rules = [rule for rule in outlet.rules if rule.kind.group == group]
        lines = [{"rule": rule, "name": rule.name, "label": rule.kind.label, "asks": asks(rule)} for rule in rules]
        kinds = [(name, kind.label) for name, kind in RULE_KINDS.items() if kind.group == group]
        free = [(name, label) for name, label in kinds if not outlet.rule(name)]
        found.append((group, lines, free))
    return found
