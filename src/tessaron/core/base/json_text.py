"""Parsed JSON written as text again, with the digits of its numbers, and as plain Python values."""

from __future__ import annotations

import json
import re
from decimal import Decimal
from json.encoder import encode_basestring, encode_basestring_ascii
from typing import Any

from tessaron.core.base.parsed_values import NumberText, Pairs, Parsed

_SURROGATE = re.compile("[\ud800-\udfff]")


def json_text(value: Parsed, ascii_only: bool = True) -> str:
    """Return a parsed value as compact JSON text, with the digits of its numbers, without recursion.

    Args:
        value: Objects as dicts or `Pairs`, arrays as lists, numbers as int or `NumberText`.
        ascii_only: Whether other characters are written as escapes. Half surrogates always are.
    """
    quoted = encode_basestring_ascii if ascii_only else quoted_text
    if not isinstance(value, (dict, list, tuple)):
        return _scalar_text(value, quoted)
    pieces: list[str] = []
    pending: list[Any] = [value]
    while pending:
        item = pending.pop()
        if isinstance(item, _Verbatim):
            pieces.append(item)
        elif isinstance(item, (Pairs, dict)):
            pairs = list(item.items() if isinstance(item, dict) else item)
            parts: list[Any] = [_Verbatim("{")]
            for index, (name, inner) in enumerate(pairs):
                parts += [_Verbatim(("," if index else "") + quoted(name) + ":"), inner]
            pending.extend(reversed([*parts, _Verbatim("}")]))
        elif isinstance(item, (list, tuple)):
            parts = [_Verbatim("[")]
            for index, inner in enumerate(item):
                parts += [_Verbatim(","), inner] if index else [inner]
            pending.extend(reversed([*parts, _Verbatim("]")]))
        else:
            pieces.append(_scalar_text(item, quoted))
    return "".join(pieces)


def indented_text(value: Parsed, indent: int) -> str:
    """Return a parsed value as JSON text in lines, each level indented by so many spaces more."""
    pieces: list[str] = []
    pending: list[tuple[Any, int]] = [(value, 0)]
    while pending:
        item, depth = pending.pop()
        if isinstance(item, _Verbatim):
            pieces.append(item)
        elif isinstance(item, (Pairs, dict, list)) and item:
            line, last = "\n" + " " * indent * (depth + 1), "\n" + " " * indent * depth
            is_array = isinstance(item, list)
            parts: list[tuple[Any, int]] = [(_Verbatim("[" if is_array else "{"), 0)]
            members = enumerate(item) if is_array else item.items() if isinstance(item, dict) else item
            for index, (name, inner) in enumerate(members):
                head = "" if is_array else quoted_text(name) + ": "
                parts += [(_Verbatim(("," if index else "") + line + head), 0), (inner, depth + 1)]
            pending.extend(reversed([*parts, (_Verbatim(last + ("]" if is_array else "}")), 0)]))
        else:
            pieces.append(json_text(item, ascii_only=False))
    return "".join(pieces)


def _scalar_text(value: Parsed, quoted: Parsed) -> str:
    if isinstance(value, (NumberText, Decimal)):
        return str(value)
    return str(quoted(value)) if isinstance(value, str) else json.dumps(value, default=str)


def quoted_text(text: str) -> str:
    """Return a text as JSON, in its own letters; half surrogates, which UTF-8 cannot hold, as escapes."""
    return _SURROGATE.sub(lambda found: f"\\u{ord(found.group()):04x}", encode_basestring(text))


def plain_value(value: Parsed) -> Parsed:
    """Return a parsed value as plain Python: dict, list, str, int, bool, None; a fraction as Decimal."""
    holder: list[Any] = [value]
    pending: list[tuple[Any, Any]] = [(holder, 0)]
    while pending:
        container, key = pending.pop()
        item = container[key]
        if isinstance(item, NumberText):
            container[key] = int(item) if item.lstrip("-").isdigit() else Decimal(item)
        elif isinstance(item, (dict, Pairs)):
            made = container[key] = dict(item)
            pending.extend((made, name) for name in made)
        elif isinstance(item, list):
            copied = container[key] = list(item)
            pending.extend((copied, index) for index in range(len(copied)))
    return holder[0]


class _Verbatim(str):
    """A piece of JSON text to be written as it is."""

    __slots__ = ()
