"""The structure that a layout supposes, as a settled shape without any counts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, ENTRY, MARKUP, TEXT_STEP, Each, Origin, Path
from tessaron.core.shape.shape_node import ShapeNode

NOT_SCALAR = ((ELEMENT,), (ENTRY,), (Origin.JSON,))
"""The last steps of paths that lead to no scalar, but where the rows themselves are columns."""


def skeleton_of(
    paths: Sequence[Path], columns: Sequence[Path] = (), again: Mapping[Path, Path] | None = None
) -> ShapeNode:
    """Return the structure in which all these paths lead somewhere.

    Args:
        paths: Of tables, from the record.
        columns: Of columns, from the record.
        again: Where a structure that contains itself stands again, with where it begins.

    Returns:
        A tree for `conform`: objects at a path that goes on with `[*]` are elements too, unless a path goes
        on with a name, or only the elements themselves are columns; objects at a path that goes on with `.*`
        are dictionaries.
    """
    record = ShapeNode()
    for path in (*paths, *(again or {})):
        _grow(record, path)
    for path in columns:
        _grow(record, path).counts[Kind.TEXT] = 1
    for node in record.walk():
        node.is_dictionary = ENTRY in node.children
        may_be_lifted = node.step is not None and node.step is not ELEMENT
        is_field = isinstance(node.step, str)
        node.is_lifted = (
            may_be_lifted and ELEMENT in node.children and not node.members() and not node.is_dictionary
        )
        node.is_lifted &= bool(_holds_objects(node.children[ELEMENT])) if node.is_lifted else False
        if is_field and str(node.step).startswith(MARKUP) and ELEMENT in node.children:
            node.is_lifted = node.lifts_scalars = True
        if TEXT_STEP in node.children and node is not record:
            node.text_rule = "member"
    for path, begins in (again or {}).items():
        inner, outer = _grow(record, path), _grow(record, begins)
        inner.fold, outer.is_recursive, outer.is_lifted = outer, True, not outer.is_dictionary
        outer.lifts_scalars = str(outer.step).startswith(MARKUP)
        inner.children = {}
        outer.child(outer.rows_step).counts[Kind.OBJECT] = 1
    return record


def _grow(record: ShapeNode, path: Path) -> ShapeNode:
    node = record
    for step in path:
        if isinstance(step, Origin):
            break
        node = node.child(step)
    return node


def _holds_objects(element: ShapeNode) -> bool:
    """Say whether the elements may be objects: a path goes on below them, or they have no column at all."""
    if element.members():
        return True
    return not element.counts[Kind.TEXT] and not any(isinstance(step, Each) for step in element.children)
