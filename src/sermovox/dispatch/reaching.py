"""Trying a way out: what works and what does not, in words, with nothing left behind."""

import io
import uuid
from contextlib import suppress
from dataclasses import dataclass

from mastering.outlets.receiving import Receiving
from sermovox.dispatch.posting import tried
from sermovox.dispatch.ways import carrier_of
from sermovox.dispatch.ways.carrier import Access, Carrier, NotSent, fingerprint

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
            steps.append(Step(True, f"{receiving.address} is there, and lets Sermovox in."))
            if access.host_key != known:
                steps.append(Step(True, f"It is known by its host key from now on: {fingerprint(access.host_key)}."))
            steps += _written(carrier, receiving)
            left = carrier.left_bytes()
            if left is not None:
                room = f"{left / 1e9:.1f} GB" if left > 1e9 else f"{left / 1e6:.1f} MB"
                steps.append(Step(left > len(_TRIAL), f"There is room for {room}."))
    except NotSent as error:
        steps.append(Step(False, str(error)))
    return steps


def _written(carrier: Carrier, receiving: Receiving) -> list[Step]:
    """Leave a small file, look at it and take it away."""
    parts = receiving.folder.split("/")
    fixed = parts[: next((at for at, part in enumerate(parts) if set(part) & set("{[")), len(parts))]
    folder = "".join(f"{part.strip()}/" for part in fixed if part.strip())
    steps = []
    if folder:
        try:
            _leave(carrier, folder)
        except NotSent:
            steps.append(
                Step(True, f"The folder {folder} is not there, or may not be written. It is made when files are sent.")
            )
        else:
            return [Step(True, f"A file could be left in {folder}, was there with its full size, and is gone again.")]
    _leave(carrier, "")
    return [*steps, Step(True, "A file could be left there, was there with its full size, and is gone again.")]


def _leave(carrier: Carrier, folder: str) -> None:
    name = f"{folder}sermovox-{uuid.uuid4().hex[:12]}.part"
    try:
        carrier.put(name, _Trial(_TRIAL), 0, len(_TRIAL), lambda sent: None, replacing=False)
        if carrier.size_of(name) != len(_TRIAL):
            raise NotSent("A file that was left there has not its full size.")
    finally:
        with suppress(NotSent):
            carrier.delete(name)
