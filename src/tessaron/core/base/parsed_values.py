"""How parsed JSON stands in memory where plain Python values would lose something."""

from __future__ import annotations

from typing import Any


class NumberText(str):
    """A number that is kept as the digits of its text."""

    __slots__ = ()


class Pairs(tuple[tuple[str, Any], ...]):
    """The members of an object as (name, value) pairs, in the order of the text, repeated names included."""

    __slots__ = ()
