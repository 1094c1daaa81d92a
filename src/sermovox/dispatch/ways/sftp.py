"""Sending by SFTP (draft-ietf-secsh-filexfer, over RFC 4251 to 4254), by asyncssh."""

import asyncio
from collections.abc import Callable, Coroutine, Iterator
from contextlib import contextmanager, suppress
from types import TracebackType
from typing import Any, BinaryIO, Self, TypeVar

import asyncssh

from mastering.certain import certain
from mastering.outlets.receiving import Receiving, host_and_port
from mastering.said import Said
from sermovox.dispatch.ways.carrier import (
    Access,
    Chunks,
    NameTaken,
    NotSent,
    Readable,
    Told,
    fingerprint,
    folders_down_to,
)
from sermovox.dispatch.ways.comparing import same_so_far
from sermovox.dispatch.ways.servers import PATIENCE_S, Server

Found = TypeVar("Found")
_WRITE_BYTES = 1 << 20
"""So much is on its way at a time: a line with a long delay is filled all the same."""
_RSA = ("rsa-sha2-512", "rsa-sha2-256")


class SftpCarrier:
    """A session with a server, which is known by its host key from the first time on."""

    appears_whole = False

    def __init__(self, receiving: Receiving, access: Access):
        host, port = host_and_port(receiving.address, receiving.kind.port)
        self._server = Server(Said("sftp-server"), host, port, receiving.stated["user"])
        self._access = access
        self._loop = asyncio.new_event_loop()
        self._connection: asyncssh.SSHClientConnection | None = None
        self._client: asyncssh.SFTPClient | None = None

    @property
    def _sftp(self) -> asyncssh.SFTPClient:
        return certain(self._client)

    def __enter__(self) -> Self:
        try:
            number, keys = self._server.number(), self._keys()
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

    def make_folder(self, name: str) -> list[str]:
        made = []
        for folder in folders_down_to(name):
            with self._in_words(folder):
                if not self._run(self._sftp.exists(folder)):
                    self._run(self._sftp.mkdir(folder))
                    made.append(folder)
        return made

    def remove_folder(self, name: str) -> None:
        with self._in_words(name):
            self._run(self._sftp.rmdir(name))

    def size_of(self, name: str) -> int | None:
        with self._in_words(name):
            try:
                return self._run(self._sftp.stat(name)).size
            except (asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath):
                return None

    def is_same(self, name: str, sha256: str, opened: Callable[[], BinaryIO]) -> bool | None:
        # OpenSSH, and with it most, tell none.
        return None

    def fetched(self, name: str, start: int, count: int) -> Chunks:
        with self._in_words(name):
            file = self._run(self._opened(name, "rb"))
            try:
                while count > 0 and (read := self._run(file.read(min(_WRITE_BYTES, count), start))):
                    chunk = read if isinstance(read, bytes) else read.encode()
                    start, count = start + len(chunk), count - len(chunk)
                    yield chunk
            finally:
                with suppress(OSError, asyncssh.Error):
                    self._run(file.close())

    def begun_bytes(self, name: str, file: BinaryIO, size_bytes: int, told: Told) -> int:
        return same_so_far(self, name, file, size_bytes, told)

    def put(self, name: str, source: Readable, start: int, size_bytes: int, told: Told, *, replacing: bool) -> str:
        with self._in_words(name):
            file = self._run(self._opened(name, "r+b" if start else "wb"))
            try:
                while chunk := source.read(_WRITE_BYTES):
                    # In many requests at once, in any order; all are answered before the next chunk.
                    try:
                        self._run(file.write(chunk, start))
                    except asyncssh.SFTPFailure as error:
                        # Of a full disk OpenSSH says no more than that it failed.
                        room = self.left_bytes(name.rpartition("/")[0])
                        if room is not None and room < size_bytes - start:
                            raise self._server.full(error.reason) from error
                        raise
                    start += len(chunk)
                    told(start)
                self._run(file.truncate(start))
            finally:
                with suppress(OSError, asyncssh.Error):
                    self._run(file.close())
        return Said("written-closed")

    def rename(self, name: str, new: str) -> None:
        if self.size_of(new) is not None:
            raise NameTaken(Said("there-file-called-already", new=new))
        with self._in_words(new):
            self._run(self._sftp.rename(name, new))

    def delete(self, name: str) -> None:
        with self._in_words(name), suppress(asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath):
            self._run(self._sftp.remove(name))

    def forget_begun(self, name: str) -> None:
        self.delete(name)

    def left_bytes(self, folder: str) -> int | None:
        with self._in_words(folder):
            try:
                room = self._run(self._sftp.statvfs(folder or "."))
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
            raise NotSent(Said("private-key-cannot-read-give", error=error)) from error

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
            self._server.port,
            client_factory=Client,
            username=self._server.user,
            password=None if keys else access.password,
            client_keys=keys,
            # Nothing of this machine's own: no files of known hosts, keys or settings, no agent.
            known_hosts=b"",
            config=None,
            agent_path=None,
            server_host_key_algs=algorithms,
            connect_timeout=PATIENCE_S,
            login_timeout=PATIENCE_S,
            keepalive_interval=PATIENCE_S / 2,
        )
        self._client = await self._connection.start_sftp_client()

    @contextmanager
    def _in_words(self, name: str = "") -> Iterator[None]:
        server, access = self._server, self._access
        with server.answering():
            try:
                yield
            except (asyncssh.HostKeyNotVerifiable, asyncssh.KeyExchangeFailed) as error:
                if not access.host_key:
                    raise server.strange(str(error)) from error
                # It may have one of another kind alone, and then it shows none at all.
                raise NotSent(
                    Said("shows-another-host-key-than", host=server.host, fingerprint=fingerprint(access.host_key))
                ) from error
            except asyncssh.PermissionDenied as error:
                raise server.locked(error.reason, "key" if access.key else "password") from error
            except (asyncssh.SFTPNoSpaceOnFilesystem, asyncssh.SFTPQuotaExceeded) as error:
                raise server.full(error.reason) from error
            except asyncssh.SFTPInvalidFilename as error:
                raise server.unfit(name, error.reason) from error
            except (
                asyncssh.SFTPConnectionLost,
                asyncssh.SFTPNoConnection,
                asyncssh.ConnectionLost,
                asyncssh.DisconnectError,
            ) as error:
                raise server.gone(error.reason) from error
            except asyncssh.SFTPError as error:
                # Older protocols know no code for a full disk.
                if "space" in error.reason.lower():
                    raise server.full(error.reason) from error
                raise server.forbids(name, error.reason) from error
            except asyncssh.Error as error:
                raise server.strange(str(error)) from error
