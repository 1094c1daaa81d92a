"""Text out of an EPUB: what is read of it, under the titles of its table of contents (EPUB 3.3, and 2, from memory)."""

import posixpath
import re
import zipfile
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from html.parser import HTMLParser
from urllib.parse import unquote
from xml.etree.ElementTree import Element

from defusedxml.ElementTree import fromstring

from mastering.editing.texts import UnreadableText, decoded

_HEADINGS = ("h1", "h2", "h3", "h4", "h5", "h6")
_BLOCKS = {
    *("p", "div", "li", "blockquote", "section", "article", "figure", "figcaption", "header", "footer", "aside"),
    *("table", "tr", "td", "th", "dl", "dt", "dd", "ol", "ul", "body", "main", "pre", "hr", "br", *_HEADINGS),
}
_VOID = {"area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "source", "track", "wbr"}
_UNREAD = {"head", "script", "style", "nav", "svg", "math", "audio", "video", "iframe", "object", "rt", "rp"}
_UNREAD_KINDS = {
    *("footnote", "footnotes", "endnote", "endnotes", "rearnote", "rearnotes", "noteref", "pagebreak"),
    *("doc-footnote", "doc-endnote", "doc-endnotes", "doc-noteref", "doc-pagebreak"),
}
"""What `epub:type` or a role says is no part of the text as it is read aloud."""
_NOTE_SIGN = re.compile(r"[\d*†‡§\[\]()\s]*")
_LARGEST_MEMBER_BYTES = 32 << 20


@dataclass(frozen=True)
class _Entry:
    """A line of the table of contents: its title, the document it leads to, and where in it."""

    title: str
    path: str
    fragment: str


def epub_text(archive: zipfile.ZipFile) -> str:
    """What is read of a book, in its order: titles of its table of contents as lines that begin with "# ", paragraphs
    as lines below them. Notes, page numbers and navigation are left out. Of a book whose documents hold no text the
    titles alone.

    Raises UnreadableText, KeyError, ValueError, ParseError or what defusedxml raises.
    """
    container = fromstring(archive.read("META-INF/container.xml"))
    package_path = next((e.get("full-path", "") for e in container.iter() if _local(e) == "rootfile"), "")
    package = fromstring(archive.read(package_path))
    items = {e.get("id", ""): e for e in package.iter() if _local(e) == "item"}
    folder = posixpath.dirname(package_path)
    contents = _contents(archive, folder, list(items.values()))
    lines: list[str] = []
    for reference in (e for e in package.iter() if _local(e) == "itemref" and e.get("linear") != "no"):
        item = items.get(reference.get("idref", ""))
        if item is None or "nav" in (item.get("properties") or "").split():
            continue
        path = _joined(folder, item.get("href", ""))
        entries = [entry for entry in contents if entry.path == path]
        with suppress(KeyError):
            lines += _document(_member(archive, path), entries)
    if any(not line.startswith("# ") for line in lines):
        return "\n".join(lines)
    if not contents:
        raise UnreadableText("This EPUB has neither text nor a table of contents. Paste its text instead.")
    return "\n".join(f"# {entry.title}" for entry in contents)


def _contents(archive: zipfile.ZipFile, folder: str, items: Sequence[Element]) -> list[_Entry]:
    for item in items:
        path = _joined(folder, item.get("href", ""))
        is_nav = "nav" in (item.get("properties") or "").split()
        if is_nav and (entries := _of_nav(fromstring(archive.read(path)), posixpath.dirname(path))):
            return entries
    for item in items:
        path = _joined(folder, item.get("href", ""))
        if item.get("media-type") == "application/x-dtbncx+xml":
            return _of_ncx(fromstring(archive.read(path)), posixpath.dirname(path))
    return []


def _of_nav(page: Element, folder: str) -> list[_Entry]:
    navs = [e for e in page.iter() if _local(e) == "nav"]
    kinds = {next((v for k, v in nav.attrib.items() if k.endswith("type")), ""): nav for nav in reversed(navs)}
    nav = kinds.get("toc", navs[0] if navs else None)
    links = [e for e in nav.iter() if _local(e) in ("a", "span")] if nav is not None else []
    return [_entry(_text(link), link.get("href", ""), folder) for link in links if _text(link)]


def _of_ncx(page: Element, folder: str) -> list[_Entry]:
    found = []
    for point in (e for e in page.iter() if _local(e) == "navPoint"):
        title = next((_text(e) for e in point if _local(e) == "navLabel"), "")
        source = next((e.get("src", "") for e in point if _local(e) == "content"), "")
        if title:
            found.append(_entry(title, source, folder))
    if found:
        return found
    # The first label names the book where it stands outside of the map of points.
    labels = [_text(e) for e in page.iter() if _local(e) == "navLabel"]
    return [_entry(label, "", folder) for label in labels if label]


def _entry(title: str, link: str, folder: str) -> _Entry:
    path, _, fragment = link.partition("#")
    return _Entry(title, _joined(folder, path) if path else "", unquote(fragment))


def _joined(folder: str, link: str) -> str:
    return posixpath.normpath(posixpath.join(folder, unquote(link)))


def _member(archive: zipfile.ZipFile, path: str) -> str:
    if archive.getinfo(path).file_size > _LARGEST_MEMBER_BYTES:
        raise UnreadableText("A chapter of this EPUB is larger than any book. It was not opened.")
    return decoded(archive.read(path))[0]


def _document(page: str, entries: Sequence[_Entry]) -> Iterator[str]:
    """The lines of one document, with the titles of the contents where they lead to."""
    reader = _Reader({entry.fragment for entry in entries})
    reader.feed(page)
    reader.close()
    reader.end_line()
    here = {place for place, _, _ in reader.lines}
    # What leads to a place that is not there leads to the beginning.
    titles: dict[str, list[str]] = {}
    for entry in entries:
        titles.setdefault(entry.fragment if entry.fragment in here else "", []).append(entry.title)
    passed: set[str] = set()
    recent: list[str] = []
    for place, text, is_heading in [("", "", False), *reader.lines]:
        if place not in passed:
            passed.add(place)
            recent = titles.get(place, [])
            yield from (f"# {title}" for title in recent)
        # A heading that says what the title does, or a part of it, is read once.
        if text and not (is_heading and any(_bare(text) in _bare(title) for title in recent)):
            yield text


def _bare(text: str) -> str:
    return "".join(filter(str.isalnum, text.casefold()))


class _Reader(HTMLParser):
    """The lines of a page, each with the last wanted place before it and whether it is a heading. XHTML is read as HTML
    is: chapters hold entities and slips that would end a parser of XML.
    """

    def __init__(self, places: set[str]):
        super().__init__(convert_charrefs=True)
        self.lines: list[tuple[str, str, bool]] = []
        self._places = places
        self._place = ""
        self._open: list[str] = []
        self._unread_from: int | None = None
        self._line: list[str] = []
        self._raised_from: int | None = None

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        told = dict(attrs)
        if tag in _BLOCKS:
            self.end_line()
        if (place := told.get("id")) and place in self._places:
            self.end_line()
            self._place = place
            self.lines.append((place, "", False))
        if tag in _VOID:
            return
        self._open.append(tag)
        kinds = f"{told.get('epub:type') or ''} {told.get('role') or ''}".split()
        if self._unread_from is None and (tag in _UNREAD or not _UNREAD_KINDS.isdisjoint(kinds) or "hidden" in told):
            self._unread_from = len(self._open)
        if tag == "sup":
            self._raised_from = len(self._line)

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.handle_starttag(tag, attrs)
        if tag not in _VOID:
            self.handle_endtag(tag)

    def handle_endtag(self, tag: str) -> None:
        if tag not in self._open:
            return
        if tag in _BLOCKS:
            self.end_line(tag in _HEADINGS)
        if tag == "sup" and self._raised_from is not None:
            # A number that leads to a note is not read.
            if _NOTE_SIGN.fullmatch("".join(self._line[self._raised_from :])):
                del self._line[self._raised_from :]
            self._raised_from = None
        while self._open and self._open.pop() != tag:
            pass
        if self._unread_from is not None and len(self._open) < self._unread_from:
            self._unread_from = None

    def handle_data(self, data: str) -> None:
        if self._unread_from is None:
            self._line.append(data)

    def end_line(self, is_heading: bool = False) -> None:
        text = " ".join("".join(self._line).split())
        self._line, self._raised_from = [], None
        if text:
            # No line of a book is a heading by how it begins.
            self.lines.append((self._place, text.lstrip("# "), is_heading))


def _text(element: Element) -> str:
    return " ".join("".join(element.itertext()).split())


def _local(element: Element) -> str:
    return element.tag.rpartition("}")[2] if isinstance(element.tag, str) else ""
