"""Rule sheets: outlets as TOML, read and written, and those that come with Sermovox."""

import datetime
import math
import re
import tomllib
from dataclasses import replace
from functools import cache, lru_cache
from importlib import resources
from typing import Any

import tomli_w

from mastering.naming.patterns import BadPattern, read_pattern
from mastering.outlets.contradictions import refuse_contradictions
from mastering.outlets.demands import OPEN, Demand, Items, Named, Pattern, Range
from mastering.outlets.outlet import VARIANTS, BadOutlet, Outlet, Rule
from mastering.outlets.receiving import BadReceiving, Receiving, receiving_from
from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.rules.delivery import JOINED, ONE_EACH
from mastering.outlets.rules.kind import GROUPS, LIST, NUMBER, PATTERN, RANGE, RuleKind
from mastering.said import Said

FORMAT = 3
"""The newest form of rule sheets this reads. Those of the first state none; from 3 on they may say how it receives."""
_WITHOUT_RECEIVING = 2
LARGEST_TOML = 200_000
"""Letters of a rule sheet."""
_DEMAND_KEYS = {"exactly", "one_of", "target", "tolerance", "at_least", "at_most"}
_TOP_KEYS = {"format", "key", "title", "summary", "rules", "names", "artwork", "joined", "receives"}
_KEY = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*")
_LONGEST_TEXT = {"key": 60, "title": 100, "summary": 400, "source": 300}
_LONGEST_PATTERN = 500
_NO_SOURCE = Said("common-practice-no-source")


@cache
def shipped() -> dict[str, Outlet]:
    """The outlets that come with Sermovox, by key, in the order of their titles."""
    folder = resources.files("mastering.outlets") / "shipped"
    outlets = [parse(file.read_text("utf-8")) for file in folder.iterdir() if file.name.endswith(".toml")]
    return {outlet.key: outlet for outlet in sorted(outlets, key=lambda outlet: outlet.title)}


def shipped_text(key: str) -> str:
    """The TOML of a shipped outlet, as it is kept with a delivery."""
    return (resources.files("mastering.outlets") / "shipped" / f"{key}.toml").read_text("utf-8")


@lru_cache(maxsize=64)
def parse(text: str) -> Outlet:
    """Read an outlet from TOML. Raises BadOutlet, naming the rule at fault."""
    outlet = read(text)
    refuse_contradictions(outlet)
    return outlet


def read(text: str) -> Outlet:
    """As `parse`, but rules may still contradict each other. Raises BadOutlet."""
    if len(text) > LARGEST_TOML:
        raise BadOutlet(Said("longer-than-any-rule-sheet", count=len(text)))
    try:
        data = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise BadOutlet(Said("not-toml", error=error)) from error
    form = data.get("format", 1)
    if not isinstance(form, int) or form < 1:
        raise BadOutlet(Said("format-rule-sheet-whole-number", format=FORMAT))
    if form > FORMAT:
        raise BadOutlet(Said("rule-sheet-written-newer-sermovox", form=form, format=FORMAT))
    if unknown := set(data) - _TOP_KEYS:
        raise BadOutlet(Said("rule-sheet-no-place", unknown=", ".join(sorted(unknown))))
    facts = {name: _plain_text(data, name) for name in ("key", "title", "summary")}
    if not _KEY.fullmatch(facts["key"]):
        raise BadOutlet(Said("key-wants-small-letters-digits", facts=facts["key"]))
    entries = data.get("rules")
    if not isinstance(entries, list) or not all(isinstance(entry, dict) for entry in entries):
        raise BadOutlet(Said("outlet-does-not-state-rules"))
    rules = [_rule(entry) for entry in (*entries, *_old_entries(data))]
    names = [rule.name for rule in rules]
    if twice := next((name for name in names if names.count(name) > 1), None):
        raise BadOutlet(Said("rule-stands-there-twice-keep", twice=twice))
    return Outlet(facts["key"], facts["title"], facts["summary"], tuple(rules), _receives(data))


