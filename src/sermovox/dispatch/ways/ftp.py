"""Sending by FTP and FTPS (RFC 959, 3659 and 4217), by Python's own ftplib."""

import ftplib
import re
import ssl
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from types import TracebackType
from typing import Self

from mastering.certain import certain
from mastering.outlets.receiving import PLAIN, Receiving, host_and_port
from sermovox.dispatch.ways.addresses import allowed_number
from sermovox.dispatch.ways.carrier import CHUNK_BYTES, Access, LineBroke, NameTaken, NotSent, Readable, Told

_PATIENCE_S = 30.0
_FULL, _NAME = ("552", "452"), ("553", "501")


class FtpCarrier:
    """A session with a server, passive, encrypted where that is stated."""

    goes_on = True
    unsure_bytes = 0

    def __init__(self, receiving: Receiving, access: Access):
        self._host, self._port = host_and_port(receiving.address, receiving.kind.port)
        self._user, self._password = receiving.stated["user"], access.password
        self._plain = receiving.stated.get("security") == PLAIN
        self._session: ftplib.FTP | None = None

    @property
    def _ftp(self) -> ftplib.FTP:
        return certain(self._session)

    def __enter__(self) -> Self:
        number = allowed_number(self._host, self._port)
        with self._in_words():
            # Without a context of its own, the library would trust any certificate.
            session = ftplib.FTP(timeout=_PATIENCE_S) if self._plain else _Encrypted(timeout=_PATIENCE_S)
            self._session = session
            session.connect(number, self._port)
            if isinstance(session, _Encrypted):
                # The certificate is held against the name, though it was the number that was called.
                session.host = self._host
                try:
                    session.auth()
                except ftplib.error_perm as error:
                    raise NotSent(
                        f"{self._host} knows no encrypted lines ({error}). Ask whoever runs it for one, or state that "
                        "the line is not encrypted: then anybody on the way can read password and files."
                    ) from error
            try:
                session.login(self._user, self._password)
            except ftplib.error_perm as error:
                raise NotSent(
                    f"{self._host} does not let “{self._user}” in ({error}). Look at user and password again."
                ) from error
            if isinstance(session, ftplib.FTP_TLS):
                session.prot_p()
            with suppress(ftplib.error_perm):
                session.sendcmd("OPTS UTF8 ON")
            session.voidcmd("TYPE I")
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

    def make_folder(self, name: str) -> None:
        made = ""
        for part in name.strip("/").split("/"):
            made = f"{made}/{part}" if made else part
            with self._in_words(made), suppress(ftplib.error_perm):
                # It says the same where it is there already; whether it is shows when something is put there.
                self._ftp.mkd(made)

    def size_of(self, name: str) -> int | None:
        with self._in_words(name):
            try:
                return self._ftp.size(name)
            except ftplib.error_perm as error:
                if str(error)[:3] == "550":
                    return None
                raise

    def sha256_of(self, name: str) -> str | None:
        return None

    def put(self, name: str, source: Readable, start: int, size_bytes: int, told: Told) -> str:
        with self._in_words(name):
            sent = start

            def noted(chunk: bytes) -> None:
                nonlocal sent
                sent += len(chunk)
                told(sent)

            return self._ftp.storbinary(f"STOR {name}", source, CHUNK_BYTES, noted, rest=start or None)

    def rename(self, name: str, new: str) -> None:
        if self.size_of(new) is not None:
            # Servers replace what is there without a word.
            raise NameTaken(f"There is a file called {new} already.")
        with self._in_words(new):
            self._ftp.rename(name, new)

    def delete(self, name: str) -> None:
        with self._in_words(name):
            try:
                self._ftp.delete(name)
            except ftplib.error_perm as error:
                if str(error)[:3] != "550" or self.size_of(name) is not None:
                    raise

    def left_bytes(self) -> int | None:
        return None

    @contextmanager
    def _in_words(self, name: str = "") -> Iterator[None]:
        host = self._host
        try:
            yield
        except ftplib.error_perm as error:
            code, said = str(error)[:3], re.sub(r"\s+", " ", str(error))
            if code in _FULL:
                raise NotSent(f"{host} has no room left ({said}). Ask for room, then try again.") from error
            if code in _NAME:
                raise NotSent(f"{host} cannot hold the name {name} ({said}). Change the pattern.") from error
            raise NotSent(f"{host} does not allow that for {name or 'this user'} ({said}).") from error
        except ftplib.error_temp as error:
            said = re.sub(r"\s+", " ", str(error))
            if str(error)[:3] in _FULL:
                raise NotSent(f"{host} has no room left ({said}). Ask for room, then try again.") from error
            raise LineBroke(f"{host} cannot take it just now ({said}).") from error
        except ftplib.Error as error:
            raise NotSent(f"{host} does not answer as an FTP server would ({error}).") from error
        except ssl.SSLCertVerificationError as error:
            raise NotSent(
                f"The certificate of {host} is not to be trusted: {error.verify_message}. Ask whoever runs it; nothing "
                "was sent."
            ) from error
        except TimeoutError as error:
            raise LineBroke(f"{host} did not answer for {_PATIENCE_S:.0f} seconds.") from error
        except ConnectionRefusedError as error:
            raise LineBroke(f"{host} takes no calls at port {self._port}. Is the port right?") from error
        except (EOFError, OSError) as error:
            raise LineBroke(f"The line to {host} broke ({getattr(error, 'strerror', None) or 'it ended'}).") from error


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
