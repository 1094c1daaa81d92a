"""An outlet: a place that takes deliveries, read from a TOML file in which every value names its source."""

import datetime
import math
import re
import tomllib
from dataclasses import dataclass, replace
from functools import cache, cached_property, lru_cache
from importlib import resources

import tomli_w

from mastering.audio.encodings import (
    AVERAGE,
    CODECS,
    CONSTANT,
    INT_16,
    QUALITY,
    VARIABLE,
    Encoding,
    nearest_kbps,
    objections,
)
from mastering.errors import MasteringError
from mastering.naming.patterns import BadPattern, read_pattern
from mastering.outlets.rules import (
    AS_SOURCE,
    ASKED,
    CONSISTENCY,
    FROM_SECTIONS,
    GROUPS,
    JOINED,
    JOINT,
    LIST,
    MONO,
    NUMBER,
    ONE_EACH,
    PATTERN,
    RANGE,
    RULE_KINDS,
    SEPARATE,
    STEREO,
    Demand,
    same_for_all,
)
from mastering.tagging.artwork import ArtworkRule
from mastering.tagging.inscribing import forms, holds
from mastering.tagging.inscription import TAGS

FORMAT = 2
"""The form of rule sheets this reads and writes; sheets of the form before it state none."""
CONTENT_KINDS = ("speech", "music", "mixed")
DEFAULT_NAMES = "{place|pad:2}[-{title|plain|lower|join:-|most:60}]"
VARIANTS = (MONO, STEREO, *CONTENT_KINDS)
LARGEST_TOML = 200_000
"""Letters of a rule sheet."""
_DEMAND_KEYS = {"exactly", "one_of", "target", "tolerance", "at_least", "at_most"}
_TOP_KEYS = {"format", "key", "title", "summary", "rules", "names", "artwork", "joined"}
_KEY = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*")
_LONGEST_TEXT = {"key": 60, "title": 100, "summary": 400, "source": 300}
_LONGEST_PATTERN = 500
_NO_SOURCE = "common practice, no source"


class BadOutlet(MasteringError):
    """An outlet's TOML does not say what an outlet must say."""


@dataclass(frozen=True)
class Rule:
    """One demand with its source; `demands` is keyed by variant, None being the one that always holds.

    `dated` is the day of the source, where it has one.
    """

    name: str
    source: str
    demands: dict[str | None, Demand]
    dated: datetime.date | None = None

    @property
    def kind(self):
        return RULE_KINDS[self.name]

    def demand(self, *, channels: int, content_kind: str) -> Demand | None:
        """What this rule asks of such a file, or None when it says nothing of it."""
        for variant in (MONO if channels == 1 else STEREO, content_kind, None):
            if variant in self.demands:
                return self.demands[variant]
        return None


