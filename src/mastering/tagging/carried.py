"""What a finished file really carries, read by other code than wrote it: libav, and the bytes themselves."""

import struct
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import av

from mastering.audio.chunks import chunks, inner_chunks
from mastering.audio.encodings import frame_bytes
from mastering.audio.formats import AVERAGE, CONSTANT, CONTAINERS, MP3_KBPS, VARIABLE, found_as
from mastering.audio.mp3 import METHOD_MODES
from mastering.audio.opening import open_safely
from mastering.tagging.inscription import TAGS, Chapter
from mastering.tagging.markers import riff_chunks

_LARGEST_ID3_BYTES = 64 << 20
_NAMES = {"date": "year", "TDES": "description", "synopsis": "description"}
_MEDIA_KINDS = {"2": "audiobook", "21": "podcast"}
_MOST_FRAMES = 200
"""Frames looked at to learn whether channels are joined; an encoder uses it within a few."""


@dataclass(frozen=True, kw_only=True)
class Carried:
    """What is in a file beside its sound.

    `form` says how its tags are written, None where there are none. `joint` is None where there are no two channels
    that could be. `mode` is how the bitrate was chosen as far as the file says, `quality` likewise.
    """

    container: str
    tags: dict[str, str]
    form: str | None = None
    picture: bytes = b""
    chapters: tuple[Chapter, ...] = ()
    joint: bool | None = None
    mode: str | None = None
    quality: int | None = None


NOTHING = Carried(container="", tags={})
"""What is carried by a file in which nothing can be read."""


def read_carried(path: Path) -> Carried:
    """Read tags, picture, chapter marks and structure of a file. What cannot be read counts as not there."""
    with path.open("rb") as file:
        head = file.read(64)
    try:
        with open_safely(path) as opened:
            container = found_as(opened.format.name, opened.metadata.get("major_brand", ""))
            scheme = CONTAINERS[container].tags if container in CONTAINERS else None
            sound = opened.streams.audio[0] if opened.streams.audio else None
            said = dict(opened.metadata)
            if container == "ogg" and sound is not None:
                said |= sound.metadata
            if container == "wav":
                said = {key: text for key, text in said.items() if key not in ("comment", "date")} | _info_alone(path)
            names = CONTAINERS[container].called if container in CONTAINERS else {}
            tags = _tags(said, _NAMES | names, vorbis=scheme == "Vorbis comments")
            chapters = tuple(_chapters(opened))
            picture = _picture(opened)
    except (av.error.FFmpegError, ValueError, OSError, IndexError):
        return NOTHING
    structure: dict[str, Any] = {"form": scheme if scheme != "ID3" else None} if tags else {}
    # What is damaged in it cannot be read, and a file from anywhere may be.
    with suppress(struct.error, IndexError, ValueError):
        if head[:3] == b"ID3" or container == "aiff":
            structure["form"], found = _id3(path, head)
            chapters = found or chapters
    with suppress(struct.error, IndexError):
        if container == "mp3":
            structure |= _mp3(path, head)
    return Carried(
        container=container,
        tags=tags,
        picture=picture,
        chapters=chapters,
        **structure,
    )


def _info_alone(path: Path) -> dict[str, str]:
    """Comment and date of a WAV's INFO list: libav tells description and day of a broadcast wave as these."""
    info = {
        key: value.rstrip(b"\0").decode("utf-8", "replace")
        for _, body in riff_chunks(path, (b"LIST",))
        if body[:4] == b"INFO"
        for key, value in inner_chunks(body[4:])
    }
    return {name: info[key] for name, key in (("comment", b"ICMT"), ("date", b"ICRD")) if info.get(key)}


def _tags(said: dict[str, str], names: dict[str, str], *, vorbis: bool) -> dict[str, str]:
    if vorbis:
        # libav calls the field DESCRIPTION "comment", beside the one that is called so.
        said = {("description" if key == "comment" else key.lower()): value for key, value in said.items()}
        for name in ("track", "disc"):
            if of := said.get(f"{name}total"):
                said[name] = f"{said.get(name, '')}/{of}"
    tags = {}
    for key, value in said.items():
        name = names.get(key, key.lower())
        name = "lyrics" if name.startswith("lyrics-") else name
        if name in TAGS and (name not in tags or key == name):
            tags[name] = value.replace("\r\n", "\n").strip()
    if "media_type" in said:
        tags["kind"] = _MEDIA_KINDS.get(said["media_type"], said["media_type"])
    return tags


def _chapters(opened: Any) -> list[Chapter]:
    found = [
        Chapter(
            start_s=float(chapter["start"] * chapter["time_base"]),
            end_s=float(chapter["end"] * chapter["time_base"]),
            title=str(chapter["metadata"].get("title", "")),
        )
        for chapter in opened.chapters()
    ]
    return sorted(found, key=lambda chapter: chapter.start_s)


def _picture(opened: Any) -> bytes:
    kind = av.stream.Disposition
    for stream in opened.streams.video:
        # Pictures of chapters are attached as well.
        if stream.disposition & (kind.attached_pic | kind.timed_thumbnails) == kind.attached_pic:
            for packet in opened.demux(stream):
                if packet.size:
                    return bytes(packet)
    return b""


