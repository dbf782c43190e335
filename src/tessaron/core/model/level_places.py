"""What stands in a row of a level, and which of it would be columns."""

from __future__ import annotations

from collections.abc import Iterator

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import Path
from tessaron.core.shape.shape_node import ShapeNode

Placed = tuple[ShapeNode, Path]
"""A node with its path."""


def places_on_rows(level: ShapeNode, path: Path) -> Iterator[Placed]:
    """Yield the level's own node and all members below it, objects inside objects included, in order."""
    pending = [(level, path)]
    while pending:
        node, at = pending.pop()
        yield node, at
        below = reversed(node.ordered_members())
        pending.extend((member, (*at, str(member.step))) for member in below)


def levels_of(record: ShapeNode) -> Iterator[Placed]:
    """Yield the levels of a shape, each before those below it, which may be changed meanwhile."""
    pending: list[Placed] = [(record, ())]
    while pending:
        level, path = pending.pop()
        yield level, path
        for node, at in places_on_rows(level, path):
            pending += [(below, (*at, below.step)) for below in node.levels_below() if below.step is not None]


def with_paths(record: ShapeNode) -> Iterator[Placed]:
    """Yield all nodes of a shape with their paths, each before those below it."""
    pending: list[Placed] = [(record, ())]
    while pending:
        node, path = pending.pop()
        yield node, path
        pending += [(child, (*path, step)) for step, child in reversed(node.children.items())]


def has_column(node: ShapeNode) -> bool:
    """Say whether a column is due: for scalars, and for what is null wherever it stands."""
    only_null = 0 < node.occurrences == node.counts[Kind.NULL]
    return only_null or bool(node.scalar_kinds()) or node.declared is not None


def filled_count(node: ShapeNode) -> int:
    """Return in how many places anything but null stands."""
    return node.occurrences - node.counts[Kind.NULL]
