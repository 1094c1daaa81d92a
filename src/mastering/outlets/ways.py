"""The ways in which outlets receive files, and what is to be stated of each."""

from dataclasses import dataclass, replace
from enum import Enum

from mastering.said import Said


class Holds(Enum):
    """What a field holds: one line, some of them, a pattern of either, a whole number, addresses of mail, a server."""

    LINE = "line"
    PATTERN = "pattern"
    NOTE = "note"
    NUMBER = "number"
    MAILBOXES = "mailboxes"
    SERVER = "server"


@dataclass(frozen=True, kw_only=True)
class Field:
    """One thing to be stated of a way. `needed` where nothing can be sent without it, `usual` what it is where nothing
    is stated, `most` how large a number may be, or how many addresses there may be.
    """

    name: str
    label: str
    hint: str = ""
    holds: Holds = Holds.LINE
    choices: tuple[str, ...] = ()
    needed: bool = False
    usual: str = ""
    most: int = 9_999_999


@dataclass(frozen=True, kw_only=True)
class WayKind:
    """A way of receiving: what it is called and does, what is to be stated, and what of it is secret, if anything.

    `takes_key` where a private key does in place of a password; `port` is the usual one of its servers, 0 where it has
    none; `is_post` where what is sent is a message, and nobody can look whether it arrived.
    """

    name: str
    title: str
    does: str
    fields: tuple[Field, ...]
    secret: str = ""
    takes_key: bool = False
    port: int = 0
    is_post: bool = False


TLS, LATER_TLS, PLAIN = "encrypted (TLS)", "encrypted after the greeting (STARTTLS)", "not encrypted"
LOOKED_INTO, FETCHED = "read back, large files in samples", "fetched back, the same to the byte"
BY_SIZE = "there, with its full size"
ANY_NAMES, PLAIN_NAMES = "whatever this machine can hold", "letters from A to Z, digits, - and _ alone"
LINKS, NOTHING_SENT = "links go in place of the files", "nothing is sent"
_LINE_KINDS = (TLS, PLAIN)


def _server(port: int) -> Field:
    hint = Said("name-port-where-not", port=port)
    return Field(name="address", label=Said("server"), hint=hint, holds=Holds.SERVER, needed=True)


_USER = Field(name="user", label=Said("user"), needed=True)
_SECURITY = Field(name="security", label=Said("line-of-list"), choices=_LINE_KINDS)
_FOLDER = Field(
    name="folder",
    label=Said("folder-there"),
    hint=Said("pattern-slashes-folders-such-incoming"),
    holds=Holds.PATTERN,
)
_PROOF = Field(
    name="proof",
    label=Said("arrived-when"),
    hint=Said("fetching-back-takes-long-sending"),
    choices=(LOOKED_INTO, FETCHED, BY_SIZE),
)
_NOTE = Field(
    name="note",
    label=Said("note-goes-along"),
    hint=Said("pattern-lies-beside-files-note"),
    holds=Holds.NOTE,
)

WAYS = {
    kind.name: kind
    for kind in (
        WayKind(
            name="folder",
            title=Said("folder-device"),
            does=Said("files-copied-into-folder-machine"),
            fields=(
                Field(
                    name="address", label=Said("folder"), hint="With all above it, such as /media/player.", needed=True
                ),
                replace(_FOLDER, hint=Said("each-outlet-folder-own", hint=_FOLDER.hint)),
                Field(name="names", label=Said("names-can-hold"), choices=(ANY_NAMES, PLAIN_NAMES)),
                Field(
                    name="room",
                    label=Said("room-them-mb"),
                    hint=Said("what-all-files-there-may"),
                    holds=Holds.NUMBER,
                ),
                _NOTE,
            ),
        ),
        WayKind(
            name="ftp",
            title="FTP",
            does=Said("files-sent-server-ftp-under"),
            fields=(_server(21), _SECURITY, _USER, _FOLDER, _PROOF, _NOTE),
            secret=Said("password"),
            port=21,
        ),
        WayKind(
            name="sftp",
            title="SFTP",
            does=Said("files-sent-server-sftp-under"),
            fields=(_server(22), _USER, _FOLDER, _PROOF, _NOTE),
            secret=Said("password-key"),
            takes_key=True,
            port=22,
        ),
        WayKind(
            name="webdav",
            title="WebDAV",
            does=Said("files-sent-share-webdav-many"),
            fields=(
                _server(443),
                _SECURITY,
                Field(name="share", label=Said("path-share"), hint=Said("folders-above-it")),
                _USER,
                _FOLDER,
                _PROOF,
                _NOTE,
            ),
            secret=Said("password"),
            port=443,
        ),
        WayKind(
            name="objects",
            title=Said("object-storage"),
            does=Said("files-sent-into-bucket-s3"),
            fields=(
                _server(443),
                _SECURITY,
                Field(name="bucket", label=Said("bucket"), needed=True),
                Field(name="region", label=Said("region"), hint=Said("whoever-runs-says"), usual="us-east-1"),
                replace(_USER, label=Said("access-key")),
                replace(_FOLDER, label=Said("prefix")),
                _NOTE,
            ),
            secret=Said("secret-key"),
            port=443,
        ),
        WayKind(
            name="mail",
            title=Said("mail"),
            does=Said("files-attached-mail-where-they"),
            fields=(
                replace(
                    _server(465),
                    label=Said("mail-server"),
                    hint=Said("one-your-mail-goes-out"),
                ),
                replace(_SECURITY, choices=(TLS, LATER_TLS, PLAIN)),
                Field(name="user", label=Said("user"), hint=Said("empty-where-server-asks-nobody")),
                Field(name="sender", label=Said("from"), holds=Holds.MAILBOXES, needed=True, most=1),
                Field(
                    name="to",
                    label="To",
                    hint=Said("addresses-commas-between-them"),
                    holds=Holds.MAILBOXES,
                    needed=True,
                ),
                Field(name="cc", label=Said("copies"), holds=Holds.MAILBOXES),
                Field(
                    name="subject",
                    label=Said("subject"),
                    hint=Said("a-pattern"),
                    holds=Holds.PATTERN,
                    usual="{production} for {outlet}",
                ),
                Field(
                    name="note",
                    label=Said("text-label"),
                    hint=Said("pattern-list-files-follows-sizes"),
                    holds=Holds.NOTE,
                    usual="Here is {production}[ by {author}][, read by {narrator}]. Each file was decoded and "
                    "measured before it was sent.",
                ),
                Field(
                    name="largest",
                    label=Said("largest-mail-mb"),
                    hint=Said("what-those-who-get-can"),
                    holds=Holds.NUMBER,
                    usual="20",
                    most=100,
                ),
                Field(name="larger", label=Said("where-larger"), choices=(LINKS, NOTHING_SENT)),
                Field(name="days", label=Said("links-work-days"), holds=Holds.NUMBER, usual="14", most=365),
            ),
            secret=Said("password"),
            port=465,
            is_post=True,
        ),
    )
}
"""The ways there are, by name."""
