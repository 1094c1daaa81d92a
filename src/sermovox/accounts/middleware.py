"""Signing the visitor of the demonstration in."""

from django.conf import settings
from django.contrib.auth import get_user_model, login
from django.core.exceptions import MiddlewareNotUsed

from sermovox.accounts.loopback import is_from_this_machine
from sermovox.accounts.models import DEMO_USERNAME


class DemoSignIn:
    """Sign whoever sits at this machine in as the demo narrator. The start command refuses to switch this on for a
    server that listens on anything but loopback; where each request comes from is looked at as well.
    """

    def __init__(self, get_response):
        if not settings.DEMO_SIGN_IN:
            raise MiddlewareNotUsed
        self.get_response = get_response

    def __call__(self, request):
        if not request.user.is_authenticated and is_from_this_machine(request):
            narrator = get_user_model().objects.filter(username=DEMO_USERNAME).first()
            if narrator:
                login(request, narrator, backend="django.contrib.auth.backends.ModelBackend")
        return self.get_response(request)
