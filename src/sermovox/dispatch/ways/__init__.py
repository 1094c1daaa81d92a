"""The ways of sending."""

from mastering.outlets.receiving import Receiving
from sermovox.dispatch.ways.carrier import Access, Carrier


def carrier_of(receiving: Receiving, access: Access) -> Carrier:
    """What sends by a way; not open yet."""
    # What encrypts takes half a second to load, and only who sends is to wait for it.
    from sermovox.dispatch.ways.registered import CARRIERS

    return CARRIERS[receiving.way](receiving, access)
