"""The changes of structure that a layout asks for, in the order in which they are made."""

from __future__ import annotations

from collections.abc import Callable

from tessaron.core.base.paths import Path, step_of_name
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.layout_model import StructurePart
from tessaron.core.layout.layout_paths import LayoutPathError, LayoutPaths
from tessaron.core.layout.toml_lines import Keys
from tessaron.core.plan.plan import Rearrangement
from tessaron.core.tape.gathering import Gathered

_ORDER = ("embedded", "split", "array", "named_rows", "merged", "unwrapped")


class StructureMaker:
    """Reads the `[structure]` of a layout; mistakes are said."""

    def __init__(self, part: StructurePart, paths: LayoutPaths, say: Callable[[Keys, str], None]):
        self._paths = paths
        self._part = part
        self._say = say

    def make(self) -> list[Rearrangement]:
        """Return the changes: outer texts are parsed before inner ones, inner levels go before outer ones."""
        part = self._part
        found = [
            *(self._change("embedded", "embedded", path, kind) for path, kind in part.embedded.items()),
            *(self._change("split", "split", path, separator) for path, separator in part.split.items()),
            *(self._change("array", "arrays", path) for path in part.arrays),
            *(self._named(path, names) for path, names in part.named_rows.items()),
            *(self._change("merged", "merged", path) for path in part.merged),
            *(self._change("unwrapped", "unwrapped", path) for path in part.unwrapped),
        ]
        for path, separator in part.split.items():
            if not separator:
                self._say(
                    ("structure", "split", path), "expected what separates the values, got an empty text"
                )
        changes = [change for change in found if change is not None]
        return sorted(
            changes,
            key=lambda each: (
                _ORDER.index(each.kind),
                -len(each.path) if each.kind == "unwrapped" else len(each.path),
            ),
        )

    def again(self, is_around: bool = False) -> dict[Path, Path]:
        """Return where structures that contain themselves stand again, with where they begin.

        Args:
            is_around: Whether those around the records are meant.
        """
        found = {}
        key = "again_around" if is_around else "again"
        for text, begins in (self._part.again_around if is_around else self._part.again).items():
            inner = self._path(text, ("structure", key, text), is_around)
            outer = self._path(begins, ("structure", key, text), is_around)
            if inner is None or outer is None:
                continue
            if inner[: len(outer)] != outer or inner == outer or not outer:
                self._say(
                    ("structure", key, text),
                    f"expected a path above {in_quotes(text)}, got {in_quotes(begins)}",
                )
                continue
            found[inner] = outer
        return found

    def gathered(self) -> tuple[Gathered, ...]:
        """Return the trees whose nodes come together."""
        found = []
        for text, fields in self._part.gathered.items():
            keys: Keys = ("structure", "gathered", text)
            path = self._path(text, keys)
            if path is None:
                continue
            if not path or not isinstance(path[-1], str):
                self._say(keys, f"expected a path that ends with a name, got {in_quotes(text)}")
            elif path[-1] in fields:
                self._say(keys, f"{path[-1]} is a field of the nodes: gather them under another name")
            else:
                found.append(Gathered(path, frozenset(map(step_of_name, fields))))
        return tuple(found)

    def dictionaries(self) -> list[Path]:
        """Return the objects that are dictionaries."""
        paths = [
            self._path(text, ("structure", "dictionaries", str(number)))
            for number, text in enumerate(self._part.dictionaries, 1)
        ]
        return [path for path in paths if path is not None]

    def _path(self, text: str, keys: Keys, is_around: bool = False) -> Path | None:
        try:
            path = self._paths.inner(text, is_around)
        except LayoutPathError as error:
            self._say(keys, str(error))
            return None
        if path.picks or path.from_row:
            self._say(keys, f"expected a path from the record ($) without positions, got {in_quotes(text)}")
            return None
        return path.steps

    def _change(self, kind: str, key: str, text: str, detail: object = None) -> Rearrangement | None:
        keys: Keys = ("structure", key, text) if detail is not None else ("structure", key)
        path = self._path(text, keys)
        if path is None:
            return None
        if not path:
            self._say(keys, f"expected a path below the record, got {in_quotes(text)}")
            return None
        if kind == "unwrapped" and not isinstance(path[-1], str):
            self._say(keys, f"expected a path that ends with a name, got {in_quotes(text)}")
            return None
        return Rearrangement(kind, path, detail, text)

    def _named(self, text: str, names: str) -> Rearrangement | None:
        keys = ("structure", "named_rows", text)
        where = self._path(names, keys)
        change = self._change("named_rows", "named_rows", text, where)
        return None if where is None else change
