"""A shared folder on this machine that is reached by WebDAV, and can be told to misbehave."""

from pathlib import Path

from cheroot.ssl.builtin import BuiltinSSLAdapter
from cheroot.wsgi import Server
from wsgidav.wsgidav_app import WsgiDAVApp

from sermovox.standins.known import SHARE
from sermovox.standins.mischief import Mischief, Slow, mischief_of, received_in
from sermovox.standins.serving import Served, serve_for_ever

PATH = "dav"
_DROPS_AFTER_BYTES = 20_000


def share(top: Path, port: int, *, certificate: Path | None = None) -> Server:
    """The server, listening on loopback once it is started; encrypted where it is given a certificate with its key, as
    PEM. Raises OSError then where the port is taken.
    """
    received_in(top).mkdir(parents=True, exist_ok=True)
    dav = WsgiDAVApp(
        {
            "provider_mapping": {f"/{PATH}": str(received_in(top))},
            "simple_dc": {"user_mapping": {"*": {SHARE.user: {"password": SHARE.password}}}},
            "http_authenticator": {"accept_basic": True, "accept_digest": False, "default_to_digest": False},
            "logging": {"enable": False},
            "verbose": 0,
            "property_manager": True,
            "lock_storage": True,
        }
    )

    def misbehaving(environ, start_response):
        told = Mischief.read(mischief_of(top))
        if told.refuses:
            environ.pop("HTTP_AUTHORIZATION", None)
        if environ["REQUEST_METHOD"] == "PUT":
            if told.full:
                start_response("507 Insufficient Storage", [("Content-Length", "0"), ("Connection", "close")])
                return [b""]
            if told.drops:
                environ["wsgi.input"].read(_DROPS_AFTER_BYTES)
                told.drops -= 1
                told.keep(mischief_of(top))
                start_response("503 Service Unavailable", [("Content-Length", "0"), ("Connection", "close")])
                return [b""]
            if told.slow:
                environ["wsgi.input"] = Slow(environ["wsgi.input"])
        return dav(environ, start_response)

    server = Server(("127.0.0.1", port), misbehaving, numthreads=4)
    if certificate:
        server.ssl_adapter = BuiltinSSLAdapter(str(certificate), str(certificate))
    return server


def serve(port: int, top: Path) -> None:
    """Serve for as long as the process lives."""
    serve_for_ever(lambda: share(top, port))


class InAThread(Served):
    """The server in a thread of its own, for as long as it is wanted."""

    def __init__(self, top: Path, *, certificate: Path | None = None):
        super().__init__(share(top, 0, certificate=certificate))
