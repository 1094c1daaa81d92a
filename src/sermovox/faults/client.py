"""A visitor of the running application: plain HTTP, its cookies, and uploads by the tus protocol."""

import base64
import http.client
import json
from contextlib import suppress
from urllib.parse import urlencode

TUS = {"Tus-Resumable": "1.0.0"}
_PATIENCE_S = 45.0


class Unanswered(Exception):
    """The server is not there, or went away in the middle."""


class Visitor:
    """Signed in as the narrator of the demonstration, who needs no password on this machine."""

    def __init__(self, port: int):
        self._port = port
        self._cookies: dict[str, str] = {}

    def ask(self, method: str, address: str, body: bytes = b"", headers: dict | None = None) -> tuple[int, bytes, dict]:
        """One request. Returns status, body and headers; raises Unanswered."""
        cookies = "; ".join(f"{name}={value}" for name, value in self._cookies.items())
        sent = {"Cookie": cookies, "X-CSRFToken": self._cookies.get("csrftoken", "")} | (headers or {})
        connection = http.client.HTTPConnection("127.0.0.1", self._port, timeout=_PATIENCE_S)
        try:
            connection.request(method, address, body=body or None, headers=sent)
            answer = connection.getresponse()
            content = answer.read()
        except (OSError, http.client.HTTPException) as error:
            raise Unanswered(str(error)) from error
        finally:
            connection.close()
        for name, value in answer.getheaders():
            if name.lower() == "set-cookie":
                key, _, rest = value.partition("=")
                self._cookies[key] = rest.partition(";")[0]
        return answer.status, content, {name.lower(): value for name, value in answer.getheaders()}

    def get(self, address: str) -> tuple[int, bytes]:
        status, content, headers = self.ask("GET", address)
        for _ in range(4):
            if status not in (301, 302):
                break
            status, content, headers = self.ask("GET", headers["location"])
        return status, content

    def post(self, address: str, values: dict | None = None) -> tuple[int, str]:
        """Send a form. Returns the status and where it leads."""
        if "csrftoken" not in self._cookies:
            self.get("/productions/new/")
        body = urlencode(values or {}, doseq=True).encode()
        status, _, headers = self.ask("POST", address, body, {"Content-Type": "application/x-www-form-urlencoded"})
        return status, headers.get("location", "")

    def upload(self, production: int, name: str, data: bytes, parts: int) -> int | None:
        """Bring a recording in. Returns its key once the server says that it is here; None where it did not come."""
        said = base64.b64encode(name.encode()).decode()
        if "csrftoken" not in self._cookies:
            self.get("/productions/new/")
        headers = TUS | {"Upload-Length": str(len(data)), "Upload-Metadata": f"filename {said}"}
        into = f"/recordings/uploads/into/{production}/"
        status, _, answered = self.ask("POST", into, headers=headers)
        if status != 201:
            return None
        address = "/" + answered["location"].split("/", 3)[3]
        offset, size = 0, -(-len(data) // parts)
        for _ in range(3 * parts):
            if offset == len(data):
                break
            kind = {"Content-Type": "application/offset+octet-stream", "Upload-Offset": str(offset)}
            with suppress(Unanswered):
                self.ask("PATCH", address, data[offset : offset + size], TUS | kind)
            status, _, answered = self.ask("HEAD", address, headers=TUS)
            if status != 200:
                return None
            offset = int(answered["upload-offset"])
        status, content, _ = self.ask("GET", address)
        outcome = json.loads(content) if status == 200 else {}
        return outcome.get("recording") if outcome.get("state") == "here" else None
