"""How it is known that a file over there is the one that was checked."""

import random
from functools import partial

from mastering.outlets.ways import BY_SIZE, FETCHED
from mastering.said import Said
from sermovox.dispatch.models import Part
from sermovox.dispatch.opened import opened
from sermovox.dispatch.ways.carrier import Carrier, LineBroke, NotSent, Told
from sermovox.dispatch.ways.comparing import same_from

SMALL_BYTES = 16 << 20
"""Files up to this size are read back whole, larger ones in samples, where it is not stated otherwise."""
SAMPLE_BYTES, _BETWEEN = 1 << 16, 16
TOLD, READ_BACK = Said("sha-256-over-there-same"), Said("read-back-same-byte")
SAMPLED = Said("size-right-samples-were-read", between=_BETWEEN + 2)


def proven(carrier: Carrier, part: Part, name: str, told: Told, *, wholly: bool = False) -> str:
    """How it is known that a file over there, of the size of this one, is this one; nothing where it is another.

    A hash that the far side tells goes first; else it is read back as the outlet states it, with `wholly` to the byte
    in any case. `BY_SIZE` where no more can be told. Raises NotSent where it has to be read back and is not given.
    """
    same = carrier.is_same(name, part.sha256, partial(opened, part))
    if same is not None:
        return TOLD if same else ""
    stated = part.dispatch.way.stated.get("proof")
    if stated == BY_SIZE:
        return BY_SIZE
    size = part.size_bytes
    in_samples = size > SMALL_BYTES and stated != FETCHED and not wholly
    with opened(part) as file:
        for start, count in _samples(size) if in_samples else [(0, size)]:
            try:
                same_bytes = same_from(carrier, name, file, start, count, told)
            except LineBroke:
                raise
            except NotSent:
                if stated == FETCHED:
                    raise
                return BY_SIZE
            if same_bytes != count:
                return ""
    return SAMPLED if in_samples else READ_BACK


def _samples(size_bytes: int) -> list[tuple[int, int]]:
    """Where samples begin and how long they are: start, end and places that nobody knows beforehand, in their order."""
    last = size_bytes - SAMPLE_BYTES
    places = {0, last, *(random.randrange(last) for _ in range(_BETWEEN))}
    return [(place, SAMPLE_BYTES) for place in sorted(places)]
