"""What comes next for a production, in one sentence, and what does it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django.urls import reverse

from mastering.outlets.outlet import Outlet
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
        return NextStep("Bring in recordings: each becomes a section.", "Bring in recordings", does="bring")
    if now.waiting and now.unused and _MANY * now.unused_count > now.waiting:
        return NextStep(
            f"{_waits(now)}; 1 recording is used nowhere yet."
            if now.unused_count == 1
            else f"{_waits(now)}; {now.unused_count} recordings are used nowhere yet.",
            "Pair recordings with sections",
            reverse("productions:pairing", args=[now.production.pk]),
            pairs=True,
        )
    if now.measuring:
        return NextStep(
            "1 recording is being measured; it goes on by itself."
            if now.measuring == 1
            else f"{now.measuring} recordings are being measured; it goes on by itself."
        )
    if not now.waiting:
        return None
    ready = [recording for recording in now.unused if recording.ready]
    if ready:
        name = f"“{ready[0].name}”" if len(ready) == 1 else f"{len(ready)} long recordings"
        return NextStep(
            f"{_waits(now)}, and {name} {'is' if len(ready) == 1 else 'are'} used nowhere: cut it on its page.",
            "Cut it on its page" if len(ready) == 1 else "Cut the first on its page",
            reverse("cutting:page", args=[ready[0].pk]),
            pairs=True,
        )
    return NextStep(f"{_waits(now)}.", "Bring in recordings", does="bring")


def _waits(now: Standing) -> str:
    return "1 section waits for a recording" if now.waiting == 1 else f"{now.waiting} sections wait for a recording"


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
    said = (
        f"{count} file{' fails' if count == 1 else 's fail'}{f' for {outlet.title}' if alone else ''}: "
        "the check sheet says why, and what mends it."
    )
    return NextStep(said, "See what mends it", reverse("deliveries:check-sheet", args=[first]))


def _missing(now: Standing) -> NextStep | None:
    missing = next((each for each in missing_facts(now.production, now.outlets) if each.asked), None)
    if missing is None:
        return None
    address = reverse("productions:edit", args=[now.production.pk])
    said = f"{missing.outlet.title} asks for {missing.asked_in_words}, which is not known yet."
    return NextStep(said, "Give it", address)


def _to_make(now: Standing) -> NextStep | None:
    if not now.outlets:
        return NextStep("Tick an outlet at the head of its column, then make its files.", "Make files", does="make")
    crossings = [now.board.at(section, outlet.key) for outlet in now.outlets for section in now.sections]
    states = [crossing.state for crossing in crossings]
    if State.MAKING in states or State.WAITING in states:
        return NextStep("Files are being made; you can leave the page.")
    changed, needed = states.count(CHANGED), sum(crossing.needed for crossing in crossings)
    if changed:
        one, more = "1 file has changed since it was made.", f"{changed} files have changed since they were made."
        said = one if changed == 1 else more
        return NextStep(said, "Make what is needed", does="make" if needed else "")
    if needed and (foreseen := _foreseen(now)):
        return foreseen
    if needed:
        for_whom = now.outlets[0].title if len(now.outlets) == 1 else f"{len(now.outlets)} outlets"
        return NextStep(f"All is there: make the files for {for_whom}.", "Make files", does="make")
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
            said = (
                f"{count} file{'' if count == 1 else 's'} would miss a level rule of {outlet.title}: "
                "the levels say which, and what helps."
            )
            return NextStep(said, "Look at the levels", f"{address}?outlet={outlet.key}")
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
        said = "1 file is stuck on the way." if len(stuck) == 1 else f"{len(stuck)} files are stuck on the way."
        return NextStep(said, "See why", address)
    if left := len(files - now.sent.keys()):
        one, more = "1 file passes and is to be handed over.", f"{left} files pass and are to be handed over."
        return NextStep(one if left == 1 else more, "Hand over", address)
    return NextStep("Everything that passes is on its way or has arrived.", "See where it is", address)
