"""What would go wrong with file names, found before anything is made.

Sources: Windows from Microsoft's "Naming Files, Paths, and Namespaces"; Linux and macOS from POSIX and their file
systems' limits; URLs from RFC 3986 section 2.3; FTP from RFC 959 section 5.3.1. All from memory.
"""

import re
import unicodedata
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from natsort import natsort_keygen, ns

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
        said = "It begins with a full stop, so most systems hide it." if name else "There is no name."
        yield said, "Give the section a title or a name.", True
        return
    stem = name.split(".", 1)[0].rstrip(" ").lower()
    if "/" in name:
        yield "A slash would put the file into another folder on every system.", "Take the slash out.", True
    if unseen := _UNSEEN.search(name):
        shown = unicodedata.name(unseen.group(), f"U+{ord(unseen.group()):04X}").lower()
        yield f"There is a sign in it that cannot be seen ({shown}).", "Write the name anew.", True
    if signs := sorted(set(_WINDOWS.findall(name))):
        also = "; macOS refuses the colon too" if ":" in signs else ""
        yield f"Windows refuses {' '.join(signs)} in a name{also}.", "Take the sign out, or use join:- .", True
    if stem in _RESERVED:
        yield f"Windows keeps the name “{stem}” for a device.", "Add a word to the name.", True
    if name[-1] in " .":
        yield "Windows drops a space or a full stop at the end.", "Take it off.", True
    if (
        max(len(name.encode("utf-8", "replace")), 2 * len(name.encode("utf-16-le", "replace")) // 4)
        > LONGEST_NAME_BYTES
    ):
        yield (
            f"It is longer than the {LONGEST_NAME_BYTES} bytes a disk allows.",
            "Shorten it, for example with most:60.",
            True,
        )
    if name.startswith("-"):
        yield "A hyphen in front is taken for an option by many commands.", "Begin with a letter or a digit.", False
    if not name.isascii():
        yield "Some FTP servers refuse letters beyond plain ASCII.", "Use plain, or make sure of the server.", False
    elif signs := sorted(set(_NOT_IN_A_URL.findall(name.replace("/", "")))):
        shown = " ".join("space" if sign == " " else sign for sign in signs)
        yield f"Web addresses write in code: {shown}.", "Use join:- .", False


def _ending(name: str, extension: str) -> Iterator[tuple[str, str, bool]]:
    has = split_ending(name)[1].lower()
    if has and has != extension:
        yield (
            f"It ends in .{has}, but the outlet takes .{extension}.",
            f"Take .{has} off, or choose an outlet that takes it.",
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
            how = "the same name" if other == name else f"“{other}”, which differs only in case or in how it is coded"
            mend = "Add {place|pad}, or give one of them another title."
            yield NameProblem(index, f"File {first[folded] + 1} has {how}.", mend, True)
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
    mend = f"Pad the numbers to {digits} digits: {{place|pad}}." if natural else "Begin with {place|pad}."
    for index in wrong:
        yield NameProblem(index, f"It would be listed before “{names[index - 1]}”.", mend, False)
