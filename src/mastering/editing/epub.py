"""Text out of an EPUB: what is read of it, under the titles of its table of contents (EPUB 3.3, and 2, from memory)."""

import posixpath
import re
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from itertools import islice
from urllib.parse import unquote
from xml.etree.ElementTree import Element

from defusedxml.ElementTree import fromstring
from lxml import etree

from mastering.editing.texts import UnreadableText, decoded
from mastering.said import Said

_HEADINGS = ("h1", "h2", "h3", "h4", "h5", "h6")
_BLOCKS = {
    *("p", "div", "li", "blockquote", "section", "article", "figure", "figcaption", "header", "footer", "aside"),
    *("table", "tr", "td", "th", "dl", "dt", "dd", "ol", "ul", "body", "main", "pre", "hr", "br", *_HEADINGS),
}
_UNREAD = {"head", "script", "style", "nav", "svg", "math", "audio", "video", "iframe", "object", "rt", "rp"}
_UNREAD_KINDS = {
    *("footnote", "footnotes", "endnote", "endnotes", "rearnote", "rearnotes", "noteref", "pagebreak"),
    *("doc-footnote", "doc-endnote", "doc-endnotes", "doc-noteref", "doc-pagebreak"),
}
"""What `epub:type` or a role says is no part of the text as it is read aloud."""
_NOTE_SIGN = re.compile(r"[\d*†‡§\[\]()\s]*")
_LARGEST_MEMBER_BYTES = 32 << 20
_MOST_TITLES, _MOST_INSIDE, _DEEPEST = 20, 200, 1_000


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
    leading: dict[str, list[_Entry]] = {}
    for entry in contents:
        leading.setdefault(entry.path, []).append(entry)
    lines: list[str] = []
    read: set[str] = set()
    for reference in (e for e in package.iter() if _local(e) == "itemref" and e.get("linear") != "no"):
        item = items.get(reference.get("idref", ""))
        if item is None or "nav" in (item.get("properties") or "").split():
            continue
        path = _joined(folder, item.get("href", ""))
        if path in read:
            # What an order names more than once is read where it stands first.
            continue
        read.add(path)
        with suppress(KeyError):
            lines += _document(_member(archive, path), leading.get(path, []))
    if any(not line.startswith("# ") for line in lines):
        return "\n".join(lines)
    if not contents:
        raise UnreadableText(Said("epub-neither-text-nor-table"))
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
    found = []
    waiting = [nav] if nav is not None else []
    while waiting:
        element = waiting.pop()
        # A span stands in place of a link that leads nowhere; what is inside of either is its title.
        if _local(element) == "a" or (_local(element) == "span" and not _holds_link(element)):
            if title := _text(element):
                found.append(_entry(title, element.get("href", ""), folder))
        else:
            waiting.extend(reversed(element))
    return found


def _holds_link(element: Element) -> bool:
    return any(_local(each) == "a" for each in islice(element.iter(), _MOST_INSIDE))


def _of_ncx(page: Element, folder: str) -> list[_Entry]:
    found = []
    for point in (e for e in page.iter() if _local(e) == "navPoint"):
        title = next((_label(e) for e in point if _local(e) == "navLabel"), "")
        source = next((e.get("src", "") for e in point if _local(e) == "content"), "")
        if title:
            found.append(_entry(title, source, folder))
    if found:
        return found
    # The first label names the book where it stands outside of the map of points.
    labels = [_label(e) for e in page.iter() if _local(e) == "navLabel"]
    return [_entry(label, "", folder) for label in labels if label]


def _entry(title: str, link: str, folder: str) -> _Entry:
    path, _, fragment = link.partition("#")
    return _Entry(title, _joined(folder, path) if path else "", unquote(fragment))


def _joined(folder: str, link: str) -> str:
    return posixpath.normpath(posixpath.join(folder, unquote(link)))


def _member(archive: zipfile.ZipFile, path: str) -> str:
    if archive.getinfo(path).file_size > _LARGEST_MEMBER_BYTES:
        raise UnreadableText(Said("chapter-epub-larger-than-any"))
    return decoded(archive.read(path))[0]