@dataclass(frozen=True)
class Outlet:
    """Key, title, summary and rules, in the order they are shown."""

    key: str
    title: str
    summary: str
    rules: tuple[Rule, ...]

    @cached_property
    def _by_name(self) -> dict[str, Rule]:
        return {rule.name: rule for rule in self.rules}

    def rule(self, name: str) -> Rule | None:
        """The rule of this name, if there is one."""
        return self._by_name.get(name)

    def _stated(self, name: str):
        """The value of a rule that is the same for all files."""
        rule = self.rule(name)
        return rule.demands[None].first if rule else None

    @property
    def names(self) -> str:
        """The pattern its files are named by."""
        return self._stated("names") or DEFAULT_NAMES

    @property
    def joined(self) -> bool:
        """Whether all sections go into one file."""
        return self._stated("files") == JOINED

    @property
    def folder(self) -> str:
        """The pattern of the folder its files lie in; empty for none."""
        return self._stated("folder") or ""

    @property
    def extra_files(self) -> tuple[str, ...]:
        return self._stated("extra_files") or ()

    @property
    def chapters(self) -> str | None:
        """Where chapter marks come from, None where none are asked."""
        return self._stated("chapters")

    @property
    def tag_patterns(self) -> dict[str, str]:
        """The pattern of each tag that is asked."""
        stated = {name: self._stated(f"tag_{name}") for name in TAGS if name != "encoder"}
        return {name: pattern for name, pattern in stated.items() if pattern is not None}

    @property
    def tag_form(self) -> str:
        return self._stated("tag_form") or "ID3v2.4"

    @property
    def names_encoder(self) -> bool:
        """Whether files say what encoded them."""
        return self._stated("tag_encoder") == ASKED

    @cached_property
    def artwork(self) -> ArtworkRule | None:
        """What is asked of the picture; None where none is asked."""
        asked = [rule for rule in self.rules if rule.name.startswith("artwork_")]
        if not asked:
            return None
        sides, weight, form = (self.rule(f"artwork_{each}") for each in ("px", "kb", "format"))
        side, kb = (rule.demands[None] if rule else Demand() for rule in (sides, weight))
        return ArtworkRule(
            at_least_px=int(side.low or 1),
            at_most_px=int(side.high or RULE_KINDS["artwork_px"].most),
            at_most_bytes=int((kb.high or RULE_KINDS["artwork_kb"].most) * 1000),
            source=asked[0].source,
            format=form.demands[None].first if form else "JPEG",
        )

    def demands(self, *, channels: int, content_kind: str) -> dict[str, Demand]:
        """All that is asked of a file with so many channels and this kind of content, by rule name."""
        found = {r.name: r.demand(channels=channels, content_kind=content_kind) for r in self.rules}
        return {name: demand for name, demand in found.items() if demand}

    @property
    def compares_files(self) -> bool:
        """Whether a rule holds the loudness of a delivery's files against each other."""
        return CONSISTENCY in self._by_name

    @property
    def same_channels(self) -> bool:
        """Whether all files of a delivery must have as many channels."""
        return "channels_alike" in self._by_name

    def channels_for(self, source_channels: int, *, content_kind: str) -> int:
        """How many channels a file for this outlet has, made from a recording with so many."""
        asked = self.demands(channels=source_channels, content_kind=content_kind)["channels"].first
        return {MONO: 1, AS_SOURCE: source_channels}.get(asked, 2)

    def settled(self, source_channels: list[int]) -> "Outlet":
        """This outlet for a run over such recordings: where all files are to be alike, one is stereo if any is."""
        asked = self.rule("channels")
        if not (self.same_channels and asked and asked.demands.get(None, Demand()).first == AS_SOURCE):
            return self
        wide = STEREO if max(source_channels, default=1) > 1 else MONO
        rules = tuple(
            replace(rule, demands={None: Demand(exactly=wide)}) if rule.name == "channels" else rule
            for rule in self.rules
        )
        return replace(self, rules=rules)

    def encodings(self) -> list[Encoding]:
        """What files for this outlet can be made of: one for each number of channels and kind of content."""
        found = [self.encoding_from(channels, content_kind=kind) for channels in (1, 2) for kind in CONTENT_KINDS]
        return list(dict.fromkeys(found))

    def encoding_from(self, source_channels: int, *, content_kind: str) -> Encoding:
        """What a file is made of that is made from a recording with so many channels."""
        channels = self.channels_for(min(2, source_channels), content_kind=content_kind)
        return self.encoding(channels=channels, content_kind=content_kind)

    def encoding(self, *, channels: int, content_kind: str) -> Encoding:
        """What a finished file with so many channels is made of, as these rules ask."""
        asked = self.demands(channels=channels, content_kind=content_kind)

        def first(name: str):
            return asked[name].first if name in asked else None

        container = first("container")
        codec = first("codec") or CODECS[container][0]
        mode, rate = first("bit_rate_mode"), asked.get("bit_rate_kbps")
        plain = Encoding(
            container=container,
            codec="pcm" if codec.startswith("pcm") else codec,
            sample_rate_hz=first("sample_rate_hz"),
            channels=channels,
            sample_format=first("sample_format"),
            mode=mode,
            quality=first("quality"),
            joint=first("channels") != SEPARATE,
            broadcast="broadcast_wave" in asked,
        )
        if not plain.lossy:
            return replace(plain, mode=None, quality=None)
        if plain.mode == VARIABLE:
            low, high = (rate.low, rate.high) if rate else (None, None)
            return replace(plain, sample_format=None, lowest_kbps=low, highest_kbps=high)
        if plain.mode == QUALITY or rate is None:
            return replace(plain, sample_format=None)
        return replace(plain, sample_format=None, bit_rate_kbps=_one_bit_rate(plain, rate))


def _one_bit_rate(encoding: Encoding, rate: Demand) -> float:
    """The bitrate to make a file with: what is named, else the lowest there is in the range."""
    if rate.first is not None:
        return rate.first
    if rate.target is not None:
        return rate.target
    if rate.low is None:
        return nearest_kbps(encoding, rate.high)
    near = nearest_kbps(encoding, rate.low)
    step = 1
    while near < rate.low and step < 64:
        near, step = nearest_kbps(encoding, rate.low + step), step + 1
    return near


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
    _refuse_contradictions(outlet)
    return outlet


