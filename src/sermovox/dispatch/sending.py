"""Sending the parts of a dispatch one after the other, each proven before the next, and beginning a dispatch at all."""

import hashlib
import re
import time
from collections.abc import Collection
from typing import BinaryIO, NoReturn

from django.db import transaction
from django.utils import timezone

from mastering.audio.placing import flushed_folder, whole
from mastering.errors import Cancelled
from mastering.naming.patterns import facts_of, read_pattern
from mastering.outlets.outlet import Outlet
from mastering.outlets.receiving import EVERYTHING, NOTHING, Receiving
from sermovox.deliveries.archive import extras_of, folder_of
from sermovox.deliveries.bundles import Bundle, of_run
from sermovox.deliveries.manifest import COVER
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.dispatch.models import Dispatch, Part, Secret
from sermovox.dispatch.ways import carrier_of
from sermovox.dispatch.ways.carrier import CHUNK_BYTES, Carrier, NameTaken, NotSent
from sermovox.sources.names import shared_facts

_TOLD_EVERY_S = 0.5
_UNSAFE = re.compile(r"[^\w .,()+'&-]")
READ_BACK, BY_SIZE = "read back, the same to the byte", "there, with its full size"


def begin(
    delivery: Delivery, outlet: Outlet, chosen: Collection[int], *, failing: bool = False, replacing: bool = False
) -> Dispatch:
    """Begin to send files of a delivery, by their keys, as its outlet receives now. `failing` files go only if asked.

    All there is to say of them is written down first; a task sends them. Raises NotSent for what cannot begin.
    """
    if outlet.receives is None:
        raise NotSent(f"It is not stated yet how {outlet.title} receives. State that first.")
    bundle = of_run(delivery)
    files = [file for file in bundle.files if file.pk in chosen]
    fails = [file for file in files if file.state == FinishedFile.State.FAILS]
    if fails and not failing:
        raise NotSent(f"{fails[0].name} fails. Say that it is to go all the same, or leave it out.")
    if not files:
        raise NotSent("Choose at least one file that is there.")
    extras = _along(bundle, outlet.receives)
    folder, inside = folder_over_there(bundle, outlet.receives), folder_of(bundle)
    with transaction.atomic():
        dispatch = Dispatch.objects.create(
            owner=delivery.production.owner,
            delivery=delivery,
            production_title=delivery.production.title,
            outlet_key=outlet.key,
            outlet_title=outlet.title,
            receiving=outlet.receives.table(),
            failing=len(fails),
            replacing=replacing,
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


def _along(bundle: Bundle, receiving: Receiving) -> dict[str, bytes]:
    """What goes along, by name."""
    if receiving.along == NOTHING:
        return {}
    found = extras_of(bundle)
    if receiving.along == EVERYTHING:
        return found
    asked = {*bundle.outlet.extra_files, COVER} if bundle.outlet.artwork else set(bundle.outlet.extra_files)
    return {name: content for name, content in found.items() if name in asked or _is_cover(name)}


def _is_cover(name: str) -> bool:
    return name.rpartition(".")[0] == COVER.rpartition(".")[0]


def folder_over_there(bundle: Bundle, receiving: Receiving) -> str:
    """The folder by its pattern, with a slash at the end; empty for none. It never climbs out of where it begins."""
    facts = shared_facts(bundle.production, bundle.outlet, len(bundle.files), timezone.localdate().isoformat())
    (known,) = facts_of([facts])
    names = [read_pattern(part).name(known) for part in receiving.folder.split("/") if part.strip()]
    safe = [_UNSAFE.sub("-", name).strip(". ") for name in names]
    return "".join(f"{name}/" for name in safe if name)


def send(dispatch: Dispatch) -> None:
    """Send what has not arrived yet. Raises NotSent, LineBroke, or Cancelled where nobody wants it any more."""
    if dispatch.delivery_id and not Delivery.objects.filter(pk=dispatch.delivery_id).exists():
        raise NotSent("Its delivery was deleted meanwhile. Take it back to go on.")
    access = Secret.of(dispatch.owner, dispatch.outlet_key)
    with carrier_of(dispatch.way, access) as carrier:
        Secret.know(dispatch.owner, dispatch.outlet_key, access)
        parts = list(dispatch.parts.exclude(state=Part.State.ARRIVED).select_related("file__delivery__production"))
        _want_room(carrier, parts)
        for folder in dict.fromkeys(part.name.rpartition("/")[0] for part in parts):
            if folder:
                carrier.make_folder(folder)
        for part in parts:
            part.dispatch = dispatch
            _send_one(carrier, part)


def tidy(dispatch: Dispatch) -> None:
    """Take away over there what was begun and will not be gone on with. Raises NotSent or LineBroke."""
    begun = list(dispatch.parts.filter(state=Part.State.SENDING))
    if begun:
        with carrier_of(dispatch.way, Secret.of(dispatch.owner, dispatch.outlet_key)) as carrier:
            for part in begun:
                carrier.delete(part.under_way_as)
                part.note(state=Part.State.WAITING, sent_bytes=0)


def _want_room(carrier: Carrier, parts: list[Part]) -> None:
    left, needed = carrier.left_bytes(), sum(part.size_bytes for part in parts)
    if left is not None and left < needed:
        raise NotSent(
            f"There is room for {left / 1e6:.0f} MB there, and {needed / 1e6:.0f} MB are to go. Make room, and go on."
        )


def _send_one(carrier: Carrier, part: Part) -> None:
    """Send one file under another name, give it its own once it is whole, and look whether it is there.

    What was begun before a kill is found as it is over there: nothing is sent twice, nothing is half there under its
    name.
    """
    here = carrier.size_of(part.name)
    there_already = _proof(carrier, part, part.name) if here is not None else ""
    # Where only its size can be told, it may be another's, unless we began it or have a receipt of it.
    if there_already == READ_BACK or (there_already and (part.state == Part.State.SENDING or _has_receipt(part))):
        part.arrive(there_already)
        return
    if here is not None and not part.dispatch.replacing:
        part.note(state=Part.State.STUCK)
        raise NameTaken(
            f"There is a file called {part.name} there already, of {here:,} bytes. Replace it, or have it moved away."
        )
    arrived = carrier.size_of(part.under_way_as) or 0 if carrier.goes_on else 0
    start = max(0, arrived - carrier.unsure_bytes) if arrived <= part.size_bytes else 0
    part.note(state=Part.State.SENDING, sent_bytes=start)
    with _opened(part) as source:
        digest = hashlib.sha256()
        _skip(source, start, digest)
        answered = carrier.put(part.under_way_as, _Hashed(source, digest), start, part.size_bytes, _telling(part))
    if digest.hexdigest() != part.sha256:
        carrier.delete(part.under_way_as)
        part.note(state=Part.State.STUCK)
        raise NotSent(f"{part.name} is damaged here: it is not the file that was checked. Make it again and send that.")
    proof = _proof(carrier, part, part.under_way_as)
    if not proof:
        _taken_away(carrier, part, part.under_way_as)
    part.note(answered=answered[:300])
    if here is not None:
        carrier.delete(part.name)
    carrier.rename(part.under_way_as, part.name)
    if carrier.size_of(part.name) != part.size_bytes:
        _taken_away(carrier, part, part.name)
    part.arrive(proof)


def _has_receipt(part: Part) -> bool:
    """Whether the very same has arrived there before under this name."""
    to = part.dispatch.receiving
    arrived = Part.objects.filter(state=Part.State.ARRIVED, name=part.name, sha256=part.sha256)
    own = arrived.filter(dispatch__owner=part.dispatch.owner_id, dispatch__outlet_key=part.dispatch.outlet_key)
    return any(each.receiving == to for each in Dispatch.objects.filter(parts__in=own))


def _proof(carrier: Carrier, part: Part, name: str) -> str:
    """How it is known that a file over there is this one; nothing where it is not."""
    if carrier.size_of(name) != part.size_bytes:
        return ""
    found = carrier.sha256_of(name)
    return BY_SIZE if found is None else READ_BACK if found == part.sha256 else ""


def _taken_away(carrier: Carrier, part: Part, name: str) -> NoReturn:
    """Leave nothing that is not what was sent, and say so."""
    there = carrier.size_of(name) or 0
    carrier.delete(name)
    part.note(state=Part.State.STUCK, sent_bytes=0)
    raise NotSent(
        f"{part.name} was sent with {part.size_bytes:,} bytes, and what was there, {there:,} bytes, was not what was "
        "sent. It was taken away again; ask whoever runs the server."
    )


def _opened(part: Part) -> BinaryIO:
    path = part.path
    if part.file and (part.file.replaced_at or part.file.sha256 != part.sha256):
        part.note(state=Part.State.STUCK)
        raise NotSent(f"{part.name} was made or written anew since this was begun. Send the delivery again.")
    try:
        if path is None:
            raise FileNotFoundError
        return path.open("rb")
    except FileNotFoundError:
        part.note(state=Part.State.STUCK)
        raise NotSent(f"{part.name} is no longer here. Make it again, then send that.") from None


def _skip(source: BinaryIO, count: int, digest) -> None:
    """Read over what is there already."""
    while count > 0 and (chunk := source.read(min(CHUNK_BYTES, count))):
        digest.update(chunk)
        count -= len(chunk)


def _telling(part: Part):
    told_at = 0.0

    def told(sent_bytes: int) -> None:
        nonlocal told_at
        if time.monotonic() - told_at > _TOLD_EVERY_S:
            told_at = time.monotonic()
            part.note(sent_bytes=sent_bytes)
            if not part.dispatch.is_wanted():
                raise Cancelled("Paused or cancelled.")

    return told


class _Hashed:
    """A file that puts all that is read of it into a digest."""

    def __init__(self, file: BinaryIO, digest):
        self._file, self._digest = file, digest

    def read(self, count: int = -1, /) -> bytes:
        chunk = self._file.read(count)
        self._digest.update(chunk)
        return chunk
