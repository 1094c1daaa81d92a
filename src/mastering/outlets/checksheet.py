"""The check sheet: what was asked, what was found in the finished file, the verdict, and advice."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from statistics import median

from mastering.audio.facts import FileFacts
from mastering.clock import clock
from mastering.meters.measurement import Measurement
from mastering.meters.meter import Levels
from mastering.outlets.balance import balance_of
from mastering.outlets.demands import Demand
from mastering.outlets.findings import FAIL, CheckSheet, Finding, verdict_of
from mastering.outlets.outlet import Outlet, Rule
from mastering.outlets.rules.holding import by_figure, hold
from mastering.outlets.rules.kind import (
    BESIDE_SOUND,
    LEVELS,
    OF_DELIVERY,
    OF_SOUND,
    Asked,
    Delivered,
    Examined,
)
from mastering.outlets.rules.levels import CONSISTENCY
from mastering.said import Said, together, word
from mastering.tagging.carried import NOTHING, Carried

_MOST_PASSAGES = 8


def check(
    measurement: Measurement,
    outlet: Outlet,
    *,
    content_kind: str = "speech",
    carried: Carried | None = None,
    name: str = "",
    texts: Mapping[str, str] | None = None,
    passages: Sequence["HeldPassage"] = (),
    spans: Sequence[tuple[str, float, float]] = (),
) -> CheckSheet:
    """Hold a measured file against every rule of an outlet that speaks of such a file.

    Parameters
    ----------
    carried
        What `read_carried` found in it; nothing beside its sound where that is not given.
    name
        What it is called.
    texts
        What its name and its tags are to be, by rule, where that is known; else they are only to be there.
    passages
        Its passages of speech and of music, where they are known: each is held against what is asked of its own kind.
    spans
        What it holds one after the other, where that is not one kind: (kind, start and end in seconds). How loud speech
        is beside music is remarked.
    """
    examined = Examined(
        facts=measurement.facts,
        levels=measurement.levels,
        carried=carried or NOTHING,
        name=name,
        texts=texts,
        endings=lambda: {encoding.extension for encoding in outlet.encodings()},
    )
    held = [rule for rule in outlet.rules if rule.kind.scope in (OF_SOUND, BESIDE_SOUND)]
    findings = _held_against(held, examined, content_kind)
    by_part = {rule.name: _of_passages(rule, passages, examined.facts.channels) for rule in held if passages}
    sheet = tuple(by_part.get(finding.rule) or finding for finding in findings)
    balance = balance_of(measurement.levels, spans, outlet)
    return CheckSheet((*sheet, balance.finding()) if balance else sheet)


@dataclass(frozen=True)
class HeldPassage:
    """A passage of a finished file: what it holds, where it lies, seconds, and what was found in it."""

    kind: str
    start_s: float
    end_s: float
    levels: Levels

    def __str__(self) -> str:
        start, end = clock(self.start_s, 1), clock(self.end_s, 1)
        return Said("passage-from-to", kind=word(self.kind), start=start, end=end)


def _of_passages(rule: Rule, passages: Sequence[HeldPassage], channels: int) -> Finding | None:
    """A level rule that asks something else of each kind, held against each passage; None for any other."""
    asked = {kind: rule.demand(channels=channels, content_kind=kind) for kind in ("speech", "music")}
    if rule.kind.group != LEVELS or rule.kind.measured is None or asked["speech"] == asked["music"]:
        return None
    held = []
    for passage in passages:
        demand = rule.demand(channels=channels, content_kind=passage.kind)
        if demand:
            held.append((passage, by_figure(_asked(rule, demand), rule.kind.measured(passage.levels))))
    if not held:
        return None
    # What fails stands first.
    held.sort(key=lambda each: (each[1].verdict != FAIL, each[0].start_s))
    failing = [(passage, finding) for passage, finding in held if finding.verdict == FAIL]
    told = [together([str(passage), finding.found]) for passage, finding in held[:_MOST_PASSAGES]]
    more = [Said("more", count=len(held) - _MOST_PASSAGES)] if len(held) > _MOST_PASSAGES else []
    return replace(
        held[0][1],
        asked=together(dict.fromkeys(together([word(passage.kind), finding.asked]) for passage, finding in held), ", "),
        found=together([*told, *more], "; "),
        verdict=verdict_of(finding.verdict for _, finding in held),
        advice=together(together([str(passage), finding.advice], ": ") for passage, finding in failing[:_MOST_PASSAGES])
        or next((finding.advice for _, finding in held if finding.advice), ""),
    )


def check_beside_sound(
    facts: FileFacts,
    outlet: Outlet,
    *,
    content_kind: str,
    carried: Carried,
    texts: Mapping[str, str],
) -> list[Finding]:
    """As `check`, for the rules about what stands in a file beside its sound: all there is to hold anew when its tags
    were written again.
    """
    examined = Examined(facts=facts, carried=carried, texts=texts)
    return _held_against([rule for rule in outlet.rules if rule.kind.scope == BESIDE_SOUND], examined, content_kind)


def _held_against(rules: Iterable[Rule], examined: Examined, content_kind: str) -> list[Finding]:
    found = [(rule, rule.demand(channels=examined.facts.channels, content_kind=content_kind)) for rule in rules]
    asked = [(rule, demand) for rule, demand in found if demand]
    examined = replace(examined, asked={rule.name: demand for rule, demand in asked})
    return [hold(_asked(rule, demand), examined) for rule, demand in asked]


def _asked(rule: Rule, demand: Demand) -> Asked:
    return Asked(kind=rule.kind, demand=demand, source=rule.source)


def check_together(
    files: Sequence[Delivered], outlet: Outlet, *, extras: Collection[str] = (), whole: bool = True
) -> CheckSheet:
    """Hold the files of a delivery, in running order, against the rules that speak of all of them.

    `extras` are the files beside them that there are. Where these are not the `whole`, nothing is said of sections that
    are not among them.
    """
    findings = []
    for rule in outlet.rules if files else ():
        kind = rule.kind
        if kind.scope == OF_DELIVERY and kind.together and (whole or not kind.wants_whole):
            demand = rule.demands[None]
            findings.append(by_figure(_asked(rule, demand), kind.together(demand, files, extras)))
    return CheckSheet(tuple(findings))


def consistency(loudness_lufs: Sequence[float | None], outlet: Outlet) -> list[Finding | None]:
    """Hold the files of a delivery against each other: how far each lies from the median loudness of all.

    None for files without a loudness, and for all where the outlet does not ask.
    """
    rule = outlet.rule(CONSISTENCY)
    known = [loudness for loudness in loudness_lufs if loudness is not None]
    if rule is None or not known:
        return [None] * len(loudness_lufs)
    middle, asked = median(known), _asked(rule, rule.demands[None])
    return [None if found is None else by_figure(asked, abs(found - middle)) for found in loudness_lufs]


def asked_text(rule: Rule, demand: Demand) -> str:
    """Write a demand out, with its unit: "-19 ±1 LUFS", "at most -3 dBFS", "0.5 to 1 s"."""
    return rule.kind.words(demand)
