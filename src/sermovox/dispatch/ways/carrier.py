"""What every way of sending can do, and what goes wrong on the way."""

import base64
import hashlib
from collections.abc import Callable, Generator
from dataclasses import dataclass
from types import TracebackType
from typing import BinaryIO, Protocol, Self

from mastering.errors import MasteringError

CHUNK_BYTES = 1 << 18
Chunks = Generator[bytes, None, None]
Told = Callable[[int], None]
"""Called with the bytes that are over there so far; may raise to stop."""


@dataclass
class Access:
    """What opens a way and is no part of a sheet. A way that meets a server for the first time notes its host key here;
    `key` is a private key as text.
    """

    password: str = ""
    key: str = ""
    host_key: str = ""


def fingerprint(host_key: str) -> str:
    """A host key as people compare it (RFC 4253 for the key, OpenSSH for the form): SHA256 and its hash, in base64.

    >>> fingerprint("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOMqqnkVzrm0SdG6UOoqKLsabgH5C9okWi0dh2l9GKJl")
    'SHA256:+DiY3wvvV6TuJJhbpZisF/zLDA0zPMSvHdkr4UvCOqU'
    """
    digest = hashlib.sha256(base64.b64decode(host_key.split()[1])).digest()
    return f"SHA256:{base64.b64encode(digest).decode().rstrip('=')}"


class NotSent(MasteringError):
    """It cannot be sent as things stand; the text says what to do."""


class DamagedHere(NotSent):
    """A file that lies here is not the one that was checked."""


class NameTaken(NotSent):
    """A file over there has the name, and it is not known to be this one."""


class LineBroke(NotSent):
    """Something on the way that may be over in a while: it is tried again."""


def folders_down_to(name: str) -> list[str]:
    """A folder and all above it, the outermost first.

    >>> folders_down_to("incoming/new/")
    ['incoming', 'incoming/new']
    """
    parts = name.strip("/").split("/")
    return ["/".join(parts[:count]) for count in range(1, len(parts) + 1)]


class Readable(Protocol):
    """What is sent: read from where it is, to its end, and proven then to be what was checked."""

    def read(self, count: int = -1, /) -> bytes: ...

    def prove(self) -> None:
        """Raises DamagedHere."""
        ...


class Carrier(Protocol):
    """A way that is open. Names may have folders in them, with slashes; all raise NotSent or LineBroke.

    `appears_whole` tells whether nobody sees a file there before it is whole, so that it needs no other name until
    then.
    """

    appears_whole: bool

    def __enter__(self) -> Self: ...

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None: ...

    def make_folder(self, name: str) -> list[str]:
        """Make a folder with all above it, where it is not there. Returns those that were made, outer ones first."""
        ...

    def remove_folder(self, name: str) -> None:
        """Take away a folder with nothing in it."""
        ...

    def size_of(self, name: str) -> int | None:
        """The bytes of a file over there; None where there is none."""
        ...

    def is_same(self, name: str, sha256: str, opened: Callable[[], BinaryIO]) -> bool | None:
        """Whether the far side tells that what lies there now has this hash; None where it tells none. `opened` gives
        the one here.
        """
        ...

    def fetched(self, name: str, start: int, count: int) -> Chunks:
        """So many bytes of a file over there, from byte `start` on; fewer where it ends."""
        ...

    def begun_bytes(self, name: str, file: BinaryIO, size_bytes: int, told: Told) -> int:
        """How much of a file of that size, which lies here, is over there where it broke off, compared byte by byte or
        by hashes: it is gone on with from there. `told` hears how far it was compared.
        """
        ...

    def put(self, name: str, source: Readable, start: int, size_bytes: int, told: Told, *, replacing: bool) -> str:
        """Send what `source` still has, from byte `start` of the file on, which has `size_bytes` in all. Returns what
        the far side answered. Nothing of that name is replaced unless `replacing`, where the way can tell. A way where
        it `appears_whole` proves `source` before it appears.
        """
        ...

    def forget_begun(self, name: str) -> None:
        """Take away what there is of a file that broke off."""
        ...

    def rename(self, name: str, new: str) -> None:
        """Give a file another name that nobody has."""
        ...

    def delete(self, name: str) -> None:
        """Delete a file, where it is there."""
        ...

    def left_bytes(self, folder: str) -> int | None:
        """How much room is left in a folder, which is there; None where that cannot be told."""
        ...
