"""Which parts of the rows of a level become tables of their own, one to one, and why."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import MARKUP, Path, show_path
from tessaron.core.model.filled_by_kind import ALWAYS, LEAST_ROWS, Kinds
from tessaron.core.model.level_places import Placed, columns_below, filled_count, has_column, levels_of
from tessaron.core.shape.shape import ShapeNode
from tessaron.core.shape.structure import part_off

MOST_COLUMNS = 1_000
"""So many columns, at most, has a table unless told otherwise: all usual warehouses take as many."""
KEY_COLUMNS = 5
"""So many of them, at most, are keys."""
LEAST_OWN = 2
"""A kind with fewer columns of its own needs no table."""
ALTERNATIVES = 3
"""So many objects, of which each row has one, are kinds also where no field tells which."""
MANY_COLUMNS, MOSTLY_NULL = 12, 0.5
"""With so many columns, of whose values more than this share is null, the seldom filled objects go."""
LEAST_SELDOM = 3
"""An object with fewer columns stays."""


@dataclass(frozen=True, slots=True)
class RowPart:
    """A part of the rows of a level that is a table of its own.

    Attributes:
        level: The path of the rows.
        paths: What of them goes into the table, with all below.
        words: What its name is made of, behind that of the table it belongs to.
        why: The reason, for people.
        is_object: Whether it is one object, which is a level of its own now, with all that stands in it.
    """

    level: Path
    paths: tuple[Path, ...]
    words: tuple[str, ...]
    why: str
    is_object: bool = False


def part(
    record: ShapeNode, kinds: Mapping[Path, Sequence[Kinds]], most_columns: int = MOST_COLUMNS
) -> list[RowPart]:
    """Take parts off a settled shape, and return them: what is an object becomes a level of it.

    Args:
        record: The shape; it is changed.
        kinds: By the path of a level, by which fields its rows fall into kinds.
        most_columns: So many columns, at most, shall a table have, keys included.
    """
    found: list[RowPart] = []
    for node, path in levels_of(record):
        level = _Level(node, path)
        if node.row_count >= LEAST_ROWS and not level.is_recursive(record):
            found += level.by_kind(kinds.get(path, ()))
            found += level.by_alternatives()
            found += level.by_emptiness()
        if not level.is_recursive(record):
            found += level.by_width(most_columns - KEY_COLUMNS)
    return found


class _Level:
    """A level, of which parts are taken off one after another."""

    def __init__(self, node: ShapeNode, path: Path):
        self._node, self._path = node, path
        self._gone: set[Path] = set()

    def is_recursive(self, record: ShapeNode) -> bool:
        """Say whether its rows are of a structure that contains itself: these stand together as they are."""
        owner = record
        for step in self._path[:-1]:
            owner = owner.children[step]
        return bool(self._path) and owner.is_recursive

    def by_kind(self, kinds: Sequence[Kinds]) -> Iterator[RowPart]:
        """Take off what only rows of one kind have, as a field tells."""
        best = max(kinds, key=self._worth, default=None)
        if best is None or self._worth(best) < 2 * LEAST_OWN:
            return
        name = show_path(best.telling[len(self._path) :]).removeprefix("$.")
        for kind, paths in best.own.items():
            size = self._size(paths)
            if size >= LEAST_OWN and any(columns_below(self._at(path), path) for path in paths):
                rows = best.rows[kind]
                why = f"{size:,} fields that only the {rows:,} rows of {name} = {kind} have"
                yield self._off(paths, (kind,), why)

    def _worth(self, kinds: Kinds) -> int:
        """Return how many columns and tables belong to kinds that have enough of them."""
        return sum(size for paths in kinds.own.values() if (size := self._size(paths)) >= LEAST_OWN)

    def _size(self, paths: Sequence[Path]) -> int:
        places = [place for path in paths for place in columns_below(self._at(path), path)]
        arrays = sum(bool(self._at(path).levels_below()) for path in paths)
        return len(places) + arrays

    def by_alternatives(self) -> Iterator[RowPart]:
        """Take off objects of which each row has exactly one."""
        rows = self._node.row_count
        objects = [place for place in self._objects() if filled_count(place[0]) < ALWAYS * rows]
        outer = [place for place in objects if len(place[1]) == len(self._path) + 1]
        total = sum(filled_count(node) for node, _ in outer)
        if len(outer) >= ALTERNATIVES and ALWAYS * rows <= total <= rows:
            for node, path in outer:
                count = f"{filled_count(node):,} of {rows:,}"
                why = f"{count} rows have it, in the place of {len(outer) - 1} others"
                yield self._off((path,), (), why)

    def by_emptiness(self) -> Iterator[RowPart]:
        """Take off objects that few rows have, the emptiest first, while most values are null."""
        while self._is_mostly_null() and (seldom := self._seldom()):
            fill, size, path = min(seldom, key=lambda each: (each[0], -each[1], str(each[2])))
            yield self._off((path,), (), f"{fill:.1%} of the rows have its {size} fields")

    def _seldom(self) -> list[tuple[float, int, Path]]:
        """Return the outermost of the objects that few rows have: share of the rows, columns, and path."""
        found: list[tuple[float, int, Path]] = []
        for node, path in self._objects():
            fill, size = filled_count(node) / self._node.row_count, len(columns_below(node, path))
            is_inside = any(path[: len(outer)] == outer for _, _, outer in found)
            if fill < MOSTLY_NULL and size >= LEAST_SELDOM and not is_inside:
                found.append((fill, size, path))
        return found

    def _is_mostly_null(self) -> bool:
        left = self._columns()
        filled = sum(filled_count(node) for node, _ in left)
        return len(left) >= MANY_COLUMNS and filled < MOSTLY_NULL * self._node.row_count * len(left)

    def by_width(self, most: int) -> Iterator[RowPart]:
        """Take off objects, the largest first, then columns side by side, until a table can hold the rest."""
        while len(left := self._columns()) > most:
            objects = [(len(columns_below(*place)), place[1]) for place in self._objects()]
            fitting = [each for each in objects if each[0] <= most] or objects
            size, path = max(fitting, key=lambda each: (each[0], -len(each[1])), default=(0, ()))
            why = f"{len(left):,} columns are more than the {most + KEY_COLUMNS:,} that a table shall have"
            if size >= LEAST_SELDOM:
                yield self._off((path,), (), why)
            else:
                paths = tuple(at for _, at in left[-min(most, len(left) - most) :])
                yield self._off(paths, ("more",), why)

    def _objects(self) -> list[Placed]:
        """Return the objects in the rows that are no table of their own yet."""
        found = []
        pending = [(self._node, self._path)]
        while pending:
            node, path = pending.pop()
            for member in reversed(node.ordered_members()):
                at = (*path, str(member.step))
                if not self._is_gone(at) and member.fold is None and not member.is_dictionary:
                    pending.append((member, at))
                    is_object = member.counts[Kind.OBJECT] and not member.counts[Kind.ARRAY]
                    if is_object and not member.is_lifted and not self._has_gone_inside(at):
                        found.append((member, at))
        return found

    def _columns(self) -> list[Placed]:
        return [place for place in columns_below(self._node, self._path) if not self._is_gone(place[1])]

    def _is_gone(self, path: Path) -> bool:
        return any(path[:count] in self._gone for count in range(len(self._path) + 1, len(path) + 1))

    def _has_gone_inside(self, path: Path) -> bool:
        return any(each[: len(path)] == path for each in self._gone)

    def _at(self, path: Path) -> ShapeNode:
        node = self._node
        for step in path[len(self._path) :]:
            node = node.children[step]
        return node

    def _off(self, paths: Sequence[Path], words: tuple[str, ...], why: str) -> RowPart:
        only = self._at(paths[0]) if len(paths) == 1 else None
        is_object = only is not None and bool(only.counts[Kind.OBJECT]) and not has_column(only)
        is_object = is_object and only is not None and not (only.is_lifted or only.is_dictionary or only.fold)
        if is_object and only is not None:
            part_off(only)
            words = _words(paths[0], self._path)
        else:
            self._gone.update(paths)
        return RowPart(self._path, tuple(paths), words, why, is_object)


def _words(path: Path, level: Path) -> tuple[str, ...]:
    return tuple(str(step).removeprefix(MARKUP) for step in path[len(level) :])
