"""The fragment: the values of one chunk as columns per level, still untyped: what emission makes of a tape.

A fragment is a flat list of nodes, parents before children. A node is a place in the structure: the
record, a member of an object, or the elements of an array. Record and element nodes open a *level*, on
which rows are counted; a member belongs to the level of its parent. The members of an object with very many
names may stand together in one *entry* node, a level with a row and a key for each. Per node are stored the
rows that have it, the kind of each occurrence, and the values, one lane per kind, in order of occurrence.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field, replace
from enum import IntEnum
from typing import Any

import numpy as np

from tessaron.core.base.faults import Fault, Repeated
from tessaron.core.base.paths import ELEMENT, ENTRY, Origin, Path, Step, format_path
from tessaron.core.base.text_lane import EMPTY_TEXTS, Bools, Bytes, Int32s, Int64s, TextLane

NO_ROWS: Int32s = np.empty(0, np.int32)


class Role(IntEnum):
    """What a node is to its parent node. `ORIGIN` nodes hold what is known of a row besides its values."""

    RECORD = 0
    MEMBER = 1
    ELEMENT = 2
    ENTRY = 3
    ORIGIN = 4


@dataclass(slots=True)
class Node:
    """One place in the structure and what stands there.

    Attributes:
        parent: Index of the parent node in the fragment; -1 for the record.
        role: What the node is to its parent.
        name: The member's name; None for the record and for elements.
        row_count: Rows of the level that this node belongs to.
        parent_rows: Only for elements and entries: the row of the parent's level, from 0, for each row.
        ordinals: Only for elements and entries: the position in the array or object, from 1, for each row; 0
            for an object that stands without an array where others stand in one.
        keys: Only for entries: the member's name, for each row.
        rows: The rows of the level, from 0 and rising, that have the node; None when every row has it.
        kinds: A `Kind` code for each occurrence.
        positions: The place among the members of its object, from 0, for each occurrence;
            a single number when it is always the same.
        booleans, integers, numbers, texts: The values of each kind; a number keeps the digits of its text.
    """

    parent: int
    role: Role
    name: str | None
    row_count: int
    parent_rows: Int32s = field(default_factory=lambda: NO_ROWS)
    ordinals: Int32s = field(default_factory=lambda: NO_ROWS)
    rows: Int32s | None = None
    kinds: Bytes = field(default_factory=lambda: np.empty(0, np.uint8))
    positions: Int32s = field(default_factory=lambda: NO_ROWS)
    booleans: Bools = field(default_factory=lambda: np.empty(0, np.bool_))
    integers: Int64s = field(default_factory=lambda: np.empty(0, np.int64))
    numbers: TextLane = EMPTY_TEXTS
    texts: TextLane = EMPTY_TEXTS
    keys: TextLane = EMPTY_TEXTS

    def step(self) -> Step | None:
        """Return the step from the parent to this node; None for the record."""
        if self.role is Role.MEMBER:
            return self.name
        if self.role is Role.ORIGIN:
            return Origin(self.name)
        return _STEP_OF_LEVEL[self.role]

    def rows_present(self) -> Int32s:
        """Return the rows of the level that have the node, from 0 and rising."""
        return np.arange(self.row_count, dtype=np.int32) if self.rows is None else self.rows


_STEP_OF_LEVEL = {Role.RECORD: None, Role.ELEMENT: ELEMENT, Role.ENTRY: ENTRY}
LEVEL_ROLES = frozenset(_STEP_OF_LEVEL)
"""The roles that open a level."""


@dataclass(frozen=True, slots=True)
class Passed:
    """Values that were passed over, as nothing is wanted there.

    Attributes:
        node: Index of the node they stand at, or one step below.
        name: The member's name, if they stand a step below; None for elements, and for many names together.
        role: What the place is to that node.
        count: How many.
        is_below: Whether they stand one step below the node.
    """

    node: int
    name: str | None
    role: Role
    count: int
    is_below: bool

    def step(self) -> Step | None:
        """Return the step from the node; None where they stand at the node itself or under many names."""
        if not self.is_below:
            return None
        return self.name if self.role is Role.MEMBER else _STEP_OF_LEVEL[self.role]


@dataclass(slots=True)
class Fragment:
    """The columns of one chunk.

    Attributes:
        nodes: All nodes, each after its parent; the first is the record.
        faults: The records that could not be read, in order of their place.
        repeated: Names that stood twice in one object.
        offsets: Where each record begins in the chunk, in bytes from 0; empty when it was not bytes.
        passed: What was passed over, as nothing is wanted there.
        places: Where the records stand (`record_places.RecordPlaces`), if that is wanted.
        names: The names of the records' elements, where an expression over whole documents has found them.
        columns: The columns that were wanted typed, as Arrow arrays; None for one that was not made.
    """

    nodes: list[Node]
    faults: list[Fault] = field(default_factory=list)
    repeated: list[Repeated] = field(default_factory=list)
    offsets: Int64s = field(default_factory=lambda: np.empty(0, np.int64))
    passed: list[Passed] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    places: Any = None
    columns: list[Any] = field(default_factory=list)

    @property
    def record_count(self) -> int:
        """Records that could be read."""
        return self.nodes[0].row_count

    def paths(self) -> list[Path]:
        """Return the path of every node, in the order of the nodes; an entry is a step like an element."""
        paths: list[Path] = []
        for node in self.nodes:
            above = paths[node.parent] if node.parent >= 0 else ()
            step = node.step()
            paths.append(above if step is None else (*above, step))
        return paths

    def passed_by_path(self) -> Counter[str]:
        """Return how many values were passed over, by path as JSONPath."""
        found: Counter[str] = Counter()
        paths = self.paths() if self.passed else []
        for each in self.passed:
            step = each.step()
            path = paths[each.node] if step is None else (*paths[each.node], step)
            many = " (many names)" if each.is_below and step is None else ""
            found[format_path(path) + many] += each.count
        return found

    def without_passed(self) -> Fragment:
        """Return the fragment without the members of which nothing is left, as all was passed over."""
        keep = [bool(len(node.kinds)) or node.role in LEVEL_ROLES for node in self.nodes]
        for index in range(len(self.nodes) - 1, 0, -1):
            keep[self.nodes[index].parent] |= keep[index]
        places = np.cumsum(keep) - 1
        nodes = []
        for node, is_kept in zip(self.nodes, keep, strict=True):
            if is_kept:
                parent = -1 if node.parent < 0 else int(places[node.parent])
                nodes.append(replace(node, parent=parent))
        return replace(self, nodes=nodes, passed=[])

    def children(self) -> list[dict[Step, int]]:
        """Return for every node its children: their index by the step that leads to them."""
        children: list[dict[Step, int]] = [{} for _ in self.nodes]
        for index, node in enumerate(self.nodes):
            step = node.step()
            if step is not None:
                children[node.parent][step] = index
        return children
