"""One front door for what is written into a file beside its sound, whatever its container."""

import hashlib
import shutil
import uuid
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import av
from mutagen import MutagenError

from mastering.audio.opening import open_safely
from mastering.audio.placing import put_in_place
from mastering.errors import CannotMake, MasteringError, said_of
from mastering.tagging import asf, id3, mp4, riff, vorbis
from mastering.tagging.carried import end_of_id3
from mastering.tagging.inscription import TAGS, Inscription
from mastering.tagging.markers import remux_chapters
from mastering.tagging.mp4_chapters import MP4S

_WRITERS = {
    "mp3": id3.write,
    "aiff": id3.write,
    "m4a": mp4.write,
    "m4b": mp4.write,
    "mp4": mp4.write,
    "flac": vorbis.write,
    "ogg": vorbis.write,
    "wav": riff.write,
    "wma": asf.write,
}
_HELD = {"wav": riff.HELD, "wma": asf.HELD}
_PICTURED = frozenset(("mp3", "aiff", "m4a", "m4b", "mp4", "flac", "ogg"))
_MARKED = frozenset(("mp3", "m4a", "m4b", "mp4", "flac", "ogg"))
_AT_ONCE = 8
_FORMS = {"mp3": tuple(id3.FORMS), "aiff": tuple(id3.FORMS)}


def holds(container: str, what: str) -> bool:
    """Whether a container has a place for a tag, for a "picture" or for "chapters"."""
    if what == "picture":
        return container in _PICTURED
    if what == "chapters":
        return container in _MARKED
    return what in _HELD.get(container, TAGS)


def forms(container: str) -> tuple[str, ...]:
    """The ways of writing tags one can choose between; empty where there is but one."""
    return _FORMS.get(container, ())


def inscribe(path: Path, container: str, given: Inscription) -> None:
    """Write tags, picture and (but for MP4, which its encoder writes) chapter marks into a file being made.

    What the container has no place for is left out. Raises CannotMake.
    """
    try:
        _WRITERS[container](path, given)
    except (MutagenError, ValueError) as error:
        raise CannotMake(f"The tags could not be written into this file: {said_of(error, path)}.") from error


def reinscribe(path: Path, container: str, given: Inscription, target: Path | None = None) -> None:
    """Write them into a file that exists, or into a copy of it: `target`. It is there only when the sound is proven
    untouched.

    The sound before and after is compared byte for byte. Raises CannotMake, OSError; the file is as it was
    in either case.
    """
    if container not in _WRITERS:
        raise CannotMake("Tags can be written into MP3, M4A, M4B, WAV, AIFF, FLAC, Ogg and WMA files.")
    partial = path.with_name(f".{uuid.uuid4().hex}.making")
    try:
        if container in MP4S and given.chapters:
            remux_chapters(path, partial, given.chapters)
        else:
            shutil.copyfile(path, partial)
        shutil.copymode(path, partial)
        inscribe(partial, container, given)
        if _fingerprint(partial, container) != _fingerprint(path, container):
            raise CannotMake("Writing the tags would have changed the sound, so nothing was written.")
        put_in_place(partial, target or path, replace=True)
    finally:
        partial.unlink(missing_ok=True)


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
        raise MasteringError("There is no sound in this file that could be read.") from error
    return found.hexdigest()
