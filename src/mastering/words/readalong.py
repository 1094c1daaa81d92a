"""A book that is read aloud while its text is followed: EPUB 3 with Media Overlays (EPUB 3.3, section 9, from memory).

Everything but the sound, which goes under AUDIO_FOLDER beside it.
"""

from collections.abc import Sequence
from datetime import UTC, datetime
from html import escape
from uuid import NAMESPACE_URL, uuid5

from mastering.clock import clock
from mastering.words.timed import TimedText

MIME_NAME, MIME_TYPE = "mimetype", "application/epub+zip"
"""The first file of the archive, stored as it is."""
AUDIO_FOLDER = "book/audio/"
AUDIO_TYPES = {".mp3": "audio/mpeg", ".m4a": "audio/mp4", ".m4b": "audio/mp4"}
"""What readers of EPUB have to play, by the ending of the file."""
_ACTIVE = "sounding"
_HEAD = '<?xml version="1.0" encoding="UTF-8"?>\n'
_CONTAINER = (
    f'{_HEAD}<container version="1.0" xmlns="urn:oasis:names:tc:opendocument:xmlns:container"><rootfiles>'
    '<rootfile full-path="book/package.opf" media-type="application/oebps-package+xml"/></rootfiles></container>\n'
)
_STYLE = (
    f"body {{ line-height: 1.5; }}\np {{ margin: 0 0 0.6em; }}\n.{_ACTIVE} {{ background: #d8e2f5; color: #000; }}\n"
)


def read_along(
    sentences: Sequence[Sequence[TimedText]],
    *,
    title: str,
    author: str,
    narrator: str,
    language: str,
    audio_name: str,
    changed_at: datetime,
) -> dict[str, bytes]:
    """The files of the book by their paths, in the order they are written in; each sentence is followed as a whole.

    `language` is a tag such as "en"; `audio_name` the name of the sound, with an ending of AUDIO_TYPES.
    """
    told = [(f"s{number}", said) for number, said in enumerate(map(_sentence, sentences), 1)]
    facts = {"title": _text(title), "language": _text(language)}
    return {
        "META-INF/container.xml": _CONTAINER.encode(),
        "book/package.opf": _package(told, title, author, narrator, language, audio_name, changed_at),
        "book/nav.xhtml": _page(facts, '<nav epub:type="toc"><ol><li><a href="text.xhtml">'
                                f'{facts["title"]}</a></li></ol></nav>'),
        "book/text.xhtml": _page(facts, _paragraphs(told)),
        "book/text.smil": _overlay(told, audio_name),
        "book/style.css": _STYLE.encode(),
    }  # fmt: skip


def _sentence(words: Sequence[TimedText]) -> TimedText:
    return TimedText(words[0].start_s, words[-1].end_s, " ".join(word.text for word in words))


def _text(text: str) -> str:
    """Text for XML: without what it cannot hold."""
    return escape("".join(sign if sign.isprintable() else " " for sign in text), quote=True)


def _page(facts: dict[str, str], body: str) -> bytes:
    return (
        f'{_HEAD}<!DOCTYPE html>\n<html xmlns="http://www.w3.org/1999/xhtml" '
        f'xmlns:epub="http://www.idpf.org/2007/ops" lang="{facts["language"]}" xml:lang="{facts["language"]}">'
        f'<head><title>{facts["title"]}</title><link rel="stylesheet" href="style.css"/></head>\n'
        f"<body>\n{body}\n</body></html>\n"
    ).encode()


def _paragraphs(told: Sequence[tuple[str, TimedText]]) -> str:
    return "\n".join(['<div id="all">', *(f'<p id="{key}">{_text(said.text)}</p>' for key, said in told), "</div>"])


def _overlay(told: Sequence[tuple[str, TimedText]], audio_name: str) -> bytes:
    source = f"audio/{_text(audio_name)}"
    pars = "\n".join(
        f'<par id="p{key}"><text src="text.xhtml#{key}"/><audio src="{source}" clipBegin="{_clock(said.start_s)}" '
        f'clipEnd="{_clock(said.end_s)}"/></par>'
        for key, said in told
    )
    return (
        f'{_HEAD}<smil xmlns="http://www.w3.org/ns/SMIL" xmlns:epub="http://www.idpf.org/2007/ops" version="3.0"><body>'
        f'<seq id="whole" epub:textref="text.xhtml#all">\n{pars}\n</seq></body></smil>\n'
    ).encode()


def _package(
    told: Sequence[tuple[str, TimedText]],
    title: str,
    author: str,
    narrator: str,
    language: str,
    audio_name: str,
    changed_at: datetime,
) -> bytes:
    key = uuid5(NAMESPACE_URL, "\n".join([title, audio_name, *(said.text for _, said in told)]))
    spoken = _clock(sum(said.end_s - said.start_s for _, said in told))
    people = f"<dc:creator>{_text(author)}</dc:creator>" if author else ""
    narrated = f'<meta property="media:narrator">{_text(narrator)}</meta>' if narrator else ""
    kind = AUDIO_TYPES[audio_name[audio_name.rfind(".") :].lower()]
    return (
        f'{_HEAD}<package xmlns="http://www.idpf.org/2007/opf" version="3.0" unique-identifier="key" '
        f'xml:lang="{_text(language)}">\n<metadata xmlns:dc="http://purl.org/dc/elements/1.1/">'
        f'<dc:identifier id="key">urn:uuid:{key}</dc:identifier><dc:title>{_text(title)}</dc:title>{people}'
        f"<dc:language>{_text(language)}</dc:language>"
        f'<meta property="dcterms:modified">{changed_at.astimezone(UTC):%Y-%m-%dT%H:%M:%SZ}</meta>'
        f'<meta property="media:duration">{spoken}</meta>'
        f'<meta property="media:duration" refines="#overlay">{spoken}</meta>{narrated}'
        f'<meta property="media:active-class">{_ACTIVE}</meta></metadata>\n<manifest>'
        '<item id="nav" href="nav.xhtml" media-type="application/xhtml+xml" properties="nav"/>'
        '<item id="text" href="text.xhtml" media-type="application/xhtml+xml" media-overlay="overlay"/>'
        '<item id="overlay" href="text.smil" media-type="application/smil+xml"/>'
        '<item id="style" href="style.css" media-type="text/css"/>'
        f'<item id="sound" href="audio/{_text(audio_name)}" media-type="{kind}"/>'
        '</manifest>\n<spine><itemref idref="text"/></spine></package>\n'
    ).encode()


def _clock(seconds: float) -> str:
    return clock(seconds, 3, whole=True)
