"""A second reading of docs/layout.md, in plain Python, that shares no line with what it is compared with.

It knows objects, arrays at any depth, single objects where arrays stand elsewhere, scalars beside objects, and
keys. Structures that contain themselves and dictionaries are left to tests of their own: documents for it must
not have them. A path is a tuple of names and `EACH`.
"""

from __future__ import annotations

from decimal import Decimal
from typing import Any

EACH = "[*]"
Path = tuple[str, ...]
ABSENT = object()


class Seen:
    """What stands at each path of all records."""

    def __init__(self) -> None:
        self.kinds: dict[Path, set[str]] = {}

    def add(self, path: Path, value: Any) -> None:
        pending = [(path, value)]
        while pending:
            path, value = pending.pop()
            kind = kind_of(value)
            self.kinds.setdefault(path, set()).add(kind)
            if kind == "object":
                pending += [((*path, name), inner) for name, inner in value.items()]
            elif kind == "array":
                self.kinds.setdefault((*path, EACH), set())
                pending += [((*path, EACH), inner) for inner in value]

    def is_table_of_objects(self, path: Path) -> bool:
        """One object in some records, an array of them in others: one child table."""
        here = self.kinds.get(path, set())
        if not path or path[-1] == EACH or not {"object", "array"} <= here:
            return False
        elements = self.kinds[(*path, EACH)]
        if "object" in elements:
            return True
        # Nothing at all stands in either of them: hollow objects beside arrays that are always empty.
        inside = [
            kinds
            for other, kinds in self.kinds.items()
            if other[: len(path)] == path and len(other) > len(path)
        ]
        return not elements and all(kinds <= {"object"} for kinds in inside)


def kind_of(value: Any) -> str:
    if value is None:
        return "null"
    if isinstance(value, dict):
        return "object"
    return "array" if isinstance(value, list) else "scalar"


class Flattened:
    """The tables of some records: by path of their level, rows of (key, parent's key, ordinal, values by path)."""

    def __init__(self, records: list[Any]) -> None:
        self.seen = Seen()
        for record in records:
            self.seen.add((), record)
        self.tables: dict[Path, list[tuple[int, int | None, int | None, dict[Path, Any]]]] = {(): []}
        for path in sorted(self._levels(), key=len):
            self.tables[path] = []
        for record in records:
            self._row((), (), None, None, record)

    def _levels(self) -> set[Path]:
        found = {path for path in self.seen.kinds if path[-1:] == (EACH,)}
        return {self._moved(path) for path in found}

    def _moved(self, path: Path) -> Path:
        """Return where what stands at a path stands once single objects are elements."""
        made: Path = ()
        plain: Path = ()
        for step in path:
            if step != EACH and self.seen.is_table_of_objects(plain) and made[-1:] != (EACH,):
                made = (*made, EACH)
            plain, made = (*plain, step), (*made, step)
        return made

    def _row(self, level: Path, raw: Path, parent: int | None, ordinal: int | None, value: Any) -> None:
        rows = self.tables[level]
        key = len(rows) + 1
        values: dict[Path, Any] = {}
        rows.append((key, parent, ordinal, values))
        self._place(level, raw, key, values, value)

    def _place(self, path: Path, raw: Path, key: int, values: dict[Path, Any], value: Any) -> None:
        """Put what stands at a path into the row, and its rows into the tables below it."""
        is_alone = isinstance(value, _Alone)
        kind = "object" if is_alone else kind_of(value)
        if kind == "scalar":
            values[path] = value
        elif kind == "array":
            for position, inner in enumerate(value, 1):
                self._row((*path, EACH), (*raw, EACH), key, position, inner)
        elif kind == "object" and not is_alone and self.seen.is_table_of_objects(raw):
            self._row((*path, EACH), raw, key, 0, _Alone(value))
        elif kind == "object":
            for name, inner in (value.members if is_alone else value).items():
                self._place((*path, name), (*raw, name), key, values, inner)


class _Alone:
    """An object that stands without an array, once its row has been made."""

    def __init__(self, members: dict[str, Any]) -> None:
        self.members = members


def written(value: Any) -> str:
    """Return a scalar in one spelling a value, so that types need not be known."""
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, (int, float, Decimal)):
        made = Decimal(str(value))
        return format(made.normalize(), "f") if made else "0"
    return str(value)
