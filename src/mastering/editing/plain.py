"""Values as plain ones for JSON and back. What is left at its default is left out."""

from collections.abc import Iterable
from typing import Any, TypeVar

from cattrs import Converter
from cattrs.gen import make_dict_unstructure_fn

Value = TypeVar("Value")
_converter = Converter(detailed_validation=False)
_converter.register_unstructure_hook_factory(
    lambda kind: hasattr(kind, "__dataclass_fields__"),
    lambda kind: make_dict_unstructure_fn(kind, _converter, _cattrs_omit_if_default=True),
)


def as_plain(values: Iterable[Any]) -> list[dict[str, Any]]:
    """Each as a dictionary of what differs from its defaults."""
    return [_converter.unstructure(value) for value in values]


def from_plain(rows: Iterable[dict[str, Any]], kind: type[Value]) -> tuple[Value, ...]:
    """Read what `as_plain` wrote."""
    return tuple(_converter.structure(row, kind) for row in rows)
