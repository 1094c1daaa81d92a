"""The ways of sending: one class each, registered here under the name that rule sheets know it by."""

from collections.abc import Callable

from mastering.outlets.receiving import Receiving
from sermovox.dispatch.ways.carrier import Carrier
from sermovox.dispatch.ways.folders import FolderCarrier
from sermovox.dispatch.ways.ftp import FtpCarrier

CARRIERS: dict[str, Callable[[Receiving, str], Carrier]] = {"folder": FolderCarrier, "ftp": FtpCarrier}


def carrier_of(receiving: Receiving, secret: str) -> Carrier:
    """What sends by a way, with its secret in plain text; not open yet."""
    return CARRIERS[receiving.way](receiving, secret)
