"""Sending the parts of a dispatch one after the other, each proven before the next, and beginning a dispatch at all."""

import hashlib
from collections import deque
from collections.abc import Collection
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from contextlib import suppress
from typing import BinaryIO, NoReturn, Self

from django.db import transaction
from django.db.models import QuerySet

from mastering.audio.placing import flushed_folder, whole
from mastering.certain import certain
from mastering.naming.checks import is_plain
from mastering.outlets.outlet import Outlet
from mastering.outlets.receiving import EVERYTHING, NOTHING, Receiving
from mastering.outlets.rules.delivery import EXTRAS
from mastering.outlets.ways import BY_SIZE, PLAIN_NAMES
from mastering.said import Said
from sermovox.deliveries.archive import extras_of, folder_of
from sermovox.deliveries.bundles import Bundle
from sermovox.deliveries.manifest import COVER
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.dispatch.models import Dispatch, Heard, Part, Secret
from sermovox.dispatch.opened import opened
from sermovox.dispatch.over_there import facts_over_there, folder_over_there
from sermovox.dispatch.posting import post
from sermovox.dispatch.proving import proven
from sermovox.dispatch.telling import telling
from sermovox.dispatch.ways import carrier_of
from sermovox.dispatch.ways.carrier import CHUNK_BYTES, Carrier, DamagedHere, NameTaken, NotSent, Told

_NOTED_TOGETHER = 50
_CHUNKS_BEHIND = 8
NOTE = "note.txt"


def begin(
    bundle: Bundle,
    outlet: Outlet,
    chosen: Collection[int],
    *,
    delivery: Delivery | None = None,
    failing: bool = False,
    replacing: bool = False,
) -> Dispatch:
    """Begin to send files, by their keys, as their outlet receives now; of a delivery, or as a production stands.
    `failing` files go only if asked.

    All there is to say of them is written down first; a task sends them. Raises NotSent for what cannot begin.
    """
    if outlet.receives is None:
        raise NotSent(Said("not-stated-yet-how-receives", title=outlet.title))
    files = [file for file in bundle.files if file.pk in chosen]
    fails = [file for file in files if file.state == FinishedFile.State.FAILS]
    if fails and not failing:
        raise NotSent(Said("fails-say-go-all-same", name=fails[0].name))
    if not files:
        raise NotSent(Said("choose-least-one-file-there"))
    if outlet.heard_first and (unheard := Heard.without(files)):
        raise NotSent(Said("nobody-listened-yet-asks-listen", name=unheard[0].name, title=outlet.title))
    extras = _along(bundle, outlet.receives)
    if outlet.receives.stated.get("names") == PLAIN_NAMES:
        rich = next((name for name in [*(file.name for file in files), *extras] if not is_plain(name)), None)
        if rich:
            raise NotSent(Said("cannot-held-there-use-plain", rich=rich, plain_names=PLAIN_NAMES))
    if outlet.receives.kind.is_post:
        folder = inside = ""
        if not replacing:
            files = [file for file in files if not _was_mailed(bundle, outlet, file)]
        if not files:
            raise NotSent(Said("all-these-were-mailed-there"))
    else:
        folder, inside = folder_over_there(bundle, outlet.receives), folder_of(bundle)
    with transaction.atomic():
        dispatch = Dispatch.objects.create(
            owner=bundle.production.owner,
            delivery=delivery,
            production=bundle.production,
            production_title=bundle.production.title,
            outlet_key=outlet.key,
            outlet_title=outlet.title,
            receiving=outlet.receives.table(),
            failing=len(fails),
            replacing=replacing,
            subject=outlet.receives.written("subject", facts_over_there(bundle))[:1000],
            note=outlet.receives.written("note", facts_over_there(bundle, lines=True)),
        )
        for name, content in extras.items():
            with whole(flushed_folder(dispatch.folder) / name) as path:
                path.write_bytes(content)
        sound = [
            Part(
                dispatch=dispatch,
                file=file,
                place=place,
                name=f"{folder}{inside}{file.name}",
                title=file.title,
                size_bytes=file.figures.get("size_bytes") or 0,
                sha256=file.sha256,
                fails=file in fails,
            )
            for place, file in enumerate(files)
        ]
        beside = [
            Part(
                dispatch=dispatch,
                place=len(files) + place,
                name=f"{folder}{name}",
                size_bytes=len(content),
                sha256=hashlib.sha256(content).hexdigest(),
            )
            for place, (name, content) in enumerate(extras.items())
        ]
        Part.objects.bulk_create([*sound, *beside])
    return dispatch


