"""Whether somebody sits at this machine."""

import ipaddress

from django.http import HttpRequest

_FORWARDED = ("HTTP_FORWARDED", "HTTP_VIA", "HTTP_X_REAL_IP", "HTTP_X_CLIENT_IP", "HTTP_TRUE_CLIENT_IP")
_FORWARDED_ALSO = "HTTP_X_FORWARDED"


def is_loopback(address: str) -> bool:
    """Whether an address can only be reached from this machine.

    >>> is_loopback("127.0.0.1"), is_loopback("::1"), is_loopback("0.0.0.0")
    (True, True, False)
    """
    if address == "localhost":
        return True
    try:
        return ipaddress.ip_address(address).is_loopback
    except ValueError:
        return False


def is_from_this_machine(request: HttpRequest) -> bool:
    """Whether a request was made on this machine: it comes from a loopback address and asks for one, and nothing has
    passed it on for somebody else.
    """
    passed_on = any(name in _FORWARDED or name.startswith(_FORWARDED_ALSO) for name in request.META)
    return (
        is_loopback(request.META.get("REMOTE_ADDR", "")) and is_loopback(_host_of(request.get_host())) and not passed_on
    )


def _host_of(named: str) -> str:
    """The host of a host and a port, such as those of `Host`."""
    host = named if named.endswith("]") else named.rpartition(":")[0] or named
    return host.strip("[]")
