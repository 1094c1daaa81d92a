"""Servers that files are sent to: which may be reached, and in one table what is said of one that does not answer."""

import ipaddress
import socket
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from django.conf import settings

from sermovox.dispatch.ways.carrier import LineBroke, NotSent
from sermovox.running import is_demonstration

PATIENCE_S = 30.0
_STAND_INS = 6


@dataclass(frozen=True)
class Server:
    """A server as it is stated; `protocol` is what it is to speak, `user` who is to be let in."""

    protocol: str
    host: str
    port: int
    user: str = ""

    def number(self) -> str:
        """Its number by its name, looked up once, so that what is reached is what was allowed.

        Raises NotSent for a name that is not found or may not be reached, LineBroke where names cannot be looked up
        now.
        """
        try:
            found = socket.getaddrinfo(self.host, self.port, type=socket.SOCK_STREAM)
        except socket.gaierror as error:
            if error.errno == socket.EAI_AGAIN:
                raise LineBroke(f"The name {self.host} cannot be looked up just now. Is there a network?") from error
            raise NotSent(f"There is no server called {self.host}. Look at its name again.") from error
        except UnicodeError as error:
            raise NotSent(f"“{self.host}” is no name of a server.") from error
        number = str(found[0][4][0])
        if not _may_be_reached(number, self.port):
            raise NotSent(
                f"{self.host} is a place in this machine's own network, which may not be reached from here. Whoever "
                "looks after Sermovox can allow that (SERMOVOX_SEND_TO_OWN_NETWORK=1)."
            )
        return number

    def locked(self, said: str, opener: str = "password") -> NotSent:
        return NotSent(f"{self.host} does not let “{self.user}” in ({said}). Look at user and {opener} again.")

    def full(self, said: str) -> NotSent:
        return NotSent(f"{self.host} has no room left ({said}). Ask for room, then try again.")

    def too_large(self, name: str, said: str) -> NotSent:
        return NotSent(f"{self.host} does not take anything as large as {name} ({said}). Ask whoever runs it.")

    def unfit(self, name: str, said: str) -> NotSent:
        return NotSent(f"{self.host} cannot hold the name {name} ({said}). Change the pattern.")

    def forbids(self, name: str, said: str) -> NotSent:
        return NotSent(
            f"{self.host} does not let “{self.user}” do that with {name or 'its folder'} ({said}). State another "
            "folder, or ask whoever runs it."
        )

    def strange(self, said: str) -> NotSent:
        return NotSent(f"{self.host} does not answer as {self.protocol} would ({said}).")

    def busy(self, said: str) -> LineBroke:
        return LineBroke(f"{self.host} cannot take it just now ({said}).")

    def gone(self, said: str | None) -> LineBroke:
        return LineBroke(f"The line to {self.host} broke ({said or 'it ended'}).")

    @contextmanager
    def answering(self) -> Iterator[None]:
        """What any line may suffer, in words."""
        try:
            yield
        except ssl.SSLCertVerificationError as error:
            raise NotSent(
                f"The certificate of {self.host} is not to be trusted: {error.verify_message}. Ask whoever runs it; "
                "nothing was sent."
            ) from error
        except (ssl.SSLEOFError, ssl.SSLZeroReturnError) as error:
            raise self.gone(None) from error
        except ssl.SSLError as error:
            raise NotSent(f"{self.host} knows no encrypted lines at port {self.port} ({error.reason}).") from error
        except TimeoutError as error:
            raise LineBroke(f"{self.host} did not answer for {PATIENCE_S:.0f} seconds.") from error
        except ConnectionRefusedError as error:
            raise LineBroke(f"{self.host} takes no calls at port {self.port}. Is the port right?") from error
        except (EOFError, OSError) as error:
            raise self.gone(getattr(error, "strerror", None)) from error


def _may_be_reached(number: str, port: int) -> bool:
    """Not this machine's own network, unless that is allowed; the stand-ins of the demonstration are."""
    address = ipaddress.ip_address(number.partition("%")[0])
    if isinstance(address, ipaddress.IPv6Address) and address.ipv4_mapped:
        address = address.ipv4_mapped
    stand_ins = range(settings.STAND_IN_PORT, settings.STAND_IN_PORT + _STAND_INS)
    stand_in = address.is_loopback and port in stand_ins and is_demonstration()
    return address.is_global or settings.SEND_TO_OWN_NETWORK or stand_in
