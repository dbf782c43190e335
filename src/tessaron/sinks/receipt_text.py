"""The text of a receipt: JSON with a line for each column, sum and note, however many there are."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import fields, is_dataclass
from functools import cache

from tessaron.core.base.parsed_values import Parsed

_PLAIN = (str, int, float, bool, type(None))
_encode = json.JSONEncoder(ensure_ascii=False).encode


def plain_data(value: Parsed) -> Parsed:
    """Return dataclasses, and what is in them, as dicts and lists."""
    if isinstance(value, _PLAIN):
        return value
    if isinstance(value, dict):
        return {key: plain_data(each) for key, each in value.items()}
    if isinstance(value, (list, tuple)):
        return [plain_data(each) for each in value]
    assert is_dataclass(value)
    assert not isinstance(value, type)
    return {
        # A receipt of very many sources is nearly all plain values.
        name: each if isinstance(each := getattr(value, name), _PLAIN) else plain_data(each)
        for name in _names_of(type(value))
    }


@cache
def _names_of(kind: Parsed) -> tuple[str, ...]:
    return tuple(field.name for field in fields(kind))


def spread_json(value: Parsed, indent: str = "") -> str:
    """Return plain data as JSON; an object or array of nothing but scalars stands on one line."""
    if not isinstance(value, (dict, list)) or all(isinstance(each, _PLAIN) for each in _members(value)):
        return _encode(value)
    inner = indent + "  "
    if isinstance(value, list):
        lines = [f"{inner}{spread_json(each, inner)}" for each in value]
    else:
        lines = [f"{inner}{_encode(key)}: {spread_json(each, inner)}" for key, each in value.items()]
    opens, closes = "[]" if isinstance(value, list) else "{}"
    return f"{opens}\n" + ",\n".join(lines) + f"\n{indent}{closes}"


def _members(value: dict[str, Parsed] | list[Parsed]) -> Iterable[Parsed]:
    return value.values() if isinstance(value, dict) else value
