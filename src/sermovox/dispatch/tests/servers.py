"""An FTP server of the tests, which can be told to misbehave."""

import socket
import ssl
import threading
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.handlers import DTPHandler, FTPHandler, TLS_FTPHandler
from pyftpdlib.ioloop import IOLoop
from pyftpdlib.servers import FTPServer

USER, PASSWORD = "station", "brine & rye"


class Mischief:
    """What the server does wrong: lets the line drop after so many bytes of a file, has no room, lies about sizes."""

    def __init__(self):
        self.drops_after_bytes: list[int] = []
        self.is_full = False
        self.size_off_by = 0
        self.stored: list[str] = []
        self.received_bytes = 0


def _handlers(mischief: Mischief, encrypted: bool):
    class Data(DTPHandler):
        ac_in_buffer_size = 2048

        def handle_read(self):
            super().handle_read()
            if mischief.drops_after_bytes and self.get_transmitted_bytes() >= mischief.drops_after_bytes[0]:
                mischief.drops_after_bytes.pop(0)
                self.cmd_channel.close()

        handle_read_event = handle_read

    class Handler(TLS_FTPHandler if encrypted else FTPHandler):
        def ftp_STOR(self, file, mode="w"):
            if mischief.is_full:
                self.respond("552 No space left.")
                return None
            return super().ftp_STOR(file, mode)

        def ftp_SIZE(self, path):
            if mischief.size_off_by and not path.endswith(".part") and Path(path).is_file():
                self.respond(f"213 {Path(path).stat().st_size + mischief.size_off_by}")
                return None
            return super().ftp_SIZE(path)

        def on_file_received(self, file):
            mischief.stored.append(Path(file).name)

    if not encrypted:
        Handler.dtp_handler = Data
    return Handler


@contextmanager
def ftp_server(folder: Path, *, certificate: Path | None = None):
    """A server that keeps what it receives in a folder; yields its port and what it can be told to do wrong."""
    mischief = Mischief()
    handler = _handlers(mischief, certificate is not None)
    handler.authorizer = DummyAuthorizer()
    handler.authorizer.add_user(USER, PASSWORD, str(folder), perm="elradfmwMT")
    handler.auth_failed_timeout = 0
    handler.use_sendfile = False
    if certificate:
        handler.certfile = str(certificate)
        handler.tls_control_required = handler.tls_data_required = True
    # Not the loop that all servers of a process share.
    server = FTPServer(("127.0.0.1", 0), handler, ioloop=IOLoop())
    thread = threading.Thread(target=server.serve_forever, kwargs={"timeout": 0.05, "handle_exit": False}, daemon=True)
    thread.start()
    try:
        yield server.address[1], mischief
    finally:
        server.close_all()
        thread.join(5)


def certificate(folder: Path, *, name: str = "localhost", days: int = 30) -> Path:
    """A certificate that nobody has signed but itself, with its key, as PEM."""
    key = ec.generate_private_key(ec.SECP256R1())
    who = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(who)
        .issuer_name(who)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=60))
        .not_valid_after(now + timedelta(days=days))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name)]), critical=False)
        .sign(key, hashes.SHA256())
    )
    path = folder / f"{name}.pem"
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    path.write_bytes(private + made.public_bytes(serialization.Encoding.PEM))
    return path


def trusting(path: Path):
    """What makes a context that trusts this certificate, in place of `ssl.create_default_context`."""
    made = ssl.create_default_context

    def context(*arguments, **more):
        found = made(*arguments, **more)
        found.load_verify_locations(path)
        return found

    return context


def free_port() -> int:
    """A port at which nobody answers."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]
