"""Signing the visitor of the demonstration in."""

import ipaddress

from django.conf import settings
from django.contrib.auth import get_user_model, login
from django.core.exceptions import MiddlewareNotUsed

from sermovox.accounts.models import DEMO_USERNAME


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


class DemoSignIn:
    """Sign whoever comes from this machine in as the demo narrator. The start command refuses to switch this
    on for a server that listens on anything but loopback; the visitor's own address is looked at as well."""

    def __init__(self, get_response):
        if not settings.DEMO_SIGN_IN:
            raise MiddlewareNotUsed
        self.get_response = get_response

    def __call__(self, request):
        if not request.user.is_authenticated and is_loopback(request.META.get("REMOTE_ADDR", "")):
            narrator = get_user_model().objects.filter(username=DEMO_USERNAME).first()
            if narrator:
                login(request, narrator, backend="django.contrib.auth.backends.ModelBackend")
        return self.get_response(request)
