"""What a stranger's file may do in another process, with little memory and little time: documents and large pictures.

Small pictures are looked at where one is: starting a process takes longer than they do. Run as a program, it does one
job: the data comes by standard input, and a line of JSON with what follows it goes to standard output.
"""

import json
import subprocess
import sys
import threading
from collections.abc import Callable
from dataclasses import asdict
from functools import lru_cache

from mastering.editing.documents import is_package, read_package
from mastering.editing.texts import decoded
from mastering.errors import MasteringError
from mastering.said import Said, plain, revived, word
from mastering.tagging.artwork import (
    ArtworkFacts,
    ArtworkRule,
    for_chapter,
    inspect,
    picture_for,
    pixels_of,
)

_LIMITS = {"memory_bytes": 1 << 30, "cpu_s": 20}
_MOST_WALL_S = 90
_AT_ONCE = 2
_SMALL_PIXELS = 4_000_000
_LONGEST_TEXT_BYTES = 32 << 20
_turns = threading.BoundedSemaphore(_AT_ONCE)


def document_text(data: bytes) -> str:
    """As `mastering.editing.documents.read_package`. Raises MasteringError."""
    return _apart("document", {}, data).decode()


def text_in(data: bytes) -> str:
    """The text that a file holds: a document's, or its own in whatever characters. Raises MasteringError."""
    return document_text(data) if is_package(data) else decoded(data)[0]


@lru_cache(maxsize=2)
def picture_facts(data: bytes) -> ArtworkFacts:
    """As `mastering.tagging.artwork.inspect`. Raises MasteringError."""
    if pixels_of(data) <= _SMALL_PIXELS:
        return inspect(data)
    return ArtworkFacts(**json.loads(_apart("facts", {}, data)))


def artwork_for(rule: ArtworkRule, data: bytes) -> bytes:
    """As `mastering.tagging.artwork.picture_for`."""
    if pixels_of(data) <= _SMALL_PIXELS:
        return picture_for(rule, data)
    try:
        return _apart("artwork", asdict(rule), data)
    except MasteringError:
        return b""


def chapter_picture(data: bytes) -> bytes:
    """As `mastering.tagging.artwork.for_chapter`. Raises MasteringError."""
    return for_chapter(data) if pixels_of(data) <= _SMALL_PIXELS else _apart("chapter", {}, data)


_JOBS: dict[str, Callable[..., bytes]] = {
    "document": lambda data: _bounded(read_package(data)),
    "facts": lambda data: json.dumps(asdict(inspect(data))).encode(),
    "artwork": lambda data, **rule: picture_for(ArtworkRule(**rule), data),
    "chapter": lambda data: for_chapter(data),
}


def _bounded(text: str) -> bytes:
    content = text.encode("utf-8", "replace")
    if len(content) > _LONGEST_TEXT_BYTES:
        raise MasteringError(Said("document-holds-more-text-than"))
    return content


def _apart(job: str, values: dict, data: bytes) -> bytes:
    command = [sys.executable, "-m", "sermovox.keeping.apart", job, json.dumps(values), json.dumps(_LIMITS)]
    with _turns:
        try:
            done = subprocess.run(command, input=data, capture_output=True, timeout=_MOST_WALL_S)
        except subprocess.TimeoutExpired:
            done = None
    said, _, content = done.stdout.partition(b"\n") if done else (b"", b"", b"")
    if not said:
        kind = word("document" if job == "document" else "picture")
        raise MasteringError(Said("takes-more-memory-time-than", kind=kind))
    if refusal := revived(json.loads(said))["refusal"]:
        raise MasteringError(refusal)
    return content


def _limit(memory_bytes: int, cpu_s: int) -> None:
    try:
        import resource
    except ImportError:
        return  # Windows has no such limits; the time is limited all the same.
    resource.setrlimit(resource.RLIMIT_AS, (memory_bytes, memory_bytes))
    resource.setrlimit(resource.RLIMIT_CPU, (cpu_s, cpu_s))


def main(job: str, values: str, limits: str) -> None:
    _limit(**json.loads(limits))
    refusal, content = "", b""
    try:
        content = _JOBS[job](sys.stdin.buffer.read(), **json.loads(values))
    except MasteringError as error:
        refusal = str(error)
    sys.stdout.buffer.write(json.dumps(plain({"refusal": refusal})).encode() + b"\n" + content)


if __name__ == "__main__":
    main(*sys.argv[1:])
