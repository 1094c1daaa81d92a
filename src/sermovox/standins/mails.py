"""Mails as a mailbox shows them, read by Python's own email."""

import email
import email.policy
import hashlib
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Attachment:
    name: str
    size_bytes: int
    sha256: str


@dataclass(frozen=True)
class Mail:
    """One that was received."""

    sender: str
    to: str
    cc: str
    subject: str
    date: str
    message_id: str
    text: str
    attachments: list[Attachment]


def mails_in(folder: Path) -> list[Mail]:
    """All of them, the newest first."""
    return [_read(path) for path in sorted(folder.glob("*.eml"), reverse=True)]


def _read(path: Path) -> Mail:
    read = email.message_from_bytes(path.read_bytes(), policy=email.policy.default)
    body = read.get_body(("plain",))
    found = []
    for part in read.iter_attachments():
        content = part.get_payload(decode=True)
        content = content if isinstance(content, bytes) else b""
        found.append(Attachment(part.get_filename() or "", len(content), hashlib.sha256(content).hexdigest()))
    return Mail(
        sender=str(read["From"]),
        to=str(read["To"]),
        cc=str(read.get("Cc", "")),
        subject=str(read["Subject"]),
        date=str(read["Date"]),
        message_id=str(read["Message-ID"]),
        text=body.get_content() if body else "",
        attachments=found,
    )
