"""Where in a TOML text each key stands, for messages. The text is known to be TOML."""

from __future__ import annotations

import re
import tomllib
from collections import Counter
from dataclasses import dataclass

Keys = tuple[str, ...]
_KEY = re.compile(
    r"""\s*((?:[A-Za-z0-9_-]+|"(?:[^"\\]|\\.)*"|'[^']*')(?:\s*\.\s*(?:[A-Za-z0-9_-]+|"(?:[^"\\]|\\.)*"|'[^']*'))*)\s*="""
)
_HEADER = re.compile(r"\s*\[\[?\s*(.+?)\s*\]\]?\s*(?:#.*)?$")
_PIECES = re.compile(
    r'''"""(?:[^\\]|\\.)*?"""|\'\'\'.*?\'\'\'|"(?:[^"\\\n]|\\.)*"|'[^'\n]*'|\#[^\n]*|[\[\]{}\n]''', re.DOTALL
)


@dataclass(frozen=True, slots=True)
class KeyLines:
    """The line, from 1, of each key, by the names that lead to it."""

    lines: dict[Keys, int]

    def line_of(self, keys: Keys) -> int | None:
        """Return the line of a key, or of the nearest one around it that stands on a line of its own."""
        for count in range(len(keys), 0, -1):
            if keys[:count] in self.lines:
                return self.lines[keys[:count]]
        return None


def key_lines(text: str) -> KeyLines:
    """Return where the keys of a TOML text stand; keys in inline tables have the line they are in.

    Tables of one name (`[[name]]`) have their number behind it, from 1.
    """
    lines: dict[Keys, int] = {}
    header: Keys = ()
    counts: Counter[Keys] = Counter()
    for number, statement in _statements(text):
        found = _HEADER.match(statement)
        if found and not _KEY.match(statement):
            header = _parts(found.group(1))
            if statement.lstrip().startswith("[["):
                counts[header] += 1
                header = (*header, str(counts[header]))
            for count in range(1, len(header) + 1):
                lines.setdefault(header[:count], number)
            lines[header] = min(lines[header], number)
        elif found := _KEY.match(statement):
            keys = header + _parts(found.group(1))
            for count in range(len(header) + 1, len(keys) + 1):
                lines.setdefault(keys[:count], number)
    return KeyLines(lines)


def _statements(text: str) -> list[tuple[int, str]]:
    """Return the statements with their first lines: a value may go on over several lines."""
    found: list[tuple[int, str]] = []
    depth, start, line, begin = 0, 1, 1, 0
    for match in _PIECES.finditer(text):
        piece = match.group()
        if piece == "\n":
            line += 1
            statement = text[begin : match.start()]
            if not depth:
                found.append((start, statement))
                start, begin = line, match.end()
        elif piece in "[{":
            depth += 1
        elif piece in "]}":
            depth -= 1
        else:
            line += piece.count("\n")
    found.append((start, text[begin:]))
    return found


def _parts(dotted: str) -> Keys:
    """Return the names of a dotted key."""
    found: list[str] = []
    value = tomllib.loads(f"{dotted} = 0")
    while isinstance(value, dict):
        name = next(iter(value))
        found.append(name)
        value = value[name]
    return tuple(found)
