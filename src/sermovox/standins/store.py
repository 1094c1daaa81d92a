"""Object storage on this machine that is reached by the S3 protocol, kept by moto; it can be told to misbehave."""

import re
import threading
from pathlib import Path

from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from cheroot.wsgi import Server

from sermovox.standins.known import BUCKET, STORE
from sermovox.standins.mischief import Mischief, Slow, mischief_of, received_in
from sermovox.standins.serving import Served, serve_for_ever

REGION = "us-east-1"
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

    seen: dict[str, tuple[int, int]] = {}

    def on_disk() -> dict[str, tuple[int, int]]:
        """What lies there, with size and time."""
        files = ((path, path.stat()) for path in received_in(top).rglob("*") if path.is_file())
        return {path.relative_to(received_in(top)).as_posix(): (of.st_size, of.st_mtime_ns) for path, of in files}

    def as_on_disk() -> None:
        """What was thrown away on its page is gone here as well, and what outlived a restart is back."""
        found = on_disk()
        for name in seen.keys() - found.keys():
            kept.delete_object(BUCKET, name)
        for name in (each for each, facts in found.items() if seen.get(each) != facts):
            kept.put_object(BUCKET, name, (received_in(top) / name).read_bytes())
        seen.clear()
        seen.update(found)

    def onto_disk(name: str) -> None:
        """What a request has changed is the same there."""
        key, path = kept.get_object(BUCKET, name), received_in(top) / name
        if key is None:
            path.unlink(missing_ok=True)
            seen.pop(name, None)
        else:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(key.value)
            seen[name] = (path.stat().st_size, path.stat().st_mtime_ns)

    for left in list(kept.list_objects(kept.head_bucket(BUCKET), "", "", "", None)[0]):
        kept.delete_object(BUCKET, left.name)

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
            name = environ["PATH_INFO"].removeprefix(f"/{BUCKET}/")
            # A part is no object yet, and one that is put together is asked for by a POST.
            if name and (
                method == "DELETE" or method in ("PUT", "POST") and "partNumber" not in environ["QUERY_STRING"]
            ):
                onto_disk(name)
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
    """Serve for as long as the process lives."""
    serve_for_ever(lambda: store(top, port))


class InAThread(Served):
    """The server in a thread of its own, for as long as it is wanted."""

    def __init__(self, top: Path):
        super().__init__(store(top, 0))
