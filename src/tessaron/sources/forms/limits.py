"""Limits that keep a hostile source from using up the machine; environment variables change them."""

from __future__ import annotations

import os
import re

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes

EXPANSION_VARIABLE, RECORD_VARIABLE = "TESSARON_EXPANSION_LIMIT", "TESSARON_RECORD_LIMIT"
_EXPANSION = 1_000
"""Compressed data may come out as so many times its bytes, unless a variable says otherwise."""
FREE_BYTES = 1024**3
"""So much may come out of any compressed source."""
_RECORD_BYTES = 1024**3
"""The longest record, unless a variable says otherwise."""


def expansion_limit() -> int:
    """Return how many times its bytes compressed data may come out as.

    Raises:
        UsageError: When the variable holds no number.
    """
    return _number(EXPANSION_VARIABLE, _EXPANSION)


def record_limit() -> int:
    """Return the most bytes of one record, or of one document that has to be held whole.

    Raises:
        UsageError: When the variable holds no number.
    """
    return _number(RECORD_VARIABLE, _RECORD_BYTES)


def _number(variable: str, otherwise: int) -> int:
    text = os.environ.get(variable, "").strip()
    if not text:
        return otherwise
    if not re.fullmatch(r"[0-9]{1,15}", text) or not int(text):
        raise UsageError(f"expected {variable} to be a number from 1, got {in_quotes(text)}")
    return int(text)
