"""The form that a structure gives to values, made from its shape."""

from __future__ import annotations

from tessaron.core.base.paths import ELEMENT, ENTRY, Origin, Step, format_path
from tessaron.core.shape.recursion import has_several_ways
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.tape.form import (
    DICTIONARY,
    LIFTED,
    LIFTS_SCALARS,
    RECURSIVE,
    RULES,
    STEPS,
    Form,
    FormNode,
    rows_role,
)
from tessaron.core.tape.fragment import Role


def form_of(record: ShapeNode) -> Form:
    """Return the form that a structure asks for.

    Args:
        record: A shape, settled or not; a settled one may have structures that contain themselves.
    """
    nodes: list[FormNode] = []
    places: dict[int, int] = {}
    folds: list[tuple[int, ShapeNode]] = []
    pending: list[tuple[ShapeNode, int]] = [(record, -1)]
    several: list[tuple[int, ShapeNode]] = []
    while pending:
        shape, parent = pending.pop()
        index = places[id(shape)] = len(nodes)
        role = _ROLES.get(shape.step, Role.MEMBER)
        name = shape.step if isinstance(shape.step, str) else None
        nodes.append(FormNode(parent, role, name, -1, _flags_of(shape), RULES[shape.text_rule]))
        if shape.fold is not None:
            folds.append((index, shape.fold))
        if shape.is_recursive and has_several_ways(shape):
            several.append((index, shape))
        below = [child for step, child in shape.children.items() if not isinstance(step, Origin)]
        pending += [(child, index) for child in reversed(below)]
    for index, outer in folds:
        node = nodes[index]
        nodes[index] = FormNode(node.parent, node.role, node.name, places[id(outer)], node.flags, node.rule)
    again: dict[int, list[int]] = {}
    for index, node in enumerate(nodes):
        again.setdefault(node.fold, []).append(index)
    ways = [(index, _way_to(nodes, index, outer)) for outer, _ in several for index in again.get(outer, ())]
    return Form(tuple(nodes), tuple(ways))


_ROLES: dict[Step | None, Role] = {None: Role.RECORD, ELEMENT: Role.ELEMENT, ENTRY: Role.ENTRY}


def _flags_of(shape: ShapeNode) -> int:
    return (
        DICTIONARY * shape.is_dictionary
        + LIFTED * shape.is_lifted
        + LIFTS_SCALARS * shape.lifts_scalars
        + RECURSIVE * shape.is_recursive
    )


def _way_to(nodes: list[FormNode], index: int, outer: int) -> str:
    """Return how the way to a place that stands for `outer` again is written, from an element of that."""
    steps: list[Step] = []
    at = index
    rows = rows_role(nodes[outer].flags)
    while not (nodes[at].role is rows and nodes[at].parent == outer) and nodes[at].parent >= 0:
        name = nodes[at].name
        steps.append(name if name is not None else STEPS[nodes[at].role])
        at = nodes[at].parent
    return format_path(tuple(reversed(steps)))
