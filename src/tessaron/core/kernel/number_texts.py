"""Texts that are numbers, told apart from the others: in XML, where all is text, they are typed.

Only spellings that a number gives back exactly count: `12`, `-3.50`; neither `007` nor `+1` nor `1e3`.
"""

from __future__ import annotations

import re

from tessaron.core.base.kinds import Kind

_INTEGER = "^(?:0|-?[1-9][0-9]*)$"
_FRACTION = r"^-?(?:0|[1-9][0-9]*)\.[0-9]+$"
_ONE = re.compile(f"({_INTEGER})|({_FRACTION})")
_SURE_DIGITS = 18
"""Integers of so many digits fit 64 bits."""
_INT64_LEAST, _INT64_MOST = -(2**63), 2**63 - 1


def kind_of_text(text: str) -> Kind:
    """Return what a text is: a number if a number gives it back exactly."""
    found = _ONE.fullmatch(text)
    if found is None:
        return Kind.TEXT
    if found[2]:
        return Kind.FRACTION
    return Kind.INTEGER if len(text) <= _SURE_DIGITS or _fits(text) else Kind.LONG_INTEGER


def _fits(text: str) -> bool:
    return len(text) <= 20 and _INT64_LEAST <= int(text) <= _INT64_MOST
