"""Bytes of a text file as text, whatever it was saved as."""

import codecs
import re

from charset_normalizer import from_bytes

from mastering.errors import MasteringError
from mastering.said import Said

ENCODINGS = {
    "utf-8": "UTF-8",
    "utf-16": "UTF-16",
    "cp1252": Said("western-windows-1252"),
    "cp1250": Said("central-european-windows-1250"),
    "cp1251": Said("cyrillic-windows-1251"),
    "cp1253": Said("greek-windows-1253"),
    "cp1255": Said("hebrew-windows-1255"),
    "cp1256": Said("arabic-windows-1256"),
    "mac_roman": Said("western-mac-os-roman"),
    "shift_jis": Said("japanese-shift-jis"),
    "gb18030": Said("chinese-gb-18030"),
}
_PREFERRED = (
    "cp1252", "cp1255", "cp1256", "cp1251", "cp1253", "cp1250", "mac_roman", "shift_jis", "gb18030",
)  # fmt: skip
"""Where two make as much sense. Hebrew and Arabic letters lie where small Cyrillic ones do, without capitals."""
_MARKS = {codecs.BOM_UTF8: "utf-8-sig", codecs.BOM_UTF16_LE: "utf-16", codecs.BOM_UTF16_BE: "utf-16"}
_WORDS_WITH_FOREIGN = re.compile(r"\w*[\u0370-\u06ff]\w*")
_LATIN = re.compile(r"[A-Za-z]")
_LOOKED_AT_BYTES = 1 << 16


class UnreadableText(MasteringError):
    """A script, a list or a table that cannot be read."""


def decoded(data: bytes, encoding: str | None = None) -> tuple[str, str]:
    """Read bytes as text, with line ends made into "\\n".

    Parameters
    ----------
    encoding
        One of ENCODINGS, or None to find out: a byte order mark, then UTF-8, then what the letters look like.

    Returns
    -------
    The text and the encoding it was read in, one of ENCODINGS. Raises UnreadableText for what is no text.
    """
    for mark, name in _MARKS.items():
        if data.startswith(mark):
            return _tidy(data.decode(name, "replace")), name.removesuffix("-sig")
    if encoding:
        return _tidy(data.decode(encoding, "replace")), encoding
    if b"\0" in data[:_LOOKED_AT_BYTES]:
        raise UnreadableText(Said("not-text-choose-text-file"))
    try:
        return _tidy(data.decode("utf-8")), "utf-8"
    except UnicodeDecodeError:
        pass
    name = _likeliest(data[:_LOOKED_AT_BYTES])
    return _tidy(data.decode(name, "replace")), name


def _likeliest(data: bytes) -> str:
    """The encoding in which the letters make most sense; between equals, the earlier in _PREFERRED."""
    ranked = [
        (
            _mixes_alphabets(data.decode(name, "replace")),
            round(match.chaos, 2),
            -round(match.coherence, 2),
            _PREFERRED.index(name),
            name,
        )
        for match in from_bytes(data, cp_isolation=list(_PREFERRED))
        for name in {match.encoding, *match.could_be_from_charset} & set(_PREFERRED)
        if not _mixes_alphabets(data.decode(name, "replace"))
    ]
    return min(ranked)[-1] if ranked else "cp1252"


def _mixes_alphabets(text: str) -> bool:
    """Whether words with foreign letters commonly have Latin ones beside them, as no language writes."""
    foreign = _WORDS_WITH_FOREIGN.findall(text)
    return 10 * sum(bool(_LATIN.search(word)) for word in foreign) > len(foreign)


def _tidy(text: str) -> str:
    lines = text.replace("\r\n", "\n").replace("\r", "\n").replace("\u2028", "\n").replace("\ufeff", "")
    return "".join(c for c in lines if c in "\n\t" or c >= " ")
