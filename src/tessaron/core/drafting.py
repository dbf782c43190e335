"""Drafting: the layout that a shape suggests."""

from __future__ import annotations

from collections.abc import Iterator

from tessaron.core.kinds import Kind
from tessaron.core.layout import ORDINAL, PARENT_KEY, ROW_KEY, Column, Layout, Table
from tessaron.core.naming import Names
from tessaron.core.paths import Path
from tessaron.core.shape import Shape, ShapeNode
from tessaron.core.typing.inference import infer_type

VALUE_NAME = "value"
"""The column for elements (or records) that are scalars themselves."""
INNER_ARRAY_NAME = "items"
"""What the table of an array that stands directly in an array is called after its parent."""


def draft_layout(shape: Shape, name: str) -> Layout:
    """Return the layout that Tessaron proposes: a table for the records and for every array.

    Args:
        shape: What was seen.
        name: Name of the top table.
    """
    names = Names()
    top = names.claim(name, otherwise="records")
    tables: list[Table] = []
    pending: list[tuple[ShapeNode, str, str | None]] = [(shape.record, top, None)]
    while pending:
        level, table_name, parent = pending.pop()
        members = list(_members_below(level))
        tables.append(_draft_table(level, table_name, parent, members))
        arrays = [node for node in members if node.element is not None]
        below = []
        for node in arrays:
            words = _names_below(level.path, node.path) or [INNER_ARRAY_NAME]
            assert node.element is not None
            child = names.claim(table_name, *words, otherwise=INNER_ARRAY_NAME)
            below.append((node.element, child, table_name))
        pending.extend(reversed(below))
    return Layout(tuple(tables))


def _members_below(level: ShapeNode) -> Iterator[ShapeNode]:
    """Yield the level's own node and all members below it, objects inside objects included, in order."""
    pending = [level]
    while pending:
        node = pending.pop()
        yield node
        pending.extend(reversed(node.ordered_members()))


def _draft_table(level: ShapeNode, name: str, parent: str | None, members: list[ShapeNode]) -> Table:
    columns: list[Column] = []
    names = Names()
    for node in members:
        if _has_column(node):
            inferred = infer_type(node)
            words = _names_below(level.path, node.path) or [VALUE_NAME]
            column_name = names.claim(*words, otherwise="field")
            columns.append(Column(column_name, node.path, inferred.type, inferred.reading, inferred.note))
    keys = [ROW_KEY] if parent is None else [ROW_KEY, PARENT_KEY, ORDINAL]
    free = [key if names.is_free(key) else names.claim(name, key, otherwise=key) for key in keys]
    parent_key, ordinal = (None, None) if parent is None else (free[1], free[2])
    return Table(name, level.path, parent, free[0], parent_key, ordinal, tuple(columns))


def _has_column(node: ShapeNode) -> bool:
    """Say whether a column is due: for scalars, and for what is null wherever it stands."""
    only_null = 0 < node.occurrences == node.counts[Kind.NULL]
    return only_null or bool(node.scalar_kinds())


def _names_below(above: Path, path: Path) -> list[str]:
    return [step for step in path[len(above) :] if isinstance(step, str)]
