"""Which field of a structure decides all others, at all places where it stands: its identity.

A key in the sense of relational design, found on the values there are. It is taken for one only where there
is evidence enough: many values, each of them several times, and never with anything else beside it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import combinations

import numpy as np
import pyarrow as pa

from tessaron.core.base.digests import digest_texts, digest_words
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import Each, Origin, Path
from tessaron.core.base.text_lane import TextLane
from tessaron.core.model.dependencies import (
    LEAST_FOLLOWING,
    LEAST_REPEATS,
    LEAST_VALUES,
    Words,
)
from tessaron.core.model.level_places import Placed, filled_count, has_column, places_on_rows
from tessaron.core.shape.shape_form import form_of
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.tape.emission import nodes_put_aside
from tessaron.core.tape.form import Form
from tessaron.core.tape.fragment import Node
from tessaron.core.tape.put_aside import Packed

_MOST_IDENTITIES, _MOST_IN_PAIRS = 6, 4
"""So many fields, at most, are looked at whether they are one, and two of so many, those in front first."""
_NEARLY_ALONE = 0.8
"""Two fields are one together only if neither has so great a share of as many values as both."""
_MOST_VALUES = 200_000
"""Of more values nothing is known: they stand in memory, with what is beside each."""


@dataclass(frozen=True, slots=True)
class WatchedStructure:
    """A structure of which it is looked at which field decides all others.

    Attributes:
        number: Its number.
        levels: The paths of its rows, at all places.
        fields: The paths of all fields, from the row.
        candidates: Those that may be the identity, by themselves, then two together.
    """

    number: int
    levels: tuple[Path, ...]
    fields: tuple[Path, ...]
    candidates: tuple[tuple[Path, ...], ...]


def watched_structure(number: int, places: Sequence[Placed], whole: ShapeNode) -> WatchedStructure | None:
    """Return what is looked at of a structure; None if it has other rows below it, or no field may be one.

    Args:
        number: The number to give it.
        places: Its levels with their paths.
        whole: What was seen at all of them.
    """
    found = list(places_on_rows(whole, ()))
    if any(isinstance(step, (Each, Origin)) for node, _ in found for step in node.children):
        return None
    fields = [(node, path) for node, path in found if has_column(node)]
    rows = sum(node.row_count for node, _ in places)
    single = [path for node, path in fields if path and _may_identify(node, rows)]
    may_be: list[tuple[Path, ...]] = [(path,) for path in single[:_MOST_IDENTITIES]]
    if len(fields) >= 2 + LEAST_FOLLOWING:
        may_be += combinations(single[:_MOST_IN_PAIRS], 2)
    if rows < LEAST_VALUES * LEAST_REPEATS or not may_be or len(fields) <= LEAST_FOLLOWING:
        return None
    paths = tuple(path for _, path in fields)
    return WatchedStructure(number, tuple(path for _, path in places), paths, tuple(may_be))


def _may_identify(node: ShapeNode, rows: int) -> bool:
    return filled_count(node) == rows and any(node.counts[kind] == rows for kind in (Kind.TEXT, Kind.INTEGER))


@dataclass
class Decided:
    """What a field decides, or two together, as far as was seen.

    Attributes:
        values: Hashes of the values, each once, in order.
        others: A hash of all other fields beside each.
        rows: In how many rows.
        parts: Of two fields together: the hashes of the values of each, each once.
    """

    values: Words
    others: Words
    rows: int
    parts: tuple[Words, ...] = ()

    def and_more(self, more: Decided) -> Decided | None:
        """Return both together; None where a value has something else beside it."""
        parts = tuple(np.union1d(mine, theirs) for mine, theirs in zip(self.parts, more.parts, strict=True))
        return _decided(
            np.concatenate((self.values, more.values)),
            np.concatenate((self.others, more.others)),
            self.rows + more.rows,
            parts,
        )


def _decided(values: Words, others: Words, rows: int, parts: tuple[Words, ...] = ()) -> Decided | None:
    found, first, at = np.unique(values, return_index=True, return_inverse=True)
    if len(found) > _MOST_VALUES or (others[first][at] != others).any():
        return None
    return Decided(found, others[first], rows, parts)


Found = dict[tuple[int, tuple[Path, ...]], Decided | None]
"""By the number of a structure and one of its fields: what that decides; None if it does not decide all."""


@dataclass
class IdentityWork:
    """Looks in tapes what decides all fields of structures.

    Attributes:
        record: The settled shape.
        structures: What is looked at.
    """

    record: ShapeNode
    structures: Sequence[WatchedStructure]
    form: Form = field(init=False)
    _none: set[tuple[int, tuple[Path, ...]]] = field(default_factory=set)
    """Fields that are none, as some tape has shown: they are not looked at again."""

    def __post_init__(self) -> None:
        self.form = form_of(self.record)

    def __call__(self, packed: Packed) -> Found | None:
        """Return what was found; None for what is no tape, of which nothing is known."""
        nodes = nodes_put_aside(packed, self.form)
        if nodes is None:
            return None
        found: Found = {}
        for structure in self.structures:
            left = [path for path in structure.candidates if (structure.number, path) not in self._none]
            for path, decided in _found(structure, left, nodes).items() if left else ():
                found[structure.number, path] = decided
        self._none.update(key for key, decided in found.items() if decided is None)
        return found


def _found(
    structure: WatchedStructure, candidates: Sequence[tuple[Path, ...]], nodes: Mapping[Path, Node]
) -> dict[tuple[Path, ...], Decided | None]:
    levels = [(level, node.row_count) for level in structure.levels if (node := nodes.get(level)) is not None]
    if not any(count for _, count in levels):
        return {}
    hashes = {
        path: _hashes([(nodes.get((*level, *path)), count) for level, count in levels])
        for path in structure.fields
    }
    beside = digest_words(list(hashes.values()))[:, 0]
    found: dict[tuple[Path, ...], Decided | None] = {}
    for paths in candidates:
        if len(paths) == 1:
            found[paths] = _decided(hashes[paths[0]], beside, len(beside))
        else:
            both = [hashes[path] for path in paths]
            parts = tuple(map(np.unique, both))
            found[paths] = _decided(digest_words(both)[:, 0], beside, len(beside), parts)
    return found


def _hashes(parts: Sequence[tuple[Node | None, int]]) -> Words:
    """Return a hash of the scalar in each row of levels, one after the other: 0 where there is none.

    Equal values of one kind have equal hashes; those of different kinds have others.

    Args:
        parts: For each level the node of the scalars, if there is one, and how many rows it has.
    """
    starts = np.cumsum([0, *(count for _, count in parts)])
    found = np.zeros(starts[-1], np.uint64)
    filled = [
        (start, node) for start, (node, _) in zip(starts.tolist(), parts, strict=False) if node is not None
    ]
    for kinds, words_of in _WORDS_OF:
        rows, chosen = [], []
        for start, node in filled:
            mask = np.isin(node.kinds, kinds)
            if mask.any():
                rows.append(node.rows_present()[mask] + start)
                chosen.append(node)
        if rows:
            words = words_of(chosen)
            found[np.concatenate(rows)] = digest_words([words, np.full(len(words), kinds[0])])[:, 0]
    return found


def _words_of_texts(lanes: Sequence[TextLane]) -> Words:
    return digest_texts(TextLane.of(pa.concat_arrays([lane.to_arrow() for lane in lanes])))[:, 0]


_WORDS_OF: tuple[tuple[tuple[Kind, ...], Callable[[Sequence[Node]], Words]], ...] = (
    ((Kind.TEXT,), lambda nodes: _words_of_texts([node.texts for node in nodes])),
    ((Kind.LONG_INTEGER, Kind.FRACTION), lambda nodes: _words_of_texts([node.numbers for node in nodes])),
    ((Kind.INTEGER,), lambda nodes: np.concatenate([node.integers for node in nodes]).view(np.uint64)),
    ((Kind.BOOLEAN,), lambda nodes: np.concatenate([node.booleans for node in nodes]).astype(np.uint64)),
)
"""For kinds of scalars: what gives words, equal for equal values, of some nodes one after the other."""


class Identities:
    """Takes in what was found in tapes, and says which field is the identity of a structure."""

    def __init__(self, structures: Sequence[WatchedStructure]):
        self._structures = structures
        self._found: Found = {}

    def add(self, found: Found) -> None:
        """Take in what was found in a tape."""
        for key, decided in found.items():
            known = self._found.get(key, decided)
            if known is not decided and known is not None and decided is not None:
                known = known.and_more(decided)
            self._found[key] = None if decided is None else known

    def of_structures(self) -> dict[int, tuple[Path, ...]]:
        """Return the fields that decide all others, from the row, by the number of the structure."""
        found: dict[int, tuple[Path, ...]] = {}
        for structure in self._structures:
            for path in structure.candidates:
                decided = self._found.get((structure.number, path))
                if structure.number not in found and decided is not None and _is_enough(decided):
                    found[structure.number] = path
        return found


def _is_enough(decided: Decided) -> bool:
    count = len(decided.values)
    if any(len(part) > _NEARLY_ALONE * count for part in decided.parts):
        # One of them is the identity, but for exceptions.
        return False
    return count >= LEAST_VALUES and decided.rows >= LEAST_REPEATS * count
