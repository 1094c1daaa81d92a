"""Sending by WebDAV (RFC 4918, room by RFC 4331), over Python's own http.client."""

import base64
import http.client
import socket
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from http import HTTPStatus
from types import TracebackType
from typing import Self
from urllib.parse import quote, urlsplit

from defusedxml.ElementTree import ParseError, fromstring

from mastering.certain import certain
from mastering.outlets.receiving import PLAIN, Receiving, host_and_port
from sermovox.dispatch.ways.addresses import allowed_number
from sermovox.dispatch.ways.carrier import CHUNK_BYTES, Access, LineBroke, NameTaken, NotSent, Readable, Told

_PATIENCE_S = 30.0
_MULTI_STATUS = HTTPStatus.MULTI_STATUS
_LONGEST_ANSWER = 1 << 20
_PROPERTIES = (
    b'<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><getcontentlength/><quota-available-bytes/>'
    b"</prop></propfind>"
)


class WebdavCarrier:
    """A share on a server; one line for all requests, and no answer that leads elsewhere is followed."""

    goes_on = False
    unsure_bytes = 0

    def __init__(self, receiving: Receiving, access: Access):
        stated = receiving.stated
        self._plain = stated.get("security") == PLAIN
        self._host, self._port = host_and_port(receiving.address, 80 if self._plain else receiving.kind.port)
        self._share = stated.get("share", "").strip("/")
        login = f"{stated['user']}:{access.password}".encode()
        self._headers = {"Authorization": f"Basic {base64.b64encode(login).decode()}", "User-Agent": "Sermovox"}
        self._user = stated["user"]
        self._line: http.client.HTTPConnection | None = None

    def __enter__(self) -> Self:
        number = allowed_number(self._host, self._port)
        self._line = _Line(self._host, self._port, number, encrypted=not self._plain)
        if self._found("") is None:
            self.__exit__(None, None, None)
            raise NotSent(f"{self._host} has no share at /{self._share}. Look at its path again.")
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        certain(self._line).close()

    def make_folder(self, name: str) -> None:
        made = ""
        for part in name.strip("/").split("/"):
            made = f"{made}/{part}" if made else part
            # Of one that is there already it says that it cannot be made.
            self._asked("MKCOL", made, fine=(HTTPStatus.CREATED, HTTPStatus.METHOD_NOT_ALLOWED))

    def size_of(self, name: str) -> int | None:
        found = self._found(name)
        return None if found is None else _number(found, "getcontentlength")

    def sha256_of(self, name: str) -> str | None:
        return None

    def put(self, name: str, source: Readable, start: int, size_bytes: int, told: Told) -> str:
        def sent() -> Iterator[bytes]:
            done = start
            while chunk := source.read(CHUNK_BYTES):
                yield chunk
                done += len(chunk)
                told(done)

        fine = (HTTPStatus.OK, HTTPStatus.CREATED, HTTPStatus.NO_CONTENT)
        status, _ = self._asked("PUT", name, fine=fine, body=sent(), headers={"Content-Length": str(size_bytes)})
        return f"{status} {HTTPStatus(status).phrase}"

    def rename(self, name: str, new: str) -> None:
        scheme = "http" if self._plain else "https"
        host = f"[{self._host}]" if ":" in self._host else self._host
        headers = {"Destination": f"{scheme}://{host}:{self._port}{self._path(new)}", "Overwrite": "F"}
        fine = (HTTPStatus.CREATED, HTTPStatus.NO_CONTENT, HTTPStatus.PRECONDITION_FAILED)
        status, _ = self._asked("MOVE", name, fine=fine, headers=headers)
        if status == HTTPStatus.PRECONDITION_FAILED:
            raise NameTaken(f"There is a file called {new} already.")

    def delete(self, name: str) -> None:
        self._asked("DELETE", name, fine=(HTTPStatus.OK, HTTPStatus.NO_CONTENT, HTTPStatus.NOT_FOUND))

    def left_bytes(self) -> int | None:
        return _number(self._found("") or b"", "quota-available-bytes")

    def _path(self, name: str) -> str:
        return quote("/" + "/".join(part for part in (self._share, name) if part))

    def _found(self, name: str) -> bytes | None:
        """What is said of a file or folder; None where there is none."""
        headers = {"Depth": "0", "Content-Type": "application/xml; charset=utf-8"}
        fine = (_MULTI_STATUS, HTTPStatus.NOT_FOUND)
        status, said = self._asked("PROPFIND", name, fine=fine, body=_PROPERTIES, headers=headers)
        return said if status == _MULTI_STATUS else None

    def _asked(
        self,
        method: str,
        name: str,
        *,
        fine: tuple[int, ...],
        body: bytes | Iterator[bytes] | None = None,
        headers: dict[str, str] | None = None,
    ) -> tuple[int, bytes]:
        line = certain(self._line)
        with self._in_words():
            line.request(method, self._path(name), body, self._headers | (headers or {}))
            answer = line.getresponse()
            said = answer.read(_LONGEST_ANSWER)
            if not answer.isclosed():
                line.close()
        if answer.status not in fine:
            self._refuse(answer, name)
        return answer.status, said

    def _refuse(self, answer: http.client.HTTPResponse, name: str) -> None:
        host, status = self._host, answer.status
        said = f"{status} {answer.reason}"
        if status == HTTPStatus.UNAUTHORIZED:
            raise NotSent(f"{host} does not let “{self._user}” in ({said}). Look at user and password again.")
        if 300 <= status < 400:
            elsewhere = urlsplit(answer.getheader("Location") or "").netloc or "elsewhere"
            raise NotSent(f"{host} leads on to {elsewhere} ({said}), which is not followed. State that server itself.")
        if status == HTTPStatus.INSUFFICIENT_STORAGE:
            raise NotSent(f"{host} has no room left ({said}). Ask for room, then try again.")
        if status == HTTPStatus.REQUEST_ENTITY_TOO_LARGE:
            raise NotSent(f"{host} does not take files as large as {name} ({said}). Ask whoever runs it.")
        if status >= 500:
            raise LineBroke(f"{host} cannot take it just now ({said}).")
        raise NotSent(f"{host} does not allow that for {name or 'this user'} ({said}).")

    @contextmanager
    def _in_words(self) -> Iterator[None]:
        host = self._host
        try:
            yield
        except ssl.SSLCertVerificationError as error:
            raise NotSent(
                f"The certificate of {host} is not to be trusted: {error.verify_message}. Ask whoever runs it; nothing "
                "was sent."
            ) from error
        except ssl.SSLError as error:
            raise NotSent(f"{host} knows no encrypted lines at port {self._port} ({error.reason}).") from error
        except TimeoutError as error:
            raise LineBroke(f"{host} did not answer for {_PATIENCE_S:.0f} seconds.") from error
        except ConnectionRefusedError as error:
            raise LineBroke(f"{host} takes no calls at port {self._port}. Is the port right?") from error
        except http.client.BadStatusLine as error:
            raise NotSent(f"{host} does not answer as a WebDAV server would.") from error
        except (http.client.HTTPException, OSError) as error:
            raise LineBroke(f"The line to {host} broke ({getattr(error, 'strerror', None) or 'it ended'}).") from error


class _Line(http.client.HTTPConnection):
    """A line to the number that was allowed; the certificate is held against the name."""

    def __init__(self, host: str, port: int, number: str, *, encrypted: bool):
        super().__init__(host, port, timeout=_PATIENCE_S)
        self._number, self._context = number, ssl.create_default_context() if encrypted else None

    def connect(self) -> None:
        line = socket.create_connection((self._number, self.port), self.timeout)
        self.sock = self._context.wrap_socket(line, server_hostname=self.host) if self._context else line


def _number(said: bytes, name: str) -> int | None:
    """A whole number among the properties in an answer."""
    try:
        found = fromstring(said).find(f".//{{DAV:}}{name}")
    except ParseError:
        return None
    text = (found.text or "").strip() if found is not None else ""
    return int(text) if text.isascii() and text.isdigit() else None
