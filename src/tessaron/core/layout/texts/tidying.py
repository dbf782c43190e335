"""Lines of columns that were changed, brought below each other again as a draft has them; all else stays."""

from __future__ import annotations

import re
from itertools import pairwise

from tessaron.core.layout.texts.layout_writing import aligned_columns

_COLUMNS = re.compile(r"\s*\[\s*tables\s*\..*\.\s*columns\s*\]\s*(?:#.*)?$")
_LINE = re.compile(
    r"""(?P<key>[A-Za-z0-9_-]+|"(?:[^"\\]|\\.)*"|'[^']*')\s*=\s*
    \{(?P<value>(?:[^"'\#{}\[\]]|"(?:[^"\\]|\\.)*"|'[^']*'|\[[^\[\]]*\]|\{[^{}]*\})*)\}\s*(?:\#\s*(?P<remark>.*))?$""",
    re.VERBOSE,
)


def tidied(before: str, now: str) -> str:
    """Return a layout with the columns of each table below each other, where they are not as before.

    Args:
        before: The layout before it was changed: what stands in it is left as it is.
        now: The layout.
    """
    lines, known = now.splitlines(), set(_blocks(before.splitlines()).values())
    for (start, end), block in sorted(_blocks(lines).items(), reverse=True):
        if block not in known:
            lines[start:end] = _tidied_block(lines[start:end])
    return "\n".join(_without_gaps(before.splitlines(), lines)) + "\n"


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


def _tidied_block(lines: list[str]) -> list[str]:
    """Return lines of columns below each other; as they are, if one of them is no such line."""
    found = [_LINE.match(line) for line in lines]
    rows = [
        (each["key"], "{ " + each["value"].strip() + " }", (each["remark"] or "").strip())
        for each in found
        if each is not None
    ]
    return aligned_columns(rows) if rows and len(rows) == len(lines) else lines
