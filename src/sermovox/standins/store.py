"""Object storage on this machine that is reached by the S3 protocol, kept by moto; it can be told to misbehave."""

import re
import threading
import time
from pathlib import Path

from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from cheroot.wsgi import Server

from sermovox.standins.known import BUCKET, STORE
from sermovox.standins.mischief import Mischief, Slow, mischief_of, received_in

REGION = "us-east-1"
_TRIES_EVERY_S = 5.0
_DROPS_AFTER_BYTES = 20_000
_SIGNED = re.compile(r"AWS4-HMAC-SHA256 Credential=([^/]+)/[^,]+, ?SignedHeaders=([^,]+), ?Signature=(\w+)")


def store(top: Path, port: int) -> Server:
    """The server, listening on loopback once it is started. Raises OSError then where the port is taken."""
    # Loaded here, as it takes a second.
    from moto.s3.models import s3_backends
    from moto.server import create_backend_app

    received_in(top).mkdir(parents=True, exist_ok=True)
    kept = s3_backends["123456789012"]["aws"]
    if BUCKET not in kept.buckets:
        kept.create_bucket(BUCKET, REGION)
    app = create_backend_app("s3")
    one_at_a_time = threading.Lock()

    def objects():
        return {key.name: key for key in kept.list_objects(kept.head_bucket(BUCKET), "", "", "", None)[0]}

    def as_on_disk() -> None:
        """What was thrown away on its page is gone here as well, and what outlived a restart is back."""
        files = [path for path in received_in(top).rglob("*") if path.is_file()]
        found, there = {path.relative_to(received_in(top)).as_posix(): path for path in files}, objects()
        for name in there.keys() - found.keys():
            kept.delete_object(BUCKET, name)
        for name, path in found.items():
            if name not in there or there[name].size != path.stat().st_size:
                kept.put_object(BUCKET, name, path.read_bytes())

    def onto_disk() -> None:
        for name, key in objects().items():
            path = received_in(top) / name
            if not path.is_file() or path.stat().st_size != key.size:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(key.value)

    def misbehaving(environ, start_response):
        told, method = Mischief.read(mischief_of(top)), environ["REQUEST_METHOD"]
        wrong = "" if not told.refuses and _is_ours(environ) else "SignatureDoesNotMatch"
        sends = method == "PUT"
        if not wrong and sends and told.full:
            wrong = "InsufficientStorage"
        if not wrong and sends and told.drops:
            environ["wsgi.input"].read(_DROPS_AFTER_BYTES)
            told.drops -= 1
            told.keep(mischief_of(top))
            wrong = "SlowDown"
        if wrong:
            status = {"SignatureDoesNotMatch": "403 Forbidden", "SlowDown": "503 Slow Down"}
            body = f"<Error><Code>{wrong}</Code></Error>".encode() if method != "HEAD" else b""
            headers = [("Content-Length", str(len(body))), ("Connection", "close")]
            start_response(status.get(wrong, "507 Insufficient Storage"), headers)
            return [body]
        if sends and told.slow:
            environ["wsgi.input"] = Slow(environ["wsgi.input"])
        with one_at_a_time:
            as_on_disk()
            answer = app(environ, start_response)
            if method in ("PUT", "POST"):
                onto_disk()
            if method == "DELETE":
                name = environ["PATH_INFO"].removeprefix(f"/{BUCKET}/")
                if name not in objects() and (received_in(top) / name).is_file():
                    (received_in(top) / name).unlink()
        return answer

    return Server(("127.0.0.1", port), misbehaving, numthreads=4)


def _is_ours(environ) -> bool:
    """Whether a request is signed with the key that this store knows."""
    found = _SIGNED.fullmatch(environ.get("HTTP_AUTHORIZATION", ""))
    if not found or found[1] != STORE.user:
        return False
    headers = {name: environ.get(f"HTTP_{name.upper().replace('-', '_')}", "") for name in found[2].split(";")}
    query = f"?{environ['QUERY_STRING']}" if environ["QUERY_STRING"] else ""
    address = f"http://{environ['HTTP_HOST']}{environ['REQUEST_URI'].partition('?')[0]}{query}"
    request = AWSRequest(environ["REQUEST_METHOD"], address, headers=headers)
    request.context["timestamp"] = headers.get("x-amz-date", "")
    signer = S3SigV4Auth(Credentials(STORE.user, STORE.password), "s3", REGION)
    signed = signer.signature(signer.string_to_sign(request, signer.canonical_request(request)), request)
    return signed == found[3]


def serve(port: int, top: Path) -> None:
    """Serve for as long as the process lives; where somebody else has the port, wait for it."""
    while True:
        try:
            store(top, port).start()
        except OSError:
            time.sleep(_TRIES_EVERY_S)
        else:
            return


class InAThread:
    """The server in a thread of its own, for as long as it is wanted."""

    def __init__(self, top: Path):
        self._server = store(top, 0)
        self._server.prepare()
        self.port = self._server.bind_addr[1]
        self._thread = threading.Thread(target=self._server.serve, daemon=True)
        self._thread.start()

    def __enter__(self) -> "InAThread":
        return self

    def __exit__(self, *exc: object) -> None:
        self._server.stop()
        self._thread.join(5)
