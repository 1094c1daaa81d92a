"""Where every section of a production stands at every outlet: the present, whatever runs there were."""

import hashlib
from collections import Counter, OrderedDict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django.db.models import Max, Q

from mastering.outlets.outlet import Outlet
from mastering.said import Said, together
from sermovox.deliveries.fingerprints import (
    MADE_BEFORE,
    NO_DATE,
    UP_TO_DATE,
    Changes,
    Followed,
    changes_between,
    followed_by,
)
from sermovox.deliveries.inscriptions import Inscriptions
from sermovox.deliveries.models import FinishedFile
from sermovox.productions.models import Piece, Production, Section
from sermovox.sources.names import WantedFiles
from sermovox.sources.soundings import Soundings

State = FinishedFile.State
TO_DO, CHANGED = "to do", "changed since"
_WORST = (
    State.MAKING,
    State.WAITING,
    State.REFUSED,
    State.FAILS,
    CHANGED,
    TO_DO,
    State.REMARKS,
    State.PASSES,
)
"""Of a section's several files, which state is told of the section."""
_FIELDS = ("pk", "state", "delivery_id", "delivery__outlet_key", "section_id", "voice", "fingerprint")
_KEPT = 64


@dataclass(frozen=True)
class Crossing:
    """A section at an outlet. `file_id` is the file that stands for it, `run_id` the run that was begun last."""

    state: str = TO_DO
    changes: Changes = UP_TO_DATE
    file_id: int | None = None
    run_id: int | None = None

    @property
    def needed(self) -> bool:
        """Whether something is gained by making it: more than a new name or other tags, and not begun yet."""
        done = (State.PASSES, State.REMARKS, State.WAITING, State.MAKING)
        return self.state not in done and not self.changes.rewritable

    @property
    def words(self) -> str:
        """The state, with what has changed since."""
        return together([self.state, together(self.changes.words, ", ")], ": ") if self.changes else self.state


class Board:
    """The crossings of a production: `at(section's key, outlet's key)`; of joined outlets the key is None."""

    def __init__(self, production: Production, outlets: Sequence[Outlet]):
        follows = _wanted(production, outlets)
        last, standing = _files(production, outlets)
        changed = [
            row["pk"]
            for outlet_key, of in standing.items()
            for key, row in of.items()
            if key not in follows[outlet_key] or follows[outlet_key][key].fingerprint != row["fingerprint"]
        ]
        kept = dict(FinishedFile.objects.filter(pk__in=changed).values_list("pk", "follows")) if changed else {}
        self._crossings = {
            outlet.key: _crossings(last[outlet.key], standing[outlet.key], follows[outlet.key], kept)
            for outlet in outlets
        }
        self._joined = {outlet.key for outlet in outlets if outlet.joined}

    def at(self, section_id: int | None, outlet_key: str) -> Crossing:
        key = None if outlet_key in self._joined else section_id
        return self._crossings[outlet_key].get(key, Crossing())

    def has_files(self, outlet_key: str) -> bool:
        """Whether any file stands for a section there."""
        return any(crossing.file_id for crossing in self._crossings[outlet_key].values())

    def rewritable(self, outlet_key: str) -> int:
        """How many of its crossings need no more than another name or other tags."""
        return sum(crossing.changes.rewritable for crossing in self._crossings[outlet_key].values())

    @property
    def tally(self) -> Counter:
        """How many crossings are in each state, those not begun left out."""
        return Counter(each.state for of in self._crossings.values() for each in of.values() if each.state != TO_DO)

    @property
    def moving(self) -> bool:
        return bool(self.tally[State.MAKING] or self.tally[State.WAITING])


_Key = tuple[int | None, str]
"""A section's key, none for a file of the whole production, and the name of a voice."""
_Rows = dict[str, dict[_Key, dict]]