def _was_mailed(bundle: Bundle, outlet: Outlet, file: FinishedFile) -> bool:
    """Whether the very same went out by mail to the same before."""
    gone = _gone_before(bundle.production.owner_id, outlet.key, file.name).filter(sha256=file.sha256)
    to = certain(outlet.receives).stated["to"]
    return any(each.receiving.get("to") == to for each in Dispatch.objects.filter(parts__in=gone))


def _along(bundle: Bundle, receiving: Receiving) -> dict[str, bytes]:
    """What goes along, by name."""
    asked = {*bundle.outlet.extra_files, COVER} if bundle.outlet.artwork else set(bundle.outlet.extra_files)
    found = extras_of(bundle, {EVERYTHING: set(EXTRAS), NOTHING: set()}.get(receiving.along, asked))
    note = receiving.written("note", facts_over_there(bundle, lines=True))
    return found | ({NOTE: f"{note}\n".encode()} if note and not receiving.kind.is_post else {})


def send(dispatch: Dispatch) -> None:
    """Send what has not arrived yet. Raises NotSent, LineBroke, or Cancelled where nobody wants it any more."""
    if dispatch.way.kind.is_post:
        post(dispatch)
        return
    access = Secret.of(dispatch.owner, dispatch.outlet_key, dispatch.way)
    with carrier_of(dispatch.way, access) as carrier:
        Secret.know(dispatch.owner, dispatch.outlet_key, dispatch.way, access)
        parts = list(dispatch.parts.exclude(state__in=Part.LANDED).select_related("file__delivery__production"))
        for folder, within in _in_folders(parts).items():
            made = carrier.make_folder(folder) if folder else []
            try:
                _want_room(carrier, folder, within)
            except NotSent:
                for each in reversed(made):
                    with suppress(NotSent):
                        carrier.remove_folder(each)
                raise
        with ThreadPoolExecutor(1) as beside, _NotedTogether() as found:
            for part in parts:
                part.dispatch = dispatch
                proof, gives_way = _looked_for(carrier, part)
                if proof:
                    found.add(part, proof)
                else:
                    _send_one(carrier, part, beside, replacing=gives_way)


def tidy(dispatch: Dispatch) -> None:
    """Take away over there what was begun and will not be gone on with. Raises NotSent or LineBroke."""
    begun = list(dispatch.parts.filter(state=Part.State.SENDING))
    if begun and not dispatch.way.kind.is_post:
        with carrier_of(dispatch.way, Secret.of(dispatch.owner, dispatch.outlet_key, dispatch.way)) as carrier:
            for part in begun:
                carrier.forget_begun(_goal(carrier, part))
                part.note(state=Part.State.WAITING, sent_bytes=0)


def _in_folders(parts: list[Part]) -> dict[str, list[Part]]:
    """Parts by the folder over there in which they go."""
    found: dict[str, list[Part]] = {}
    for part in parts:
        found.setdefault(part.name.rpartition("/")[0], []).append(part)
    return found


def _want_room(carrier: Carrier, folder: str, parts: list[Part]) -> None:
    left, needed = carrier.left_bytes(folder), sum(part.size_bytes for part in parts)
    if left is not None and left < needed:
        raise NotSent(Said("there-room-mb-there-mb", left=left / 1e6, needed=needed / 1e6))


class _NotedTogether:
    """Files that are found over there, noted many at a time: those that a kill leaves out are simply found again."""

    def __init__(self):
        self._parts: list[Part] = []

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self._note()

    def add(self, part: Part, proof: str) -> None:
        part.land(proof)
        self._parts.append(part)
        if len(self._parts) >= _NOTED_TOGETHER:
            self._note()

    def _note(self) -> None:
        Part.objects.bulk_update(self._parts, ["state", "sent_bytes", "proof", "arrived_at"])
        self._parts.clear()


def _looked_for(carrier: Carrier, part: Part) -> tuple[str, bool]:
    """How it is known that a file is over there already, nothing where it is not; and whether another has its name and
    gives way.

    What was given its name before a kill is found as it is over there: nothing is sent twice. Else no size stands for
    what is in a file. Raises NameTaken for another file of its name.
    """
    here = carrier.size_of(part.name)
    if here is None:
        return "", False
    same, goal = here == part.size_bytes, _goal(carrier, part)
    proof = proven(carrier, part, part.name, _telling(part), wholly=True) if same else ""
    if proof and proof != BY_SIZE:
        return proof, False
    # Of what can only be counted it is known that it was counted under its other name, and has that no more.
    began = part.state == Part.State.SENDING and part.proof == BY_SIZE and goal != part.name
    if proof and began and carrier.size_of(goal) is None:
        return proof, False
    if part.dispatch.replacing or _is_ours(part, here) or (proof and _has_receipt(part)):
        return "", True
    part.note(state=Part.State.STUCK)
    if same and not proof:
        raise NameTaken(Said("there-file-called-there-already", name=part.name))
    raise NameTaken(Said("there-file-called-there-already-bytes", name=part.name, here=here))


