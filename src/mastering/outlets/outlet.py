"""An outlet: a place that takes deliveries, read from a TOML file in which every value names its source."""

import tomllib
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib import resources

from mastering.audio.writers import Encoding
from mastering.errors import MasteringError
from mastering.naming.patterns import BadPattern, read_pattern
from mastering.outlets.rules import AS_SOURCE, MONO, OF_DELIVERIES, RULE_KINDS, STEREO, Demand
from mastering.tagging.artwork import ArtworkRule

CONTENT_KINDS = ("speech", "music", "mixed")
DEFAULT_NAMES = "{place|pad:2}[-{title|plain|lower|join:-|most:60}]"
_VARIANTS = (MONO, STEREO, *CONTENT_KINDS)
_DEMAND_KEYS = {"exactly", "target", "tolerance", "at_least", "at_most"}


class BadOutlet(MasteringError):
    """An outlet's TOML does not say what an outlet must say."""


@dataclass(frozen=True)
class Rule:
    """One demand with its source; `demands` is keyed by variant, None being the one that always holds."""

    name: str
    source: str
    demands: dict[str | None, Demand]

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
    """Key, title, summary and rules, in the order they are shown.

    `names` is the pattern its files are named by; `artwork` is None where no picture is asked; `joined` where all
    sections go into one file.
    """

    key: str
    title: str
    summary: str
    rules: tuple[Rule, ...]
    names: str
    artwork: ArtworkRule | None = None
    joined: bool = False

    def demands(self, *, channels: int, content_kind: str) -> dict[str, Demand]:
        """All that is asked of a file with so many channels and this kind of content, by rule name."""
        found = {r.name: r.demand(channels=channels, content_kind=content_kind) for r in self.rules}
        return {name: demand for name, demand in found.items() if demand}

    @property
    def compares_files(self) -> bool:
        """Whether a rule holds the files of a delivery against each other."""
        return any(rule.name in OF_DELIVERIES for rule in self.rules)

    def channels_for(self, source_channels: int) -> int:
        """How many channels a file for this outlet has, made from a recording with so many."""
        asked = self.demands(channels=source_channels, content_kind="speech")["channels"].exactly
        return {MONO: 1, STEREO: 2, AS_SOURCE: source_channels}[asked]

    def encoding(self, *, channels: int, content_kind: str) -> Encoding:
        """What a finished file is made of, as these rules ask."""
        asked = self.demands(channels=channels, content_kind=content_kind)
        bit_rate = asked.get("bit_rate_kbps")
        return Encoding(
            container=asked["container"].exactly,
            sample_rate_hz=asked["sample_rate_hz"].exactly,
            channels=channels,
            bit_rate_kbps=bit_rate.exactly if bit_rate else None,
        )


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
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BadOutlet(f"This is not TOML: {error}") from error
    try:
        rules = tuple(_rule(entry) for entry in data["rules"])
        names = data.get("names", DEFAULT_NAMES)
        read_pattern(names)
        artwork = ArtworkRule(**data["artwork"]) if "artwork" in data else None
        joined = data.get("joined", False)
        if not isinstance(joined, bool):
            raise BadOutlet("“joined” is true, where all sections go into one file, or false.")
        outlet = Outlet(data["key"], data["title"], data["summary"], rules, names, artwork, joined)
    except BadPattern as error:
        raise BadOutlet(f"The outlet’s pattern for names cannot be read. {error}") from error
    except TypeError as error:
        raise BadOutlet("Artwork wants at_least_px, at_most_px, at_most_bytes and source.") from error
    except KeyError as error:
        raise BadOutlet(f"The outlet does not state its {error.args[0]}.") from error
    _refuse_contradictions(outlet)
    return outlet


def _rule(entry: dict) -> Rule:
    name = entry.get("name", "")
    if name not in RULE_KINDS:
        raise BadOutlet(f"There is no rule called “{name}”. Rules are: {', '.join(RULE_KINDS)}.")
    if not entry.get("source"):
        raise BadOutlet(f"The rule “{name}” does not say where its value comes from.")
    demands: dict[str | None, Demand] = {
        variant: _demand(name, entry[variant]) for variant in _VARIANTS if variant in entry
    }
    plain = {key: value for key, value in entry.items() if key not in ("name", "source", *_VARIANTS)}
    if plain:
        demands[None] = _demand(name, plain)
    if not demands:
        raise BadOutlet(f"The rule “{name}” asks for nothing.")
    if name in OF_DELIVERIES and (set(demands) != {None} or demands[None].low is not None or not demands[None].high):
        raise BadOutlet(f"The rule “{name}” asks all files alike for a distance of “at_most” so many LU.")
    return Rule(name, entry["source"], demands)


def _demand(name: str, entry: dict) -> Demand:
    if unknown := set(entry) - _DEMAND_KEYS:
        raise BadOutlet(f"The rule “{name}” has a word nobody knows: {', '.join(sorted(unknown))}.")
    if "exactly" in entry:
        return Demand(exactly=entry["exactly"])
    if "target" in entry:
        target, tolerance = entry["target"], entry.get("tolerance", 0.0)
        return Demand(low=target - tolerance, high=target + tolerance, target=target)
    low, high = entry.get("at_least"), entry.get("at_most")
    if low is None and high is None:
        raise BadOutlet(f"The rule “{name}” asks for nothing.")
    if low is not None and high is not None and low > high:
        raise BadOutlet(f"The rule “{name}” asks for at least {low} and at most {high}.")
    return Demand(low=low, high=high)


def _refuse_contradictions(outlet: Outlet) -> None:
    for channels in (1, 2):
        for content_kind in CONTENT_KINDS:
            asked = outlet.demands(channels=channels, content_kind=content_kind)
            for needed in ("container", "channels", "sample_rate_hz"):
                if needed not in asked:
                    raise BadOutlet(f"The outlet “{outlet.title}” does not state its {needed}.")
            if asked["container"].exactly not in ("mp3", "wav"):
                raise BadOutlet(f"Sermovox does not write {asked['container'].exactly} files.")
            if asked["channels"].exactly not in (MONO, STEREO, AS_SOURCE):
                raise BadOutlet(f"Channels are {MONO}, {STEREO} or {AS_SOURCE}.")
            if asked["container"].exactly == "mp3" and "bit_rate_kbps" not in asked:
                raise BadOutlet(f"The outlet “{outlet.title}” does not state its bit_rate_kbps.")