def _document(page: str, entries: Sequence[_Entry]) -> Iterator[str]:
    """The lines of one document, with the titles of the contents where they lead to."""
    reader = _Reader({entry.fragment for entry in entries})
    # Not Python's own, whose time grows with the square of what is left open.
    parser = etree.HTMLParser(target=reader, encoding="utf-8", huge_tree=True)
    parser.feed(page.replace("\0", " ").encode("utf-8", "replace") or b" ")
    with suppress(etree.XMLSyntaxError):  # of a page with nothing in it
        parser.close()
    here = {place for place, _, _ in reader.lines}
    # What leads to a place that is not there leads to the beginning.
    titles: dict[str, list[str]] = {}
    for entry in entries:
        titles.setdefault(entry.fragment if entry.fragment in here else "", []).append(entry.title)
    passed: set[str] = set()
    recent: list[str] = []
    said: list[str] = []
    for place, text, is_heading in [("", "", False), *reader.lines]:
        if place not in passed:
            passed.add(place)
            recent = titles.get(place, [])
            said = [_bare(title) for title in recent[:_MOST_TITLES]]
            yield from (f"# {title}" for title in recent)
        # A heading that says what the title does, or a part of it, is read once.
        bare = _bare(text) if is_heading and said else ""
        if text and not (is_heading and any(bare in title for title in said)):
            yield text


def _bare(text: str) -> str:
    return "".join(filter(str.isalnum, text.casefold()))


class _Reader:
    """Hears what a parser of HTML finds: the lines of a page, each with the last wanted place before it and whether it
    is a heading. XHTML is read as HTML is: chapters hold entities and slips that would end a parser of XML.
    """

    def __init__(self, places: set[str]):
        self.lines: list[tuple[str, str, bool]] = []
        self._places = places
        self._place = ""
        self._depth = 0
        self._unread_from: int | None = None
        self._line: list[str] = []
        self._raised_from: int | None = None

    def start(self, tag: str, told: Mapping[str, str]) -> None:
        if tag in _BLOCKS:
            self.end_line()
        if (place := told.get("id")) and place in self._places:
            self.end_line()
            self._place = place
            self.lines.append((place, "", False))
        self._depth += 1
        if self._depth > _DEEPEST:
            raise UnreadableText(Said("chapter-epub-nested-deeper-than"))
        kinds = f"{told.get('epub:type', '')} {told.get('role', '')}".split()
        if self._unread_from is None and (tag in _UNREAD or not _UNREAD_KINDS.isdisjoint(kinds) or "hidden" in told):
            self._unread_from = self._depth
        if tag == "sup":
            self._raised_from = len(self._line)

    def end(self, tag: str) -> None:
        if tag in _BLOCKS:
            self.end_line(tag in _HEADINGS)
        if tag == "sup" and self._raised_from is not None:
            # A number that leads to a note is not read.
            if _NOTE_SIGN.fullmatch("".join(self._line[self._raised_from :])):
                del self._line[self._raised_from :]
            self._raised_from = None
        self._depth -= 1
        if self._unread_from is not None and self._depth < self._unread_from:
            self._unread_from = None

    def data(self, text: str) -> None:
        if self._unread_from is None:
            self._line.append(text)

    def close(self) -> None:
        self.end_line()

    def end_line(self, is_heading: bool = False) -> None:
        text = " ".join("".join(self._line).split())
        self._line, self._raised_from = [], None
        if text:
            # No line of a book is a heading by how it begins.
            self.lines.append((self._place, text.lstrip("# "), is_heading))


def _text(element: Element) -> str:
    return " ".join("".join(element.itertext()).split())


def _label(element: Element) -> str:
    """What a label of an NCX says: the text in it, not what is nested in it though it should not be."""
    return next((" ".join((e.text or "").split()) for e in element if _local(e) == "text"), "")


def _local(element: Element) -> str:
    return element.tag.rpartition("}")[2] if isinstance(element.tag, str) else ""
