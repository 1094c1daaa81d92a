"""An archive's SFTP server on this machine, which keeps what it receives in a folder, and can be told to misbehave."""

import asyncio
import os
from pathlib import Path
from typing import cast

import asyncssh

from sermovox.standins.known import ARCHIVE
from sermovox.standins.mischief import SLOW_BYTES_A_SECOND, Mischief, mischief_of, received_in
from sermovox.standins.serving import Looped, loop_for_ever

_DROPS_AFTER_BYTES = 20_000


async def archive(top: Path, port: int, *, trusts: asyncssh.SSHKey | None = None) -> asyncssh.SSHAcceptor:
    """The server, listening on loopback; lets in who has the key `trusts` or knows the password. Raises OSError where
    the port is taken.
    """
    received_in(top).mkdir(parents=True, exist_ok=True)

    class Door(asyncssh.SSHServer):
        def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
            self.connection = conn

        def password_auth_supported(self) -> bool:
            return True

        def validate_password(self, username: str, password: str) -> bool:
            known = (username, password) == (ARCHIVE.user, ARCHIVE.password)
            return known and not Mischief.read(mischief_of(top)).refuses

        def public_key_auth_supported(self) -> bool:
            return trusts is not None

        def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
            return trusts is not None and key.public_data == trusts.public_data

    class Shelf(asyncssh.SFTPServer):
        def __init__(self, chan):
            super().__init__(chan, chroot=str(received_in(top)).encode())
            self._channel, self._got = chan, 0

        async def write(self, file_obj: object, offset: int, data: bytes) -> int:
            told = Mischief.read(mischief_of(top))
            if told.full:
                raise asyncssh.SFTPFailure("No space left on device")
            if told.slow:
                await asyncio.sleep(len(data) / SLOW_BYTES_A_SECOND)
            self._got += len(data)
            if told.drops and self._got > _DROPS_AFTER_BYTES:
                told.drops -= 1
                told.keep(mischief_of(top))
                self._channel.get_connection().abort()
            return cast(int, super().write(file_obj, offset, data))

        def open(self, path: bytes, pflags: int, attrs: asyncssh.SFTPAttrs):
            reads = pflags & asyncssh.FXF_READ and not pflags & asyncssh.FXF_WRITE
            if reads and Mischief.read(mischief_of(top)).secretive:
                raise asyncssh.SFTPPermissionDenied("What is left here is not given back")
            return super().open(path, pflags, attrs)

        def stat(self, path: bytes):
            off_by = Mischief.read(mischief_of(top)).size_off_by
            found = super().stat(path)
            if off_by and not path.endswith(b".part"):
                told = asyncssh.SFTPAttrs.from_local(cast(os.stat_result, found))
                told.size = (told.size or 0) + off_by
                return told
            return found

    return await asyncssh.listen(
        "127.0.0.1", port, server_factory=Door, server_host_keys=[_host_key(top)], sftp_factory=Shelf
    )


def _host_key(top: Path) -> asyncssh.SSHKey:
    """Its host key: made once, then the same."""
    path = top / "host-key"
    if not path.exists():
        asyncssh.generate_private_key("ssh-ed25519").write_private_key(str(path))
    return asyncssh.read_private_key(str(path))


def serve(port: int, top: Path) -> None:
    """Serve for as long as the process lives."""
    loop_for_ever(lambda: archive(top, port))


class InAThread(Looped):
    """The server in a thread of its own, for as long as it is wanted."""

    def __init__(self, top: Path, *, trusts: asyncssh.SSHKey | None = None):
        super().__init__(archive(top, 0, trusts=trusts))
        self.port = self.server.get_port()
