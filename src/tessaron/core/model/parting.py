"""Which parts of the rows of a level become tables of their own, one to one, and why."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence, Set
from dataclasses import dataclass

import numpy as np

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import MARKUP, Path, show_path
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.model.filled_by_kind import ALWAYS, LEAST_ROWS, Kinds
from tessaron.core.model.level_places import filled_count, has_column, levels_of, places_on_rows
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.shape.structure import part_off

MOST_COLUMNS = 1_000
"""So many columns, at most, has a table unless told otherwise: all usual warehouses take as many."""
KEY_COLUMNS = 10
"""So many of them, at most, are keys, or tell what no column of the data does."""
LEAST_OWN = 2
"""A kind with fewer columns of its own needs no table."""
OWN_SHARE = 0.2
"""Rows are of several kinds if so great a share of their fields belongs to single ones."""
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
        paths: What of them goes into the table.
        words: What its name is made of, behind that of the table it belongs to.
        why: The reason, for people.
        is_object: Whether it is one object, which is a level of its own now, with all that stands in it.
        is_whole: Whether what stands below the paths goes with them.
        by: Where they follow from another field, which stays: its path. Each of its values has one row then.
    """

    level: Path
    paths: tuple[Path, ...]
    words: tuple[str, ...]
    why: str
    is_object: bool = False
    is_whole: bool = True
    by: Path = ()


@dataclass(frozen=True, slots=True)
class Spared:
    """What stays as it is where rows are divided into parts, by `id`.

    Attributes:
        levels: The levels of which nothing is taken off.
        members: What stands in rows, and stays there or is looked up from there.
    """

    levels: Set[int] = frozenset()
    members: Set[int] = frozenset()


def part_alternatives(record: ShapeNode, spared: Spared | None = None) -> list[RowPart]:
    """Take off objects of which each row has exactly one, and return them: their counts alone tell that.

    Args:
        record: The shape; it is changed.
        spared: What stays as it is.
    """
    spared = spared or Spared()
    found: list[RowPart] = []
    between = between_recursion(record)
    for node, path in levels_of(record):
        if id(node) not in spared.levels and node.row_count >= LEAST_ROWS and not _is_recursive(record, path):
            found += _Level(node, path, between, spared.members).by_alternatives()
    return found


def part(
    record: ShapeNode,
    kinds: Mapping[Path, Sequence[Kinds]],
    most_columns: int = MOST_COLUMNS,
    spared: Spared | None = None,
) -> list[RowPart]:
    """Take parts off a settled shape, and return them: what is an object becomes a level of it.

    Args:
        record: The shape; it is changed.
        kinds: By the path of a level, by which fields its rows fall into kinds.
        most_columns: So many columns, at most, shall a table have, keys included.
        spared: As in `part_alternatives`.
    """
    spared = spared or Spared()
    found: list[RowPart] = []
    between = between_recursion(record)
    for node, path in levels_of(record):
        if id(node) in spared.levels:
            continue
        level = _Level(node, path, between, spared.members)
        if node.row_count >= LEAST_ROWS and not _is_recursive(record, path):
            found += level.by_kind(kinds.get(path, ()))
            found += level.by_emptiness()
        found += level.by_width(most_columns - KEY_COLUMNS)
    return found


def _is_recursive(record: ShapeNode, level: Path) -> bool:
    """Say whether the rows of a level are of a structure that contains itself."""
    return bool(level) and record.at(level[:-1]).is_recursive


def between_recursion(record: ShapeNode) -> set[int]:
    """Return what stands between a structure that contains itself and where it stands again, by `id`.

    A level more on that way would be one too many to say where a row stands.
    """
    above = {id(child): node for node in record.walk() for child in node.children.values()}
    found: set[int] = set()
    for node in record.walk():
        outer = node.fold
        at = node if outer is not None else None
        while at is not None and at is not outer and id(at) not in found:
            found.add(id(at))
            at = above.get(id(at))
    return found


