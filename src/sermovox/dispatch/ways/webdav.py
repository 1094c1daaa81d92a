"""Sending by WebDAV (RFC 4918, room by RFC 4331), over Python's own http.client."""

import base64
from collections.abc import Callable, Iterator
from http import HTTPStatus
from types import TracebackType
from typing import BinaryIO, Self
from urllib.parse import quote
from xml.etree.ElementTree import Element

from defusedxml.ElementTree import ParseError, fromstring

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
from sermovox.dispatch.ways.http_line import Line
from sermovox.dispatch.ways.servers import Server

_MULTI_STATUS = HTTPStatus.MULTI_STATUS
_LISTED = {"Depth": "1", "Content-Type": "application/xml; charset=utf-8"}
_PROPERTIES = (
    b'<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><getcontentlength/><quota-available-bytes/>'
    b"</prop></propfind>"
)


class WebdavCarrier:
    """A share on a server; one line for all requests, and no answer that leads elsewhere is followed."""

    appears_whole = False

    def __init__(self, receiving: Receiving, access: Access):
        stated = receiving.stated
        self._plain = stated.get("security") == PLAIN
        host, port = host_and_port(receiving.address, 80 if self._plain else receiving.kind.port)
        self._server = Server(Said("webdav-server"), host, port, stated["user"])
        self._share = stated.get("share", "").strip("/")
        login = f"{stated['user']}:{access.password}".encode()
        self._headers = {"Authorization": f"Basic {base64.b64encode(login).decode()}", "User-Agent": "Sermovox"}
        self._line = Line(self._server, encrypted=not self._plain)

    def __enter__(self) -> Self:
        if self._found("/") is None:
            self._line.close()
            raise NotSent(Said("no-share-look-path-again", host=self._server.host, share=self._share))
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._line.close()

    def make_folder(self, name: str) -> list[str]:
        made = []
        for folder in folders_down_to(name):
            # Of one that is there already it says that it cannot be made. Some know a folder by its slash alone.
            fine = (HTTPStatus.CREATED, HTTPStatus.METHOD_NOT_ALLOWED)
            if self._asked("MKCOL", f"{folder}/", fine=fine)[0] == HTTPStatus.CREATED:
                made.append(folder)
        return made

    def remove_folder(self, name: str) -> None:
        _, said = self._asked("PROPFIND", f"{name}/", fine=(_MULTI_STATUS,), body=_PROPERTIES, headers=_LISTED)
        # What is deleted goes with all that is in it.
        if len(_read(said).findall("{DAV:}response")) == 1:
            self.delete(f"{name}/")

    def size_of(self, name: str) -> int | None:
        found = self._found(name)
        return None if found is None else _number(found, "getcontentlength")

    def is_same(self, name: str, sha256: str, opened: Callable[[], BinaryIO]) -> bool | None:
        # What is told here (RFC 9530) may be what was told when it was stored: it is read back instead.
        return None

    def fetched(self, name: str, start: int, count: int) -> Chunks:
        return self._line.fetched(self._path(name), self._headers, name, start, count)

    def begun_bytes(self, name: str, file: BinaryIO, size_bytes: int, told: Told) -> int:
        # The protocol knows no way to go on with a file.
        return 0

    def put(self, name: str, source: Readable, start: int, size_bytes: int, told: Told, *, replacing: bool) -> str:
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
        server = self._server
        host = f"[{server.host}]" if ":" in server.host else server.host
        headers = {"Destination": f"{scheme}://{host}:{server.port}{self._path(new)}", "Overwrite": "F"}
        fine = (HTTPStatus.CREATED, HTTPStatus.NO_CONTENT, HTTPStatus.PRECONDITION_FAILED)
        status, _ = self._asked("MOVE", name, fine=fine, headers=headers)
        if status == HTTPStatus.PRECONDITION_FAILED:
            raise NameTaken(Said("there-file-called-already", new=new))

    def delete(self, name: str) -> None:
        self._asked("DELETE", name, fine=(HTTPStatus.OK, HTTPStatus.NO_CONTENT, HTTPStatus.NOT_FOUND))

    def forget_begun(self, name: str) -> None:
        self.delete(name)

    def left_bytes(self, folder: str) -> int | None:
        return _number(self._found(f"{folder}/") or b"", "quota-available-bytes")

    def _path(self, name: str) -> str:
        """Where a file is, or with a slash at its end a folder; that alone is the share."""
        parts = [part for part in (self._share, name.rstrip("/")) if part]
        return quote("/" + "/".join(parts) + ("/" if parts and name.endswith("/") else ""))

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
        answer, said = self._line.asked(method, self._path(name), self._headers | (headers or {}), body)
        if answer.status not in fine:
            raise self._line.refused(answer, name)
        return answer.status, said


def _read(said: bytes) -> Element:
    """What is said; nothing where that is no XML."""
    try:
        return fromstring(said)
    except ParseError:
        return Element("nothing")


def _number(said: bytes, name: str) -> int | None:
    """A whole number among the properties in an answer."""
    found = _read(said).find(f".//{{DAV:}}{name}")
    text = (found.text or "").strip() if found is not None else ""
    return int(text) if text.isascii() and text.isdigit() else None
