"""An outlet: a place that takes deliveries, with rules in which every value names its source."""

import datetime
from dataclasses import asdict, dataclass, replace
from functools import cached_property
from math import isfinite
from typing import Any

from mastering.audio.encodings import Encoding, nearest_kbps
from mastering.audio.formats import QUALITY, VARIABLE, written_in
from mastering.errors import MasteringError
from mastering.outlets.demands import Demand, Named, Range, canonical
from mastering.outlets.receiving import Receiving
from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.rules.artwork import artwork_asked
from mastering.outlets.rules.delivery import JOINED
from mastering.outlets.rules.kind import ASKED, RuleKind
from mastering.outlets.rules.levels import CONSISTENCY
from mastering.outlets.rules.making import AS_SOURCE, MONO, SEPARATE, STEREO
from mastering.tagging.artwork import ArtworkRule
from mastering.tagging.inscription import TAGS

CONTENT_KINDS = ("speech", "music", "mixed")
DEFAULT_NAMES = "{place|pad:2}[-{title|plain|lower|join:-|most:60}]"
VARIANTS = (MONO, STEREO, *CONTENT_KINDS)


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
    def kind(self) -> RuleKind:
        return RULE_KINDS[self.name]

    def demand(self, *, channels: int, content_kind: str) -> Demand | None:
        """What this rule asks of such a file, or None when it says nothing of it."""
        for variant in (MONO if channels == 1 else STEREO, content_kind, None):
            if variant in self.demands:
                return self.demands[variant]
        return None


@dataclass(frozen=True)
class Outlet:
    """Key, title, summary and rules, in the order they are shown; and how it receives files, where that is stated."""

    key: str
    title: str
    summary: str
    rules: tuple[Rule, ...]
    receives: Receiving | None = None

    @cached_property
    def _by_name(self) -> dict[str, Rule]:
        return {rule.name: rule for rule in self.rules}

    def rule(self, name: str) -> Rule | None:
        """The rule of this name, if there is one."""
        return self._by_name.get(name)

    def _stated(self, name: str) -> Any:
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
        return bool(self._stated("files") == JOINED)

    @property
    def heard_first(self) -> bool:
        """Whether a file is only sent once somebody has listened to it."""
        return self._stated("listened") is not None

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
        stated: str | None = self._stated("chapters")
        return stated

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
        return bool(self._stated("tag_encoder") == ASKED)

    @cached_property
    def artwork(self) -> ArtworkRule | None:
        """What is asked of the picture; None where none is asked."""
        alike = {rule.name: (rule.demands[None], rule.source) for rule in self.rules if rule.kind.same_for_all}
        return artwork_asked(alike)

    def demands(self, *, channels: int, content_kind: str) -> dict[str, Demand]:
        """All that is asked of a file with so many channels and this kind of content, by rule name."""
        found = {r.name: r.demand(channels=channels, content_kind=content_kind) for r in self.rules}
        return {name: demand for name, demand in found.items() if demand}

    def demanded(self, *, channels: int, content_kind: str) -> dict[str, dict[str, Any]]:
        """What is demanded of the sound of such a file as plain values, by rule name; no words, no sources."""
        asked = [(rule, rule.demand(channels=channels, content_kind=content_kind)) for rule in self.rules]
        return {rule.name: canonical(demand) for rule, demand in asked if demand and rule.kind.makes_another}

    @property
    def demanded_of_tags(self) -> dict[str, Any]:
        """What is demanded of tags and picture, likewise."""
        artwork = None
        if self.artwork is not None:
            artwork = {name: value for name, value in asdict(self.artwork).items() if name != "source"}
        return {
            "patterns": self.tag_patterns,
            "form": self.tag_form,
            "encoder": self.names_encoder,
            "artwork": artwork,
        }

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
        return {MONO: 1, AS_SOURCE: source_channels}.get(str(asked), 2)

    def settled(self, source_channels: list[int]) -> "Outlet":
        """This outlet for a run over such recordings: where all files are to be alike, one is stereo if any is."""
        asked = self.rule("channels")
        everywhere = asked.demands.get(None) if asked else None
        if not (self.same_channels and everywhere and everywhere.first == AS_SOURCE):
            return self
        wide = STEREO if max(source_channels, default=1) > 1 else MONO
        rules = tuple(
            replace(rule, demands={None: Named((wide,))}) if rule.name == "channels" else rule for rule in self.rules
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

        def first(name: str) -> Any:
            return asked[name].first if name in asked else None

        container = first("container")
        codec = first("codec") or next(iter(written_in(container).codecs))
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
            low, high = (_known(edge) for edge in (rate.low, rate.high)) if isinstance(rate, Range) else (None, None)
            return replace(plain, sample_format=None, lowest_kbps=low, highest_kbps=high)
        if plain.mode == QUALITY or rate is None:
            return replace(plain, sample_format=None)
        return replace(plain, sample_format=None, bit_rate_kbps=_one_bit_rate(plain, rate))


def _known(edge: float) -> Any:
    return edge if isfinite(edge) else None


def _one_bit_rate(encoding: Encoding, rate: Demand) -> Any:
    """The bitrate to make a file with: what is named, else the lowest there is in the range."""
    if not isinstance(rate, Range):
        return rate.first
    if rate.target is not None:
        return rate.target
    if not isfinite(rate.low):
        return nearest_kbps(encoding, rate.high)
    near = nearest_kbps(encoding, rate.low)
    step = 1
    while near < rate.low and step < 64:
        near, step = nearest_kbps(encoding, rate.low + step), step + 1
    return near