class _Level:
    """A level, of which parts are taken off one after another.

    Its places stand in one list, each before those below it, so that a place with all below it is a slice.
    """

    def __init__(self, node: ShapeNode, path: Path, between: Set[int], spared: Set[int]):
        self._node, self._path = node, path
        self._places = list(places_on_rows(node, path))
        self._index = {at: number for number, (_, at) in enumerate(self._places)}
        self._ends = self._slice_ends()
        nodes = [each for each, _ in self._places]
        stays: Bools = np.array([id(each) in spared for each in nodes], np.bool_)
        self._columns: Bools = np.array([has_column(each) for each in nodes], np.bool_) & ~stays
        self._filled: Int64s = np.array([filled_count(each) for each in nodes], np.int64)
        self._objects: Bools = np.array([is_object(each) and id(each) not in between for each in nodes])
        self._objects[0] = False
        self._objects &= ~stays
        # What was not only null, but rows of other tables, belongs to a kind too.
        self._arrays: Bools = np.array([bool(each.levels_below()) for each in nodes], np.bool_)

    def _slice_ends(self) -> Int64s:
        ends = np.zeros(len(self._places), np.int64)
        open_at: list[int] = []
        for number, (_, at) in enumerate(self._places):
            while open_at and len(self._places[open_at[-1]][1]) >= len(at):
                ends[open_at.pop()] = number
            open_at.append(number)
        for number in open_at:
            ends[number] = len(self._places)
        return ends

    def by_kind(self, kinds: Sequence[Kinds]) -> Iterator[RowPart]:
        """Take off what only rows of one kind have, as a field tells."""
        best = max(kinds, key=self._worth, default=None)
        least = max(2 * LEAST_OWN, OWN_SHARE * int((self._columns | self._arrays).sum()))
        if best is None or self._worth(best) < least:
            return
        name = show_path(best.telling[len(self._path) :]).removeprefix("$.")
        for kind, paths in best.own.items():
            size, columns = self._size(paths, self._columns | self._arrays), self._size(paths, self._columns)
            if size >= LEAST_OWN and columns:
                rows = best.rows[kind]
                why = f"{size:,} fields that only the {rows:,} rows of {name} = {kind} have"
                yield self._off(paths, (kind,), why)

    def _worth(self, kinds: Kinds) -> int:
        """Return how many columns and tables belong to kinds that have enough of them."""
        every = self._columns | self._arrays
        sizes = [self._size(paths, every) for paths in kinds.own.values()]
        return sum(size for size in sizes if size >= LEAST_OWN)

    def _size(self, paths: Sequence[Path], wanted: Bools) -> int:
        return sum(int(wanted[self._slice(self._index[path])].sum()) for path in paths)

    def _slice(self, number: int) -> slice:
        return slice(number, int(self._ends[number]))

    def by_alternatives(self) -> Iterator[RowPart]:
        """Take off objects of which each row has exactly one."""
        rows = self._node.row_count
        outer = [
            number
            for number in np.flatnonzero(self._objects & (self._filled < ALWAYS * rows)).tolist()
            if len(self._places[number][1]) == len(self._path) + 1
        ]
        if len(outer) >= ALTERNATIVES and ALWAYS * rows <= self._filled[outer].sum() <= rows:
            for number in outer:
                count = f"{self._filled[number]:,} of {rows:,}"
                why = f"{count} rows have it, in the place of {len(outer) - 1} others"
                yield self._off((self._places[number][1],), (), why)

    def by_emptiness(self) -> Iterator[RowPart]:
        """Take off objects that few rows have, the emptiest first, while most values are null."""
        rows = self._node.row_count
        for number in self._seldom() if self._is_mostly_null() else ():
            if not self._is_mostly_null():
                return
            size = int(self._columns[self._slice(number)].sum())
            why = f"{self._filled[number] / rows:.1%} of the rows have its {size} fields"
            yield self._off((self._places[number][1],), (), why)

    def _seldom(self) -> list[int]:
        """Return the outermost of the objects that few rows have, the emptiest first."""
        sizes = self._sizes()
        few = self._objects & (self._filled < MOSTLY_NULL * self._node.row_count) & (sizes >= LEAST_SELDOM)
        found: list[int] = []
        stop = 0
        for number in np.flatnonzero(few).tolist():
            if number >= stop:
                found.append(number)
                stop = int(self._ends[number])
        return sorted(found, key=lambda number: (self._filled[number], -sizes[number], number))

    def _is_mostly_null(self) -> bool:
        count, filled = int(self._columns.sum()), int(self._filled[self._columns].sum())
        return count >= MANY_COLUMNS and filled < MOSTLY_NULL * self._node.row_count * count

    def _sizes(self) -> Int64s:
        """Return how many columns stand at or below each place."""
        before = np.concatenate(([0], np.cumsum(self._columns)))
        return np.asarray(before[self._ends] - before[:-1])

    def by_width(self, most: int) -> Iterator[RowPart]:
        """Take off objects, the largest first, then columns side by side, until a table can hold the rest."""
        while (left := int(self._columns.sum())) > most:
            why = f"{left:,} columns are more than the {most + KEY_COLUMNS:,} that a table shall have"
            sizes = np.where(self._objects, self._sizes(), 0)
            fitting = np.where(sizes <= most, sizes, 0)
            number = int(np.argmax(fitting if fitting.any() else sizes))
            if sizes[number] >= LEAST_SELDOM:
                yield self._off((self._places[number][1],), (), why)
            else:
                last = np.flatnonzero(self._columns)[-min(most, left - most) :]
                yield self._columns_off(last, why)

    def _columns_off(self, numbers: Int64s, why: str) -> RowPart:
        """Take off single columns, and nothing that stands below them."""
        self._columns[numbers] = False
        paths = tuple(self._places[number][1] for number in numbers.tolist())
        for number in numbers.tolist():
            self._objects[[number, *self._above(number)]] = False
        return RowPart(self._path, paths, ("more",), why, is_whole=False)

    def _off(self, paths: Sequence[Path], words: tuple[str, ...], why: str) -> RowPart:
        numbers = [self._index[path] for path in paths]
        is_object = len(paths) == 1 and bool(self._objects[numbers[0]])
        if is_object:
            part_off(self._places[numbers[0]][0])
            words = ()
        for number in numbers:
            gone = self._slice(number)
            self._columns[gone] = self._objects[gone] = self._arrays[gone] = False
            for above in self._above(number):
                # Where a part is gone, what it stood in is taken off by its other parts only.
                self._objects[above] = False
        return RowPart(self._path, tuple(paths), words or _words(paths[0], self._path), why, is_object)

    def _above(self, number: int) -> Iterator[int]:
        path = self._places[number][1]
        return (self._index[path[:count]] for count in range(len(self._path) + 1, len(path)))


def is_object(node: ShapeNode) -> bool:
    """Say whether a node stands for objects and nothing else, which could be rows of their own."""
    only = node.counts[Kind.OBJECT] and not node.counts[Kind.ARRAY] and not has_column(node)
    return bool(only) and not (node.is_lifted or node.is_dictionary or node.fold is not None)


def _words(path: Path, level: Path) -> tuple[str, ...]:
    return tuple(str(step).removeprefix(MARKUP) for step in path[len(level) :])
