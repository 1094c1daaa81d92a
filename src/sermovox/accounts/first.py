"""The first account, which is the owner's: made without a shell, and by nobody else.

On a server that only this machine can reach, whoever opens it makes it. Elsewhere it takes a link that is printed where
the server is started. Either is good until there is an account. Which of them it is lies in the data folder, a link as
its hash alone.
"""

import hashlib
import os
import secrets
from pathlib import Path

from django.conf import settings
from django.contrib.auth import get_user_model
from django.db import transaction
from django.urls import reverse

from sermovox.accounts import people
from sermovox.accounts.loopback import is_from_this_machine, is_loopback

_THIS_MACHINE = "here"


def is_wanted() -> bool:
    """Whether there is no account yet."""
    return not get_user_model().objects.exists()


def is_for_this_machine_alone() -> bool:
    """Whether the server answers to no name but those of this machine."""
    return not settings.PUBLIC_ADDRESS and all(is_loopback(host.strip("[]")) for host in settings.ALLOWED_HOSTS)


def let_this_machine() -> None:
    """Whoever sits at this machine may make it from now on."""
    _keep(_THIS_MACHINE)


def link(address: str) -> str:
    """A new link, by which alone it can be made from now on."""
    token = secrets.token_urlsafe(24)
    _keep(hashlib.sha256(token.encode()).hexdigest())
    return f"{address.rstrip('/')}{reverse('accounts:first-by-link', args=[token])}"


def may_make(request, token: str = "") -> bool:
    """Whether whoever asks may make the first account: they have the link, or sit at this machine."""
    try:
        kept = _kept_in().read_text()
    except OSError:
        return False
    if kept == _THIS_MACHINE:
        allowed = is_from_this_machine(request)
    else:
        allowed = secrets.compare_digest(hashlib.sha256(token.encode()).hexdigest(), kept)
    return allowed and is_wanted()


def make(form):
    """Keep the account of a form as the owner's; None where somebody else was quicker."""
    with transaction.atomic():
        if not is_wanted():
            return None
        given = form.cleaned_data
        owner = people.add(given["username"], given["password1"], called=given["first_name"])
    _kept_in().unlink(missing_ok=True)
    return owner


def _keep(what: str) -> None:
    with open(_kept_in(), "w", opener=lambda name, flags: os.open(name, flags, 0o600)) as file:
        file.write(what)


def _kept_in() -> Path:
    return Path(settings.DATA_DIR) / "first-account"
