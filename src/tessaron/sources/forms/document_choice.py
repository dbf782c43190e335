"""Which of the files in a folder or archive are documents, by their names, and in which order they stand."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from operator import itemgetter
from pathlib import PurePath
from typing import TypeVar

from tessaron.core.base.errors import SourceError
from tessaron.sources.forms.endings import (
    ARCHIVE_ENDINGS,
    JSON_ENDINGS,
    PLAIN_ENDINGS,
    TABULAR_ENDINGS,
    XML_ENDINGS,
)

_File = TypeVar("_File")
_NAMED = 3
_DIGITS = re.compile(r"(\d+)")


def choose_documents(
    name: object, files: Sequence[_File], path_of: Callable[[_File], PurePath], kind: str
) -> tuple[list[_File], str]:
    """Return those of some files that are documents, in the order of their names, and which others there are.

    Tables are only taken where there is neither JSON nor XML. What is hidden does not count.

    Args:
        name: The folder or archive, for messages.
        files: All files in it.
        path_of: Returns the path of one in it.
        kind: `folder` or `archive`.

    Returns:
        The documents, and words about what was passed over; empty if nothing was.

    Raises:
        SourceError: When JSON and XML are there, or nothing.
    """
    known = [(file, path_of(file)) for file in files]
    visible = [
        (natural_order(path), file, path) for file, path in known if not any(map(_is_hidden, path.parts))
    ]
    named = [(file, path, path.name.lower()) for _, file, path in sorted(visible, key=itemgetter(0))]
    json_files, xml_files, tables = (
        [file for file, _, lower in named if lower.endswith(endings)]
        for endings in (JSON_ENDINGS, XML_ENDINGS, TABULAR_ENDINGS)
    )
    if json_files and xml_files:
        raise SourceError(
            f"{name}: there are {len(json_files):,} JSON files and {len(xml_files):,} XML files in this "
            f"{kind}; say which, for instance '{name}/*.xml'"
        )
    chosen = json_files or xml_files or tables
    if not chosen:
        raise SourceError(
            f"{name}: no JSON or XML file in this {kind} (looked for {', '.join(PLAIN_ENDINGS)} and .xml, "
            "also packed, and for tables); name the files themselves if they end differently"
        )
    # Archives among the files are read by themselves.
    taken = {id(file) for file in chosen}
    others = [(path, lower) for file, path, lower in named if id(file) not in taken]
    return chosen, _passed_over([path for path, lower in others if not lower.endswith(ARCHIVE_ENDINGS)], kind)


def _passed_over(paths: Sequence[PurePath], kind: str) -> str:
    if not paths:
        return ""
    named = ", ".join(path.as_posix() for path in paths[:_NAMED])
    more = f" and {len(paths) - _NAMED:,} more" if len(paths) > _NAMED else ""
    count = f"{len(paths):,} other file{'s' * (len(paths) > 1)}"
    return f"{count} in this {kind} passed over: {named}{more}"


def _is_hidden(part: str) -> bool:
    return part == "__MACOSX" or (part.startswith(".") and part != "..")


def natural_order(path: PurePath) -> list[tuple[tuple[int, int | str], ...]]:
    """Return a key that sorts `part-2` before `part-10`."""
    return [
        tuple((0, int(piece)) if piece.isdecimal() else (1, piece) for piece in _DIGITS.split(part) if piece)
        for part in path.parts
    ]
