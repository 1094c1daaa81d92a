"""Links and pictures of MP4 chapters, which libav does not write.

A link stands behind its title in the track of titles, as a hypertext box (3GPP TS 26.245, 5.17.1.5; from memory).
Pictures have a track of their own, which the sound refers to beside that of the titles (common practice, no source).
The boxes are those of ISO/IEC 14496-12.
"""

import io
import os
import shutil
import struct
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from PIL import Image

from mastering.audio.placing import whole
from mastering.certain import certain
from mastering.errors import CannotMake
from mastering.said import Said
from mastering.tagging.boxes import Box, read_box, top_boxes
from mastering.tagging.image_types import is_png
from mastering.tagging.inscription import Chapter

_A_SECOND = 1000
"""Units of the track of pictures."""
_IN_UTF_8 = struct.pack(">I4sI", 12, b"encd", 0x100)
_LONGEST_LINK_BYTES = 255
_UPRIGHT = struct.pack(">9I", 0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000)
_NO_LANGUAGE = 0x55C4


@dataclass(frozen=True)
class _Samples:
    """What a track holds: how long each sample lasts, in units of the track, and its bytes."""

    lasts: tuple[int, ...] = ()
    data: tuple[bytes, ...] = ()

    @property
    def size_bytes(self) -> int:
        return sum(map(len, self.data))

    def tables(self, at: int) -> list[Box]:
        """The tables of times, chunks, sizes and places, where the first sample lies at this byte of the file."""
        places = [at]
        for each in self.data:
            places.append(places[-1] + len(each))
        count, sizes = len(self.data), [len(each) for each in self.data]
        times = [number for lasts in self.lasts for number in (1, lasts)]
        return [
            Box(b"stts", struct.pack(f">II{2 * count}I", 0, count, *times)),
            Box(b"stsc", struct.pack(">5I", 0, 1, 1, 1, 1)),
            Box(b"stsz", struct.pack(f">III{count}I", 0, 0, count, *sizes)),
            Box(b"co64", struct.pack(f">II{count}Q", 0, count, *places[:-1])),
        ]


def add_links_and_pictures(path: Path, chapters: Sequence[Chapter], *, cover: bytes = b"") -> None:
    """Give the chapters of an MP4, whose titles it has already, their links and pictures; the sound stays as it is.

    A chapter without a picture shows the cover, where that is a JPEG; else the one before it stays. A link of more
    than 255 bytes is left out: the box counts them in one. Raises CannotMake, OSError.
    """
    if not any(chapter.link or chapter.picture for chapter in chapters):
        return
    try:
        with whole(path, replace=True) as partial:
            with path.open("rb") as given, partial.open("xb") as made:
                _copy(given, made, chapters, cover)
            shutil.copymode(path, partial)
    except (ValueError, struct.error) as error:
        raise CannotMake(Said("chapters-could-not-written-into", error=error)) from error


def has_links_and_pictures(path: Path, chapters: Sequence[Chapter], *, cover: bytes = b"") -> bool:
    """Whether an MP4 carries just what `add_links_and_pictures` would write. Raises OSError."""
    wanted = b""
    if any(chapter.link or chapter.picture for chapter in chapters):
        pictures, _ = _pictures(chapters, cover)
        wanted = b"".join([*map(_text, chapters), *pictures.data])
    with path.open("rb") as file:
        try:
            data = [(at, size) for name, at, size in top_boxes(file, path.stat().st_size) if name == b"mdat"]
        except ValueError:
            return False
        # The first is the sound's; what was written here is the last.
        if len(data) < 2:
            return not wanted
        at, size = data[-1]
        file.seek(at + 8)
        return size - 8 == len(wanted) and file.read(size - 8) == wanted


