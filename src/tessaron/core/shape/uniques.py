"""Whether every value at a path stands there once, and which do not."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import Path
from tessaron.core.shape.conform import fragment_in_form
from tessaron.core.shape.profile import Example, Locate, value_at
from tessaron.core.shape.shape_form import form_of
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.tape.distinct import Hashes, hash_integers, hash_texts
from tessaron.core.tape.form import Form
from tessaron.core.tape.fragment import Node
from tessaron.core.tape.put_aside import Packed
from tessaron.core.tape.record_places import RecordPlaces

ALMOST = 0.98
"""Values of which so great a share is different are looked at for repeats."""
SHOWN_VALUES = 3


@dataclass(frozen=True, slots=True)
class Repeats:
    """How often values repeat.

    Attributes:
        repeated: How many different values occur more than once.
        rows: How many rows have one of them.
        values: Some of them, as JSON, with how often each occurs.
        example: The first of these, where it stands first; None where that is not known.
    """

    repeated: int = 0
    rows: int = 0
    values: tuple[tuple[str, int], ...] = ()
    example: Example | None = None


@dataclass(frozen=True, slots=True)
class HashTask:
    """Hashing the values at some paths of a fragment.

    Attributes:
        packed: The chunk, as it was put aside.
        paths: The paths, in the settled structure.
        wanted: Where the values themselves are wanted: by path, their hashes.
    """

    packed: Packed
    paths: Sequence[Path]
    wanted: Mapping[Path, Hashes] | None = None


@dataclass
class HashWork:
    """Does `HashTask`s by a settled shape."""

    record: ShapeNode

    @cached_property
    def form(self) -> Form:
        """The form of the settled shape."""
        return form_of(self.record)

    def __call__(self, task: HashTask) -> Any:
        """Return by path the hashes of all values, or by path the wanted values by their hash."""
        fragment = fragment_in_form(task.packed, self.record, self.form)
        nodes = dict(zip(fragment.paths(), fragment.nodes, strict=True))
        present = {path: nodes[path] for path in task.paths if path in nodes}
        if task.wanted is None:
            return {path: _hashes(node) for path, node in present.items()}
        places = fragment.places or RecordPlaces()
        locators = dict(zip(nodes, places.locators(fragment), strict=True))
        return {path: _values(node, task.wanted[path], locators[path]) for path, node in present.items()}


def _hashes(node: Node) -> Hashes:
    """Return the hash of each integer and text of a node."""
    return np.concatenate((hash_integers(node.integers), hash_texts(node.texts)))


def _values(node: Node, wanted: Hashes, locate: Locate) -> dict[int, Example]:
    """Return the wanted values by their hash, each where it stands first."""
    found: dict[int, Example] = {}
    rows = node.rows_present()
    for kind, hashes in ((Kind.INTEGER, hash_integers(node.integers)), (Kind.TEXT, hash_texts(node.texts))):
        own_rows = rows[node.kinds == kind]
        for index in np.flatnonzero(np.isin(hashes, wanted)).tolist():
            if int(hashes[index]) not in found:
                place = locate(int(own_rows[index]))
                found[int(hashes[index])] = Example(value_at(node, kind, index), *place)
    return found
