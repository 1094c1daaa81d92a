"""Handing mails to a mail server (RFC 5321, 1870, 3207, 4954), over Python's own smtplib."""

import re
import smtplib
import socket
import ssl
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from types import TracebackType
from typing import Self

from django.core.mail.message import sanitize_address

from mastering.certain import certain
from mastering.outlets.receiving import Receiving, host_and_port, mailboxes
from mastering.outlets.ways import LATER_TLS, TLS
from mastering.said import Said
from sermovox.dispatch.ways.carrier import CHUNK_BYTES, Access, NotSent, Told
from sermovox.dispatch.ways.servers import PATIENCE_S, Server

_LATER_PORT = 587
_TOO_LARGE, _FULL = (552, 523), (452,)


class Unsure(NotSent):
    """The line broke when all of a mail was there and its server had not answered: it may have taken it or not."""


class MailServer:
    """A session with the server that mails go out by."""

    def __init__(self, receiving: Receiving, access: Access):
        stated = receiving.stated
        self._security = stated["security"]
        usual = receiving.kind.port if self._security == TLS else _LATER_PORT
        host, port = host_and_port(receiving.address, usual)
        self._server = Server(Said("a-mail-server"), host, port, stated.get("user", ""))
        self._password = access.password
        # Names of servers as mail knows them, whatever letters they are written in (RFC 3492).
        (self.sender,) = (sanitize_address(each, "utf-8") for each in mailboxes(stated["sender"]))
        self.recipients = [sanitize_address(each, "utf-8") for each in mailboxes(receiving.where)]
        self._session: smtplib.SMTP | None = None

    @property
    def _smtp(self) -> smtplib.SMTP:
        return certain(self._session)

    def __enter__(self) -> Self:
        server = self._server
        with self._in_words():
            self._session = _Session(server, encrypted=self._security == TLS)
            code, said = self._session.connect(server.host, server.port)
            if code != 220:
                raise smtplib.SMTPConnectError(code, said)
            self._session.ehlo_or_helo_if_needed()
            if self._security == LATER_TLS:
                if not self._session.has_extn("starttls"):
                    raise NotSent(Said("knows-no-encrypted-lines-after", host=server.host))
                self._session.starttls(context=ssl.create_default_context())
                self._session.ehlo_or_helo_if_needed()
            if server.user:
                if not self._session.has_extn("auth"):
                    raise NotSent(Said("lets-nobody-password-line-leave", host=server.host))
                self._session.login(server.user, self._password)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._session:
            with suppress(OSError, smtplib.SMTPException):
                if error is None:
                    self._session.quit()
            self._session.close()

    @property
    def most_bytes(self) -> int | None:
        """How large a mail may be, by what the server says of itself; None where it says nothing."""
        said = self._smtp.esmtp_features.get("size", "")
        return int(said) if said.isascii() and said.isdigit() and int(said) else None

    def addressed(self, size_bytes: int = 0) -> None:
        """Say who it is from and for. Raises NotSent where one of these is refused: then it goes to nobody."""
        options = [f"SIZE={size_bytes}"] if size_bytes and self._smtp.has_extn("size") else []
        with self._in_words():
            code, said = self._smtp.mail(self.sender, options)
            if code != 250:
                raise smtplib.SMTPSenderRefused(code, said, self.sender)
            answers = {each: self._smtp.rcpt(each) for each in self.recipients}
            refused = {each: answer for each, answer in answers.items() if answer[0] not in (250, 251)}
            if refused:
                self._smtp.rset()
        if refused:
            words = "; ".join(f"{each} ({_said(*answer)})" for each, answer in refused.items())
            if all(400 <= code < 500 for code, _ in refused.values()):
                raise self._server.busy(words)
            raise NotSent(Said("takes-no-mail-went-nobody", host=self._server.host, words=words))

    def sent(self, message: bytes, told: Told) -> str:
        """Hand a mail over, lines ended as mails are. Returns what the server answered.

        Raises Unsure where it is not known whether the server took it.
        """
        body = re.sub(rb"(?m)^\.", b"..", message)
        body += b"" if body.endswith(b"\r\n") else b"\r\n"
        whole = False
        try:
            with self._in_words():
                code, said = self._smtp.docmd("DATA")
                if code != 354:
                    raise smtplib.SMTPDataError(code, said)
                for start in range(0, len(body), CHUNK_BYTES):
                    certain(self._smtp.sock).sendall(body[start : start + CHUNK_BYTES])
                    told(min(len(body), start + CHUNK_BYTES))
                whole = True
                certain(self._smtp.sock).sendall(b".\r\n")
                code, said = self._smtp.getreply()
                if code != 250:
                    whole = False
                    raise smtplib.SMTPDataError(code, said)
        except NotSent as error:
            if not whole:
                raise
            raise Unsure(Said("not-known-whether-mail-went", error=error)) from error
        return _said(code, said)

    def tried(self) -> None:
        """Ask whether it would take a mail, and send none."""
        self.addressed()
        with self._in_words():
            self._smtp.rset()

    @contextmanager
    def _in_words(self) -> Iterator[None]:
        server = self._server
        with server.answering():
            try:
                yield
            except smtplib.SMTPServerDisconnected as error:
                raise server.gone(None) from error
            except smtplib.SMTPAuthenticationError as error:
                raise server.locked(_said(error.smtp_code, error.smtp_error)) from error
            except smtplib.SMTPResponseException as error:
                said = _said(error.smtp_code, error.smtp_error)
                raise self._wrong(error.smtp_code)(said) from error
            except smtplib.SMTPException as error:
                raise server.strange(str(error)) from error

    def _wrong(self, code: int) -> Callable[[str], NotSent]:
        server = self._server
        if code in _TOO_LARGE:
            return lambda said: server.too_large(Said("this-mail"), said)
        if code in _FULL:
            return server.full
        return server.busy if 400 <= code < 500 else lambda said: server.forbids(Said("this-mail"), said)


class _Session(smtplib.SMTP):
    """The number that was allowed is called; the certificate is held against the name."""

    def __init__(self, server: Server, *, encrypted: bool):
        super().__init__(timeout=PATIENCE_S)
        self._server, self._encrypted = server, encrypted
        self._host = server.host

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        line = socket.create_connection((self._server.number(), port), timeout)
        if not self._encrypted:
            return line
        return ssl.create_default_context().wrap_socket(line, server_hostname=host)


def _said(code: int, said: bytes | str) -> str:
    text = said.decode("utf-8", "replace") if isinstance(said, bytes) else said
    return f"{code} {' '.join(text.split())}"[:300]


def encoded_bytes(sizes: Sequence[int]) -> int:
    """How large a mail with attachments of these sizes is, at most: base64 in lines of 76 (RFC 2045, 6.8), and what
    stands before each.
    """
    return sum(-(-size // 57) * 78 + 600 for size in sizes) + 4000
