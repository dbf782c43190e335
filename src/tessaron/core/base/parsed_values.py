"""What parsed documents are in memory: JSON, also where plain Python would lose something, XML, TOML."""

from __future__ import annotations

from typing import Any

Parsed = Any
"""A value of JSON as Python has it: None, bool, int, float or Decimal, str, list, dict."""
XmlElement = Any
"""An element of lxml, which tells checkers no types."""
TomlItem = Any
"""A table or value of tomlkit, with its comments."""


class NumberText(str):
    """A number that is kept as the digits of its text."""

    __slots__ = ()


class Pairs(tuple[tuple[str, Any], ...]):
    """The members of an object as (name, value) pairs, in the order of the text, repeated names included."""

    __slots__ = ()
