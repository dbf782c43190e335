"""The lines of a layout file that belong to one table: from the comments above its header to the next."""

from __future__ import annotations

import re

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.expressions.expression_faults import nearest

_HEADER = re.compile(
    r"\s*\[\s*tables\s*\.\s*(?P<name>\"(?:[^\"\\]|\\.)*\"|'[^']*'|[A-Za-z0-9_-]+)\s*(?P<rest>[.\]])"
)
_ANY_HEADER = re.compile(r"\s*\[")


def has_block(text: str, table: str) -> bool:
    """Say whether a header names a table; else it is written in another form of TOML, or not there."""
    found = map(_HEADER.match, text.splitlines())
    return any(each is not None and _unquoted(each["name"]) == table for each in found)


def block_of(text: str, table: str) -> str:
    """Return the lines of a table, comments above it included.

    Raises:
        UsageError: When no header names it.
    """
    lines = text.splitlines(keepends=True)
    start, end = _bounds(lines, table)
    return "".join(lines[start:end]).rstrip("\n") + "\n"


def without_table(text: str, table: str) -> str:
    """Return a layout without the lines of a table.

    Raises:
        UsageError: When no header names it.
    """
    lines = text.splitlines(keepends=True)
    start, end = _bounds(lines, table)
    before = "".join(lines[:start]).rstrip("\n")
    behind = "".join(lines[end:]).lstrip("\n")
    return f"{before}\n\n{behind}" if before and behind else f"{before}\n" if before else behind


def _bounds(lines: list[str], table: str) -> tuple[int, int]:
    """Return the first line of a table, and that behind its last."""
    start: int | None = None
    names = []
    for index, line in enumerate(lines):
        found = _HEADER.match(line)
        name = None if found is None else _unquoted(found["name"])
        names += [name] if name is not None else []
        if name == table and start is None:
            start = _above(lines, index)
        elif start is not None and name != table and _ANY_HEADER.match(line):
            return start, _above(lines, index)
    if start is None:
        raise UsageError(f"no table {in_quotes(table)} in the layout; {nearest(table, dict.fromkeys(names))}")
    return start, len(lines)


def _above(lines: list[str], header: int) -> int:
    """Return the first of the lines of comment right above a header."""
    while header and lines[header - 1].lstrip().startswith("#"):
        header -= 1
    return header


def _unquoted(name: str) -> str:
    if name[:1] == "'":
        return name[1:-1]
    return re.sub(r"\\(.)", r"\1", name[1:-1]) if name[:1] == '"' else name
