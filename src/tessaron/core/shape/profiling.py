"""Profiles of what was put aside: what a survey wants to know of every path beyond its structure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, Path
from tessaron.core.shape.profile import Profile, profile_node
from tessaron.core.shape.shape_form import form_of
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.tape.emission import emit
from tessaron.core.tape.form import Form
from tessaron.core.tape.fragment import Fragment, Role
from tessaron.core.tape.put_aside import Packed, unpack
from tessaron.core.tape.record_places import RecordPlaces
from tessaron.core.tape.tape import Tape


@dataclass
class ProfileWork:
    """Makes the profiles of tapes; fragments have theirs already.

    Attributes:
        record: The structure that was learnt, not settled yet.
    """

    record: ShapeNode
    form: Form = field(init=False)

    def __post_init__(self) -> None:
        self.form = form_of(self.record)

    def __call__(self, packed: Packed) -> Mapping[Path, Profile]:
        """Return the profile of each path."""
        read = unpack(packed)
        if not isinstance(read, Tape):
            return {}
        return self._of(emit(read, self.form))

    def _of(self, fragment: Fragment) -> Mapping[Path, Profile]:
        children = fragment.children()
        locators = (fragment.places or RecordPlaces()).locators(fragment)
        targets: list[ShapeNode | None] = []
        found: dict[Path, Profile] = {}
        for index, (node, path) in enumerate(zip(fragment.nodes, fragment.paths(), strict=True)):
            step = node.step()
            above = self.record if step is None else targets[node.parent]
            target = above if step is None or above is None else above.children.get(step)
            targets.append(target)
            if target is None or not len(node.kinds) or node.role is Role.ORIGIN:
                continue
            element = children[index].get(ELEMENT)
            inside = None if element is None else fragment.nodes[element]
            are_read = 0 < target.counts[Kind.TEXT] == sum(target.readings.values())
            found[path] = profile_node(node, inside, locators[index], are_read)
        return found