def _send_one(carrier: Carrier, part: Part, beside: Executor, *, replacing: bool) -> None:
    """Send one file under another name, give it its own once it is whole, and look whether it is there: nothing is half
    there under its name.
    """
    goal, told = _goal(carrier, part), _telling(part)
    part.note(state=Part.State.SENDING, proof="")
    try:
        file = opened(part)
    except NotSent:
        part.note(state=Part.State.STUCK)
        raise
    with file:
        start = carrier.begun_bytes(goal, file, part.size_bytes, told)
        file.seek(0)
        part.note(sent_bytes=start)
        source = _Proven(file, part, beside)
        source.skip(start)
        try:
            answered = carrier.put(goal, source, start, part.size_bytes, told, replacing=replacing)
            source.prove()
        except DamagedHere:
            carrier.forget_begun(goal)
            part.note(state=Part.State.STUCK)
            raise
    proof = proven(carrier, part, goal, told) if carrier.size_of(goal) == part.size_bytes else ""
    if not proof:
        _taken_away(carrier, part, goal)
    # Whoever comes after a kill knows by this that what has the name then is what was proven here.
    part.note(proof=proof, answered=answered if isinstance(answered, Said) else answered[:300])
    if goal != part.name:
        if replacing:
            carrier.delete(part.name)
        carrier.rename(goal, part.name)
        if carrier.size_of(part.name) != part.size_bytes:
            _taken_away(carrier, part, part.name)
    part.arrive(proof)


def _is_ours(part: Part, here: int) -> bool:
    """Whether what has the name over there is what we had left under it, and it was said once that such give way."""
    to = part.dispatch
    before = _gone_before(to.owner_id, to.outlet_key, part.name).filter(size_bytes=here)
    same = {"owner": to.owner_id, "outlet_key": to.outlet_key, "production": to.production_id}
    said = Dispatch.objects.filter(**same, replacing=True)
    return to.production_id is not None and before.exists() and said.exists()


def _goal(carrier: Carrier, part: Part) -> str:
    """What a file is called over there until it is whole."""
    return part.name if carrier.appears_whole else part.under_way_as


def _has_receipt(part: Part) -> bool:
    """Whether the very same has arrived there before under this name."""
    to = part.dispatch
    own = _gone_before(to.owner_id, to.outlet_key, part.name).filter(sha256=part.sha256)
    return any(each.receiving == to.receiving for each in Dispatch.objects.filter(parts__in=own))


def _gone_before(owner_id: int, outlet_key: str, name: str) -> QuerySet[Part]:
    """What has arrived at an outlet under this name, or went there by mail."""
    own = Part.objects.filter(dispatch__owner=owner_id, dispatch__outlet_key=outlet_key, name=name)
    return own.filter(state__in=Part.GONE)


def _taken_away(carrier: Carrier, part: Part, name: str) -> NoReturn:
    """Leave nothing that is not what was sent, and say so."""
    there = carrier.size_of(name) or 0
    carrier.delete(name)
    part.note(state=Part.State.STUCK, sent_bytes=0)
    raise NotSent(Said("sent-bytes-what-there-bytes", name=part.name, size_bytes=part.size_bytes, there=there))


def _telling(part: Part) -> Told:
    def noted(sent_bytes: int) -> None:
        part.note(sent_bytes=sent_bytes)

    return telling(part.dispatch, noted)


class _Proven:
    """A file that is held against its hash as it is read, beside the sending of it and a few chunks behind."""

    def __init__(self, file: BinaryIO, part: Part, beside: Executor):
        self._file, self._part, self._beside = file, part, beside
        self._digest = hashlib.sha256()
        self._hashing: deque[Future] = deque()

    def skip(self, count: int) -> None:
        """Read over what is there already."""
        while count > 0 and (chunk := self.read(min(CHUNK_BYTES, count))):
            count -= len(chunk)

    def read(self, count: int = -1, /) -> bytes:
        chunk = self._file.read(count)
        self._hashing.append(self._beside.submit(self._digest.update, chunk))
        if len(self._hashing) > _CHUNKS_BEHIND:
            self._hashing.popleft().result()
        return chunk

    def prove(self) -> None:
        """All of it was read: is it what was checked? Raises DamagedHere."""
        while self._hashing:
            self._hashing.popleft().result()
        if self._digest.hexdigest() != self._part.sha256:
            raise DamagedHere(Said("damaged-here-not-file-checked", name=self._part.name))
