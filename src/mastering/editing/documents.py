"""Text out of DOCX and EPUB: packages of XML files, opened with care.

Formats: Office Open XML (ECMA-376), from memory; EPUB in `epub.py`.
"""

import io
import zipfile
import zlib
from pathlib import PurePosixPath
from typing import Any
from xml.etree.ElementTree import ParseError

import docx
from defusedxml import DefusedXmlException
from docx.opc.exceptions import OpcError
from docx.oxml.ns import qn
from lxml.etree import LxmlError

from mastering.editing.epub import epub_text
from mastering.editing.texts import UnreadableText
from mastering.said import Said

_MOST_MEMBERS = 20_000
_LARGEST_BYTES = 256 << 20
_SWOLLEN = 200
"""A member this many times larger than its packed size is made to fill a disk; text packs some 3 to 10 times."""
_SMALL_BYTES = 1 << 20

_HEADING_STYLES = ("heading", "title", "überschrift", "titre", "kop", "título")


def is_package(data: bytes) -> bool:
    """Whether this is a ZIP archive, as DOCX and EPUB are."""
    return data[:4] == b"PK\x03\x04"


def read_package(data: bytes) -> str:
    """The text of a DOCX or EPUB as lines. Headings begin with "# "; table rows have tabs.

    Raises UnreadableText for anything else and for archives made to do harm.
    """
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        _refuse_harm(archive)
        names = set(archive.namelist())
        if "META-INF/container.xml" in names:
            return epub_text(archive)
        if "word/document.xml" in names:
            return _docx_text(data)
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError) as error:
        raise UnreadableText(Said("file-damaged-archive-cannot-opened")) from error
    except (ParseError, DefusedXmlException, LxmlError, OpcError, LookupError, ValueError, AttributeError) as error:
        raise UnreadableText(Said("file-damaged-not-what-name")) from error
    raise UnreadableText(Said("archive-neither-docx-nor-epub"))


def _refuse_harm(archive: zipfile.ZipFile) -> None:
    members = archive.infolist()
    if len(members) > _MOST_MEMBERS or sum(member.file_size for member in members) > _LARGEST_BYTES:
        raise UnreadableText(Said("archive-would-unpack-more-than"))
    for member in members:
        path = PurePosixPath(member.filename.replace("\\", "/"))
        if path.is_absolute() or ".." in path.parts or ":" in member.filename:
            raise UnreadableText(Said("archive-holds-names-point-outside"))
        if member.file_size > _SMALL_BYTES and member.file_size > _SWOLLEN * max(1, member.compress_size):
            raise UnreadableText(Said("archive-packed-so-swell-beyond"))
        if member.flag_bits & 1:
            raise UnreadableText(Said("file-locked-password-save-without"))


def _docx_text(data: bytes) -> str:
    document = docx.Document(io.BytesIO(data))
    headings = {style.style_id for style in document.styles if (style.name or "").lower().startswith(_HEADING_STYLES)}
    lines: list[str] = []
    for block in document.element.body:
        if block.tag == qn("w:p"):
            heading = block.style in headings
            text = _paragraph_text(block)
            lines.extend(f"# {line}" if heading and line.strip() else line for line in text.split("\n"))
        elif block.tag == qn("w:tbl"):
            lines.extend(_table_lines(block))
    return "\n".join(lines)


def _paragraph_text(paragraph: Any) -> str:
    pieces = []
    for piece in paragraph.iter(qn("w:t"), qn("w:tab"), qn("w:br")):
        pieces.append((piece.text or "") if piece.tag == qn("w:t") else "\t" if piece.tag == qn("w:tab") else "\n")
    return "".join(pieces)


def _table_lines(table: Any) -> list[str]:
    lines = []
    for row in table.iterchildren(qn("w:tr")):
        cells = []
        for cell in row.iterchildren(qn("w:tc")):
            text = " ".join(_paragraph_text(p) for p in cell.iter(qn("w:p")))
            cells.append(" ".join(text.split()))
        lines.append("\t".join(cells))
    return lines
