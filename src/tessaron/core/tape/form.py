"""The form that a structure gives to values: what is a column, which names are keys, what is moved."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from tessaron.core.base.paths import ELEMENT, ENTRY, Path, Step
from tessaron.core.tape.fragment import Role

DICTIONARY, LIFTED, LIFTS_SCALARS, RECURSIVE = 1, 2, 4, 8
"""What may be true of a place, as flags."""
RULES = {"": 0, "member": 1, "empty": 2}
"""What becomes of the text of an element of XML that holds nothing else."""


STEPS: dict[int, Step] = {Role.ELEMENT: ELEMENT, Role.ENTRY: ENTRY}
"""The steps that are no names."""


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
            step = node.name if node.name is not None else STEPS.get(node.role)
            above = found[node.parent] if node.parent >= 0 else ()
            found.append(above if step is None else (*above, step))
        return found

    @cached_property
    def levels_between(self) -> dict[int, int | None]:
        """The rows of each structure that contains itself, with the level through which it does."""
        found: dict[int, int | None] = {
            index: None
            for index, node in enumerate(self.nodes)
            if node.parent >= 0
            and self.nodes[node.parent].flags & RECURSIVE
            and node.role == rows_role(self.nodes[node.parent].flags)
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


def rows_role(flags: int) -> Role:
    """Return what the rows of a structure with these flags are, where it contains itself."""
    return Role.ENTRY if flags & DICTIONARY else Role.ELEMENT


PLAIN = Form()
"""The form of values as they stand in the documents: every name is a member of its own."""