def written(outlet: Outlet) -> str:
    """An outlet as TOML that `parse` reads again."""
    rules = []
    for rule in outlet.rules:
        entry: dict[str, Any] = {"name": rule.name}
        for variant, demand in rule.demands.items():
            said = demand.stated()
            entry |= said if variant is None else {variant: said}
        entry["source"] = rule.source
        if rule.dated:
            entry["dated"] = rule.dated
        # Tables inside a table have to stand last.
        rules.append(dict(sorted(entry.items(), key=lambda item: isinstance(item[1], dict))))
    head = {"key": outlet.key, "title": outlet.title, "summary": outlet.summary}
    if outlet.receives is None:
        return tomli_w.dumps({"format": _WITHOUT_RECEIVING} | head | {"rules": rules})
    return tomli_w.dumps({"format": FORMAT} | head | {"receives": outlet.receives.table(), "rules": rules})


def with_rule(outlet: Outlet, entry: dict[str, Any]) -> Outlet:
    """An outlet with a rule as TOML would state it, in place of the one of that name or after the last of its group.

    Raises BadOutlet; what contradicts itself is found by `parse`.
    """
    rule = _rule(entry)
    rules = [rule if each.name == rule.name else each for each in outlet.rules]
    if rule not in rules:
        groups = [GROUPS.index(each.kind.group) for each in rules]
        after = max((at for at, group in enumerate(groups) if group <= GROUPS.index(rule.kind.group)), default=-1)
        rules.insert(after + 1, rule)
    return replace(outlet, rules=tuple(rules))


def without_rule(outlet: Outlet, name: str) -> Outlet:
    """An outlet that does not ask this."""
    return replace(outlet, rules=tuple(rule for rule in outlet.rules if rule.name != name))


def _plain_text(data: dict[str, Any], name: str) -> str:
    text = data.get(name)
    if text is None:
        raise BadOutlet(Said("the-outlet-does-not-state-its", name=name))
    if not isinstance(text, str) or not text.strip() or len(text) > _LONGEST_TEXT[name] or not text.isprintable():
        raise BadOutlet(Said("outlet-one-line-up-letters", name=name, longest_text=_LONGEST_TEXT[name]))
    return text.strip()


def _receives(data: dict[str, Any]) -> Receiving | None:
    if "receives" not in data:
        return None
    if not isinstance(data["receives"], dict):
        raise BadOutlet(Said("how-outlet-receives-stands-table"))
    try:
        return receiving_from(data["receives"])
    except BadReceiving as error:
        raise BadOutlet(str(error)) from error


def _old_entries(data: dict[str, Any]) -> list[dict[str, Any]]:
    """What sheets of the first form state outside their rules, as rules."""
    entries = []
    if "names" in data:
        entries.append({"name": "names", "exactly": data["names"], "source": _NO_SOURCE})
    if "joined" in data:
        if not isinstance(data["joined"], bool):
            raise BadOutlet(Said("joined-true-where-all-sections"))
        entries.append({"name": "files", "exactly": JOINED if data["joined"] else ONE_EACH, "source": _NO_SOURCE})
    if "artwork" in data:
        try:
            old = {name: data["artwork"][name] for name in ("at_least_px", "at_most_px", "at_most_bytes", "source")}
            weight_kb = old["at_most_bytes"] / 1000
        except (TypeError, KeyError) as error:
            raise BadOutlet(Said("artwork-wants")) from error
        sides = {"at_least": old["at_least_px"], "at_most": old["at_most_px"]}
        entries.append({"name": "artwork_px", "source": old["source"]} | sides)
        entries.append({"name": "artwork_kb", "source": old["source"], "at_most": weight_kb})
    return entries


