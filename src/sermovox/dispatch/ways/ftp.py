"""Sending by FTP and FTPS (RFC 959, 3659 and 4217), by Python's own ftplib."""

import ftplib
import io
import re
import ssl
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from types import TracebackType
from typing import BinaryIO, Self

from mastering.certain import certain
from mastering.outlets.receiving import Receiving, host_and_port
from mastering.outlets.ways import PLAIN
from mastering.said import Said
from sermovox.dispatch.ways.carrier import (
    CHUNK_BYTES,
    Access,
    Chunks,
    NameTaken,
    NotSent,
    Readable,
    Told,
    folders_down_to,
)
from sermovox.dispatch.ways.comparing import same_so_far
from sermovox.dispatch.ways.servers import PATIENCE_S, Server

_FULL, _NAME = ("552", "452"), ("553", "501")
_NO_ROOM = re.compile("no space|quota|disk full", re.IGNORECASE)
"""How servers put it that have no code of their own for it (common practice, no source)."""
_SHA256 = re.compile(r"\b[0-9A-Fa-f]{64}\b")


class FtpCarrier:
    """A session with a server, passive, encrypted where that is stated."""

    appears_whole = False

    def __init__(self, receiving: Receiving, access: Access):
        host, port = host_and_port(receiving.address, receiving.kind.port)
        self._server = Server(Said("ftp-server"), host, port, receiving.stated["user"])
        self._password, self._hashes = access.password, frozenset[str]()
        self._plain = receiving.stated.get("security") == PLAIN
        self._session: ftplib.FTP | None = None

    @property
    def _ftp(self) -> ftplib.FTP:
        return certain(self._session)

    def __enter__(self) -> Self:
        host, number = self._server.host, self._server.number()
        with self._in_words():
            # Without a context of its own, the library would trust any certificate.
            session = ftplib.FTP(timeout=PATIENCE_S) if self._plain else _Encrypted(timeout=PATIENCE_S)
            self._session = session
            session.connect(number, self._server.port)
            if isinstance(session, _Encrypted):
                # The certificate is held against the name, though it was the number that was called.
                session.host = host
                try:
                    session.auth()
                except ftplib.error_perm as error:
                    raise NotSent(Said("knows-no-encrypted-lines-ask", host=host, error=error)) from error
            try:
                session.login(self._server.user, self._password)
            except ftplib.error_perm as error:
                raise self._server.locked(str(error)) from error
            if isinstance(session, ftplib.FTP_TLS):
                session.prot_p()
            with suppress(ftplib.error_perm):
                session.sendcmd("OPTS UTF8 ON")
            session.voidcmd("TYPE I")
            self._hashes = _hashes_told(session)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._session:
            with suppress(OSError, EOFError, ftplib.Error):
                # What broke off says goodbye to nobody.
                if error is None:
                    self._session.quit()
            self._session.close()

    def make_folder(self, name: str) -> list[str]:
        made = []
        for folder in folders_down_to(name):
            with self._in_words(folder), suppress(ftplib.error_perm):
                # It says the same where it is there already; whether it is shows when something is put there.
                self._ftp.mkd(folder)
                made.append(folder)
        return made

    def remove_folder(self, name: str) -> None:
        with self._in_words(name):
            self._ftp.rmd(name)

    def size_of(self, name: str) -> int | None:
        with self._in_words(name):
            try:
                return self._ftp.size(name)
            except ftplib.error_perm as error:
                if str(error)[:3] == "550":
                    return None
                raise

    def is_same(self, name: str, sha256: str, opened: Callable[[], BinaryIO]) -> bool | None:
        for command in self._hashes:
            # A server may know the command and not want it of this file.
            with self._in_words(name), suppress(ftplib.error_perm):
                told = _SHA256.findall(self._ftp.sendcmd(f"{command} {name}"))
                if told:
                    return sha256 in (each.lower() for each in told)
        return None

    def fetched(self, name: str, start: int, count: int) -> Chunks:
        with self._in_words(name):
            line = self._ftp.transfercmd(f"RETR {name}", start or None)
            ended = False
            try:
                while count > 0 and (chunk := line.recv(min(CHUNK_BYTES, count))):
                    count -= len(chunk)
                    yield chunk
                ended = count > 0
            finally:
                line.close()
                # What is left before the end of the file, a server takes for a line that broke.
                with suppress(*(() if ended else (ftplib.error_temp, ftplib.error_perm))):
                    self._ftp.voidresp()

    def begun_bytes(self, name: str, file: BinaryIO, size_bytes: int, told: Told) -> int:
        return same_so_far(self, name, file, size_bytes, told)

    def put(self, name: str, source: Readable, start: int, size_bytes: int, told: Told, *, replacing: bool) -> str:
        with self._in_words(name):
            sent = start

            def noted(chunk: bytes) -> None:
                nonlocal sent
                sent += len(chunk)
                told(sent)

            try:
                return self._ftp.storbinary(f"STOR {name}", source, CHUNK_BYTES, noted, rest=start or None)
            except ConnectionError:
                # Who takes no more closes the line for data first, and says why on the other.
                self._ftp.voidresp()
                raise
            except ftplib.error_perm as error:
                if str(error)[:3] in _NAME and not self._takes_plain_names(name.rpartition("/")[0]):
                    raise self._server.forbids(name, _said(error)) from error
                raise

    def _takes_plain_names(self, folder: str) -> bool:
        """Whether a file with a name that is fit anywhere can be left in a folder."""
        name = f"{folder}/" * bool(folder) + f"sermovox-{uuid.uuid4().hex[:12]}.part"
        try:
            self._ftp.storbinary(f"STOR {name}", io.BytesIO(b"\n"))
            self._ftp.delete(name)
        except ftplib.error_perm:
            return False
        return True

    def rename(self, name: str, new: str) -> None:
        if self.size_of(new) is not None:
            # Servers replace what is there without a word.
            raise NameTaken(Said("there-file-called-already", new=new))
        with self._in_words(new):
            self._ftp.rename(name, new)

    def delete(self, name: str) -> None:
        with self._in_words(name):
            try:
                self._ftp.delete(name)
            except ftplib.error_perm as error:
                if str(error)[:3] != "550" or self.size_of(name) is not None:
                    raise

    def forget_begun(self, name: str) -> None:
        self.delete(name)

    def left_bytes(self, folder: str) -> int | None:
        return None

    @contextmanager
    def _in_words(self, name: str = "") -> Iterator[None]:
        server = self._server
        with server.answering():
            try:
                yield
            except ftplib.error_perm as error:
                said = _said(error)
                if said[:3] in _FULL or _NO_ROOM.search(said):
                    raise server.full(said) from error
                raise (server.unfit if said[:3] in _NAME else server.forbids)(name, said) from error
            except ftplib.error_temp as error:
                said = _said(error)
                raise (server.full if said[:3] in _FULL or _NO_ROOM.search(said) else server.busy)(said) from error
            except ftplib.Error as error:
                raise server.strange(_said(error)) from error


def _hashes_told(session: ftplib.FTP) -> frozenset[str]:
    """The commands by which it tells SHA-256 (draft-bryan-ftpext-hash; XSHA256 by common practice), as FEAT says."""
    try:
        known = session.sendcmd("FEAT").upper()
        if "HASH" in known and "SHA-256" in known:
            session.sendcmd("OPTS HASH SHA-256")
    except ftplib.error_perm:
        return frozenset()
    return frozenset(command for command in ("HASH", "XSHA256") if re.search(rf"^ {command}\b.*", known, re.MULTILINE))


def _said(error: Exception) -> str:
    return re.sub(r"\s+", " ", str(error))


class _Encrypted(ftplib.FTP_TLS):
    """FTPS that trusts certificates as the system does, and goes on with the session for data, as many servers ask."""

    def __init__(self, timeout: float):
        super().__init__(context=ssl.create_default_context(), timeout=timeout)

    def ntransfercmd(self, cmd, rest=None):
        connection, size = ftplib.FTP.ntransfercmd(self, cmd, rest)
        if self._prot_p:  # type: ignore[attr-defined]
            session = getattr(self.sock, "session", None)
            connection = self.context.wrap_socket(connection, server_hostname=self.host, session=session)
        return connection, size
