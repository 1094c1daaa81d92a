"""Holding what lies over there against what lies here."""

from contextlib import closing
from typing import BinaryIO

from sermovox.dispatch.ways.carrier import Carrier, LineBroke, NotSent, Told


def same_from(carrier: Carrier, name: str, file: BinaryIO, start: int, count: int, told: Told) -> int:
    """How many of `count` bytes from byte `start` on are the same over there and here, up to the first chunk with
    another byte in it. `told` hears where it is. Raises NotSent where they are not given back.
    """
    same = 0
    file.seek(start)
    with closing(carrier.fetched(name, start, count)) as chunks:
        for chunk in chunks:
            if file.read(len(chunk)) != chunk:
                break
            same += len(chunk)
            told(start + same)
    return same


def same_so_far(carrier: Carrier, name: str, file: BinaryIO, size_bytes: int, told: Told) -> int:
    """How much of a file that broke off over there is what lies here; nothing where that is not given back."""
    there = carrier.size_of(name) or 0
    if not 0 < there <= size_bytes:
        return 0
    try:
        return same_from(carrier, name, file, 0, there, told)
    except LineBroke:
        raise
    except NotSent:
        return 0
