"""Lines of columns that are new, brought below the others as these stand; all else stays."""

from __future__ import annotations

import re
from collections import Counter
from itertools import pairwise

from tessaron.core.layout.texts.layout_writing import aligned_columns

_COLUMNS = re.compile(r"\s*\[\s*tables\s*\..*\.\s*columns\s*\]\s*(?:#.*)?$")
_LINE = re.compile(
    r"""(?P<key>[A-Za-z0-9_-]+|"(?:[^"\\]|\\.)*"|'[^']*')\s*=\s*
    \{(?P<value>(?:[^"'\#{}\[\]]|"(?:[^"\\]|\\.)*"|'[^']*'|\[[^\[\]]*\]|\{[^{}]*\})*)\}\s*(?:\#\s*(?P<remark>.*))?$""",
    re.VERBOSE,
)


def tidied(before: str, now: str) -> str:
    """Return a layout in which lines of columns that are new stand below the others as these do.

    Args:
        before: The layout before it was changed: lines that stand in it are left as they are.
        now: The layout.
    """
    lines, known = now.splitlines(), before.splitlines()
    blocks = set(_blocks(known).values())
    for (start, end), block in sorted(_blocks(lines).items(), reverse=True):
        if block not in blocks:
            lines[start:end] = _tidied_block(lines[start:end], set(known))
    return "\n".join(_without_gaps(known, lines)) + "\n"


def _without_gaps(before: list[str], lines: list[str]) -> list[str]:
    """Return lines without blank ones above headers that had none: right below a comment, or a key."""
    pairs = [(above, below) for above, below in pairwise(before) if above.strip() and _is_header(below)]
    comments = {above for above, _ in pairs if above.startswith("#")}
    headers = {below for _, below in pairs}
    made: list[str] = []
    for line, below in pairwise([*lines, ""]):
        is_gap = not line.strip() and _is_header(below) and bool(made)
        if not is_gap or not (below in headers or made[-1] in comments):
            made.append(line)
    return made


def _is_header(line: str) -> bool:
    return line.lstrip().startswith("[")


def _blocks(lines: list[str]) -> dict[tuple[int, int], str]:
    """Return the lines of columns below each header of columns: where they are, and what."""
    found: dict[tuple[int, int], str] = {}
    for index, line in enumerate(lines):
        if _COLUMNS.match(line):
            end = index + 1
            while end < len(lines) and lines[end].strip() and lines[end].lstrip()[:1] not in "#[":
                end += 1
            found[index + 1, end] = "\n".join(lines[index:end])
    return found


def _tidied_block(lines: list[str], known: set[str]) -> list[str]:
    """Return lines of columns, the new ones as the others stand; all as they are if one is no such line."""
    found = [_LINE.match(line) for line in lines]
    rows = [
        (each["key"], "{ " + each["value"].strip() + " }", (each["remark"] or "").strip())
        for each in found
        if each is not None
    ]
    if len(rows) < len(lines):
        return lines
    kept = [line for line in lines if line in known]
    if not kept:
        return aligned_columns(rows) if rows else lines
    equals = Counter(line.index("=") for line in kept).most_common(1)[0][0]
    remarks = Counter(
        len(line) - len(each["remark"])
        for line, each in zip(lines, found, strict=True)
        if each and each["remark"] and line in known
    )
    column = remarks.most_common(1)[0][0] - 2 if remarks else 0
    return [
        line if line in known else _as_others(row, equals, column)
        for line, row in zip(lines, rows, strict=True)
    ]


def _as_others(row: tuple[str, str, str], equals: int, column: int) -> str:
    """Return the line of a column, its sign and its remark where those of others are, if there is room."""
    key, value, remark = row
    head = f"{key:<{equals - 1}} = {value}"
    return f"{head.ljust(column - 2)}  # {remark}" if remark else head