def _rule(entry: dict[str, Any]) -> Rule:
    name = entry.get("name", "")
    if not isinstance(name, str) or name not in RULE_KINDS:
        raise BadOutlet(Said("there-no-rule-called-rules", name=name, rule_kinds=", ".join(RULE_KINDS)))
    source = entry.get("source")
    if not source or not isinstance(source, str) or not source.strip():
        raise BadOutlet(Said("rule-does-not-say-where", name=name))
    if len(source) > _LONGEST_TEXT["source"] or not source.isprintable():
        raise BadOutlet(Said("source-rule-one-line-up", name=name, longest_text=_LONGEST_TEXT["source"]))
    dated = entry.get("dated")
    if dated is not None and (not isinstance(dated, datetime.date) or isinstance(dated, datetime.datetime)):
        raise BadOutlet(Said("rule-dated-day-such-2026", name=name))
    demands: dict[str | None, Demand] = {}
    for variant in VARIANTS:
        if variant in entry:
            if not isinstance(entry[variant], dict):
                raise BadOutlet(Said("what-rule-asks-files-stands", name=name, variant=variant))
            demands[variant] = _demand(name, entry[variant])
    plain = {key: value for key, value in entry.items() if key not in ("name", "source", "dated", *VARIANTS)}
    if plain:
        demands[None] = _demand(name, plain)
    if not demands:
        raise BadOutlet(Said("rule-asks-nothing", name=name))
    if RULE_KINDS[name].same_for_all and set(demands) != {None}:
        raise BadOutlet(Said("rule-same-all-files", name=name))
    kind = RULE_KINDS[name]
    if kind.refuses and (told := kind.refuses(demands)):
        raise BadOutlet(told)
    return Rule(name, source.strip(), demands, dated)


def _demand(name: str, entry: dict[str, Any]) -> Demand:
    if unknown := set(entry) - _DEMAND_KEYS:
        raise BadOutlet(Said("rule-word-nobody-knows", name=name, unknown=", ".join(sorted(unknown))))
    kind = RULE_KINDS[name]
    if "exactly" in entry or "one_of" in entry:
        if kind.takes == RANGE:
            raise BadOutlet(Said("rule-takes-a-range", name=name))
        return _named(kind, entry)
    if kind.takes not in (NUMBER, RANGE):
        raise BadOutlet(Said("rule-asks-nothing-takes-exactly", name=name))
    if "target" in entry:
        target, tolerance = _number(kind, entry["target"]), _number(kind, entry.get("tolerance", 0.0), least=0.0)
        return Range(low=target - tolerance, high=target + tolerance, target=target)
    bounds = {"low": entry.get("at_least"), "high": entry.get("at_most")}
    given = Range(**{edge: _number(kind, value) for edge, value in bounds.items() if value is not None})
    if given == OPEN:
        raise BadOutlet(Said("rule-asks-nothing", name=name))
    if given.low > given.high:
        raise BadOutlet(Said("rule-asks-least-most-which", name=name, low=given.low, high=given.high))
    return given


def _named(kind: RuleKind, entry: dict[str, Any]) -> Demand:
    """A demand for one value, for one of several, for a text or for a whole list."""
    name, value = kind.name, entry.get("exactly")
    if kind.takes == PATTERN:
        if not isinstance(value, str) or not value.strip() or len(value) > _LONGEST_PATTERN:
            raise BadOutlet(Said("rule-takes-pattern-up-letters", name=name, longest_pattern=_LONGEST_PATTERN))
        try:
            read_pattern(value)
        except BadPattern as error:
            raise BadOutlet(Said("pattern-rule-cannot-read", name=name, error=error)) from error
        return Pattern(value)
    if kind.takes == LIST:
        if not isinstance(value, list) or not value or any(each not in kind.choices for each in value):
            raise BadOutlet(Said("rule-takes-list-these", name=name, choices=", ".join(kind.choices)))
        return Items(tuple(dict.fromkeys(value)))
    values: Any = [value] if "exactly" in entry else entry["one_of"]
    if not isinstance(values, list) or not values:
        raise BadOutlet(Said("one-of-is-a-list", name=name))
    if kind.takes == NUMBER:
        values = [_number(kind, each) for each in values]
    elif unknown := [each for each in values if each not in kind.choices]:
        choices = ", ".join(kind.choices)
        raise BadOutlet(kind.unknown(name=name, value=unknown[0], choices=choices))
    return Named(tuple(values))


def _number(kind: RuleKind, value: Any, *, least: float | None = None) -> float:
    least = kind.least if least is None else least
    number = isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)
    if not number or not least <= value <= kind.most:
        unit = f" {kind.unit}" if kind.unit else ""
        raise BadOutlet(
            Said("rule-takes-numbers-from-not", name=kind.name, least=least, most=kind.most, unit=unit, value=value)
        )
    return int(value) if value == int(value) else value
