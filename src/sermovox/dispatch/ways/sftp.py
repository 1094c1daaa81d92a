"""Sending by SFTP (draft-ietf-secsh-filexfer, over RFC 4251 to 4254), by asyncssh."""

import asyncio
from collections.abc import Coroutine, Iterator
from contextlib import contextmanager, suppress
from types import TracebackType
from typing import Any, Self, TypeVar

import asyncssh

from mastering.certain import certain
from mastering.outlets.receiving import Receiving, host_and_port
from sermovox.dispatch.ways.addresses import allowed_number
from sermovox.dispatch.ways.carrier import Access, LineBroke, NameTaken, NotSent, Readable, Told, fingerprint

Found = TypeVar("Found")
_PATIENCE_S = 30
_WRITE_BYTES = 1 << 20
"""So much is on its way at a time: a line with a long delay is filled all the same."""
_RSA = ("rsa-sha2-512", "rsa-sha2-256")


class SftpCarrier:
    """A session with a server, which is known by its host key from the first time on."""

    goes_on = True
    unsure_bytes = _WRITE_BYTES

    def __init__(self, receiving: Receiving, access: Access):
        self._host, self._port = host_and_port(receiving.address, receiving.kind.port)
        self._user, self._access = receiving.stated["user"], access
        self._loop = asyncio.new_event_loop()
        self._connection: asyncssh.SSHClientConnection | None = None
        self._client: asyncssh.SFTPClient | None = None

    @property
    def _sftp(self) -> asyncssh.SFTPClient:
        return certain(self._client)

    def __enter__(self) -> Self:
        try:
            number = allowed_number(self._host, self._port)
            keys = self._keys()
            with self._in_words():
                self._run(self._open(number, keys))
        except BaseException:
            self._close()
            raise
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._close()

    def make_folder(self, name: str) -> None:
        with self._in_words(name):
            self._run(self._sftp.makedirs(name, exist_ok=True))

    def size_of(self, name: str) -> int | None:
        with self._in_words(name):
            try:
                return self._run(self._sftp.stat(name)).size
            except (asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath):
                return None

    def sha256_of(self, name: str) -> str | None:
        return None

    def put(self, name: str, source: Readable, start: int, size_bytes: int, told: Told) -> str:
        with self._in_words(name):
            file = self._run(self._opened(name, "r+b" if start else "wb"))
            try:
                while chunk := source.read(_WRITE_BYTES):
                    # In many requests at once, in any order; all are answered before the next chunk.
                    self._run(file.write(chunk, start))
                    start += len(chunk)
                    told(start)
                self._run(file.truncate(start))
            finally:
                with suppress(OSError, asyncssh.Error):
                    self._run(file.close())
        return "written and closed"

    def rename(self, name: str, new: str) -> None:
        if self.size_of(new) is not None:
            raise NameTaken(f"There is a file called {new} already.")
        with self._in_words(new):
            self._run(self._sftp.rename(name, new))

    def delete(self, name: str) -> None:
        with self._in_words(name), suppress(asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath):
            self._run(self._sftp.remove(name))

    def left_bytes(self) -> int | None:
        with self._in_words():
            try:
                room = self._run(self._sftp.statvfs("."))
            except asyncssh.SFTPOpUnsupported:
                return None
        return (room.bavail or 0) * (room.frsize or 0)

    async def _opened(self, name: str, mode: str) -> asyncssh.SFTPClientFile:
        return await self._sftp.open(name, mode)

    def _run(self, work: Coroutine[Any, Any, Found]) -> Found:
        return self._loop.run_until_complete(work)

    def _close(self) -> None:
        if self._connection:
            self._connection.abort()
            with suppress(OSError, asyncssh.Error):
                self._run(self._connection.wait_closed())
        self._loop.close()

    def _keys(self) -> list[asyncssh.SSHKey] | None:
        if not self._access.key:
            return None
        try:
            return [asyncssh.import_private_key(self._access.key, self._access.password or None)]
        except asyncssh.KeyImportError as error:
            raise NotSent(f"The private key cannot be read: {error}. Give another, or its password.") from error

    async def _open(self, number: str, keys: list[asyncssh.SSHKey] | None) -> None:
        access = self._access

        class Client(asyncssh.SSHClient):
            def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
                met = key.export_public_key("openssh").decode().strip()
                if not access.host_key:
                    access.host_key = met
                return access.host_key == met

        algorithms: Any = ()
        if access.host_key:
            # A server may have several; it is to show the one it is known by.
            kind = access.host_key.split()[0]
            algorithms = list(_RSA) if kind == "ssh-rsa" else [kind]
        self._connection = await asyncssh.connect(
            number,
            self._port,
            client_factory=Client,
            username=self._user,
            password=None if keys else access.password,
            client_keys=keys,
            # Nothing of this machine's own: no files of known hosts, keys or settings, no agent.
            known_hosts=b"",
            config=None,
            agent_path=None,
            server_host_key_algs=algorithms,
            connect_timeout=_PATIENCE_S,
            login_timeout=_PATIENCE_S,
            keepalive_interval=_PATIENCE_S // 2,
        )
        self._client = await self._connection.start_sftp_client()

    @contextmanager
    def _in_words(self, name: str = "") -> Iterator[None]:
        host, what = self._host, name or "this user"
        try:
            yield
        except asyncssh.HostKeyNotVerifiable as error:
            raise NotSent(
                f"{host} shows another host key than the one it is known by, {fingerprint(self._access.host_key)}. "
                "Either it was set up anew or somebody stands between. Ask whoever runs it; if all is well, forget the "
                "old key on the outlet's page."
            ) from error
        except asyncssh.PermissionDenied as error:
            raise NotSent(
                f"{host} does not let “{self._user}” in. Look again at user and "
                f"{'key' if self._access.key else 'password'}."
            ) from error
        except (asyncssh.SFTPNoSpaceOnFilesystem, asyncssh.SFTPQuotaExceeded) as error:
            raise NotSent(f"{host} has no room left ({error.reason}). Ask for room, then try again.") from error
        except (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection) as error:
            raise LineBroke(f"The line to {host} broke ({error.reason}).") from error
        except asyncssh.SFTPInvalidFilename as error:
            raise NotSent(f"{host} cannot hold the name {name} ({error.reason}). Change the pattern.") from error
        except asyncssh.SFTPError as error:
            if "space" in error.reason.lower():
                raise NotSent(f"{host} has no room left ({error.reason}). Ask for room, then try again.") from error
            raise NotSent(f"{host} does not allow that for {what} ({error.reason}).") from error
        except (asyncssh.ConnectionLost, asyncssh.DisconnectError) as error:
            raise LineBroke(f"The line to {host} broke ({error.reason}).") from error
        except asyncssh.Error as error:
            raise NotSent(f"{host} does not answer as an SFTP server would ({error}).") from error
        except TimeoutError as error:
            raise LineBroke(f"{host} did not answer for {_PATIENCE_S} seconds.") from error
        except ConnectionRefusedError as error:
            raise LineBroke(f"{host} takes no calls at port {self._port}. Is the port right?") from error
        except OSError as error:
            raise LineBroke(f"The line to {host} broke ({error.strerror or 'it ended'}).") from error
