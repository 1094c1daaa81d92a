"""The stand-in of a station in a thread of the tests, and certificates."""

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

from sermovox.standins.mischief import Mischief, mischief_of
from sermovox.standins.station import station


@contextmanager
def station_at(top: Path, *, certificate: Path | None = None):
    """A station that keeps what it receives below a folder; yields its port."""
    server = station(top, 0, certificate=certificate)
    thread = threading.Thread(target=server.serve_forever, kwargs={"timeout": 0.05, "handle_exit": False}, daemon=True)
    thread.start()
    try:
        yield server.address[1]
    finally:
        server.close_all()
        thread.join(5)


def misbehave(top: Path, **facts) -> None:
    """Tell a station what to do wrong."""
    Mischief(**facts).keep(mischief_of(top))


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