def read(text: str) -> Outlet:
    """As `parse`, but rules may still contradict each other. Raises BadOutlet."""
    if len(text) > LARGEST_TOML:
        raise BadOutlet(f"This is longer than any rule sheet ({len(text):,} letters).")
    try:
        data = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise BadOutlet(f"This is not TOML: {error}") from error
    form = data.get("format", 1)
    if not isinstance(form, int) or form < 1:
        raise BadOutlet(f"The “format” of a rule sheet is a whole number up to {FORMAT}.")
    if form > FORMAT:
        raise BadOutlet(
            f"This rule sheet was written by a newer Sermovox (format {form}); this one reads up to {FORMAT}. "
            "Update Sermovox, or have the sheet exported by an older one."
        )
    if unknown := set(data) - _TOP_KEYS:
        raise BadOutlet(f"A rule sheet has no place for “{', '.join(sorted(unknown))}”.")
    facts = {name: _plain_text(data, name) for name in ("key", "title", "summary")}
    if not _KEY.fullmatch(facts["key"]):
        raise BadOutlet(f"The key “{facts['key']}” wants small letters, digits and single hyphens.")
    entries = data.get("rules")
    if not isinstance(entries, list) or not all(isinstance(entry, dict) for entry in entries):
        raise BadOutlet("The outlet does not state its rules.")
    rules = [_rule(entry) for entry in (*entries, *_old_entries(data))]
    names = [rule.name for rule in rules]
    if twice := next((name for name in names if names.count(name) > 1), None):
        raise BadOutlet(f"The rule “{twice}” stands there twice. Keep one of them.")
    return Outlet(facts["key"], facts["title"], facts["summary"], tuple(rules))


def written(outlet: Outlet) -> str:
    """An outlet as TOML that `parse` reads again."""
    rules = []
    for rule in outlet.rules:
        entry: dict = {"name": rule.name}
        for variant, demand in rule.demands.items():
            said = stated(demand)
            entry |= said if variant is None else {variant: said}
        entry["source"] = rule.source
        if rule.dated:
            entry["dated"] = rule.dated
        # Tables inside a table have to stand last.
        rules.append(dict(sorted(entry.items(), key=lambda item: isinstance(item[1], dict))))
    head = {"format": FORMAT, "key": outlet.key, "title": outlet.title, "summary": outlet.summary}
    return tomli_w.dumps(head | {"rules": rules})


def with_rule(outlet: Outlet, entry: dict) -> Outlet:
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


def stated(demand: Demand) -> dict:
    """A demand as TOML states it."""
    if demand.exactly is not None:
        return {"exactly": list(demand.exactly) if isinstance(demand.exactly, tuple) else demand.exactly}
    if demand.one_of:
        return {"one_of": list(demand.one_of)}
    if demand.target is not None:
        return {"target": demand.target, "tolerance": round(demand.high - demand.target, 6)}
    bounds = {"at_least": demand.low, "at_most": demand.high}
    return {name: value for name, value in bounds.items() if value is not None}


def _plain_text(data: dict, name: str) -> str:
    text = data.get(name)
    if text is None:
        raise BadOutlet(f"The outlet does not state its {name}.")
    if not isinstance(text, str) or not text.strip() or len(text) > _LONGEST_TEXT[name] or not text.isprintable():
        raise BadOutlet(f"The {name} of an outlet is one line of up to {_LONGEST_TEXT[name]} letters.")
    return text.strip()


def _old_entries(data: dict) -> list[dict]:
    """What sheets of the first form state outside their rules, as rules."""
    entries = []
    if "names" in data:
        entries.append({"name": "names", "exactly": data["names"], "source": _NO_SOURCE})
    if "joined" in data:
        if not isinstance(data["joined"], bool):
            raise BadOutlet("“joined” is true, where all sections go into one file, or false.")
        entries.append({"name": "files", "exactly": JOINED if data["joined"] else ONE_EACH, "source": _NO_SOURCE})
    if "artwork" in data:
        try:
            old = {name: data["artwork"][name] for name in ("at_least_px", "at_most_px", "at_most_bytes", "source")}
            weight_kb = old["at_most_bytes"] / 1000
        except (TypeError, KeyError) as error:
            raise BadOutlet("Artwork wants at_least_px, at_most_px, at_most_bytes and source.") from error
        sides = {"at_least": old["at_least_px"], "at_most": old["at_most_px"]}
        entries.append({"name": "artwork_px", "source": old["source"]} | sides)
        entries.append({"name": "artwork_kb", "source": old["source"], "at_most": weight_kb})
    return entries


