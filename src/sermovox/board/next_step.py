"""What comes next for a production, in one sentence, and what does it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django.urls import reverse

from mastering.outlets.outlet import Outlet
from mastering.said import Said, together, word
from sermovox.board.facts import missing_facts
from sermovox.deliveries.crossings import CHANGED, Board, State
from sermovox.dispatch.models import Dispatch
from sermovox.levelling.members import members_of
from sermovox.levelling.plans import known_to_miss
from sermovox.productions.models import Production
from sermovox.recordings.models import Recording
from sermovox.sources.soundings import Soundings

_FORESEEN_AT_MOST = 300
"""A running order of more sections is not looked at for levels that would fail: that takes too long for a page."""
_MANY = 3
"""So many sections for each recording that is there make it likely that the recordings are to be cut."""


@dataclass(frozen=True)
class NextStep:
    """A sentence, and a button or a link that does it. `does` names what the page itself does: "bring" or "make"."""

    said: str
    label: str = ""
    address: str = ""
    does: str = ""
    pairs: bool = False
    """Whether it is about what has to be done before anything can be made of the sections that wait."""


@dataclass(frozen=True)
class Standing:
    """How a production stands, as far as what comes next is asked. `sent` tells how far files are on their way, and
    `unused` may be the first of `unused_count` recordings.
    """

    production: Production
    board: Board
    outlets: Sequence[Outlet]
    sections: Sequence[int]
    waiting: int
    unused: Sequence[Recording]
    unused_count: int
    measuring: int
    sent: Mapping[int, str]


def next_step(now: Standing) -> NextStep:
    """The first that holds: what has no sound yet, what fails, what is missing, what is to be made, what is to go."""
    return _without_sound(now) or _failing(now) or _missing(now) or _to_make(now) or _to_send(now)


def _without_sound(now: Standing) -> NextStep | None:
    if not now.sections:
        return NextStep(Said("bring-recordings-each-becomes-section"), Said("bring-recordings"), does="bring")
    if now.waiting and now.unused and _MANY * now.unused_count > now.waiting:
        return NextStep(
            Said("recordings-used-nowhere-yet", waits=_waits(now), count=now.unused_count),
            Said("pair-recordings-sections"),
            reverse("productions:pairing", args=[now.production.pk]),
            pairs=True,
        )
    if now.measuring:
        return NextStep(Said("recordings-being-measured-goes-itself", count=now.measuring))
    if not now.waiting:
        return None
    ready = [recording for recording in now.unused if recording.ready]
    if ready:
        name = Said("long-recordings", name=ready[0].name, count=len(ready))
        return NextStep(
            Said("used-nowhere-cut-page", count=len(ready), waits=_waits(now), name=name),
            Said("cut-first-page", count=len(ready)),
            reverse("cutting:page", args=[ready[0].pk]),
            pairs=True,
        )
    return NextStep(together([_waits(now), "."], ""), Said("bring-recordings"), does="bring")


def _waits(now: Standing) -> str:
    return Said("sections-wait-recording", count=now.waiting)


def _failing(now: Standing) -> NextStep | None:
    failing = [
        (outlet, crossing.file_id)
        for outlet in now.outlets
        for section in now.sections
        if (crossing := now.board.at(section, outlet.key)).state == State.FAILS and crossing.file_id
    ]
    if not failing:
        return None
    files = {file for _, file in failing}
    outlet, first = failing[0]
    alone, count = len({each.key for each, _ in failing}) == 1, len(files)
    said = Said("files-fail-check-sheet-says", count=count)
    if alone:
        said = Said("files-fail-for-outlet", count=count, title=outlet.title)
    return NextStep(said, Said("see-what-mends"), reverse("deliveries:check-sheet", args=[first]))


def _missing(now: Standing) -> NextStep | None:
    missing = next((each for each in missing_facts(now.production, now.outlets) if each.asked), None)
    if missing is None:
        return None
    address = reverse("productions:edit", args=[now.production.pk])
    said = Said("asks-which-not-known-yet", title=missing.outlet.title, asked_in_words=word(missing.asked_in_words))
    return NextStep(said, Said("give"), address)


def _to_make(now: Standing) -> NextStep | None:
    if not now.outlets:
        return NextStep(Said("tick-outlet-head-column-then"), Said("make-files"), does="make")
    crossings = [now.board.at(section, outlet.key) for outlet in now.outlets for section in now.sections]
    states = [crossing.state for crossing in crossings]
    if State.MAKING in states or State.WAITING in states:
        return NextStep(Said("files-being-made-you-can"))
    changed, needed = states.count(CHANGED), sum(crossing.needed for crossing in crossings)
    if changed:
        said = Said("files-changed-since-they-were", count=changed)
        return NextStep(said, Said("make-what-needed"), does="make" if needed else "")
    if needed and (foreseen := _foreseen(now)):
        return foreseen
    if needed:
        for_whom = now.outlets[0].title if len(now.outlets) == 1 else Said("outlets", count=len(now.outlets))
        return NextStep(Said("all-there-make-files", for_whom=for_whom), Said("make-files"), does="make")
    return None


def _foreseen(now: Standing) -> NextStep | None:
    """What plans say, once those of an outlet were looked at."""
    if len(now.sections) > _FORESEEN_AT_MOST:
        return None
    soundings = Soundings(now.production)
    for outlet in now.outlets:
        needed = {section for section in now.sections if now.board.at(section, outlet.key).needed}
        missing = [
            member
            for member in known_to_miss(members_of(soundings, soundings.sections, outlet), outlet)
            if member.sounding.section is None or member.sounding.section.pk in needed
        ]
        if missing and needed:
            count, address = len(missing), reverse("levelling:levels", args=[now.production.pk])
            said = Said("files-would-miss-level-rule", count=count, title=outlet.title)
            return NextStep(said, Said("look-levels"), f"{address}?outlet={outlet.key}")
    return None


def _to_send(now: Standing) -> NextStep:
    files = {
        crossing.file_id
        for outlet in now.outlets
        for section in now.sections
        if (crossing := now.board.at(section, outlet.key)).file_id
    }
    address = reverse("dispatch:handing", args=[now.production.pk])
    if stuck := [file for file in files if now.sent.get(file or 0) == Dispatch.State.STUCK]:
        address = reverse("dispatch:sent", query={"production": now.production.pk})
        said = Said("files-stuck-way", count=len(stuck))
        return NextStep(said, Said("see-why"), address)
    if left := len(files - now.sent.keys()):
        return NextStep(Said("files-pass-handed-over", count=left), Said("hand-over"), address)
    return NextStep(Said("everything-passes-way-arrived"), Said("see-where"), address)
