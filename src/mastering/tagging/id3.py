"""ID3v2 in MP3 and AIFF."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from mutagen import id3
from mutagen.aiff import AIFF
from mutagen.mp3 import MP3

from mastering.errors import CannotMake
from mastering.said import Said
from mastering.tagging.image_types import mime_of
from mastering.tagging.inscription import Chapter, Inscription

FORMS = {"ID3v2.3": 3, "ID3v2.4": 4}
_PLAIN: dict[str, Any] = {
    "title": id3.TIT2,
    "artist": id3.TPE1,
    "album": id3.TALB,
    "album_artist": id3.TPE2,
    "composer": id3.TCOM,
    "track": id3.TRCK,
    "disc": id3.TPOS,
    "year": id3.TDRC,
    "genre": id3.TCON,
    "copyright": id3.TCOP,
    "language": id3.TLAN,
    "description": id3.TDES,
    "encoder": id3.TSSE,
}
"""ID3v2.4.0 native frames, 4.2; TDES and PCST are common practice, no source."""
_MOST_CHAPTERS = 255
"""A table of contents counts its entries in one byte (ID3v2 Chapter Frame Addendum 1.0, section 3.2)."""
_UTF_8 = 3
_FRONT_COVER = 3
_UNSIZED = 0xFFFFFFFF


def write(path: Path, given: Inscription) -> None:
    """Write all of it anew; nothing else that tags said before remains."""
    file: Any = (AIFF if _is_aiff(path) else MP3)(path)
    if file.tags is None:
        file.add_tags()
    tags = file.tags
    tags.clear()
    for name, frame in _PLAIN.items():
        if text := given.tags.get(name):
            tags.add(frame(encoding=_UTF_8, text=[text]))
    language = given.tags.get("language", "")
    code = language if len(language) == 3 and language.isascii() else "und"
    if text := given.tags.get("comment"):
        tags.add(id3.COMM(encoding=_UTF_8, lang=code, desc="", text=[text]))
    if text := given.tags.get("lyrics"):
        tags.add(id3.USLT(encoding=_UTF_8, lang=code, desc="", text=text))
    if text := given.tags.get("contact"):
        tags.add(id3.TXXX(encoding=_UTF_8, desc="CONTACT", text=[text]))
    if text := given.tags.get("kind"):
        tags.add(id3.TXXX(encoding=_UTF_8, desc="KIND", text=[text]))
        if text == "podcast":
            tags.add(id3.PCST(value=1))
    if given.picture:
        tags.add(_picture(given.picture, _FRONT_COVER))
    for mark in chapter_frames(given.chapters):
        tags.add(mark)
    version = FORMS[given.form]
    if version == 3:
        tags.update_to_v23()
    file.save(v2_version=version)


def chapter_frames(chapters: Sequence[Chapter]) -> list[id3.Frame]:
    """A table of contents and its chapters (ID3v2 Chapter Frame Addendum 1.0). Raises CannotMake for too many."""
    if not chapters:
        return []
    refuse_many(chapters)
    keys = [f"chapter{number:03}" for number in range(1, len(chapters) + 1)]
    flags = id3.CTOCFlags.TOP_LEVEL | id3.CTOCFlags.ORDERED
    frames: list[id3.Frame] = [id3.CTOC(element_id="toc", flags=flags, child_element_ids=keys, sub_frames=[])]
    for key, chapter in zip(keys, chapters, strict=True):
        inner: list[Any] = [id3.TIT2(encoding=_UTF_8, text=[chapter.title])]
        if chapter.link:
            inner.append(id3.WXXX(encoding=_UTF_8, desc="", url=chapter.link))
        if chapter.picture:
            inner.append(_picture(chapter.picture, 0))
        times_ms = {"start_time": round(chapter.start_s * 1000), "end_time": round(chapter.end_s * 1000)}
        frames.append(
            id3.CHAP(element_id=key, start_offset=_UNSIZED, end_offset=_UNSIZED, sub_frames=inner, **times_ms)
        )
    return frames


def refuse_many(marks: Sequence[Any]) -> None:
    """Raise CannotMake for more chapters than a table of contents can count."""
    if len(marks) > _MOST_CHAPTERS:
        raise CannotMake(Said("these-marks-such-file-takes", count=len(marks), most_chapters=_MOST_CHAPTERS))


def _is_aiff(path: Path) -> bool:
    with path.open("rb") as file:
        head = file.read(12)
    return head[:4] == b"FORM" and head[8:] in (b"AIFF", b"AIFC")


def _picture(data: bytes, kind: int) -> id3.APIC:
    return id3.APIC(encoding=0, mime=mime_of(data), type=kind, desc="", data=data)
