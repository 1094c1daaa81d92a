"""The ways in which outlets receive files, and what is to be stated of each."""

from dataclasses import dataclass, replace
from enum import Enum


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
    hint = f"Its name, and :port where it is not {port}."
    return Field(name="address", label="Server", hint=hint, holds=Holds.SERVER, needed=True)


_USER = Field(name="user", label="User", needed=True)
_SECURITY = Field(name="security", label="Line", choices=_LINE_KINDS)
_FOLDER = Field(
    name="folder",
    label="Folder there",
    hint="A pattern, with slashes for folders in it, such as incoming/{production|plain}. Empty for where one begins.",
    holds=Holds.PATTERN,
)
_PROOF = Field(
    name="proof",
    label="It has arrived when it is",
    hint="Fetching back takes as long as sending, and is certain. What was only counted is there, and has not arrived.",
    choices=(LOOKED_INTO, FETCHED, BY_SIZE),
)
_NOTE = Field(
    name="note",
    label="Note that goes along",
    hint="A pattern; it lies beside the files as note.txt. Empty for none.",
    holds=Holds.NOTE,
)

WAYS = {
    kind.name: kind
    for kind in (
        WayKind(
            name="folder",
            title="A folder or device",
            does="Files are copied into a folder of this machine, or of a device that is mounted on it, and read back.",
            fields=(
                Field(name="address", label="Folder", hint="With all above it, such as /media/player.", needed=True),
                replace(_FOLDER, hint=f"{_FOLDER.hint} With {{outlet}} in it each outlet has a folder of its own."),
                Field(name="names", label="Names it can hold", choices=(ANY_NAMES, PLAIN_NAMES)),
                Field(
                    name="room",
                    label="Room for them, in MB",
                    hint="What all files there may take up together. Empty for all the room there is.",
                    holds=Holds.NUMBER,
                ),
                _NOTE,
            ),
        ),
        WayKind(
            name="ftp",
            title="FTP",
            does="Files are sent to a server by FTP, under another name until they are whole. Where a line broke, they "
            "go on.",
            fields=(_server(21), _SECURITY, _USER, _FOLDER, _PROOF, _NOTE),
            secret="Password",
            port=21,
        ),
        WayKind(
            name="sftp",
            title="SFTP",
            does="Files are sent to a server by SFTP, under another name until they are whole. The server is known by "
            "its host key from the first time on.",
            fields=(_server(22), _USER, _FOLDER, _PROOF, _NOTE),
            secret="Password, or that of the key",
            takes_key=True,
            port=22,
        ),
        WayKind(
            name="webdav",
            title="WebDAV",
            does="Files are sent to a share by WebDAV, as many shared folders on the net are reached, under another "
            "name until they are whole. A file that broke off begins anew.",
            fields=(
                _server(443),
                _SECURITY,
                Field(name="share", label="Path of the share", hint="What follows the server’s name: /dav/ines."),
                _USER,
                _FOLDER,
                _PROOF,
                _NOTE,
            ),
            secret="Password",
            port=443,
        ),
        WayKind(
            name="objects",
            title="Object storage",
            does="Files are sent into a bucket by the S3 protocol, large ones in parts that go on where a line broke. "
            "Each is held against its SHA-256 over there, and nobody sees it before it is whole.",
            fields=(
                _server(443),
                _SECURITY,
                Field(name="bucket", label="Bucket", needed=True),
                Field(name="region", label="Region", hint="As whoever runs it says.", usual="us-east-1"),
                replace(_USER, label="Access key"),
                replace(_FOLDER, label="Prefix"),
                _NOTE,
            ),
            secret="Secret key",
            port=443,
        ),
        WayKind(
            name="mail",
            title="Mail",
            does="Files are attached to a mail. Where they are larger than the mail may be, links go in their place; "
            "what was fetched by its link has arrived.",
            fields=(
                replace(
                    _server(465),
                    label="Mail server",
                    hint="The one your mail goes out by. With :port where it is not 465, or 587 for STARTTLS.",
                ),
                replace(_SECURITY, choices=(TLS, LATER_TLS, PLAIN)),
                Field(name="user", label="User", hint="Empty where the server asks nobody."),
                Field(name="sender", label="From", holds=Holds.MAILBOXES, needed=True, most=1),
                Field(
                    name="to",
                    label="To",
                    hint="Addresses, with commas between them.",
                    holds=Holds.MAILBOXES,
                    needed=True,
                ),
                Field(name="cc", label="Copies to", holds=Holds.MAILBOXES),
                Field(
                    name="subject",
                    label="Subject",
                    hint="A pattern.",
                    holds=Holds.PATTERN,
                    usual="{production} for {outlet}",
                ),
                Field(
                    name="note",
                    label="Text",
                    hint="A pattern. The list of files follows it, with sizes and SHA-256.",
                    holds=Holds.NOTE,
                    usual="Here is {production}[ by {author}][, read by {narrator}]. Each file was decoded and "
                    "measured before it was sent.",
                ),
                Field(
                    name="largest",
                    label="Largest mail, in MB",
                    hint="What those who get it can receive. What the mail server says of itself counts as well.",
                    holds=Holds.NUMBER,
                    usual="20",
                    most=100,
                ),
                Field(name="larger", label="Where it is larger", choices=(LINKS, NOTHING_SENT)),
                Field(name="days", label="Links work for, in days", holds=Holds.NUMBER, usual="14", most=365),
            ),
            secret="Password",
            port=465,
            is_post=True,
        ),
    )
}
"""The ways there are, by name."""