def _rule(entry: dict) -> Rule:
    name = entry.get("name", "")
    if not isinstance(name, str) or name not in RULE_KINDS:
        raise BadOutlet(f"There is no rule called “{name}”. Rules are: {', '.join(RULE_KINDS)}.")
    source = entry.get("source")
    if not source or not isinstance(source, str) or not source.strip():
        raise BadOutlet(f"The rule “{name}” does not say where its value comes from.")
    if len(source) > _LONGEST_TEXT["source"] or not source.isprintable():
        raise BadOutlet(f"The source of the rule “{name}” is one line of up to {_LONGEST_TEXT['source']} letters.")
    dated = entry.get("dated")
    if dated is not None and (not isinstance(dated, datetime.date) or isinstance(dated, datetime.datetime)):
        raise BadOutlet(f"The rule “{name}” is dated by a day, such as 2026-03-03.")
    demands: dict[str | None, Demand] = {}
    for variant in VARIANTS:
        if variant in entry:
            if not isinstance(entry[variant], dict):
                raise BadOutlet(f"What the rule “{name}” asks of {variant} files stands in a table of its own.")
            demands[variant] = _demand(name, entry[variant])
    plain = {key: value for key, value in entry.items() if key not in ("name", "source", "dated", *VARIANTS)}
    if plain:
        demands[None] = _demand(name, plain)
    if not demands:
        raise BadOutlet(f"The rule “{name}” asks for nothing.")
    if same_for_all(name) and set(demands) != {None}:
        raise BadOutlet(f"The rule “{name}” is the same for all files.")
    if name == CONSISTENCY and (demands[None].low is not None or not demands[None].high):
        raise BadOutlet(f"The rule “{name}” asks all files alike for a distance of “at_most” so many LU.")
    return Rule(name, source.strip(), demands, dated)


def _demand(name: str, entry: dict) -> Demand:
    if unknown := set(entry) - _DEMAND_KEYS:
        raise BadOutlet(f"The rule “{name}” has a word nobody knows: {', '.join(sorted(unknown))}.")
    kind = RULE_KINDS[name]
    if "exactly" in entry or "one_of" in entry:
        if kind.takes == RANGE:
            raise BadOutlet(f"The rule “{name}” takes a range: at_least, at_most, or target and tolerance.")
        return _named(name, entry)
    if kind.takes not in (NUMBER, RANGE):
        raise BadOutlet(f"The rule “{name}” asks for nothing: it takes “exactly”.")
    if "target" in entry:
        target, tolerance = _number(name, entry["target"]), _number(name, entry.get("tolerance", 0.0), least=0.0)
        return Demand(low=target - tolerance, high=target + tolerance, target=target)
    low, high = (None if entry.get(key) is None else _number(name, entry[key]) for key in ("at_least", "at_most"))
    if low is None and high is None:
        raise BadOutlet(f"The rule “{name}” asks for nothing.")
    if low is not None and high is not None and low > high:
        raise BadOutlet(f"The rule “{name}” asks for at least {low:g} and at most {high:g}, which nothing can meet.")
    return Demand(low=low, high=high)


def _named(name: str, entry: dict) -> Demand:
    """A demand for one value, for one of several, for a text or for a whole list."""
    kind, value = RULE_KINDS[name], entry.get("exactly")
    if kind.takes == PATTERN:
        if not isinstance(value, str) or not value.strip() or len(value) > _LONGEST_PATTERN:
            raise BadOutlet(f"The rule “{name}” takes a pattern of up to {_LONGEST_PATTERN} letters.")
        try:
            read_pattern(value)
        except BadPattern as error:
            raise BadOutlet(f"The pattern of the rule “{name}” cannot be read. {error}") from error
        return Demand(exactly=value)
    if kind.takes == LIST:
        if not isinstance(value, list) or not value or any(each not in kind.choices for each in value):
            raise BadOutlet(f"The rule “{name}” takes a list of these: {', '.join(kind.choices)}.")
        return Demand(exactly=tuple(dict.fromkeys(value)))
    values = entry.get("one_of", [value])
    if not isinstance(values, list) or not values:
        raise BadOutlet(f"“one_of” of the rule “{name}” is a list of values.")
    if kind.takes == NUMBER:
        values = [_number(name, each) for each in values]
    elif unknown := [each for each in values if each not in kind.choices]:
        raise BadOutlet(_unknown(name, unknown[0]))
    return Demand(exactly=values[0]) if "exactly" in entry else Demand(one_of=tuple(values))


