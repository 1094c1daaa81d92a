"""What a finished file followed from, so that it can be told whether it is still what its production asks for."""

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property

from mastering import VERSION
from mastering.outlets.rules import RULE_KINDS
from mastering.said import Said, together
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
MADE_BEFORE = Changes((Said("made-before-kept"),))
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
    return Said("outlets-rules", few=_few(labels))


def _tag_words(was: Mapping[str, str], now: Mapping[str, str]) -> str:
    names = [name.removeprefix("tag_") for name in {**was, **now} if was.get(name) != now.get(name)]
    return Said("tags-2", few=_few([TAGS[name] for name in names]))


def _section_words(was: list[int], now: list[int]) -> str:
    more, fewer = len(set(now) - set(was)), len(set(was) - set(now))
    told = [Said("sections-more", count=more)] * bool(more)
    told += [Said("sections-fewer", count=fewer)] * bool(fewer)
    return Said("sections", told=together(told, ", ") or Said("in-another-order"))


def _few(words: list[str]) -> str:
    return together(words[:3], ", ") + (Said("more-3", count=len(words) - 3) if len(words) > 3 else "")


_WORDS: dict[str, Callable[..., str]] = {
    "sections": _section_words,
    "recordings": lambda was, now: Said("its-recording"),
    "sound": lambda was, now: Said("what-cut-marked"),
    "kind": lambda was, now: Said("what-holds-now", was=was, now=now),
    "treatment": lambda was, now: Said("treatment"),
    "beside": lambda was, now: Said("files-levelled"),
    "demands": _rule_words,
    "tag demands": lambda was, now: Said("outlets-rules-tags-artwork"),
    "broadcast": lambda was, now: Said("its-bwf-description"),
    "name": lambda was, now: Said("its-name"),
    "tags": _tag_words,
    "artwork": lambda was, now: Said("its-artwork"),
    "chapters": lambda was, now: Said("its-chapter-marks"),
    "places": lambda was, now: Said("where-chapter-marks"),
    "core": lambda was, now: Said("sermovox-itself-which-makes-otherwise"),
}
"""What is compared, and how a difference is told."""
