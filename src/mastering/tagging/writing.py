"""One front door for what is written into a file beside its sound, whatever its container."""

import hashlib
import shutil
from collections.abc import Callable, Collection, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import av
from mutagen import MutagenError

from mastering.audio.formats import CONTAINERS, WRITTEN
from mastering.audio.opening import open_safely
from mastering.audio.placing import whole
from mastering.errors import CannotMake, MasteringError, said_of
from mastering.said import Said
from mastering.tagging import asf, caf, id3, mp4, riff, vorbis
from mastering.tagging.carried import end_of_id3
from mastering.tagging.inscription import TAGS, Inscription
from mastering.tagging.markers import remux_chapters


@dataclass(frozen=True)
class Scheme:
    """One way of writing tags: what does it, the tags it has a place for, and the forms one can choose between."""

    write: Callable[[Path, Inscription], None]
    held: Collection[str] = frozenset(TAGS)
    forms: tuple[str, ...] = ()


SCHEMES = {
    "ID3": Scheme(id3.write, forms=tuple(id3.FORMS)),
    "MP4": Scheme(mp4.write),
    "Vorbis comments": Scheme(vorbis.write),
    "RIFF INFO": Scheme(riff.write, riff.HELD),
    "ASF": Scheme(asf.write, asf.HELD),
    "CAF": Scheme(caf.write, caf.HELD),
    "": Scheme(lambda path, given: None, frozenset()),
}
"""By the names containers have for them; some have no place for any."""
_AT_ONCE = 8


def holds(container: str, what: str) -> bool:
    """Whether a container has a place for a tag, for a "picture" or for "chapters"."""
    if container not in CONTAINERS:
        return False
    has = CONTAINERS[container]
    return {"picture": has.pictures, "chapters": has.chapters}.get(what, what in SCHEMES[has.tags].held)


def forms(container: str) -> tuple[str, ...]:
    """The ways of writing tags one can choose between; empty where there is but one."""
    return SCHEMES[CONTAINERS[container].tags].forms if container in CONTAINERS else ()


def inscribe(path: Path, container: str, given: Inscription) -> None:
    """Write tags, picture and (but for MP4, which its encoder writes) chapter marks into a file being made.

    What the container has no place for is left out. Raises CannotMake.
    """
    try:
        SCHEMES[CONTAINERS[container].tags].write(path, given)
    except (MutagenError, ValueError) as error:
        raise CannotMake(Said("tags-could-not-written-into", said_of=said_of(error, path))) from error


def reinscribe(path: Path, container: str, given: Inscription, target: Path | None = None) -> None:
    """Write them into a file that exists, or into a copy of it: `target`. It is there only when the sound is proven
    untouched.

    The sound before and after is compared byte for byte. Raises CannotMake, OSError; the file is as it was
    in either case.
    """
    if container not in CONTAINERS or not CONTAINERS[container].tags:
        raise CannotMake(Said("tags-can-written-into-files", written=", ".join(WRITTEN)))
    with whole(target or path, replace=True) as partial:
        if CONTAINERS[container].is_mp4 and given.chapters:
            remux_chapters(path, partial, given.chapters)
        else:
            shutil.copyfile(path, partial)
        shutil.copymode(path, partial)
        inscribe(partial, container, given)
        if _fingerprint(partial, container) != _fingerprint(path, container):
            raise CannotMake(Said("writing-tags-would-changed-sound"))


def reinscribe_all(wanted: Sequence[tuple[Path, str, Inscription, Path]]) -> list[Exception | None]:
    """As `reinscribe` for many files, several at a time: most of it is waiting for the disk.

    Returns for each why it could not be done, or None.
    """

    def one(each: tuple[Path, str, Inscription, Path]) -> Exception | None:
        try:
            reinscribe(*each)
        except (MasteringError, OSError) as error:
            return error
        return None

    with ThreadPoolExecutor(_AT_ONCE) as threads:
        return list(threads.map(one, wanted))


def _fingerprint(path: Path, container: str) -> str:
    """What stays the same while the sound does: of an MP3 all bytes after its tags, else the packets of sound."""
    if container != "mp3":
        return sound_sha256(path)
    with path.open("rb") as file:
        file.seek(end_of_id3(file.read(10)))
        return hashlib.file_digest(file, "sha256").hexdigest()


def sound_sha256(path: Path) -> str:
    """A fingerprint of the encoded sound alone, without anything around it."""
    found = hashlib.sha256()
    try:
        with open_safely(path) as opened:
            for packet in opened.demux(opened.streams.audio[0]):
                if packet.size:
                    found.update(packet)
    except (av.error.FFmpegError, IndexError, ValueError) as error:
        raise MasteringError(Said("there-no-sound-file-could")) from error
    return found.hexdigest()
