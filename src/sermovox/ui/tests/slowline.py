"""A slow line between browser and server, which can break."""

import asyncio
import socket
import threading

_CHUNK_BYTES = 32768


class SlowLine:
    """Passes on what is sent to a port of its own; large uploads at `bytes_per_s`, answers after `answers_after_s`."""

    def __init__(self, to_port: int, *, bytes_per_s: float):
        self._to_port, self._bytes_per_s, self.answers_after_s = to_port, bytes_per_s, 0.0
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self._loop = asyncio.new_event_loop()
        self._server = None
        self._open: set[asyncio.StreamWriter] = set()
        threading.Thread(target=self._loop.run_forever, daemon=True).start()
        self.mend()

    def mend(self) -> None:
        """Let the line be there."""
        start = asyncio.start_server(self._passed_on, "127.0.0.1", self.port)
        self._server = asyncio.run_coroutine_threadsafe(start, self._loop).result(5)

    def cut(self) -> None:
        """Break every connection and take no new one."""

        def close():
            self._server.close()
            for writer in list(self._open):
                writer.transport.abort()

        self._loop.call_soon_threadsafe(close)

    def end(self) -> None:
        self.cut()
        asyncio.run_coroutine_threadsafe(asyncio.sleep(0.1), self._loop).result(5)
        self._loop.call_soon_threadsafe(self._loop.stop)

    async def _passed_on(self, reader, writer) -> None:
        try:
            there, back = await asyncio.open_connection("127.0.0.1", self._to_port)
        except OSError:
            writer.close()
            return
        self._open |= {writer, back}
        await asyncio.gather(self._pipe(reader, back, slow=True), self._pipe(there, writer, slow=False))
        self._open -= {writer, back}

    async def _pipe(self, source, target, *, slow: bool) -> None:
        try:
            while data := await source.read(_CHUNK_BYTES):
                if not slow:
                    await asyncio.sleep(self.answers_after_s)
                target.write(data)
                await target.drain()
                if slow and len(data) > _CHUNK_BYTES // 4:
                    await asyncio.sleep(len(data) / self._bytes_per_s)
        except OSError:
            pass
        finally:
            target.close()