def _unknown(name: str, value) -> str:
    if name == "container":
        return f"Sermovox does not write {value} files; it writes {', '.join(RULE_KINDS[name].choices)}."
    return f"The rule “{name}” cannot be “{value}”; it can be {', '.join(RULE_KINDS[name].choices)}."


def _number(name: str, value, *, least: float | None = None) -> float:
    kind = RULE_KINDS[name]
    least = kind.least if least is None else least
    number = isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)
    if not number or not least <= value <= kind.most:
        unit = f" {kind.unit}" if kind.unit else ""
        raise BadOutlet(f"The rule “{name}” takes numbers from {least:g} to {kind.most:g}{unit}, not “{value}”.")
    return int(value) if value == int(value) else value


def _refuse_contradictions(outlet: Outlet) -> None:
    channels = outlet.rule("channels")
    for variant, other in ((MONO, (STEREO, JOINT, SEPARATE)), (STEREO, (MONO,))):
        if channels and (asked := channels.demands.get(variant)) and asked.first in other:
            raise BadOutlet(
                f"Files in {variant} are asked to be in {asked.first}. Ask the same of all files, or “{variant}” here."
            )
    for source_channels in (1, 2):
        for content_kind in CONTENT_KINDS:
            asked = outlet.demands(channels=source_channels, content_kind=content_kind)
            for needed in ("container", "channels", "sample_rate_hz"):
                if needed not in asked:
                    raise BadOutlet(f"The outlet “{outlet.title}” does not state its {needed}.")
            channels = outlet.channels_for(source_channels, content_kind=content_kind)
            asked = outlet.demands(channels=channels, content_kind=content_kind)
            encoding = outlet.encoding(channels=channels, content_kind=content_kind)
            if told := [*_against(asked, encoding), *objections(encoding)]:
                raise BadOutlet(" ".join(told))
            if told := _no_place_for(outlet, encoding):
                raise BadOutlet(told)


def _against(asked: dict[str, Demand], encoding: Encoding) -> list[str]:
    """Demands that no file can meet at once."""
    told = []
    channels = asked["channels"].first
    if channels in (JOINT, SEPARATE) and encoding.codec != "mp3":
        told.append(f"“{channels}” is a matter of MP3 alone; ask for “stereo” here.")
    if channels == SEPARATE and encoding.mode != CONSTANT:
        told.append("Separate stereo is written at a constant bitrate only.")
    if encoding.lossy and "sample_format" in asked:
        told.append("A lossy format has no bit depth. Take that rule out.")
    if not encoding.lossy and (names := [n for n in ("bit_rate_kbps", "bit_rate_mode", "quality") if n in asked]):
        what = RULE_KINDS[names[0]].label.lower()
        told.append(f"The {what} of a format without loss follows from its sound. Take that rule out.")
    if "quality" in asked and encoding.mode != QUALITY:
        told.append("A quality is asked, and a bitrate mode that leaves none to choose. Take one of them out.")
    if encoding.lossy and encoding.mode == AVERAGE and (rate := asked.get("bit_rate_kbps")) and rate.first is not None:
        told.append("An average bitrate is never met exactly. Give a target and a tolerance, such as 64 ±20 kbit/s.")
    if "broadcast_wave" in asked and encoding.container != "wav":
        told.append("A BWF description is a matter of WAV alone.")
    if asked.get("codec", Demand()).first == "pcm_s16le" and encoding.sample_format != INT_16:
        told.append(f"pcm_s16le is 16-bit sound, and {encoding.sample_format} is asked. Take one of them out.")
    return told


def _no_place_for(outlet: Outlet, encoding: Encoding) -> str:
    """What the container cannot hold of what is asked, said; empty where it holds all."""
    container = encoding.container
    for name in outlet.tag_patterns:
        if not holds(container, name):
            return f"The tags of {container} files have no place for the {TAGS[name]}. Take the rule “tag_{name}” out."
    if outlet.artwork and not holds(container, "picture") and "cover.jpg" not in outlet.extra_files:
        return f"{container} files hold no picture. Ask for cover.jpg among the extra files as well."
    if outlet.chapters and not holds(container, "chapters"):
        return f"{container} files hold no chapter marks. Ask for chapters.json among the extra files instead."
    if outlet.rule("tag_form") and not forms(container):
        return f"{container} files have but one way of tagging. Take the rule “tag_form” out."
    if outlet.chapters == FROM_SECTIONS and not outlet.joined:
        return "Chapter marks from sections want one file of all sections; ask for that, or for marks from pages."
    return ""
