"""What would go wrong with file names, found before anything is made.

Sources: Windows from Microsoft's "Naming Files, Paths, and Namespaces"; Linux and macOS from POSIX and their file
systems' limits; URLs from RFC 3986 section 2.3; FTP from RFC 959 section 5.3.1. All from memory.
"""

import re
import unicodedata
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from natsort import natsort_keygen, ns

from mastering.said import Said

LONGEST_NAME_BYTES = 255
AUDIO_ENDINGS = frozenset(
    "wav wave bwf rf64 w64 aif aiff aifc flac mp3 m4a m4b mp4 aac ogg oga opus wma caf amr awb au voc wv ape".split()
)

_RESERVED = {"con", "prn", "aux", "nul", *(f"{port}{n}" for port in ("com", "lpt") for n in range(1, 10))}
_WINDOWS = re.compile(r'[<>:"|?*\\]')
_UNSEEN = re.compile("[\x00-\x1f\x7f\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff]")
_NOT_IN_A_URL = re.compile(r"[^A-Za-z0-9._~-]")
natural_order = natsort_keygen(alg=ns.IGNORECASE)
"""Sorts names as people number them: 2 before 10."""


@dataclass(frozen=True)
class NameProblem:
    """What is wrong with one name. A grave problem keeps the file from being made; others are remarks."""

    index: int
    words: str
    mend: str
    grave: bool


def check_names(names: Sequence[str], *, extensions: Sequence[str] | None = None) -> list[NameProblem]:
    """Check the names of files that will lie together, given in running order.

    Parameters
    ----------
    names
        Names with their endings.
    extensions
        The ending the format of each file wants, without a full stop; None leaves that unchecked.

    Returns
    -------
    Problems in the order of the names, grave ones first for each name.
    """
    found = [*_alike(names), *_sorted_wrong(names)]
    for index, name in enumerate(names):
        found.extend(NameProblem(index, *told) for told in _of_one(name))
        if extensions:
            found.extend(NameProblem(index, *told) for told in _ending(name, extensions[index]))
    return sorted(found, key=lambda problem: (problem.index, not problem.grave))


def is_plain(name: str) -> bool:
    """Whether a name has nothing in it but what the poorest device can show and hold.

    >>> is_plain("03_the-keeper.mp3"), is_plain("03 the keeper.mp3")
    (True, False)
    """
    return bool(re.fullmatch(r"[A-Za-z0-9_-]+(\.[A-Za-z0-9]+)?", name))


def split_ending(name: str) -> tuple[str, str]:
    """Part a name from an ending that audio files have; the ending is empty where there is none such.

    >>> split_ending("intro.WAV"), split_ending("Dr. No")
    (('intro', 'WAV'), ('Dr. No', ''))
    """
    stem, dot, ending = name.rpartition(".")
    return (stem, ending) if dot and stem and ending.lower() in AUDIO_ENDINGS else (name, "")


def with_ending(name: str, extension: str) -> str:
    """Give a name the ending of its format, unless it carries an audio ending already. Signs that cannot be seen, among
    them those that turn the direction of what follows, are left out.

    >>> with_ending("Salt\u202e3pm.exe", "mp3")
    'Salt3pm.exe.mp3'
    """
    name = _UNSEEN.sub("", name)
    return name if not name or split_ending(name)[1] else f"{name}.{extension}"


def fitted_ending(name: str, extension: str) -> str:
    """Give a name the ending of its format in place of the audio ending it carries, if any.

    >>> fitted_ending("line 7.mp3", "wav"), fitted_ending("Dr. No", "wav")
    ('line 7.wav', 'Dr. No.wav')
    """
    stem, ending = split_ending(name)
    return name if not name or ending.lower() == extension else f"{stem}.{extension}"


