"""How an outlet receives its files, as its rule sheet states it: the way, where, what goes along; nothing secret."""

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from mastering.errors import MasteringError
from mastering.naming.patterns import BadPattern, read_pattern

ASKED, EVERYTHING, NOTHING = "what the outlet asks", "all there is", "nothing"
ALONG = (ASKED, EVERYTHING, NOTHING)
"""What goes along with the sound: manifests, picture, chapter lists, check sheets."""
_LONGEST = 300
_HOST = re.compile(r"(\[[0-9a-fA-F:.]+\]|[^\s\[\]/@:]+)(:(\d{1,5}))?")


class BadReceiving(MasteringError):
    """How an outlet receives cannot be read; the text says what to write instead."""


@dataclass(frozen=True, kw_only=True)
class Field:
    """One thing to be stated of a way. `needed` where nothing can be sent without it."""

    name: str
    label: str
    hint: str = ""
    choices: tuple[str, ...] = ()
    needed: bool = False


@dataclass(frozen=True, kw_only=True)
class WayKind:
    """A way of receiving: what it is called and does, what is to be stated, and what of it is secret, if anything.

    `takes_key` where a private key does in place of a password; `port` is the usual one of its servers, 0 where it has
    none.
    """

    name: str
    title: str
    does: str
    fields: tuple[Field, ...]
    secret: str = ""
    takes_key: bool = False
    port: int = 0


TLS, PLAIN = "encrypted (TLS)", "not encrypted"
_FOLDER = Field(
    name="folder",
    label="Folder there",
    hint="A pattern, with slashes for folders in it, such as incoming/{production|plain}. Empty for where one begins.",
)

WAYS = {
    kind.name: kind
    for kind in (
        WayKind(
            name="folder",
            title="A folder or device",
            does="Files are copied into a folder of this machine, or of a device that is mounted on it, and read back.",
            fields=(
                Field(
                    name="address",
                    label="Folder",
                    hint="With all above it, such as /media/player.",
                    needed=True,
                ),
                _FOLDER,
            ),
        ),
        WayKind(
            name="ftp",
            title="FTP",
            does="Files are sent to a server by FTP, under another name until they are whole. Where a line broke, they "
            "go on. The server can tell how large a file is, but not whether it is the same.",
            fields=(
                Field(name="address", label="Server", hint="Its name, and :port where it is not 21.", needed=True),
                Field(name="security", label="Line", choices=(TLS, PLAIN)),
                Field(name="user", label="User", needed=True),
                _FOLDER,
            ),
            secret="Password",
            port=21,
        ),
        WayKind(
            name="sftp",
            title="SFTP",
            does="Files are sent to a server by SFTP, under another name until they are whole. The server is known by "
            "its host key from the first time on. It can tell how large a file is, but not whether it is the same.",
            fields=(
                Field(name="address", label="Server", hint="Its name, and :port where it is not 22.", needed=True),
                Field(name="user", label="User", needed=True),
                _FOLDER,
            ),
            secret="Password, or that of the key",
            takes_key=True,
            port=22,
        ),
        WayKind(
            name="webdav",
            title="WebDAV",
            does="Files are sent to a share by WebDAV, as many shared folders on the net are reached, under another "
            "name until they are whole. A file that broke off begins anew; the share can tell how large one is.",
            fields=(
                Field(name="address", label="Server", hint="Its name, and :port where it is not 443.", needed=True),
                Field(name="security", label="Line", choices=(TLS, PLAIN)),
                Field(name="share", label="Path of the share", hint="What follows the server’s name: /dav/ines."),
                Field(name="user", label="User", needed=True),
                _FOLDER,
            ),
            secret="Password",
            port=443,
        ),
    )
}
"""The ways there are, by name."""


@dataclass(frozen=True)
class Receiving:
    """The way of an outlet with what is stated of it; `folder` is a pattern."""

    way: str
    stated: Mapping[str, str] = field(default_factory=dict)
    along: str = ASKED

    @property
    def kind(self) -> WayKind:
        return WAYS[self.way]

    @property
    def address(self) -> str:
        return self.stated.get("address", "")

    @property
    def folder(self) -> str:
        return self.stated.get("folder", "")

    @property
    def where(self) -> str:
        """Where files go, in words."""
        user = f" as {self.stated['user']}" if self.stated.get("user") else ""
        return f"{self.address}{user}"

    def table(self) -> dict[str, str]:
        """As a rule sheet states it, for `receiving_from`."""
        return {"way": self.way, **self.stated, "along": self.along}


def receiving_from(table: Mapping[str, Any]) -> Receiving:
    """Read how an outlet receives, from plain values. Raises BadReceiving."""
    way, along = table.get("way"), table.get("along") or ASKED
    if not isinstance(way, str) or way not in WAYS:
        raise BadReceiving(f"There is no way of receiving called “{way}”. Ways are: {', '.join(WAYS)}.")
    if along not in ALONG:
        raise BadReceiving(f"What goes along is one of these: {', '.join(ALONG)}.")
    kind = WAYS[way]
    known = {each.name: each for each in kind.fields}
    if unknown := set(table) - set(known) - {"way", "along"}:
        raise BadReceiving(f"{kind.title} has no place for “{', '.join(sorted(unknown))}”.")
    stated = {}
    for name, each in known.items():
        if text := _stated(each, table.get(name, "")):
            stated[name] = text
    if kind.port:
        host_and_port(stated["address"], kind.port)
    try:
        read_pattern(stated.get("folder", ""))
    except BadPattern as error:
        raise BadReceiving(f"The pattern of the folder cannot be read. {error}") from error
    return Receiving(way, stated, along)


def _stated(each: Field, value: Any) -> str:
    if not isinstance(value, str) or len(value) > _LONGEST or not value.isprintable():
        raise BadReceiving(f"“{each.label}” is one line of up to {_LONGEST} letters.")
    text = value.strip()
    if each.choices and not text:
        return each.choices[0]
    if each.choices and text not in each.choices:
        raise BadReceiving(f"“{each.label}” is one of these: {', '.join(each.choices)}.")
    if each.needed and not text:
        raise BadReceiving(f"“{each.label}” is missing: nothing can be sent without it.")
    return text


def host_and_port(address: str, port: int) -> tuple[str, int]:
    """Part the address of a server whose usual port is that. Raises BadReceiving.

    >>> host_and_port("ftp.example.org", 21), host_and_port("[::1]:2121", 21)
    (('ftp.example.org', 21), ('::1', 2121))
    """
    found = _HOST.fullmatch(address)
    if not found or not 0 < int(found[3] or port) < 1 << 16:
        raise BadReceiving(
            f"“{address}” is no address of a server. Write its name or number, and :port where it is not {port}, as in "
            "files.example.org:2121."
        )
    return found[1].strip("[]"), int(found[3] or port)
