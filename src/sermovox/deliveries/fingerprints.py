"""What a finished file followed from, so that it can be told whether it is still what its production asks for."""

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from mastering import VERSION
from mastering.outlets.rules import RULE_KINDS
from mastering.tagging.inscription import TAGS
from sermovox.deliveries.inscriptions import Inscriptions
from sermovox.sources.names import WantedFiles
from sermovox.sources.soundings import digest

NO_DATE = "0000-00-00"
"""Stands for the day in what is compared: a file is not another because it is looked at tomorrow."""
_REWRITABLE = ("name", "tags", "artwork", "chapters", "places")
"""What can be changed of a finished file without touching its sound."""


@dataclass(frozen=True)
class Followed:
    """What one file follows from: plain values by kind, and the hash of them all."""

    values: dict

    @cached_property
    def fingerprint(self) -> str:
        return digest(self.values)


@dataclass(frozen=True)
class Changes:
    """What of a finished file is no longer as its production asks, in words. Empty where all is."""

    words: tuple[str, ...] = ()
    rewritable: bool = False
    """Whether writing its name and tags again would bring it up to date."""

    def __bool__(self) -> bool:
        return bool(self.words)


UP_TO_DATE = Changes()
MADE_BEFORE = Changes(("made before this was kept",))
"""Of a file whose making cannot be told, because an earlier version of Sermovox made it."""


def followed_by(files: WantedFiles, inscriptions: Inscriptions) -> dict[tuple[int | None, str], Followed]:
    """What each wanted file of an outlet would follow from, by its key; those that cannot be made yet have none.

    `files` are to have been named with NO_DATE.
    """
    found, outlet = {}, files.outlet
    members = None
    for file in files.files:
        sounding, encoding = file.sounding, file.encoding
        if sounding.refusal:
            continue
        said = inscriptions.settled(file, outlet, date=NO_DATE)
        values = {
            "core": VERSION,
            "recordings": sorted(sounding.hashes),
            "sound": sounding.sound,
            "kind": sounding.content_kind,
            "treatment": sounding.treatment.as_dict(),
            "demands": outlet.demanded(channels=encoding.channels, content_kind=sounding.content_kind),
            "name": file.name,
            "tag demands": outlet.demanded_of_tags,
            "tags": {name: _short(text) for name, text in said.get("texts", {}).items() if name.startswith("tag_")},
            "artwork": said["artwork"],
            **chapters_said(said),
        }
        if encoding.broadcast:
            values["broadcast"] = digest(said["broadcast"])
        if sounding.section is None:
            values["sections"] = list(sounding.parts)
        if sounding.treatment.together or outlet.compares_files:
            members = members or _members(files)
            values["beside"] = members
        found[file.key] = Followed(values)
    return found


def _members(files: WantedFiles) -> str:
    """The files that are levelled beside each other."""
    rows = [
        [each.sounding.sound, each.sounding.content_kind, each.sounding.treatment.as_dict(), each.encoding.channels]
        for each in files.files
        if not each.sounding.refusal
    ]
    return digest(sorted(rows, key=repr))


def chapters_said(said: Mapping) -> dict[str, str]:
    """What is compared of the chapter marks that a file is given: what they say, and where they are in the source."""
    rows = said.get("chapters", ())
    return {
        "chapters": digest([[row["title"], row["link"], row["picture"]] for row in rows]),
        "places": digest([round(row["start_s"], 3) for row in rows]),
    }


def _short(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def changes_between(was: Mapping, now: Mapping) -> Changes:
    """What differs between what a file followed from and what it would follow from now.

    What was not kept of a file made by an earlier version is not compared.
    """
    differing = [kind for kind in _WORDS if kind in was and kind in now and was[kind] != now[kind]]
    if "recordings" in differing and "sections" not in differing:
        # Another recording is cut otherwise as a matter of course.
        differing = [kind for kind in differing if kind != "sound"]
    if "tag demands" in differing:
        differing = [kind for kind in differing if kind not in ("tags", "artwork")]
    if "sections" in differing:
        differing = [kind for kind in differing if kind not in ("recordings", "sound", "chapters")]
    if not {"sections", "recordings", "sound", "chapters"}.isdisjoint(differing):
        # Marks move with the sound they are in, and others are elsewhere.
        differing = [kind for kind in differing if kind != "places"]
    words = tuple(_WORDS[kind](was[kind], now[kind]) for kind in differing)
    return Changes(words, bool(words) and all(kind in _REWRITABLE for kind in differing))


def _rule_words(was: Mapping, now: Mapping) -> str:
    labels = [RULE_KINDS[name].label for name in RULE_KINDS if was.get(name) != now.get(name)]
    return f"the outlet’s rules ({_few(labels)})"


def _tag_words(was: Mapping[str, str], now: Mapping[str, str]) -> str:
    names = [name.removeprefix("tag_") for name in {**was, **now} if was.get(name) != now.get(name)]
    return f"tags ({_few([TAGS[name] for name in names])})"


def _section_words(was: list[int], now: list[int]) -> str:
    more, fewer = len(set(now) - set(was)), len(set(was) - set(now))
    told = [f"{more} section{'' if more == 1 else 's'} more"] * bool(more)
    told += [f"{fewer} section{'' if fewer == 1 else 's'} fewer"] * bool(fewer)
    return f"its sections ({', '.join(told) or 'in another order'})"


def _few(words: list[str]) -> str:
    return ", ".join(words[:3]) + (f" and {len(words) - 3} more" if len(words) > 3 else "")


_WORDS = {
    "sections": _section_words,
    "recordings": lambda was, now: "its recording",
    "sound": lambda was, now: "what is cut or marked",
    "kind": lambda was, now: f"what it holds ({was}, now {now})",
    "treatment": lambda was, now: "its treatment",
    "beside": lambda was, now: "the files it is levelled with",
    "demands": _rule_words,
    "tag demands": lambda was, now: "the outlet’s rules (tags and artwork)",
    "broadcast": lambda was, now: "its BWF description",
    "name": lambda was, now: "its name",
    "tags": _tag_words,
    "artwork": lambda was, now: "its artwork",
    "chapters": lambda was, now: "its chapter marks",
    "places": lambda was, now: "where its chapter marks are",
    "core": lambda was, now: "Sermovox itself, which makes it otherwise now",
}
"""What is compared, and how a difference is told."""
