"""The check sheet: what was asked, what was found in the finished file, the verdict, and advice."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from statistics import median

from mastering.audio.encodings import AVERAGE, QUALITY, VARIABLE, fits_ending
from mastering.audio.facts import FileFacts
from mastering.meters.measurement import Measurement
from mastering.meters.meter import Levels
from mastering.naming.checks import check_names, out_of_order, split_ending
from mastering.naming.patterns import read_pattern
from mastering.outlets.outlet import Outlet, Rule
from mastering.outlets.rules import (
    AS_SOURCE,
    ASKED,
    BESIDE_SOUND,
    CONSISTENCY,
    FROM_MARKS,
    FROM_SECTIONS,
    JOINT,
    LIST,
    MONO,
    NOT_CONSTANT,
    OF_DELIVERIES,
    OF_MAKING,
    PATTERN,
    SEPARATE,
    STEREO,
    UNTOLD,
    Demand,
    Examined,
    Figure,
    meets,
)
from mastering.outlets.sentences import clock
from mastering.tagging.carried import NOTHING, Carried

PASS, REMARK, FAIL = "passes", "passes with a remark", "fails"
_SLACK_OF_NAMED = 0.5
"""How far a number may lie from one that is asked by name: rates and bitrates are whole numbers."""
_MOST_SHOWN = 120
_MOST_PASSAGES = 8
_STEREOS = (STEREO, JOINT, SEPARATE)
_DISTANCES = {"LUFS": "LU", "dBFS": "dB", "dBTP": "dB"}
"""The unit of a difference between two levels."""


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


def check(
    measurement: Measurement,
    outlet: Outlet,
    *,
    content_kind: str = "speech",
    carried: Carried | None = None,
    name: str = "",
    texts: Mapping[str, str] | None = None,
    passages: Sequence["HeldPassage"] = (),
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
    """
    examined = Examined(
        facts=measurement.facts, levels=measurement.levels, carried=carried or NOTHING, name=name, texts=texts
    )
    held = [rule for rule in outlet.rules if rule.name not in (*OF_DELIVERIES, *OF_MAKING)]
    findings = _held_against(held, examined, outlet, content_kind)
    by_part = {rule.name: _of_passages(rule, passages, examined.facts.channels) for rule in held if passages}
    return CheckSheet(tuple(by_part.get(finding.rule) or finding for finding in findings))


@dataclass(frozen=True)
class HeldPassage:
    """A passage of a finished file: what it holds, where it lies, seconds, and what was found in it."""

    kind: str
    start_s: float
    end_s: float
    levels: Levels

    def __str__(self) -> str:
        return f"{self.kind} {clock(self.start_s)} to {clock(self.end_s)}"


