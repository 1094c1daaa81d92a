"""Passwords of outlets, sealed under the installation's key and never shown again."""

import base64

from cryptography.fernet import Fernet, InvalidToken
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from django.conf import settings

from mastering.said import Said
from sermovox.dispatch.ways.carrier import NotSent


def sealed(text: str) -> str:
    """A secret as it may lie in the database."""
    return _fernet().encrypt(text.encode()).decode()


def opened(token: str) -> str:
    """What was sealed. Raises NotSent where that was under another key."""
    try:
        return _fernet().decrypt(token.encode()).decode()
    except InvalidToken as error:
        raise NotSent(Said("password-kept-under-another-key")) from error


def _fernet() -> Fernet:
    # A key of its own for this, derived from the installation's (RFC 5869).
    key = HKDF(algorithm=SHA256(), length=32, salt=None, info=b"sermovox: passwords of outlets")
    return Fernet(base64.urlsafe_b64encode(key.derive(settings.SECRET_KEY.encode())))
