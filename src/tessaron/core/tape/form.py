"""The form that a structure gives to values: what is a column, which names are keys, what is moved."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from tessaron.core.fragment import Role
from tessaron.core.paths import ELEMENT, ENTRY, Origin, Path, Step, format_path
from tessaron.core.shape import ShapeNode
from tessaron.core.structure import has_several_ways

DICTIONARY, LIFTED, LIFTS_SCALARS, RECURSIVE = 1, 2, 4, 8
"""What may be true of a place, as flags."""
RULES = {"": 0, "member": 1, "empty": 2}
"""What becomes of the text of an element of XML that holds nothing else."""


@dataclass(frozen=True, slots=True)
class FormNode:
    """One place of a form.

    Attributes:
        parent: The number of the place around it, -1 for the record.
        role: What it is to that.
        name: The step of a member; None for all others.
        fold: The number of the place that it stands for again, where a structure contains itself; else -1.
        flags: What is true of it.
        rule: What becomes of texts there; see `RULES`.
    """

    parent: int
    role: int
    name: str | None
    fold: int = -1
    flags: int = 0
    rule: int = 0


@dataclass(frozen=True)
class Form:
    """All places, each after the one around it.

    Attributes:
        nodes: The places.
        ways: For each place that stands for another again: how the way to it is written, from the row around
            it. Empty where there is one way only.
    """

    nodes: tuple[FormNode, ...] = (FormNode(-1, Role.RECORD, None),)
    ways: tuple[tuple[int, str], ...] = ()

    @cached_property
    def rows(self) -> list[tuple[int, int, str | None, int, int, int]]:
        """The places as the compiled pass reads them."""
        return [(n.parent, int(n.role), n.name, n.fold, n.flags, n.rule) for n in self.nodes]

    def dictionaries_only(self) -> Form:
        """Return the form in which nothing is moved, and only the names of dictionaries are keys."""
        nodes = (FormNode(n.parent, n.role, n.name, -1, n.flags & DICTIONARY) for n in self.nodes)
        return Form(tuple(nodes))

    @cached_property
    def paths(self) -> list[Path]:
        """The path of each place."""
        found: list[Path] = []
        for node in self.nodes:
            step = node.name if node.name is not None else _STEPS.get(node.role)
            above = found[node.parent] if node.parent >= 0 else ()
            found.append(above if step is None else (*above, step))
        return found

    @cached_property
    def levels_between(self) -> dict[int, int | None]:
        """The elements of each structure that contains itself, with the level through which it does."""
        found: dict[int, int | None] = {
            index: None
            for index, node in enumerate(self.nodes)
            if node.role is Role.ELEMENT and self.nodes[node.parent].flags & RECURSIVE
        }
        inner = {self.nodes[index].parent: index for index in found}
        for node in self.nodes:
            if node.fold in inner:
                level = self.level_of(node.parent)
                if level != inner[node.fold]:
                    found[inner[node.fold]] = level
        return found

    def level_of(self, place: int) -> int:
        """Return the place whose rows a place has."""
        while self.nodes[place].role is Role.MEMBER:
            place = self.nodes[place].parent
        return place


PLAIN = Form()
"""The form of values as they stand in the documents: every name is a member of its own."""


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
_STEPS: dict[int, Step] = {Role.ELEMENT: ELEMENT, Role.ENTRY: ENTRY}


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
    while not (nodes[at].role is Role.ELEMENT and nodes[at].parent == outer) and nodes[at].parent >= 0:
        name = nodes[at].name
        steps.append(name if name is not None else _STEPS[nodes[at].role])
        at = nodes[at].parent
    return format_path(tuple(reversed(steps)))
