"""A line to a server that speaks HTTP (RFC 9110, 9112): to the number that was allowed, and nowhere it leads on to."""

import http.client
import socket
import ssl
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from http import HTTPStatus
from urllib.parse import urlsplit

from mastering.said import Said
from sermovox.dispatch.ways.carrier import CHUNK_BYTES, Chunks, NotSent
from sermovox.dispatch.ways.servers import PATIENCE_S, Server

_LONGEST_ANSWER = 1 << 20


class Line:
    """One line for all requests, opened again where the server closed it."""

    def __init__(self, server: Server, *, encrypted: bool):
        self._server = server
        self._connection = _Connection(server, encrypted=encrypted)

    def close(self) -> None:
        self._connection.close()

    def asked(
        self, method: str, path: str, headers: Mapping[str, str], body: bytes | Iterator[bytes] | None = None
    ) -> tuple[http.client.HTTPResponse, bytes]:
        """Ask, and read what is said. Raises NotSent or LineBroke where nothing is; what is no success is returned."""
        with self._in_words():
            self._connection.request(method, path, body, dict(headers))
            answer = self._connection.getresponse()
            said = answer.read(_LONGEST_ANSWER)
            if not answer.isclosed():
                self._connection.close()
        return answer, said

    def fetched(self, path: str, headers: Mapping[str, str], name: str, start: int, count: int) -> Chunks:
        """So many bytes of a file as the server has it, in chunks (RFC 9110, 14: Range). Raises NotSent or LineBroke
        where it does not give it.
        """
        if count <= 0:
            return
        with self._in_words():
            self._connection.request("GET", path, None, dict(headers) | {"Range": f"bytes={start}-{start + count - 1}"})
            answer = self._connection.getresponse()
            if answer.status == HTTPStatus.REQUESTED_RANGE_NOT_SATISFIABLE:
                self._connection.close()
                return
            if answer.status not in (HTTPStatus.OK, HTTPStatus.PARTIAL_CONTENT):
                self._connection.close()
                raise self.refused(answer, name)
            try:
                # A server need not know ranges: then all of it comes.
                over = start if answer.status == HTTPStatus.OK else 0
                while over > 0 and (chunk := answer.read(min(CHUNK_BYTES, over))):
                    over -= len(chunk)
                while count > 0 and (chunk := answer.read(min(CHUNK_BYTES, count))):
                    count -= len(chunk)
                    yield chunk
                if count > 0 and answer.length:
                    raise self._server.gone(None)
            finally:
                if not answer.isclosed():
                    self._connection.close()

    def refused(self, answer: http.client.HTTPResponse, name: str, opener: str = "password") -> NotSent:
        """What is said of an answer that is no success."""
        server, status = self._server, answer.status
        said = f"{status} {answer.reason}"
        if status == HTTPStatus.UNAUTHORIZED:
            return server.locked(said, opener)
        if 300 <= status < 400:
            elsewhere = urlsplit(answer.getheader("Location") or "").netloc or "elsewhere"
            return NotSent(Said("leads-which-not-followed-state", host=server.host, elsewhere=elsewhere, said=said))
        if status == HTTPStatus.INSUFFICIENT_STORAGE:
            return server.full(said)
        if status == HTTPStatus.REQUEST_ENTITY_TOO_LARGE:
            return server.too_large(name, said)
        return server.busy(said) if status >= 500 else server.forbids(name, said)

    @contextmanager
    def _in_words(self) -> Iterator[None]:
        with self._server.answering():
            try:
                yield
            except (http.client.RemoteDisconnected, ConnectionError):
                raise
            except http.client.BadStatusLine as error:
                raise self._server.strange("no status line") from error
            except http.client.HTTPException as error:
                raise self._server.gone(None) from error


class _Connection(http.client.HTTPConnection):
    """The certificate is held against the name, though it is the number that is called."""

    def __init__(self, server: Server, *, encrypted: bool):
        super().__init__(server.host, server.port, timeout=PATIENCE_S)
        self._server, self._context = server, ssl.create_default_context() if encrypted else None

    def connect(self) -> None:
        line = socket.create_connection((self._server.number(), self.port), self.timeout)
        # As http.client does: what is small goes at once, and does not wait for what comes behind it.
        line.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self.sock = self._context.wrap_socket(line, server_hostname=self.host) if self._context else line