def _of_passages(rule: Rule, passages: Sequence[HeldPassage], channels: int) -> Finding | None:
    """A level rule that asks something else of each kind, held against each passage; None for any other."""
    asked = {kind: rule.demand(channels=channels, content_kind=kind) for kind in ("speech", "music")}
    if rule.kind.group != "Levels" or asked["speech"] == asked["music"]:
        return None
    held = []
    for passage in passages:
        demand = rule.demand(channels=channels, content_kind=passage.kind)
        if demand:
            held.append((passage, _held(rule, demand, getattr(passage.levels, rule.name))))
    if not held:
        return None
    # What fails stands first.
    held.sort(key=lambda each: (each[1].verdict != FAIL, each[0].start_s))
    failing = [(passage, finding) for passage, finding in held if finding.verdict == FAIL]
    told = [f"{passage} {finding.found}" for passage, finding in held[:_MOST_PASSAGES]]
    more = [f"{len(held) - _MOST_PASSAGES} more"] if len(held) > _MOST_PASSAGES else []
    return replace(
        held[0][1],
        asked=", ".join(dict.fromkeys(f"{passage.kind} {finding.asked}" for passage, finding in held)),
        found="; ".join([*told, *more]),
        verdict=verdict_of(finding.verdict for _, finding in held),
        advice=" ".join(f"{passage}: {finding.advice}" for passage, finding in failing[:_MOST_PASSAGES])
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
    held = [rule for rule in outlet.rules if rule.name in BESIDE_SOUND]
    return _held_against(held, examined, outlet, content_kind)


def _held_against(rules: Iterable[Rule], examined: Examined, outlet: Outlet, content_kind: str) -> list[Finding]:
    asked = [(rule, rule.demand(channels=examined.facts.channels, content_kind=content_kind)) for rule in rules]
    mode = next((demand.first for rule, demand in asked if rule.name == "bit_rate_mode" and demand), None)
    return [_of_file(rule, demand, examined, outlet, mode) for rule, demand in asked if demand]


@dataclass(frozen=True, kw_only=True)
class Delivered:
    """One file of a delivery, as far as rules about all of them want to know it."""

    name: str
    channels: int
    size_bytes: int
    role: str = ""


def check_together(
    files: Sequence[Delivered], outlet: Outlet, *, extras: Collection[str] = (), whole: bool = True
) -> CheckSheet:
    """Hold the files of a delivery, in running order, against the rules that speak of all of them.

    `extras` are the files beside them that there are. Where these are not the `whole`, nothing is said of sections that
    are not among them.
    """
    left_out = {CONSISTENCY} if whole else {CONSISTENCY, "sections_required"}
    findings = []
    for rule in outlet.rules:
        if rule.name in OF_DELIVERIES and rule.name not in left_out and files:
            demand = rule.demands[None]
            findings.append(_held(rule, demand, _of_all(rule.name, demand, files, extras)))
    return CheckSheet(tuple(findings))


def _of_all(name: str, demand: Demand, files: Sequence[Delivered], extras: Collection[str]) -> Figure:
    """What all files together have, in the words of the demand where it is met."""
    if name == "delivery_mb":
        return sum(file.size_bytes for file in files) / 1e6
    if name == "channels_alike":
        return demand.exactly if len({file.channels for file in files}) == 1 else "mono and stereo"
    if name == "order":
        wrong = out_of_order([file.name for file in files])
        return f"{files[wrong[0]].name} comes too soon" if wrong else demand.exactly
    there = {file.role for file in files} if name == "sections_required" else extras
    missing = [each for each in demand.exactly if each not in there]
    return f"without {', '.join(missing)}" if missing else ASKED


def consistency(loudness_lufs: Sequence[float | None], outlet: Outlet) -> list[Finding | None]:
    """Hold the files of a delivery against each other: how far each lies from the median loudness of all.

    None for files without a loudness, and for all where the outlet does not ask.
    """
    rule = outlet.rule(CONSISTENCY)
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
    if isinstance(demand.exactly, tuple):
        return ", ".join(demand.exactly)
    if demand.exactly is not None:
        return f"{demand.exactly}{unit}"
    if demand.one_of:
        *others, last = (str(each) for each in demand.one_of)
        return (f"{', '.join(others)} or {last}" if others else last) + unit
    if demand.target is not None:
        tolerance = demand.high - demand.target
        return f"{demand.target:g} ±{tolerance:g}{unit}" if tolerance else f"{demand.target:g}{unit}"
    if demand.low is None:
        return f"at most {demand.high:g}{unit}"
    if demand.high is None:
        return f"at least {demand.low:g}{unit}"
    return f"{demand.low:g} to {demand.high:g}{unit}"


def _of_file(
    rule: Rule, demand: Demand, examined: Examined, outlet: Outlet, mode: str | int | float | tuple[str, ...] | None
) -> Finding:
    """`mode` is the bitrate mode that is asked of this file, if any."""
    figure = rule.kind.figure(examined)
    if rule.name == "names":
        return _name(rule, examined, outlet)
    if rule.kind.takes == PATTERN:
        return _text(rule, demand, figure, examined)
    if rule.name == "chapters" and figure == ASKED and examined.texts and "chapters" in examined.texts:
        # Chapters are told apart by their titles; where they begin was looked at already.
        found = "\n".join(mark.title for mark in examined.carried.chapters)
        figure = ASKED if found == examined.texts["chapters"] else "with other titles"
    ending = split_ending(examined.name)[1] if rule.name == "container" else ""
    if ending and not fits_ending(ending, container=str(figure), codec=examined.facts.codec):
        # A sheet may take several containers, each for its own files; a file has to end as what it is.
        figure = f"{figure}, in a file that ends in .{ending}"
    if rule.name == "bit_rate_kbps" and examined.frame_kbps and mode == VARIABLE and demand.target is None:
        return _frames(rule, demand, examined)
    held = _held(rule, demand, figure)
    special = rule.kind.advises(examined) if held.verdict == FAIL else ""
    return replace(held, advice=special) if special else held


def _held(rule: Rule, demand: Demand, figure: Figure) -> Finding:
    verdict, advice = _verdict(rule, demand, figure)
    return Finding(
        rule=rule.name,
        label=rule.kind.label,
        asked=asked_text(rule, demand),
        found=_found_text(rule, figure),
        verdict=verdict,
        advice=advice,
        source=rule.source,
        margin=_margin(rule, demand, figure),
    )


def _text(rule: Rule, demand: Demand, figure: Figure, examined: Examined) -> Finding:
    """A tag: it says what was expected, or where nothing is known of that, it is there."""
    wanted = None if examined.texts is None else examined.texts.get(rule.name, "")
    optional = read_pattern(demand.exactly).optional
    if wanted is None:
        there, right = "there, if anything is known" if optional else "there", bool(figure) or optional
    else:
        there = _shown(wanted) or ("nothing is known of it" if optional else "there, and nothing is known of it")
        right = (figure or "") == wanted and (bool(wanted) or optional)
    return Finding(
        rule=rule.name,
        label=rule.kind.label,
        asked=there,
        found=_shown(figure or "none"),
        verdict=PASS if right else FAIL,
        advice="" if right else rule.kind.advice.other,
        source=rule.source,
    )


def _name(rule: Rule, examined: Examined, outlet: Outlet) -> Finding:
    """A file's name: the one it was to have, or where nothing is known of that, one that can be used."""
    wanted = (examined.texts or {}).get(rule.name, "")
    extension = examined.name.rpartition(".")[2].lower()
    kinds = {encoding.extension for encoding in outlet.encodings()}
    endings = [extension if extension in kinds else sorted(kinds)[0]]
    grave = next((each for each in check_names([examined.name], extensions=endings) if each.grave), None)
    right = examined.name == wanted if wanted else grave is None and extension in kinds
    return Finding(
        rule=rule.name,
        label=rule.kind.label,
        asked=wanted or f"a name that every system takes, ending in .{' or .'.join(sorted(kinds))}",
        found=_shown(examined.name or "none"),
        verdict=PASS if right else FAIL,
        advice="" if right else " ".join(filter(None, (grave and grave.words, rule.kind.advice.other))),
        source=rule.source,
    )


def _frames(rule: Rule, demand: Demand, examined: Examined) -> Finding:
    """The bitrates of the single frames of an MP3, which are all to lie in the range."""
    low, high = examined.frame_kbps
    if low == high:
        return _held(rule, demand, low)
    plain = _held(rule, demand, min((low, high), key=lambda kbps: _inside(kbps, demand)))
    return replace(plain, found=f"{low:.0f} to {high:.0f} kbit/s, {rule.kind.figure(examined):.0f} on average")


def _inside(figure: float, demand: Demand) -> float:
    return min(figure - demand.low, demand.high - figure)


def _shown(text: str) -> str:
    line = " ".join(str(text).split())
    return line if len(line) <= _MOST_SHOWN else f"{line[: _MOST_SHOWN - 1]}…"


def _found_text(rule: Rule, figure: Figure) -> str:
    if figure is None:
        return "none"
    if isinstance(figure, str):
        return figure
    digits = rule.kind.digits
    # Adding zero takes the sign off a minus nought.
    return f"{round(figure, digits) + 0.0:.{digits}f} {rule.kind.unit}".strip()


def _margin(rule: Rule, demand: Demand, figure: Figure) -> str:
    """How far a figure lies from the nearest bound it could cross, or from the one it has crossed."""
    if figure is None or isinstance(figure, str) or (demand.low is None and demand.high is None):
        return ""
    unit, digits = _DISTANCES.get(rule.kind.unit, rule.kind.unit), max(rule.kind.digits, 1)
    if demand.low is not None and figure < demand.low - rule.kind.slack:
        return f"{demand.low - figure:.{digits}f} {unit} too low"
    if demand.high is not None and figure > demand.high + rule.kind.slack:
        return f"{figure - demand.high:.{digits}f} {unit} too high"
    spare = min(abs(figure - edge) for edge in (demand.low, demand.high) if edge is not None)
    return f"{spare:.{digits}f} {unit} to spare" if round(spare, digits) else "nothing to spare"


def _verdict(rule: Rule, demand: Demand, figure: Figure) -> tuple[str, str]:
    advice = rule.kind.advice
    if figure == UNTOLD:
        return REMARK, "A file of this format does not say it. Make sure of it where it was made."
    if rule.kind.takes == LIST:
        return (PASS, "") if figure == ASKED else (FAIL, advice.other)
    if demand.exactly is not None or demand.one_of:
        asked = demand.one_of or (demand.exactly,)
        return (PASS, "") if any(_is_exactly(figure, each) for each in asked) else (FAIL, advice.other)
    if isinstance(figure, str):
        return FAIL, advice.other
    if figure is None:
        # No noise at all is within any ceiling; no loudness is not within any range, and no picture has no weight.
        quiet = demand.low is None and rule.kind.group == "Levels"
        if quiet:
            return (REMARK, advice.none) if advice.none else (PASS, "")
        return FAIL, advice.other or "There is nothing to measure in this file."
    if meets(figure, demand, rule.kind.slack):
        return _pass_or_remark(rule, demand, figure)
    said = advice.too_low if demand.low is not None and figure < demand.low else advice.too_high
    return FAIL, said or advice.other


def _is_exactly(figure: Figure, asked: str | int | float) -> bool:
    if asked == AS_SOURCE:
        return figure in (MONO, *_STEREOS)
    if asked == STEREO:
        return figure in _STEREOS
    if asked in (FROM_SECTIONS, FROM_MARKS):
        return figure == ASKED
    if asked in (AVERAGE, VARIABLE, QUALITY) and figure == NOT_CONSTANT:
        return True
    if asked == QUALITY and figure == VARIABLE:
        # So LAME calls what follows from a quality; which, is a rule of its own.
        return True
    if asked == "pcm":
        return isinstance(figure, str) and figure.startswith("pcm_")
    if isinstance(asked, str) or figure is None:
        return figure == asked
    return not isinstance(figure, str) and abs(figure - asked) <= _SLACK_OF_NAMED


def _pass_or_remark(rule: Rule, demand: Demand, figure: float) -> tuple[str, str]:
    margins = [abs(figure - edge) for edge in (demand.low, demand.high) if edge is not None]
    if rule.kind.close and min(margins) < rule.kind.close:
        unit = _DISTANCES.get(rule.kind.unit, rule.kind.unit)
        return REMARK, f"It passes by {min(margins):.2f} {unit}, which is close."
    return PASS, ""
