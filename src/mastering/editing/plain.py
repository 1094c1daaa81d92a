"""Values as plain ones for JSON and back. What is left at its default is left out.

What is kept by another name than its field has that as `key` in the field's metadata.
"""

from collections.abc import Iterable
from dataclasses import fields, is_dataclass
from typing import Any, TypeVar

from cattrs import Converter
from cattrs.gen import make_dict_structure_fn, make_dict_unstructure_fn, override

Value = TypeVar("Value")
_converter = Converter(detailed_validation=False)


def _kept_by(kind: type) -> dict[str, Any]:
    return {each.name: override(rename=key) for each in fields(kind) if (key := each.metadata.get("key"))}


_converter.register_unstructure_hook_factory(
    is_dataclass,
    lambda kind: make_dict_unstructure_fn(kind, _converter, _cattrs_omit_if_default=True, **_kept_by(kind)),
)
_converter.register_structure_hook_factory(
    is_dataclass, lambda kind: make_dict_structure_fn(kind, _converter, **_kept_by(kind))
)


def as_plain(values: Iterable[Any]) -> list[dict[str, Any]]:
    """Each as a dictionary of what differs from its defaults."""
    return [_converter.unstructure(value) for value in values]


def from_plain(rows: Iterable[dict[str, Any]], kind: type[Value]) -> tuple[Value, ...]:
    """Read what `as_plain` wrote."""
    return tuple(_converter.structure(row, kind) for row in rows)