def _copy(given: BinaryIO, made: BinaryIO, chapters: Sequence[Chapter], cover: bytes) -> None:
    end = os.fstat(given.fileno()).st_size
    # All of them, so that a file that breaks off is noticed.
    tables = [(at, size) for name, at, size in list(top_boxes(given, end)) if name == b"moov"]
    if not tables:
        raise CannotMake(Said("file-no-table-contents-so"))
    moov_at, moov_size = tables[0]
    given.seek(moov_at + 8)
    moov = given.read(moov_size - 8)

    def table(moved: int) -> tuple[bytes, bytes]:
        def place(at: int) -> int:
            return at + moved if at > moov_at else at

        return _with_chapters(read_box(b"moov", moov), chapters, cover, place, end + moved + 8)

    # It is as long whatever it says of places, so it is made once to learn how far all behind it moves.
    moved = len(table(0)[0]) - moov_size
    head, data = table(moved)
    given.seek(0)
    _pass_on(given, made, moov_at)
    made.write(head)
    given.seek(moov_at + moov_size)
    _pass_on(given, made, end - moov_at - moov_size)
    made.write(Box(b"mdat", data).as_bytes())


def _pass_on(given: BinaryIO, made: BinaryIO, size_bytes: int) -> None:
    while size_bytes:
        part = given.read(min(size_bytes, 1 << 20))
        if not part:
            raise ValueError(Said("ends-too-early"))
        made.write(part)
        size_bytes -= len(part)


def _with_chapters(
    moov: Box, chapters: Sequence[Chapter], cover: bytes, place: Callable[[int], int], at: int
) -> tuple[bytes, bytes]:
    """The table of contents with these chapters and everything where `place` says; and the samples for byte `at`."""
    tracks = moov.all(b"trak")
    sound, titles = _sound_and_titles(tracks)
    for track in tracks:
        _move(track, place)
    units = _behind_times(certain(titles.at(b"mdia", b"mdhd")))
    texts = _Samples(_lasting(chapters, units), tuple(_text(chapter) for chapter in chapters))
    _set_tables(titles, texts, at)
    pictures, before_ms = _pictures(chapters, cover)
    if pictures.data:
        own = max(map(_key, tracks)) + 1
        referred = certain(sound.at(b"tref", b"chap"))
        referred.body += struct.pack(">I", own)
        header = certain(moov.at(b"mvhd"))
        header.body = header.body[:-4] + struct.pack(">I", own + 1)
        track = _picture_track(own, pictures, before_ms, _behind_times(header))
        _set_tables(track, pictures, at + texts.size_bytes)
        moov.inner.insert(moov.inner.index(tracks[-1]) + 1, track)
    return moov.as_bytes(), b"".join(texts.data + pictures.data)


def _sound_and_titles(tracks: Sequence[Box]) -> tuple[Box, Box]:
    """The track of sound that refers to a track of titles, and that one. Raises CannotMake."""
    by_key = {_key(track): track for track in tracks}
    for track in tracks:
        referred = track.at(b"tref", b"chap")
        for (key,) in struct.iter_unpack(">I", referred.body) if referred else ():
            if key in by_key and _handler(by_key[key]) in (b"text", b"sbtl"):
                return track, by_key[key]
    raise CannotMake(Said("file-no-chapters-links-pictures"))


def _behind_times(box: Box) -> int:
    """The number behind the times of creation and change: a track's key, or how many units a second has."""
    return int(struct.unpack_from(">I", box.body, 20 if box.body[0] else 12)[0])


def _key(track: Box) -> int:
    return _behind_times(certain(track.at(b"tkhd")))


def _handler(track: Box) -> bytes:
    return certain(track.at(b"mdia", b"hdlr")).body[8:12]


def _set_tables(track: Box, samples: _Samples, at: int) -> None:
    table = certain(track.at(b"mdia", b"minf", b"stbl"))
    table.inner = [box for box in table.inner if box.name == b"stsd"] + samples.tables(at)