def _files(production: Production, outlets: Sequence[Outlet]) -> tuple[_Rows, _Rows]:
    """By outlet, the file that was begun last for each key, and the one that stands."""
    joined = [outlet.key for outlet in outlets if outlet.joined]
    single = [outlet.key for outlet in outlets if not outlet.joined]
    files = FinishedFile.objects.filter(
        Q(delivery__outlet_key__in=joined, section=None) | Q(delivery__outlet_key__in=single, section__removed=False),
        delivery__production=production,
        excerpt=False,
        replaced_at=None,
    )
    # The newest of each state is all that can count.
    newest = files.values("delivery__outlet_key", "section_id", "voice", "state").annotate(key=Max("pk"))
    rows = FinishedFile.objects.filter(pk__in=[each["key"] for each in newest]).order_by("pk").values(*_FIELDS)
    last: _Rows = {outlet.key: {} for outlet in outlets}
    standing: _Rows = {outlet.key: {} for outlet in outlets}
    for row in rows:
        key = (row["section_id"], row["voice"])
        last[row["delivery__outlet_key"]][key] = row
        if row["state"] in FinishedFile.MADE:
            standing[row["delivery__outlet_key"]][key] = row
    return last, standing


def _crossings(
    last: dict[_Key, dict], standing: dict[_Key, dict], follows: Mapping[_Key, Followed], kept: Mapping[int, dict]
) -> dict[int | None, Crossing]:
    """Those of one outlet, by section."""
    wanted: dict[int | None, list[_Key]] = {}
    for key in follows:
        wanted.setdefault(key[0], []).append(key)
    found = {}
    for section_id in dict.fromkeys(key[0] for key in last):
        # What cannot be made as it is now still has the files that were made of it.
        keys = wanted.get(section_id) or [key for key in last if key[0] == section_id]
        crossings = [_crossing(last.get(key), standing.get(key), follows.get(key), kept) for key in keys]
        found[section_id] = min(crossings, key=lambda each: _WORST.index(each.state))
    return found


def _crossing(last: dict | None, standing: dict | None, now: Followed | None, kept: Mapping[int, dict]) -> Crossing:
    run_id = last["delivery_id"] if last else None
    if last and last["state"] in (State.WAITING, State.MAKING, State.REFUSED):
        return Crossing(last["state"], file_id=standing["pk"] if standing else None, run_id=run_id)
    if standing is None:
        return Crossing(run_id=run_id)
    changes = UP_TO_DATE
    if standing["pk"] in kept:
        was = kept[standing["pk"]]
        if not was:
            changes = MADE_BEFORE
        elif now is None:
            changes = Changes((Said("what-made-which-cannot-made"),))
        else:
            changes = changes_between(was, now.values)
    state = CHANGED if changes else standing["state"]
    return Crossing(state, changes, standing["pk"], standing["delivery_id"])


_wanted_before: "OrderedDict[tuple, dict[_Key, Followed]]" = OrderedDict()


def _wanted(production: Production, outlets: Sequence[Outlet]) -> dict[str, dict[_Key, Followed]]:
    """What each file would follow from now, by outlet; worked out once for each state of the production."""
    stamp = _stamp(production)
    soundings = inscriptions = None
    found = {}
    for outlet in outlets:
        key = (production.pk, outlet.key, stamp, repr(outlet))
        if key not in _wanted_before:
            soundings = soundings or Soundings(production)
            inscriptions = inscriptions or Inscriptions(production, soundings)
            files = WantedFiles(production, outlet, soundings=soundings, date=NO_DATE)
            _wanted_before[key] = followed_by(files, inscriptions)
        _wanted_before.move_to_end(key)
        found[outlet.key] = _wanted_before[key]
    while len(_wanted_before) > _KEPT:
        _wanted_before.popitem(last=False)
    return found


def _stamp(production: Production) -> str:
    """Changes whenever anything that a file could follow from does."""
    sections = Section.objects.filter(production=production).values_list()
    pieces = Piece.objects.filter(section__production=production).values_list()
    # Besides what it sounds like, a file says when its recording was made, or came in.
    recordings = production.recordings.values_list(
        "pk", "sha256", "name", "state", "created_at", "figures__channels", "figures__originated"
    )
    pages = production.pages.values_list("recording_id", "revision")
    namings = production.namings.values_list("outlet_key", "pattern", "whole_name")
    facts = [*production.name_facts().items(), production.artwork_sha256]
    digest = hashlib.sha256()
    for rows in (
        sections,
        pieces.order_by("section_id", "place"),
        recordings.order_by("pk"),
        pages.order_by("pk"),
        namings.order_by("pk"),
        facts,
    ):
        digest.update(repr(list(rows)).encode())
    return digest.hexdigest()
