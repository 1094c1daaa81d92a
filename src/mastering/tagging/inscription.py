"""What a finished file says of itself: tags, picture and chapter marks, before any format's own way of writing them."""

import re
import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from mastering.errors import MasteringError
from mastering.said import Said, either

TAGS = {
    "title": "title",
    "artist": "artist",
    "album": "album",
    "album_artist": Said("album-artist"),
    "composer": "composer",
    "track": "track",
    "disc": "disc",
    "year": "year",
    "genre": "genre",
    "comment": "comment",
    "description": "description",
    "lyrics": Said("lyrics-show-notes"),
    "copyright": "copyright",
    "language": "language",
    "contact": "contact",
    "kind": Said("kind-listening"),
    "encoder": "encoder",
}
"""Every tag Sermovox writes, and what it is called. "track" and "disc" may be "n/m"."""

KINDS = ("audiobook", "podcast")
"""Players keep the place in both, and leave audiobooks out of a shuffle (common practice, no source)."""
_LONG = {"comment": 4000, "description": 10_000, "lyrics": 60_000}
_MOST_LETTERS = 1000
_LINES = frozenset(_LONG)
_NUMBER_OF = re.compile(r"\d{1,5}(/\d{1,5})?")
_LANGUAGES = {
    "arabic": "ara", "bengali": "ben", "bulgarian": "bul", "catalan": "cat", "chinese": "zho", "croatian": "hrv",
    "czech": "ces", "danish": "dan", "dutch": "nld", "english": "eng", "estonian": "est", "finnish": "fin",
    "french": "fra", "german": "deu", "greek": "ell", "hebrew": "heb", "hindi": "hin", "hungarian": "hun",
    "icelandic": "isl", "irish": "gle", "italian": "ita", "japanese": "jpn", "korean": "kor", "latin": "lat",
    "latvian": "lav", "lithuanian": "lit", "norwegian": "nor", "persian": "fas", "polish": "pol",
    "portuguese": "por", "romanian": "ron", "russian": "rus", "serbian": "srp", "slovak": "slk", "slovenian": "slv",
    "spanish": "spa", "swahili": "swa", "swedish": "swe", "turkish": "tur", "ukrainian": "ukr", "urdu": "urd",
    "vietnamese": "vie", "welsh": "cym",
}  # fmt: skip
"""ISO 639-2/T codes (from memory)."""


class BadTag(MasteringError):
    """A text that cannot be written into a file; the message says which and why."""


@dataclass(frozen=True, kw_only=True)
class Chapter:
    """One chapter mark. `picture` is a JPEG, empty for none; `key` says what it is the mark of, for whoever gave it."""

    start_s: float
    end_s: float
    title: str
    link: str = ""
    picture: bytes = b""
    key: str = ""


_AT_START_S = 0.5
"""A first chapter that begins earlier begins with the file."""


def one_after_another(found: Sequence[Chapter], whole: Chapter) -> tuple[Chapter, ...]:
    """Chapters by their starts, in order: each lasts until the next; what lies before the first is called as `whole`,
    which is all of the file.
    """
    if not found:
        return ()
    chapters = [whole, *found] if found[0].start_s > _AT_START_S else [replace(found[0], start_s=0.0), *found[1:]]
    ends_s = [chapter.start_s for chapter in chapters[1:]] + [whole.end_s]
    lasting = [replace(chapter, end_s=end_s) for chapter, end_s in zip(chapters, ends_s, strict=True)]
    return tuple(chapter for chapter in lasting if chapter.end_s > chapter.start_s)


@dataclass(frozen=True, kw_only=True)
class Inscription:
    """All that is to be written into one file.

    `form` is the version of ID3 where that is the container's way, "ID3v2.3" or "ID3v2.4".
    """

    tags: dict[str, str] = field(default_factory=dict)
    picture: bytes = b""
    chapters: tuple[Chapter, ...] = ()
    form: str = "ID3v2.4"

    @property
    def empty(self) -> bool:
        return not (self.tags or self.picture or self.chapters)


def differing(has: Mapping[str, str], wanted: Mapping[str, str]) -> list[str]:
    """Which tags are not as they are wanted. What encoded a file is nothing to be wanted of it afterwards."""
    return [name for name in TAGS if name != "encoder" and has.get(name, "") != wanted.get(name, "")]


def tag_text(name: str, text: str) -> str:
    """The text of one tag as it is written: in composed letters, without outer white space. Raises BadTag."""
    label = TAGS[name]
    try:
        text.encode("utf-8")
    except UnicodeEncodeError as error:
        raise BadTag(Said("holds-half-sign-lone-surrogate", label=label)) from error
    # Text fields of browsers send line ends of two signs.
    text = unicodedata.normalize("NFC", text.replace("\r\n", "\n").replace("\r", "\n")).strip()
    allowed = "\n\t" if name in _LINES else ""
    if unseen := next((sign for sign in text if unicodedata.category(sign) == "Cc" and sign not in allowed), None):
        what = Said("line-break") if unseen == "\n" else Said("control-character-u", ord=ord(unseen))
        raise BadTag(Said("holds-which-players-choke-take", label=label, what=what))
    most = _LONG.get(name, _MOST_LETTERS)
    if len(text) > most:
        raise BadTag(Said("characters-long-players-take-most", label=label, count=len(text), most=most))
    if name in ("track", "disc") and text and not _NUMBER_OF.fullmatch(text):
        raise BadTag(Said("wants-number-two-slash-such", label=label, text=text))
    if name == "kind" and text and text not in KINDS:
        raise BadTag(Said("can", label=label, text=text, kinds=either(KINDS)))
    if name == "language":
        return _LANGUAGES.get(text.casefold(), text)
    return text
