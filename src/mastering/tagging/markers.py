"""Marks inside sound files: WAV cues, BWF markers, ID3 and MP4 chapters. Read from any, written into a copy."""

import shutil
import struct
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import BinaryIO

import av
from mutagen import MutagenError
from mutagen.id3 import ID3, ID3NoHeaderError

from mastering.audio.chunks import UNSIZED, chunk, chunks, inner_chunks, is_wave
from mastering.audio.libav import chapter_atoms
from mastering.audio.opening import open_safely
from mastering.certain import certain
from mastering.editing.labels import Label, checked
from mastering.editing.texts import UnreadableText
from mastering.errors import CannotMake
from mastering.said import Said
from mastering.tagging.id3 import chapter_frames, refuse_many
from mastering.tagging.inscription import Chapter
from mastering.tagging.riff import set_size

_LARGEST_CHUNK_BYTES = 16 << 20
_R64M = struct.Struct("<IIIIIII256sI16sIIII")
"""A marker of a broadcast wave's "r64m" chunk (EBU Tech 3306, annex; from memory)."""
_R64M_VALID = 1


def read_markers(path: Path, *, sample_rate_hz: int) -> list[Label]:
    """The marks a file carries, in order of time; none for a file that can hold none."""
    with path.open("rb") as file:
        head = file.read(12)
    if is_wave(head):
        try:
            found = _wav_markers(path, sample_rate_hz)
        except struct.error:
            # A chunk that breaks off; what a file says of its own marks is not worth refusing it for.
            found = []
    else:
        found = _id3_chapters(path) or _container_chapters(path)
    return sorted(found, key=lambda label: (label.start_s, label.end_s))


def markers_inside(path: Path, *, sample_rate_hz: int, duration_s: float) -> list[Label]:
    """As `read_markers`, looked at as a whole. Raises UnreadableText where there are none, or one cannot be."""
    found = read_markers(path, sample_rate_hz=sample_rate_hz)
    if not found:
        raise UnreadableText(Said("there-no-marks-inside-file"))
    return [label for _, label in checked(list(enumerate(found, 1)), duration_s=duration_s, what=Said("mark"))]


def write_markers(source: Path, target: Path, labels: Sequence[Label], *, container: str, sample_rate_hz: int) -> None:
    """Write a copy of a file that carries these marks. The sound is copied as it is; the source is only read.

    Raises CannotMake for a container that holds no marks, or for more than it can hold.
    """
    if container not in _COPIES:
        raise CannotMake(Said("marks-can-written-into-copies"))
    _COPIES[container](source, target, labels, sample_rate_hz)


