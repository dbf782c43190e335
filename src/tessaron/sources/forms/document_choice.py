"""Which of the files in a folder or archive are documents, by their names, and in which order they stand."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from operator import itemgetter
from typing import TypeVar

from tessaron.core.base.errors import SourceError
from tessaron.sources.forms.endings import (
    ARCHIVE_ENDINGS,
    FETCH_RECEIPT,
    JSON_ENDINGS,
    PLAIN_ENDINGS,
    TABULAR_ENDINGS,
    XML_ENDINGS,
)

_File = TypeVar("_File")
_NAMED = 3
_DIGITS = re.compile(r"(\d+)")


class NoDocumentsError(SourceError):
    """A folder, archive or store has no document in it."""


def choose_documents(
    name: object, files: Sequence[_File], name_of: Callable[[_File], str], kind: str
) -> tuple[list[_File], str]:
    """Return those of some files that are documents, in the order of their names, and which others there are.

    Tables are only taken where there is neither JSON nor XML. What is hidden does not count.

    Args:
        name: The folder or archive, for messages.
        files: All files in it.
        name_of: Returns the name of one in it, with a slash between folders.
        kind: `folder` or `archive`.

    Returns:
        The documents, and words about what was passed over; empty if nothing was.

    Raises:
        SourceError: When JSON and XML are there, or nothing.
    """
    known = [(file, name_of(file)) for file in files]
    visible = [(natural_order(each), file, each) for file, each in known if not _is_hidden(each)]
    named = [(file, each, each.lower()) for _, file, each in sorted(visible, key=itemgetter(0))]
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
        raise NoDocumentsError(
            f"{name}: no JSON or XML file in this {kind} (looked for {', '.join(PLAIN_ENDINGS)} and .xml, "
            "also packed, and for tables); name the files themselves if they end differently"
        )
    # Archives among the files are read by themselves.
    taken = {id(file) for file in chosen}
    others = [
        each for file, each, lower in named if id(file) not in taken and not lower.endswith(ARCHIVE_ENDINGS)
    ]
    return chosen, _passed_over(others, kind)


def _passed_over(names: Sequence[str], kind: str) -> str:
    if not names:
        return ""
    named = ", ".join(names[:_NAMED])
    more = f" and {len(names) - _NAMED:,} more" if len(names) > _NAMED else ""
    count = f"{len(names):,} other file{'s' * (len(names) > 1)}"
    return f"{count} in this {kind} passed over: {named}{more}"


def _is_hidden(name: str) -> bool:
    if name.rpartition("/")[2] == FETCH_RECEIPT:
        return True
    if "__MACOSX" not in name and "/." not in name and name[:1] != ".":
        return False
    return any(part == "__MACOSX" or (part.startswith(".") and part != "..") for part in name.split("/"))


def natural_order(name: str) -> list[tuple[tuple[int, int | str], ...]]:
    """Return a key that sorts `part-2` before `part-10`."""
    return [
        tuple((0, int(piece)) if piece.isdecimal() else (1, piece) for piece in _DIGITS.split(part) if piece)
        for part in name.split("/")
    ]
