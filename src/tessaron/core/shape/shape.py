"""The shape: the merged structure of all records seen. Merging is associative and commutative."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING

import pyarrow.compute as pc

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, ENTRY, Origin, Path
from tessaron.core.shape.shape_node import MOST_NAMES, ShapeNode, see_node
from tessaron.core.tape.fragment import Fragment, Node, Role

if TYPE_CHECKING:
    from tessaron.core.tape.branches import Branch
    from tessaron.core.tape.record_places import RecordPlaces


class Shape:
    """The structure of all records added so far.

    Args:
        settled: Paths of objects for which it is known whether they are dictionaries.
    """

    def __init__(self, settled: Mapping[Path, bool] | None = None) -> None:
        self.record = ShapeNode()
        self._has_dictionaries = bool(settled)
        for path, is_dictionary in (settled or {}).items():
            node = self.record
            for step in path:
                node = node.child(step)
            node.is_dictionary, node.keeps_members = is_dictionary, not is_dictionary

    def node_at(self, path: Path) -> ShapeNode | None:
        """Return what was met at a path; None where nothing was."""
        return self.record.find(path)

    @property
    def record_count(self) -> int:
        """Records seen."""
        return self.record.row_count

    def add(self, fragment: Fragment, places: RecordPlaces | None = None) -> Fragment:
        """Take in the records of a fragment.

        Args:
            fragment: The records.
            places: Where they stand, if the profile of every path is wanted.

        Returns:
            The same records, with each object of very many names either all members or all entries.
        """
        fragment = self._without_mixed_objects(fragment)
        targets: list[ShapeNode] = []
        for node in fragment.nodes:
            step = node.step()
            target = self.record if step is None else targets[node.parent].child(step)
            see_node(target, node)
            targets.append(target)
            if step is ENTRY and not targets[node.parent].is_dictionary:
                targets[node.parent].become_dictionary()
        for node in fragment.nodes:
            if node.role is Role.ORIGIN and node.name == Origin.KEY.value and node.parent > 0:
                _count_names(targets[fragment.nodes[node.parent].parent], node)
        if places is not None:
            _add_profiles(targets, fragment, places)
        self._limit_names(targets)
        return fragment

    def merge(self, other: Shape) -> None:
        """Take in all that `other` has seen."""
        self.record.absorb(other.record)
        self._limit_names(self.record.walk())

    def _limit_names(self, nodes: Iterable[ShapeNode]) -> None:
        for node in nodes:
            if node.is_dictionary:
                self._has_dictionaries = True
            elif not node.keeps_members and len(node.children) > MOST_NAMES < len(node.members()):
                node.become_dictionary()
                self._has_dictionaries = True

    def _without_mixed_objects(self, fragment: Fragment) -> Fragment:
        """Make entries of the members of each object with too many names, and members of settled ones."""
        if not self._has_dictionaries and all(node.role is not Role.ENTRY for node in fragment.nodes):
            return fragment
        from tessaron.core.tape.branches import fragment_of, tree_of
        from tessaron.core.tape.regroup import to_entries, to_members

        tree = tree_of(fragment)
        pending: list[tuple[Branch, ShapeNode | None]] = [(tree, self.record)]
        while pending:
            branch, known = pending.pop()
            if known is not None and known.keeps_members:
                to_members(branch)
            elif ENTRY in branch.children or (known is not None and known.is_dictionary):
                to_entries(branch)
            for step, child in branch.children.items():
                pending.append((child, None if known is None else known.children.get(step)))
        return fragment_of(tree, fragment)


def _add_profiles(targets: list[ShapeNode], fragment: Fragment, places: RecordPlaces) -> None:
    from tessaron.core.shape.profile import profile_node

    children = fragment.children()
    locators = places.locators(fragment)
    for index, (target, node) in enumerate(zip(targets, fragment.nodes, strict=True)):
        if len(node.kinds) and node.role is not Role.ORIGIN:
            element = children[index].get(ELEMENT)
            inside = None if element is None else fragment.nodes[element]
            are_read = 0 < target.counts[Kind.TEXT] == sum(target.readings.values())
            target.add_profile(profile_node(node, inside, locators[index], are_read))


def _count_names(target: ShapeNode, node: Node) -> None:
    if target.names is None:
        return
    found = pc.value_counts(node.texts.to_arrow())
    for name, count in zip(found.field(0).to_pylist(), found.field(1).to_pylist(), strict=True):
        target.count_name(name, count)
