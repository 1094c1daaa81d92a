"""What can be done about a row of a proof sheet, and what of it is heard."""

from django import template

from mastering.said import Said
from sermovox.proofing.sheet import FINE, OPEN, PUT_IN, STRUCK, WANTED, Row

register = template.Library()


@register.filter
def ways_to_settle(row: Row) -> list[tuple[str, str]]:
    """What can be said about a row, each with its words."""
    if row.settled in (STRUCK, PUT_IN):
        return []
    ways: list[tuple[str, str, bool]] = [
        (FINE, Said("it-is-fine"), True),
        (WANTED, Said("read-it-again"), row.can_be_read_again),
    ]
    ways += [(STRUCK, Said("strike-it-out"), row.can_be_struck)]
    open_again: list[tuple[str, str]] = [(OPEN, Said("open-it-again"))] if row.settled else []
    return [(way, label) for way, label, can in ways if can and way != row.settled] + open_again


@register.simple_tag
def samples_of(row: Row, rate_hz: int, frames: int) -> str:
    """What is heard of a row, as a query."""
    start_s, end_s = row.heard_s
    return f"start={round(start_s * rate_hz)}&end={min(frames, round(end_s * rate_hz))}"