def numbered(name: str, taken: set[str]) -> str:
    """A name like this one that is not among `taken` (case-folded names): "intro-2.mp3".

    A hyphen, because spaces and brackets are refused in too many places.
    """
    stem, ending = split_ending(name)
    dot = f".{ending}" if ending else ""
    number, free = 1, name
    while free.casefold() in taken:
        number += 1
        free = f"{stem}-{number}{dot}"
    return free


def _of_one(name: str) -> Iterator[tuple[str, str, bool]]:
    if not name or name.startswith("."):
        said = Said("begins-full-stop-so-most") if name else Said("there-no-name")
        yield said, Said("give-section-title-name"), True
        return
    stem = name.split(".", 1)[0].rstrip(" ").lower()
    if "/" in name:
        yield Said("slash-would-put-file-into"), Said("take-slash-out"), True
    if unseen := _UNSEEN.search(name):
        shown = unicodedata.name(unseen.group(), f"U+{ord(unseen.group()):04X}").lower()
        yield Said("there-sign-cannot-seen", shown=shown), Said("write-name-anew"), True
    if signs := sorted(set(_WINDOWS.findall(name))):
        also = Said("macos-refuses-colon-too") if ":" in signs else ""
        yield Said("windows-refuses-name", signs=" ".join(signs), also=also), Said("take-sign-out-use-join"), True
    if stem in _RESERVED:
        yield Said("windows-keeps-name-device", stem=stem), Said("add-word-name"), True
    if name[-1] in " .":
        yield Said("windows-drops-space-full-stop"), Said("take-off"), True
    if (
        max(len(name.encode("utf-8", "replace")), 2 * len(name.encode("utf-16-le", "replace")) // 4)
        > LONGEST_NAME_BYTES
    ):
        yield (
            Said("longer-than-bytes-disk-allows", longest_name_bytes=LONGEST_NAME_BYTES),
            Said("shorten-example-most-60"),
            True,
        )
    if name.startswith("-"):
        yield Said("hyphen-front-taken-option-many"), Said("begin-letter-digit"), False
    if not name.isascii():
        yield Said("some-ftp-servers-refuse-letters"), Said("use-plain-make-sure-server"), False
    elif signs := sorted(set(_NOT_IN_A_URL.findall(name.replace("/", "")))):
        shown = " ".join("space" if sign == " " else sign for sign in signs)
        yield Said("web-addresses-write-code", shown=shown), Said("use-join"), False


def _ending(name: str, extension: str) -> Iterator[tuple[str, str, bool]]:
    has = split_ending(name)[1].lower()
    if has and has != extension:
        yield (
            Said("ends-but-outlet-takes", has=has, extension=extension),
            Said("take-off-choose-outlet-takes", has=has),
            True,
        )


def _alike(names: Sequence[str]) -> Iterator[NameProblem]:
    first: dict[str, int] = {}
    for index, name in enumerate(names):
        folded = unicodedata.normalize("NFC", name).casefold()
        if not name:
            continue
        if folded in first:
            other = names[first[folded]]
            how = Said("same-name") if other == name else Said("which-differs-only-case-how", other=other)
            mend = Said("add-place-pad-give-one")
            yield NameProblem(index, Said("file", first=first[folded] + 1, how=how), mend, True)
        else:
            first[folded] = index


def out_of_order(names: Sequence[str]) -> list[int]:
    """Which names are listed before the one they follow; none where all sort as they are given."""
    folded = [name.casefold() for name in names]
    return [index for index in range(1, len(names)) if folded[index] < folded[index - 1]]


def _sorted_wrong(names: Sequence[str]) -> Iterator[NameProblem]:
    wrong = out_of_order(names)
    if not wrong:
        return
    # Where people's own sense of order is kept, only the digits are too few.
    natural = sorted(names, key=natural_order) == list(names)
    digits = max((len(group) for name in names for group in re.findall(r"\d+", name)), default=1)
    mend = Said("pad-numbers-digits-place-pad", digits=digits) if natural else Said("begin-place-pad")
    for index in wrong:
        yield NameProblem(index, Said("would-listed-before", names=names[index - 1]), mend, False)
