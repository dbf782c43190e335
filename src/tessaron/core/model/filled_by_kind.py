"""Which fields are filled for which value of another: records of several kinds, told by a field.

What is counted of tapes merges by addition, so that any split of the input gives the same kinds.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import pyarrow.compute as pc

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import Path
from tessaron.core.base.text_lane import Int64s
from tessaron.core.model.level_places import Placed, filled_count, levels_of, places_on_rows
from tessaron.core.shape.shape_form import form_of
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.tape.emission import nodes_put_aside
from tessaron.core.tape.form import Form
from tessaron.core.tape.fragment import Node
from tessaron.core.tape.put_aside import Packed

LEAST_ROWS = 20
"""Of fewer rows nothing is said."""
MOST_KINDS = 200
"""A field with more values than this tells no kinds."""
ALWAYS = 0.98
"""A field that so great a share of the rows has is one that all kinds have."""
LEAST_OPTIONAL = 4
"""With fewer fields that not all rows have there is nothing to divide."""
SELDOM_BY_CHANCE = 0.001
"""A field belongs to one kind if its rows would all be of that by chance less often than this."""
_MOST_TELLING = 12
"""So many fields, at most, are looked at whether they tell the kind."""
_LONGEST_KIND = 64
"""The longest text that may name a kind, in bytes."""
_TELLING_KINDS = (Kind.TEXT, Kind.INTEGER, Kind.BOOLEAN)


@dataclass(frozen=True, slots=True)
class WatchedLevel:
    """A level of which it is looked at which fields are filled together.

    Attributes:
        path: Of its rows.
        fields: The paths of all that stands in a row of it.
        telling: Those that may tell the kind: every row has one.
    """

    path: Path
    fields: tuple[Path, ...]
    telling: tuple[Path, ...]


@dataclass
class FilledCounts:
    """How often each field of a level is filled, for each value of the fields that may tell the kind.

    Attributes:
        by_value: For each of these the counts by value, in the order of `WatchedLevel.fields`, rows last;
            None where there are too many values.
    """

    by_value: dict[Path, dict[str, Int64s] | None] = field(default_factory=dict)

    def add(self, other: FilledCounts) -> None:
        """Take in other counts of the level."""
        for path, counts in other.by_value.items():
            mine = self.by_value.setdefault(path, {})
            if mine is None or counts is None:
                self.by_value[path] = None
                continue
            for value, found in counts.items():
                mine[value] = mine[value] + found if value in mine else found
            if len(mine) > MOST_KINDS:
                self.by_value[path] = None


@dataclass(frozen=True, slots=True)
class Kinds:
    """The kinds of the rows of a level.

    Attributes:
        telling: The path of the field whose value is the kind.
        rows: How many rows there are of each.
        own: For each kind the fields that only it has, without those that stand in one of these.
    """

    telling: Path
    rows: Mapping[str, int]
    own: Mapping[str, tuple[Path, ...]]


def watched_levels(record: ShapeNode) -> list[WatchedLevel]:
    """Return the levels of a settled shape whose rows may be of several kinds."""
    found = []
    for level, path in levels_of(record):
        watched = _watched(level, path, list(places_on_rows(level, path)))
        if watched is not None:
            found.append(watched)
    return found


def _watched(level: ShapeNode, path: Path, places: Sequence[Placed]) -> WatchedLevel | None:
    rows = level.row_count
    fields = [(node, at) for node, at in places if at != path]
    optional = sum(filled_count(node) < ALWAYS * rows for node, _ in fields)
    telling = [at for node, at in fields if filled_count(node) == rows and _may_tell(node)]
    if rows < LEAST_ROWS or optional < LEAST_OPTIONAL or not telling:
        return None
    # What stands further out names a kind sooner.
    telling.sort(key=len)
    return WatchedLevel(path, tuple(at for _, at in fields), tuple(telling[:_MOST_TELLING]))


def _may_tell(node: ShapeNode) -> bool:
    return any(node.counts[kind] == node.occurrences for kind in _TELLING_KINDS) and (
        node.longest_text <= _LONGEST_KIND
    )


@dataclass
class FilledWork:
    """Counts what is filled in tapes.

    Attributes:
        record: The settled shape.
        levels: What is looked at.
    """

    record: ShapeNode
    levels: Sequence[WatchedLevel]
    form: Form = field(init=False)

    def __post_init__(self) -> None:
        self.form = form_of(self.record)

    def __call__(self, packed: Packed) -> list[FilledCounts] | None:
        """Return what was counted of each level; None for what is no tape, of which nothing is known."""
        nodes = nodes_put_aside(packed, self.form)
        if nodes is None:
            return None
        return [_counted(level, nodes) for level in self.levels]


def _counted(level: WatchedLevel, nodes: Mapping[Path, Node]) -> FilledCounts:
    rows, numbers = _filled(level.fields, nodes)
    counts = FilledCounts()
    width = len(level.fields) + 1
    for path in level.telling:
        node = nodes.get(path)
        if node is None:
            continue
        values, codes = _coded(node)
        if len(values) > MOST_KINDS:
            counts.by_value[path] = None
            continue
        pairs = np.concatenate((codes[rows] * width + numbers, codes * width + width - 1))
        table = np.bincount(pairs, minlength=len(values) * width).reshape(-1, width)
        counts.by_value[path] = dict(zip(values, table, strict=True))
    return counts


def _filled(fields: Iterable[Path], nodes: Mapping[Path, Node]) -> tuple[Int64s, Int64s]:
    """Return the row and the number of the field of all that is filled."""
    rows, numbers = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
    for number, path in enumerate(fields):
        node = nodes.get(path)
        if node is not None and len(node.kinds):
            present = node.rows_present()[node.kinds != Kind.NULL]
            rows.append(present.astype(np.int64))
            numbers.append(np.full(len(present), number, np.int64))
    return np.concatenate(rows), np.concatenate(numbers)


def _coded(node: Node) -> tuple[list[str], Int64s]:
    """Return the values of a field that every row has, as texts, and which of them each row has."""
    if len(node.integers):
        numbers, codes = np.unique(node.integers, return_inverse=True)
        return list(map(str, numbers.tolist())), codes.astype(np.int64)
    if len(node.booleans):
        return ["false", "true"], node.booleans.astype(np.int64)
    encoded = pc.dictionary_encode(node.texts.to_arrow())
    return encoded.dictionary.to_pylist(), encoded.indices.to_numpy().astype(np.int64)


def kinds_of(level: WatchedLevel, counts: FilledCounts) -> list[Kinds]:
    """Return by which fields the rows of a level fall into kinds, with what only one kind has."""
    found = []
    for path in level.telling:
        by_value = counts.by_value.get(path)
        if by_value is not None and len(by_value) > 1:
            own = _own_fields(level, by_value)
            if len(own) > 1:
                found.append(Kinds(path, {value: int(row[-1]) for value, row in by_value.items()}, own))
    return found


def _own_fields(level: WatchedLevel, by_value: Mapping[str, Int64s]) -> dict[str, tuple[Path, ...]]:
    """Return for each value the fields that are filled for no other, and not by chance."""
    values = sorted(by_value)
    table = np.array([by_value[value] for value in values])
    shares = table[:, -1] / table[:, -1].sum()
    table = table[:, :-1]
    is_one = (table > 0).sum(axis=0) == 1
    own: dict[str, list[Path]] = {}
    taken: set[Path] = set()
    for number in np.flatnonzero(is_one).tolist():
        kind = int(np.argmax(table[:, number]))
        path = level.fields[number]
        by_chance = int(table[kind, number]) * math.log(shares[kind])
        inside = any(path[:count] in taken for count in range(len(level.path) + 1, len(path)))
        if by_chance > math.log(SELDOM_BY_CHANCE) and not inside:
            continue
        taken.add(path)
        if not inside:
            own.setdefault(values[kind], []).append(path)
    return {value: tuple(paths) for value, paths in own.items()}
