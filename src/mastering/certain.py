"""Values that may be missing elsewhere, and are known to be there where they are asked for."""

from typing import TypeVar

Value = TypeVar("Value")


def certain(value: Value | None) -> Value:
    """A value that whoever calls has made sure of. Raises ValueError where it is missing all the same."""
    if value is None:
        raise ValueError("a value that was certain to be there is missing")
    return value
