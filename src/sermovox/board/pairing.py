"""Which recording belongs to which section: what is proposed, and what was chosen."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, cast

from mastering.errors import MasteringError
from mastering.naming.pairing import WAYS, Target, pair, pair_best
from mastering.said import Said
from sermovox.productions.models import Production, Section
from sermovox.recordings.models import Recording

_SHOWN = 1000


class BadPairs(MasteringError):
    """What was chosen names a recording that is not there, or one twice."""


@dataclass(frozen=True)
class Pairs:
    """A proposal: how it was found, a row for each section, and the recordings it leaves."""

    way: str
    rows: list[dict]
    found: int
    left: list[Recording]


def proposed_pairs(
    sections: Sequence[Section], places: Mapping[int, int], recordings: Sequence[Recording], way: str | None
) -> Pairs:
    """Pair sections with recordings in one way, or in whichever finds most."""
    targets = [Target(places[s.pk], s.number, s.title, s.role, s.exact_name) for s in sections]
    names = [recording.name for recording in recordings]
    way, found = (way, pair(names, targets, way)) if way in WAYS else pair_best(names, targets)
    by_index = list(labelled(recordings))
    rows = [
        {
            "section": section,
            "place": places[section.pk],
            "label": by_index[found[at]] if at in found else "",
            "duration_s": cast(Any, recordings[found[at]]).duration_s if at in found else None,
        }
        for at, section in enumerate(sections)
    ]
    used = set(found.values())
    left = [recording for at, recording in enumerate(recordings) if at not in used]
    return Pairs(way, rows, len(found), left)


def chosen_pairs(
    chosen: Mapping[int, str],
    sections: Sequence[Section],
    labels: Mapping[str, Recording],
    recorded: Collection[int],
) -> dict[int, int | None]:
    """The recordings that sections are to have, by their keys: what was chosen for each, by label. `recorded` are the
    sections that have one. Raises BadPairs.
    """
    found: dict[int, int | None] = {}
    for section in sections:
        label = chosen[section.pk]
        recording = labels.get(label)
        if label and recording is None:
            raise BadPairs(Said("there-no-recording-called-nothing", label=label))
        if recording and recording.pk in found.values():
            raise BadPairs(Said("chosen-twice-nothing-changed", label=label))
        if recording or section.pk in recorded:
            found[section.pk] = recording.pk if recording else None
    return found


def sections_to_pair(production: Production, anew: bool) -> tuple[list[Section], dict[int, int]]:
    """The sections that recordings are wanted for, all of them or those that wait, and their places."""
    places = {pk: place for place, pk in enumerate(production.sections.values_list("pk", flat=True), 1)}
    wanted = production.sections.all() if anew else production.sections.waiting()
    return list(wanted.defer("script")[:_SHOWN]), places


def recordings_to_pair(production: Production, anew: bool) -> list[Recording]:
    """The recordings that are to be given: all of them, or those that no section has."""
    free = production.recordings.usable().with_duration().defer("figures", "remarks").order_by("name", "pk")
    return list(free if anew else free.unused())


def labelled(recordings: Sequence[Recording]) -> dict[str, Recording]:
    """Each recording by a name of its own; names that come twice are numbered."""
    labels: dict[str, Recording] = {}
    for recording in recordings:
        label, number = recording.name, 1
        while label in labels:
            number += 1
            label = f"{recording.name} ({number})"
        labels[label] = recording
    return labels