def _id3(path: Path, head: bytes) -> tuple[str | None, tuple[Chapter, ...]]:
    """Which version it is, and its chapter frames (ID3v2.4.0 structure, 3.1; Chapter Frame Addendum 1.0, 3.1)."""
    with path.open("rb") as file:
        start = 0 if head[:3] == b"ID3" else _aiff_id3_at(file)
        if start is None:
            return None, ()
        file.seek(start)
        head = file.read(10)
        version, size = head[3], _syncsafe(head[6:10])
        body = file.read(min(size, _LARGEST_ID3_BYTES))
    chapters = []
    for name, frame in _frames(body, version):
        if name == b"CHAP":
            _, _, rest = frame.partition(b"\0")
            if len(rest) >= 16:
                start_ms, end_ms = struct.unpack_from(">II", rest)
                inner = dict(_frames(rest[16:], version))
                chapters.append(
                    Chapter(
                        start_s=start_ms / 1000,
                        end_s=end_ms / 1000,
                        title=_text(inner.get(b"TIT2", b"")),
                        link=inner.get(b"WXXX", b"").rstrip(b"\0").rpartition(b"\0")[2].decode("latin-1"),
                        picture=_apic(inner.get(b"APIC", b"")),
                    )
                )
    return f"ID3v2.{version}", tuple(sorted(chapters, key=lambda chapter: chapter.start_s))


def _frames(body: bytes, version: int) -> Iterator[tuple[bytes, bytes]]:
    at = 0
    while at + 10 <= len(body) and body[at : at + 4].isalnum():
        size = _syncsafe(body[at + 4 : at + 8]) if version >= 4 else struct.unpack_from(">I", body, at + 4)[0]
        yield body[at : at + 4], body[at + 10 : at + 10 + size]
        at += 10 + size


def end_of_id3(head: bytes) -> int:
    """Where the tag ends that a file begins with, from its first ten bytes; 0 where there is none."""
    return 10 + _syncsafe(head[6:10]) if head[:3] == b"ID3" and len(head) >= 10 else 0


def _syncsafe(raw: bytes) -> int:
    return raw[0] << 21 | raw[1] << 14 | raw[2] << 7 | raw[3]


def _text(frame: bytes) -> str:
    if not frame:
        return ""
    coding = {0: "latin-1", 1: "utf-16", 2: "utf-16-be", 3: "utf-8"}.get(frame[0], "utf-8")
    return frame[1:].decode(coding, "replace").strip("\0")


def _apic(frame: bytes) -> bytes:
    # Coding, media type, kind of picture and an empty description stand before the picture (ID3v2.4.0, 4.14).
    rest = frame[1:].partition(b"\0")[2]
    return rest[1:].partition(b"\0")[2] if rest else b""


def _aiff_id3_at(file: BinaryIO) -> int | None:
    return next((each.start for each in chunks(file) if each.name in (b"ID3 ", b"id3 ")), None)


def _mp3(path: Path, head: bytes) -> dict[str, Any]:
    """What the first frames say: joint stereo (ISO/IEC 11172-3, 2.4.2.3), and the header frame's own account."""
    with path.open("rb") as file:
        file.seek(end_of_id3(head))
        body = file.read(1 << 17)
    at = next((n for n in range(len(body) - 1) if body[n] == 0xFF and body[n + 1] & 0xE0 == 0xE0), None)
    if at is None:
        return {}
    found: dict[str, Any] = {}
    tag = max(body.find(b"Xing", at, at + 64), body.find(b"Info", at, at + 64))
    if tag >= 0:
        flags = struct.unpack_from(">I", body, tag + 4)[0]
        rest = tag + 8 + 4 * bool(flags & 1) + 4 * bool(flags & 2) + 100 * bool(flags & 4)
        if flags & 8:
            found["quality"] = (100 - struct.unpack_from(">I", body, rest)[0]) // 10
            rest += 4
        if body[rest : rest + 4] == b"LAME":
            found["mode"] = METHOD_MODES.get(body[rest + 9] & 15, VARIABLE)
        if found.get("mode") in (CONSTANT, AVERAGE):
            found.pop("quality", None)
    modes, step = set(), 0
    while at + 4 <= len(body) and step < _MOST_FRAMES and body[at] == 0xFF:
        modes.add(body[at + 3] >> 6)
        size = _frame_bytes(body[at : at + 4])
        if not size:
            break
        at, step = at + size, step + 1
    if modes and 3 not in modes:
        found["joint"] = 1 in modes
    return found


def _frame_bytes(head: bytes) -> int:
    """How long the frame with this header is, bytes; 0 where it is none of layer III."""
    version, rate, index = head[1] >> 3 & 3, head[2] >> 2 & 3, (head[2] >> 4) - 1
    if rate == 3 or version == 1 or head[1] >> 1 & 3 != 1 or not 0 <= index < 14:
        return 0
    rate_hz = (44100, 48000, 32000)[rate] // {3: 1, 2: 2, 0: 4}[version]
    # MPEG-2.5 counts its bitrates as MPEG-2 does.
    return frame_bytes(MP3_KBPS[max(rate_hz, 16000)][index], rate_hz) + (head[2] >> 1 & 1)