def _wav_markers(path: Path, rate_hz: int) -> list[Label]:
    places: dict[int, int] = {}
    names: dict[int, str] = {}
    lengths: dict[int, int] = {}
    broadcast: list[Label] = []
    for name, body in riff_chunks(path, (b"cue ", b"LIST", b"r64m")):
        if name == b"cue ":
            count = min(struct.unpack_from("<I", body)[0], (len(body) - 4) // 24) if len(body) >= 4 else 0
            for at in range(count):
                key, _, _, _, _, offset = struct.unpack_from("<II4sIII", body, 4 + 24 * at)
                places[key] = offset
        elif name == b"LIST" and body[:4] == b"adtl":
            for kind, part in inner_chunks(body[4:]):
                if kind == b"labl" and len(part) >= 4:
                    names[_key(part)] = _text(part[4:])
                elif kind == b"note" and len(part) >= 4:
                    # A cue's label names it; its note does where it has none.
                    names.setdefault(_key(part), _text(part[4:]))
                elif kind == b"ltxt" and len(part) >= 8:
                    key, length = struct.unpack_from("<II", part)
                    lengths[key] = length
        elif name == b"r64m":
            for at in range(0, len(body) - _R64M.size + 1, _R64M.size):
                flags, low, high, *_, text, _, _, _, _, _, _ = _R64M.unpack_from(body, at)
                if flags & _R64M_VALID:
                    start_s = (high << 32 | low) / rate_hz
                    broadcast.append(Label(start_s, start_s, _text(text)))
    cues = [
        Label(offset / rate_hz, (offset + lengths.get(key, 0)) / rate_hz, names.get(key, ""))
        for key, offset in places.items()
    ]
    return cues + broadcast


def _key(part: bytes) -> int:
    """The cue that an entry of an associated data list belongs to (Multimedia Programming Interface 1.0, chapter 3)."""
    return int(struct.unpack_from("<I", part)[0])


def riff_chunks(path: Path, wanted: Sequence[bytes]) -> Iterator[tuple[bytes, bytes]]:
    """The chunks of a WAV that are called so: name and content."""
    with path.open("rb") as file:
        for found in chunks(file):
            if found.name in wanted and found.size <= _LARGEST_CHUNK_BYTES:
                file.seek(found.start)
                yield found.name, file.read(found.size)


def _text(raw: bytes) -> str:
    raw = raw.split(b"\0")[0]
    try:
        return raw.decode("utf-8")[:200]
    except UnicodeDecodeError:
        return raw.decode("cp1252", "replace")[:200]


def _write_wav(source: Path, target: Path, labels: Sequence[Label], rate_hz: int) -> None:
    _copied(source, target)
    _append_cues(target, labels, rate_hz)


def _copied(source: Path, target: Path) -> None:
    shutil.copyfile(source, target)
    target.chmod(0o644)


def _append_cues(path: Path, labels: Sequence[Label], rate_hz: int) -> None:
    offsets = [round(label.start_s * rate_hz) for label in labels]
    if any(offset > UNSIZED for offset in offsets):
        raise CannotMake(Said("recording-too-long-wav-cues"))
    cues = struct.pack("<I", len(labels)) + b"".join(
        struct.pack("<II4sIII", key, offset, b"data", 0, 0, offset) for key, offset in enumerate(offsets, 1)
    )
    parts = b""
    for key, (label, offset) in enumerate(zip(labels, offsets, strict=True), 1):
        parts += chunk(b"labl", struct.pack("<I", key) + label.name.encode() + b"\0")
        if label.end_s > label.start_s:
            length = round(label.end_s * rate_hz) - offset
            parts += chunk(b"ltxt", struct.pack("<II4sHHHH", key, length, b"rgn ", 0, 0, 0, 0))
    added = chunk(b"cue ", cues) + chunk(b"LIST", b"adtl" + parts)
    with path.open("rb+") as file:
        head = file.read(12)
        _rename_old_cues(file)
        file.seek(0, 2)
        if file.tell() % 2:
            file.write(b"\0")
        file.write(added)
        if head[:4] == b"RIFF" and file.tell() - 8 > UNSIZED:
            raise CannotMake(Said("marks-wav-would-over-4"))
        set_size(file, head)


def _rename_old_cues(file: BinaryIO) -> None:
    """Marks the file had before are passed over from now on: their chunks become padding."""
    for found in chunks(file):
        file.seek(found.start)
        if found.name == b"cue " or found.name == b"LIST" and file.read(4) == b"adtl":
            file.seek(found.start - 8)
            file.write(b"JUNK")


def _id3_chapters(path: Path) -> list[Label]:
    try:
        frames = ID3(path).getall("CHAP")
    except (ID3NoHeaderError, MutagenError, OSError, ValueError):
        return []
    labels = []
    for frame in frames:
        title = frame.sub_frames.get("TIT2")
        labels.append(Label(frame.start_time / 1000, frame.end_time / 1000, str(title)[:200] if title else ""))
    return labels


def _write_id3(source: Path, target: Path, labels: Sequence[Label], rate_hz: int) -> None:
    refuse_many(labels)
    _copied(source, target)
    try:
        tags = ID3(target)
    except ID3NoHeaderError:
        tags = ID3()
    tags.delall("CHAP")
    tags.delall("CTOC")
    for frame in chapter_frames(_as_chapters(labels)):
        tags.add(frame)
    tags.save(target, v2_version=4)


def _as_chapters(labels: Sequence[Label]) -> list[Chapter]:
    return [Chapter(start_s=label.start_s, end_s=label.end_s, title=label.name) for label in labels]


def _container_chapters(path: Path) -> list[Label]:
    try:
        with open_safely(path) as container:
            chapters = container.chapters()
    except (av.error.FFmpegError, ValueError, OSError):
        return []
    found = [
        Label(
            float(chapter["start"] * certain(chapter["time_base"])),
            float(chapter["end"] * certain(chapter["time_base"])),
            str(chapter["metadata"].get("title", ""))[:200],
        )
        for chapter in chapters
    ]
    # What lies between the marks has no title where it was written by `_without_gaps`.
    return [label for label in found if label.name] or found


def _write_mp4(source: Path, target: Path, labels: Sequence[Label], rate_hz: int) -> None:
    refuse_many(labels)
    with open_safely(source) as given:
        sound = given.streams.audio[0]
        duration_s = float(certain(sound.duration) * certain(sound.time_base))
    remux_chapters(source, target, _as_chapters(_without_gaps(labels, duration_s)))


def remux_chapters(source: Path, target: Path, chapters: Sequence[Chapter]) -> None:
    """Write a copy of an MP4 with these chapters; its sound is copied as it is, its brand and plain tags too."""
    with open_safely(source) as given:
        sound = given.streams.audio[0]
        options = {"movie_timescale": str(sound.rate), "movflags": "+faststart"}
        if (brand := given.metadata.get("major_brand", "")).startswith("M4"):
            options["brand"] = brand
        with av.open(str(target.absolute()), "w", format="mp4", container_options=options) as made:
            copied = made.add_stream_from_template(sound)
            made.metadata.update(given.metadata)
            made.set_chapters(chapter_atoms(chapters))
            for packet in given.demux(sound):
                if packet.dts is not None:
                    packet.stream = copied
                    made.mux(packet)


def _without_gaps(labels: Sequence[Label], duration_s: float) -> list[Label]:
    """MP4 chapters begin at 0 and each runs to the next: untitled ones fill what no mark covers."""
    filled: list[Label] = []
    at_s = 0.0
    for label, following in zip(labels, [*labels[1:], None], strict=True):
        if label.start_s > at_s:
            filled.append(Label(at_s, label.start_s, ""))
        limit_s = following.start_s if following else duration_s
        at_s = min(label.end_s, limit_s) if label.end_s > label.start_s else limit_s
        filled.append(Label(label.start_s, at_s, label.name or Said("mark")))
    if at_s < duration_s:
        filled.append(Label(at_s, duration_s, ""))
    return filled


_COPIES = {"wav": _write_wav, "mp3": _write_id3, "mp4": _write_mp4}
"""What writes a copy with marks, by the container a recording is in."""
