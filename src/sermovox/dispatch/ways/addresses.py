"""Which servers may be reached: not this machine's own network, unless that is allowed."""

import ipaddress
import socket

from django.conf import settings

from sermovox.dispatch.ways.carrier import LineBroke, NotSent


def allowed_number(host: str, port: int) -> str:
    """The number of a server by its name, looked up once, so that what is reached is what was allowed.

    Raises NotSent for a name that is not found or may not be reached, LineBroke where names cannot be looked up now.
    """
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except socket.gaierror as error:
        if error.errno == socket.EAI_AGAIN:
            raise LineBroke(f"The name {host} cannot be looked up just now. Is there a network?") from error
        raise NotSent(f"There is no server called {host}. Look at its name again.") from error
    except UnicodeError as error:
        raise NotSent(f"“{host}” is no name of a server.") from error
    number = str(found[0][4][0])
    address = ipaddress.ip_address(number.partition("%")[0])
    if isinstance(address, ipaddress.IPv6Address) and address.ipv4_mapped:
        address = address.ipv4_mapped
    stand_in = (
        settings.DEMO_SIGN_IN
        and address.is_loopback
        and port in range(settings.STAND_IN_PORT, settings.STAND_IN_PORT + 3)
    )
    if not address.is_global and not settings.SEND_TO_OWN_NETWORK and not stand_in:
        raise NotSent(
            f"{host} is a place in this machine's own network, which may not be reached from here. Whoever looks after "
            "Sermovox can allow that (SERMOVOX_SEND_TO_OWN_NETWORK=1)."
        )
    return number
