"""Servers that files are sent to: which may be reached, and in one table what is said of one that does not answer."""

import ipaddress
import socket
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from django.conf import settings

from mastering.said import Said
from sermovox.dispatch.ways.carrier import LineBroke, NotSent
from sermovox.work.run import is_demonstration

PATIENCE_S = 30.0
_WITH_IPV4_AT_END = tuple(map(ipaddress.IPv6Network, ("::/96", "64:ff9b::/96", "64:ff9b:1::/48")))
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
                raise LineBroke(Said("name-cannot-looked-up-just", host=self.host)) from error
            raise NotSent(Said("there-no-server-called-look", host=self.host)) from error
        except UnicodeError as error:
            raise NotSent(Said("no-name-server", host=self.host)) from error
        number = str(found[0][4][0])
        if not _may_be_reached(number, self.port):
            raise NotSent(Said("place-in-own-network", host=self.host))
        return number

    def locked(self, said: str, opener: str = "password") -> NotSent:
        return NotSent(Said("does-not-let-look-user", host=self.host, user=self.user, said=said, opener=opener))

    def full(self, said: str) -> NotSent:
        return NotSent(Said("no-room-left-ask-room", host=self.host, said=said))

    def too_large(self, name: str, said: str) -> NotSent:
        return NotSent(Said("does-not-take-anything-large", host=self.host, name=name, said=said))

    def unfit(self, name: str, said: str) -> NotSent:
        return NotSent(Said("cannot-hold-name-change-pattern", host=self.host, name=name, said=said))

    def forbids(self, name: str, said: str) -> NotSent:
        return NotSent(
            Said("does-not-let-do-state", host=self.host, user=self.user, name=name or "its folder", said=said)
        )

    def strange(self, said: str) -> NotSent:
        return NotSent(Said("does-not-answer-would", host=self.host, protocol=self.protocol, said=said))

    def busy(self, said: str) -> LineBroke:
        return LineBroke(Said("cannot-take-just-now", host=self.host, said=said))

    def gone(self, said: str | None) -> LineBroke:
        return LineBroke(Said("line-broke", host=self.host, said=said or "it ended"))

    @contextmanager
    def answering(self) -> Iterator[None]:
        """What any line may suffer, in words."""
        try:
            yield
        except ssl.SSLCertVerificationError as error:
            raise NotSent(
                Said("certificate-not-trusted-ask-whoever", host=self.host, verify_message=error.verify_message)
            ) from error
        except (ssl.SSLEOFError, ssl.SSLZeroReturnError) as error:
            raise self.gone(None) from error
        except ssl.SSLError as error:
            raise NotSent(
                Said("knows-no-encrypted-lines-port", host=self.host, port=self.port, reason=error.reason)
            ) from error
        except TimeoutError as error:
            raise LineBroke(Said("did-not-answer-seconds", host=self.host, patience_s=PATIENCE_S)) from error
        except ConnectionRefusedError as error:
            raise LineBroke(Said("takes-no-calls-port-port", host=self.host, port=self.port)) from error
        except (EOFError, OSError) as error:
            raise self.gone(getattr(error, "strerror", None)) from error


def _may_be_reached(number: str, port: int) -> bool:
    """Not this machine's own network, unless that is allowed; the stand-ins of the demonstration are."""
    address = meant(number)
    stand_ins = range(settings.STAND_IN_PORT, settings.STAND_IN_PORT + _STAND_INS)
    stand_in = address.is_loopback and port in stand_ins and is_demonstration()
    return is_public(address) or settings.SEND_TO_OWN_NETWORK or stand_in


def meant(number: str) -> ipaddress.IPv4Address | ipaddress.IPv6Address:
    """The address that a number leads to in the end: those of IPv6 may say one of IPv4 in other words (RFC 4291 and
    3056, 4380, 6052, 8215).

    >>> str(meant("64:ff9b::7f00:1")), str(meant("2002:7f00:1::")), str(meant("::127.0.0.1")), str(meant("::1"))
    ('127.0.0.1', '127.0.0.1', '127.0.0.1', '::1')
    """
    address = ipaddress.ip_address(number.partition("%")[0])
    if isinstance(address, ipaddress.IPv4Address):
        return address
    if address.teredo:
        return address.teredo[1]
    inside = address.ipv4_mapped or address.sixtofour
    if inside is None and any(address in each for each in _WITH_IPV4_AT_END) and int(address) > 1:
        inside = ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
    return inside or address


def is_public(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bool:
    """Whether it is one machine's, reached by everybody alike."""
    site = isinstance(address, ipaddress.IPv6Address) and address.is_site_local
    return address.is_global and not (site or address.is_multicast or address.is_reserved or address.is_unspecified)