def _move(track: Box, place: Callable[[int], int]) -> None:
    table = certain(track.at(b"mdia", b"minf", b"stbl"))
    for name, code in ((b"stco", "I"), (b"co64", "Q")):
        if box := table.at(name):
            (count,) = struct.unpack_from(">I", box.body, 4)
            places = struct.unpack_from(f">{count}{code}", box.body, 8)
            box.body = box.body[:8] + struct.pack(f">{count}{code}", *map(place, places))


def _lasting(chapters: Sequence[Chapter], units: int) -> tuple[int, ...]:
    """How long each lasts, so that rounding does not add up."""
    edges = [round(chapter.start_s * units) for chapter in chapters] + [round(chapters[-1].end_s * units)]
    return tuple(max(0, end - start) for start, end in zip(edges, edges[1:], strict=False))


def _text(chapter: Chapter) -> bytes:
    title, link = chapter.title.encode(), chapter.link.encode()
    sample = struct.pack(">H", len(title)) + title + _IN_UTF_8
    if link and len(link) <= _LONGEST_LINK_BYTES:
        characters = struct.pack(">HH", 0, len(chapter.title))
        sample += Box(b"href", characters + bytes([len(link)]) + link + b"\0").as_bytes()
    return sample


def _pictures(chapters: Sequence[Chapter], cover: bytes) -> tuple[_Samples, int]:
    """The pictures one after the other, and how long there is none before the first, in milliseconds."""
    if not any(chapter.picture for chapter in chapters):
        return _Samples(), 0
    cover = b"" if is_png(cover) else cover
    lasts, data, before_ms = [], [], 0
    for chapter, lasting in zip(chapters, _lasting(chapters, _A_SECOND), strict=True):
        if shown := chapter.picture or cover:
            lasts.append(lasting)
            data.append(shown)
        elif data:
            lasts[-1] += lasting
        else:
            before_ms += lasting
    return _Samples(tuple(lasts), tuple(data)), before_ms


def _picture_track(key: int, pictures: _Samples, before_ms: int, movie_units: int) -> Box:
    with Image.open(io.BytesIO(pictures.data[0])) as first:
        width, height = first.size
    lasts_ms = sum(pictures.lasts)
    before, lasts = (round(ms * movie_units / _A_SECOND) for ms in (before_ms, lasts_ms))
    edits = [(before, -1)] * (before > 0) + [(lasts, 0)]
    listed = b"".join(struct.pack(">QqHH", *edit, 1, 0) for edit in edits)
    # Not shown by itself: the flags that would enable it are not set.
    head = struct.pack(">I16xI4xQ8x", 1 << 24, key, before + lasts) + bytes(8) + _UPRIGHT
    entry = struct.pack(">6xH16xHHIIIH", 1, width, height, 0x480000, 0x480000, 0, 1) + bytes(32)
    entry = Box(b"jpeg", entry + struct.pack(">Hh", 24, -1)).as_bytes()
    here = Box(b"url ", struct.pack(">I", 1)).as_bytes()
    return Box(
        b"trak",
        inner=[
            Box(b"tkhd", head + struct.pack(">II", width << 16, height << 16)),
            Box(b"edts", Box(b"elst", struct.pack(">II", 1 << 24, len(edits)) + listed).as_bytes()),
            Box(
                b"mdia",
                inner=[
                    Box(b"mdhd", struct.pack(">I16xIQHH", 1 << 24, _A_SECOND, lasts_ms, _NO_LANGUAGE, 0)),
                    Box(b"hdlr", struct.pack(">I4x4s12x", 0, b"vide") + b"Chapter pictures\0"),
                    Box(
                        b"minf",
                        inner=[
                            Box(b"vmhd", struct.pack(">I8x", 1)),
                            Box(b"dinf", Box(b"dref", struct.pack(">II", 0, 1) + here).as_bytes()),
                            Box(b"stbl", inner=[Box(b"stsd", struct.pack(">II", 0, 1) + entry)]),
                        ],
                    ),
                ],
            ),
        ],
    )
