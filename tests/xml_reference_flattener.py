"""A second reading of docs/xml.md, in plain Python over lxml's trees: see `reference_flattener`.

A path is a tuple of names from the record down, attributes with `@`; repetition leaves no mark in it, and the text of
an element has the element's own path. Structures that contain themselves, namespaces and nil are left to other tests.
"""

from __future__ import annotations

import re
from copy import deepcopy
from typing import Any

from lxml import etree

Path = tuple[str, ...]
Row = tuple[int, int | None, int | None, dict[Path, str]]
_NUMBER = re.compile(r"-?(0|[1-9][0-9]*)\Z")
_BOOLEANS = {"true", "false"}


class FlattenedXml:
    """The tables of some elements: by path of their level, rows of (key, parent's key, ordinal, values by path)."""

    def __init__(self, records: list[Any], way: Path = ()) -> None:
        self._way = way
        self._repeated: set[Path] = set()
        for record in records:
            self._look((), record)
        self.tables: dict[Path, list[Row]] = {(): []}
        self.rows_of: dict[Any, int] = {}
        for path in sorted(self._repeated, key=len):
            self.tables[path] = []
        for record in records:
            self._row((), None, None, record)
        self._leave_out_blanks()

    def _look(self, path: Path, element: Any) -> None:
        names = [child.tag for child in element.iterchildren("*")]
        self._repeated |= {(*path, name) for name in names if names.count(name) > 1}
        for child in element.iterchildren("*"):
            self._look((*path, child.tag), child)

    def _row(self, path: Path, parent: int | None, ordinal: int | None, element: Any) -> None:
        rows = self.tables[path]
        key = len(rows) + 1
        self.rows_of[element] = key
        values: dict[Path, str] = {}
        rows.append((key, parent, ordinal, values))
        self._place(path, key, values, element, is_record=not path)

    def _place(
        self, path: Path, key: int, values: dict[Path, str], element: Any, is_record: bool = False
    ) -> None:
        for name, text in element.items():
            values[(*path, f"@{name}")] = text
        inside = list(element.iterchildren("*"))
        text = "".join([element.text or "", *(child.tail or "" for child in element)]).strip(" \t\r\n")
        if text or not (inside or element.keys() or is_record):
            values[path] = text
        seen: dict[str, int] = {}
        for child in inside:
            below = (*path, child.tag)
            if below in self._repeated:
                seen[child.tag] = seen.get(child.tag, 0) + 1
                self._row(below, key, seen[child.tag], child)
            else:
                self._place(below, key, values, child)

    def _leave_out_blanks(self) -> None:
        """Empty texts are null in a column of numbers or booleans, and nothing where others hold elements."""
        for rows in self.tables.values():
            texts: dict[Path, list[str]] = {}
            for _, _, _, values in rows:
                for path, text in values.items():
                    texts.setdefault(path, []).append(text)
            for path, found in texts.items():
                filled = {text for text in found if text}
                is_typed = filled == _BOOLEANS or (bool(filled) and all(map(_NUMBER.match, filled)))
                if is_typed or (not filled and self._holds_more(path)):
                    for _, _, _, values in rows:
                        if values.get(path) == "":
                            del values[path]

    def _holds_more(self, path: Path) -> bool:
        """Say whether an element at a path ever holds attributes or elements, or records stood in it."""
        if path and path == self._way[: len(path)]:
            return True
        below = [at for rows in self.tables.values() for row in rows for at in row[3]]
        return any(len(at) > len(path) and at[: len(path)] == path for at in (*below, *self.tables))


def without_records(root: Any, way: list[str]) -> tuple[Any, list[Any], list[Any]]:
    """Return a document without its records, these, and of each the element that it stood in.

    Args:
        root: The document.
        way: The names from the root, which is left out, to the records.
    """
    root = deepcopy(root)
    found = root.findall("/".join(way))
    places = [record.getparent() for record in found]
    for record, place in zip(found, places, strict=True):
        before = record.getprevious()
        if before is None:
            place.text = (place.text or "") + (record.tail or "")
        else:
            before.tail = (before.tail or "") + (record.tail or "")
        record.tail = None
        place.remove(record)
    return root, found, places


def parsed(text: str) -> Any:
    """Return the root of a document, comments and instructions left out."""
    return etree.fromstring(text, etree.XMLParser(remove_comments=True, remove_pis=True))
