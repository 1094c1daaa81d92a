"""A mail server on this machine that keeps what it receives in a folder and passes nothing on; it can misbehave."""

import asyncio
import ssl
import time
import uuid
from pathlib import Path
from typing import cast

from aiosmtpd.smtp import SMTP, Envelope, Session

from mastering.certain import certain
from sermovox.standins.mischief import SLOW_BYTES_A_SECOND, Mischief, mischief_of, received_in
from sermovox.standins.serving import Looped, loop_for_ever

MOST_BYTES = 2_000_000
"""A small box, so that links are seen at work."""


class _Box:
    """What answers a mail program."""

    def __init__(self, top: Path):
        self._top = top

    async def handle_RCPT(self, server: SMTP, session: Session, envelope: Envelope, address: str, options) -> str:
        if Mischief.read(mischief_of(self._top)).refuses:
            return "550 5.1.1 Nobody of that name lives here"
        envelope.rcpt_tos.append(address)
        return "250 2.1.5 Fine"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        told, content = Mischief.read(mischief_of(self._top)), certain(envelope.original_content)
        if told.full:
            return "452 4.2.2 The box is full"
        if told.slow:
            await asyncio.sleep(len(content) / SLOW_BYTES_A_SECOND)
        name = f"{time.time_ns()}-{uuid.uuid4().hex[:6]}"
        (received_in(self._top) / f"{name}.eml").write_bytes(content)
        if told.drops:
            # It has taken the mail, and does not come to say so.
            told.drops -= 1
            told.keep(mischief_of(self._top))
            cast(asyncio.Transport, server.transport).abort()
            return "421 4.4.2 Gone"
        return f"250 2.0.0 Taken as {name}"


async def mailbox(
    top: Path, port: int, *, most_bytes: int = MOST_BYTES, encrypted: ssl.SSLContext | None = None, **more
) -> asyncio.Server:
    """The server, listening on loopback; `more` goes to aiosmtpd. Raises OSError where the port is taken."""
    received_in(top).mkdir(parents=True, exist_ok=True)
    loop = asyncio.get_running_loop()
    return await loop.create_server(
        lambda: SMTP(_Box(top), data_size_limit=most_bytes, loop=loop, **more), "127.0.0.1", port, ssl=encrypted
    )


def serve(port: int, top: Path) -> None:
    """Serve for as long as the process lives."""
    loop_for_ever(lambda: mailbox(top, port))


class InAThread(Looped):
    """The server in a thread of its own, for as long as it is wanted."""

    def __init__(self, top: Path, **more):
        super().__init__(mailbox(top, 0, **more))
        self.port = self.server.sockets[0].getsockname()[1]
