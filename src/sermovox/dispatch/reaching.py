"""Trying a way out: what works and what does not, in words, with nothing left behind."""

import hashlib
import io
import uuid
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from functools import partial

from mastering.outlets.receiving import Receiving
from mastering.outlets.ways import BY_SIZE, FETCHED
from mastering.said import Said, figured
from sermovox.dispatch.posting import tried
from sermovox.dispatch.ways import carrier_of
from sermovox.dispatch.ways.carrier import Access, Carrier, LineBroke, NotSent, fingerprint
from sermovox.dispatch.ways.comparing import same_from

_TRIAL = b"Sermovox tries whether files can be left here. It takes this one away again.\n"


@dataclass(frozen=True)
class Step:
    """One thing that was tried."""

    works: bool
    words: str


class _Trial(io.BytesIO):
    """A file to try with, of which nothing is to be proven."""

    def prove(self) -> None:
        pass


def reach(receiving: Receiving, access: Access) -> list[Step]:
    """Go the way as far as it works; the last step says why where it does not go on."""
    steps: list[Step] = []
    try:
        if receiving.kind.is_post:
            return [Step(True, words) for words in tried(receiving, access)]
        known = access.host_key
        with carrier_of(receiving, access) as carrier:
            steps.append(Step(True, Said("there-lets-sermovox", address=receiving.address)))
            if access.host_key != known:
                steps.append(Step(True, Said("known-host-key-from-now", fingerprint=fingerprint(access.host_key))))
            steps += _tried(carrier, receiving)
    except NotSent as error:
        steps.append(Step(False, str(error)))
    return steps


def _tried(carrier: Carrier, receiving: Receiving) -> Iterator[Step]:
    """Do with a small file what sending does with a large one, and take all of it away again."""
    mark = f"sermovox-{uuid.uuid4().hex[:12]}"
    # What a pattern says of a production is as good as any other name here.
    parts = (mark if set(part) & set("{[") else part.strip() for part in receiving.folder.split("/"))
    folder = "/".join(part for part in parts if part)
    made = carrier.make_folder(folder) if folder else []
    try:
        if folder:
            yield Step(True, Said("folder-there-could-made", folder=folder))
        left = carrier.left_bytes(folder)
        if left is not None:
            room = figured(f"{left / 1e9:.1f} GB" if left > 1e9 else f"{left / 1e6:.1f} MB")
            yield Step(left > len(_TRIAL), Said("there-room", room=room))
        yield from _left(carrier, f"{folder}/{mark}".lstrip("/"), receiving)
    finally:
        for each in reversed(made):
            with suppress(NotSent):
                carrier.remove_folder(each)


def _left(carrier: Carrier, name: str, receiving: Receiving) -> Iterator[Step]:
    """Leave a file, look at it, give it its name and take it away."""
    begun = f"{name}.{'' if carrier.appears_whole else 'part.'}mp3"
    try:
        carrier.put(begun, _Trial(_TRIAL), 0, len(_TRIAL), _unheard, replacing=False)
        if carrier.size_of(begun) != len(_TRIAL):
            raise NotSent(Said("file-left-there-not-full"))
        yield Step(True, Said("file-could-left-there-there"))
        yield _looked_into(carrier, begun, receiving.stated.get("proof"))
        if not carrier.appears_whole:
            carrier.rename(begun, f"{name}.mp3")
            if carrier.size_of(f"{name}.mp3") != len(_TRIAL):
                raise NotSent(Said("file-given-another-name-there"))
            yield Step(True, Said("could-given-another-name-there"))
    finally:
        for each in (begun, f"{name}.mp3"):
            with suppress(NotSent):
                carrier.delete(each)
    if carrier.size_of(begun) is not None or carrier.size_of(f"{name}.mp3") is not None:
        raise NotSent(Said("file-left-there-could-not", name=name))
    yield Step(True, Said("gone-again-nothing-left"))


def _looked_into(carrier: Carrier, name: str, stated: str | None) -> Step:
    same = carrier.is_same(name, hashlib.sha256(_TRIAL).hexdigest(), partial(io.BytesIO, _TRIAL))
    if same is None and stated != BY_SIZE:
        try:
            same = same_from(carrier, name, io.BytesIO(_TRIAL), 0, len(_TRIAL), _unheard) == len(_TRIAL)
        except LineBroke:
            raise
        except NotSent:
            if stated == FETCHED:
                raise
    if same is None:
        return Step(True, Said("what-left-there-counted-not"))
    if not same:
        raise NotSent(Said("file-left-there-not-what"))
    return Step(True, Said("what-could-proven"))


def _unheard(sent_bytes: int) -> None:
    pass
