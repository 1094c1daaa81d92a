"""Sending into a bucket by the S3 protocol, signed by botocore (AWS Signature Version 4), over a line of our own: its
number is the one that was allowed, nothing that leads elsewhere is followed, and parts go on where a line broke.
"""

import base64
import hashlib
import re
from collections.abc import Callable
from http import HTTPStatus
from types import TracebackType
from typing import BinaryIO, Self
from urllib.parse import quote
from xml.etree.ElementTree import Element
from xml.sax.saxutils import escape

from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from defusedxml.ElementTree import ParseError, fromstring

from mastering.outlets.receiving import Receiving, host_and_port
from mastering.outlets.ways import PLAIN
from mastering.said import Said
from sermovox.dispatch.ways.carrier import Access, Chunks, NameTaken, NotSent, Readable, Told
from sermovox.dispatch.ways.http_line import Line
from sermovox.dispatch.ways.servers import Server

PART_BYTES = 16 << 20
"""Files up to this size go at once, larger ones in parts of it: 10,000 of them at most make 160 GB."""
_FULL = ("QuotaExceeded", "XMinioStorageFull", "InsufficientStorage")


class ObjectCarrier:
    """A bucket; `folder/name` is the key of an object."""

    appears_whole = True

    def __init__(self, receiving: Receiving, access: Access):
        stated = receiving.stated
        self._plain = stated.get("security") == PLAIN
        host, port = host_and_port(receiving.address, 80 if self._plain else receiving.kind.port)
        self._server = Server(Said("object-storage-2"), host, port, stated["user"])
        self._bucket, self._region = stated["bucket"], stated["region"]
        self._credentials = Credentials(stated["user"], access.password)
        self._line = Line(self._server, encrypted=not self._plain)

    def __enter__(self) -> Self:
        status, _, _ = self._asked("HEAD", "", fine=(HTTPStatus.OK, HTTPStatus.NOT_FOUND))
        if status == HTTPStatus.NOT_FOUND:
            self._line.close()
            raise NotSent(Said("no-bucket-look-name-again", host=self._server.host, bucket=self._bucket))
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._line.close()

    def make_folder(self, name: str) -> list[str]:
        # A bucket knows keys, and no folders.
        return []

    def remove_folder(self, name: str) -> None:
        raise NotImplementedError("none is made")

    def size_of(self, name: str) -> int | None:
        headers = self._head(name)
        return None if headers is None else int(headers["content-length"])

    def is_same(self, name: str, sha256: str, opened: Callable[[], BinaryIO]) -> bool | None:
        told = (self._head(name) or {}).get("x-amz-checksum-sha256", "")
        if not told:
            return None
        if told == _in_base64(bytes.fromhex(sha256)):
            return True
        # Of what went in parts it tells the hash of their hashes; how many they were is not always said.
        parts = hashlib.sha256()
        with opened() as file:
            while chunk := _read(file):
                parts.update(hashlib.sha256(chunk).digest())
        return told.partition("-")[0] == _in_base64(parts.digest())

    def fetched(self, name: str, start: int, count: int) -> Chunks:
        address, signed = self._signed("GET", name)
        return self._line.fetched(address, signed, name, start, count)

    def begun_bytes(self, name: str, file: BinaryIO, size_bytes: int, told: Told) -> int:
        upload = self._upload_of(name) if size_bytes > PART_BYTES else ""
        same = 0
        for _, (etag, checksum) in sorted(self._parts(name, upload).items()) if upload else ():
            if not _is_part(_read(file), etag, checksum):
                break
            same += PART_BYTES
            told(same)
        return same

    def put(self, name: str, source: Readable, start: int, size_bytes: int, told: Told, *, replacing: bool) -> str:
        # Where another put something there meanwhile, that stays.
        taking = {} if replacing else {"If-None-Match": "*"}
        if size_bytes <= PART_BYTES:
            body = _read(source)
            source.prove()
            answer = self._stored("PUT", name, body=body, headers=taking, checked=True)
            told(len(body))
            return answer
        upload = self._upload_of(name) if start else ""
        upload = upload or self._begun(name)
        # What is over there of later parts is not what is here, and is written over.
        parts = {number: facts for number, facts in self._parts(name, upload).items() if number <= start // PART_BYTES}
        done = start
        while chunk := _read(source):
            number = done // PART_BYTES + 1
            query = f"partNumber={number}&uploadId={quote(upload, safe='')}"
            _, headers, _ = self._asked("PUT", name, query, body=chunk, checked=True)
            parts[number] = (headers.get("etag", ""), headers.get("x-amz-checksum-sha256", ""))
            done += len(chunk)
            told(done)
        source.prove()
        listed = "".join(
            f"<Part><PartNumber>{number}</PartNumber><ETag>{escape(etag)}</ETag>"
            + (f"<ChecksumSHA256>{escape(checksum)}</ChecksumSHA256>" if checksum else "")
            + "</Part>"
            for number, (etag, checksum) in sorted(parts.items())
        )
        body = f"<CompleteMultipartUpload>{listed}</CompleteMultipartUpload>".encode()
        return self._stored("POST", name, f"uploadId={quote(upload, safe='')}", body=body, headers=taking)

    def forget_begun(self, name: str) -> None:
        while upload := self._upload_of(name):
            self._asked("DELETE", name, f"uploadId={quote(upload, safe='')}", fine=(HTTPStatus.NO_CONTENT,))

    def rename(self, name: str, new: str) -> None:
        raise NotImplementedError(Said("nothing-another-name-here-until"))

    def delete(self, name: str) -> None:
        self._asked("DELETE", name, fine=(HTTPStatus.OK, HTTPStatus.NO_CONTENT, HTTPStatus.NOT_FOUND))

    def left_bytes(self, folder: str) -> int | None:
        return None

    def _head(self, name: str) -> dict[str, str] | None:
        """What is said of an object; None where there is none."""
        fine = (HTTPStatus.OK, HTTPStatus.NOT_FOUND)
        status, headers, _ = self._asked("HEAD", name, headers={"x-amz-checksum-mode": "ENABLED"}, fine=fine)
        return headers if status == HTTPStatus.OK else None

    def _begun(self, name: str) -> str:
        """Begin an object of several parts; the name of what is begun."""
        _, _, said = self._asked("POST", name, "uploads=", headers={"x-amz-checksum-algorithm": "SHA256"})
        upload = _text(self._read(said), "UploadId")
        if not upload:
            raise self._server.strange("no upload begun")
        return upload

    def _upload_of(self, name: str) -> str:
        """The object of several parts that was begun last under this key and is not whole; empty for none."""
        _, _, said = self._asked("GET", "", f"prefix={quote(name, safe='')}&uploads=")
        own = [each for each in _all(self._read(said), "Upload") if _text(each, "Key") == name]
        return max(((_text(each, "Initiated"), _text(each, "UploadId")) for each in own), default=("", ""))[1]

    def _parts(self, name: str, upload: str) -> dict[int, tuple[str, str]]:
        """ETag and checksum of the full parts that are there, without a gap, by number."""
        found: dict[int, tuple[str, str]] = {}
        marker = ""
        while True:
            query = f"part-number-marker={marker}&uploadId={quote(upload, safe='')}" if marker else ""
            _, _, said = self._asked("GET", name, query or f"uploadId={quote(upload, safe='')}")
            listed = self._read(said)
            for part in _all(listed, "Part"):
                if int(_text(part, "Size") or 0) == PART_BYTES:
                    found[int(_text(part, "PartNumber"))] = (_text(part, "ETag"), _text(part, "ChecksumSHA256"))
            marker = _text(listed, "NextPartNumberMarker")
            if _text(listed, "IsTruncated") != "true" or not marker:
                break
        whole = next(number for number in range(1, len(found) + 2) if number not in found)
        return {number: facts for number, facts in found.items() if number < whole}

    def _stored(
        self, method: str, name: str, query: str = "", *, body: bytes, headers: dict[str, str], checked: bool = False
    ) -> str:
        """Ask for what makes an object appear. Raises NameTaken where one is there that is not to give way."""
        fine = (HTTPStatus.OK, HTTPStatus.PRECONDITION_FAILED)
        status, told, said = self._asked(method, name, query, body=body, headers=headers, checked=checked, fine=fine)
        if status == HTTPStatus.PRECONDITION_FAILED:
            raise NameTaken(Said("there-is-a-file-called-already", name=name))
        # It may say that it went wrong after it has said that all is well.
        if code := _text(self._read(said), "Code") if said else "":
            raise self._server.busy(code)
        return f"{status} OK, ETag {told.get('etag') or _text(self._read(said), 'ETag')}"

    def _read(self, said: bytes) -> Element:
        try:
            return fromstring(said)
        except ParseError as error:
            raise self._server.strange(Said("what-says-no-xml")) from error

    def _asked(
        self,
        method: str,
        name: str,
        query: str = "",
        *,
        body: bytes = b"",
        headers: dict[str, str] | None = None,
        checked: bool = False,
        fine: tuple[int, ...] = (HTTPStatus.OK,),
    ) -> tuple[int, dict[str, str], bytes]:
        """Ask for something of an object, or of the bucket where it has no name; what is no success is raised."""
        address, signed = self._signed(method, name, query, body=body, headers=headers, checked=checked)
        answer, said = self._line.asked(method, address, signed, body or None)
        if answer.status not in fine:
            raise self._refused(answer, name, said)
        return answer.status, {key.lower(): value for key, value in answer.getheaders()}, said

    def _signed(
        self,
        method: str,
        name: str,
        query: str = "",
        *,
        body: bytes = b"",
        headers: dict[str, str] | None = None,
        checked: bool = False,
    ) -> tuple[str, dict[str, str]]:
        """Where to ask, and with which headers."""
        path = f"/{quote(self._bucket)}" + (f"/{quote(name)}" if name else "")
        address = f"{path}?{query}" if query else path
        host = f"[{self._server.host}]" if ":" in self._server.host else self._server.host
        top = f"{'http' if self._plain else 'https'}://{host}:{self._server.port}"
        digest = hashlib.sha256(body)
        more = (headers or {}) | {"User-Agent": "Sermovox"}
        if checked:
            # What the store holds the bytes against before it keeps them.
            more |= {"x-amz-sdk-checksum-algorithm": "SHA256", "x-amz-checksum-sha256": _in_base64(digest.digest())}
        request = AWSRequest(method, top + address, headers=more)
        request.context["sha256"] = digest.hexdigest()
        _Signer(self._credentials, "s3", self._region).add_auth(request)
        signed = dict(request.headers.items()) | {"Content-Length": str(len(body))}
        if not body and method in ("GET", "HEAD", "DELETE"):
            del signed["Content-Length"]
        return address, signed

    def _refused(self, answer, name: str, said: bytes) -> NotSent:
        code = (re.search(rb"<Code>(\w+)</Code>", said) or [b"", b""])[1].decode()
        if answer.status == HTTPStatus.FORBIDDEN and code in ("", "SignatureDoesNotMatch", "InvalidAccessKeyId"):
            return self._server.locked(code or "403 Forbidden", Said("secret-key-2"))
        if code in _FULL:
            return self._server.full(code)
        if code == "EntityTooLarge":
            return self._server.too_large(name, code)
        if code == "NoSuchBucket":
            return NotSent(Said("no-bucket-look-name-again", host=self._server.host, bucket=self._bucket))
        return self._line.refused(answer, name, Said("secret-key-2"))


class _Signer(S3SigV4Auth):
    """Signs with the hash of the body that is known already: it is hashed once."""

    def payload(self, request):
        return request.context["sha256"]


def _read(source: BinaryIO | Readable) -> bytes:
    """A whole part, or what is left."""
    chunks, left = [], PART_BYTES
    while left and (chunk := source.read(left)):
        chunks.append(chunk)
        left -= len(chunk)
    return b"".join(chunks)


def _is_part(chunk: bytes, etag: str, checksum: str) -> bool:
    """Whether a part over there is this; by its MD5, which is its ETag, where no checksum is told."""
    if checksum:
        return checksum == _in_base64(hashlib.sha256(chunk).digest())
    return etag.strip('"') == hashlib.md5(chunk, usedforsecurity=False).hexdigest()


def _in_base64(digest: bytes) -> str:
    return base64.b64encode(digest).decode()


def _all(element: Element, name: str) -> list[Element]:
    return [each for each in element.iter() if each.tag.rpartition("}")[2] == name]


def _text(element: Element, name: str) -> str:
    found = next(iter(_all(element, name)), None)
    return (found.text or "").strip() if found is not None else ""
