"""What determines what: fields whose value follows from that of another field of the same row.

A functional dependency in the sense of relational design, found on the values there are. It is said only
where there is evidence enough: the determining field has many values, each of them several times, and the
other one does not take the same value nearly always anyway.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from tessaron.core.base.digests import digest_texts
from tessaron.core.base.kinds import SCALAR_KINDS, Kind
from tessaron.core.base.paths import Path
from tessaron.core.base.text_lane import Int64s, TextLane
from tessaron.core.model.level_places import filled_count, levels_of, places_on_rows
from tessaron.core.shape.inference import infer_type
from tessaron.core.shape.shape_form import form_of
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.tape.emission import nodes_put_aside
from tessaron.core.tape.form import Form
from tessaron.core.tape.fragment import Node
from tessaron.core.tape.put_aside import Packed

Words = npt.NDArray[np.uint64]
LEAST_VALUES, LEAST_REPEATS = 20, 3
"""So many values has what determines, each of them so often on average."""
MOST_EXCEPTIONS = 0.01
"""So great a share of the rows, at most, has another value."""
BETTER_THAN_GUESSING = 0.1
"""So great a share, at most, of the rows that the most frequent value would be wrong for."""
LEAST_FOLLOWING = 2
"""So many fields must follow for a table of their own."""
_MOST_DETERMINING, _MOST_FOLLOWING = 12, 80
_MOST_PAIRS = 200_000
_DETERMINING_TYPES = ("text", "integer", "uuid")
"""Not times: what happens at one time does not follow from it."""
_HOPELESS = 0.1
"""With so many exceptions in one chunk there is nothing to be found."""


@dataclass(frozen=True, slots=True)
class WatchedFields:
    """The fields of a level that may determine others, and those that may follow.

    Attributes:
        level: The path of the rows.
        determining, following: Their paths.
    """

    level: Path
    determining: tuple[Path, ...]
    following: tuple[Path, ...]


@dataclass(frozen=True, slots=True)
class Following:
    """A field that follows from another.

    Attributes:
        path: The field.
        exceptions: In how many rows it has another value than in most with the same value of the other.
    """

    path: Path
    exceptions: int


@dataclass(frozen=True, slots=True)
class Dependency:
    """A field with those that follow from it.

    Attributes:
        path: The determining field.
        values: How many values it has.
        rows: In how many rows.
        following: What follows.
    """

    path: Path
    values: int
    rows: int
    following: tuple[Following, ...]


@dataclass
class PairCounts:
    """How often pairs of values stand in one row: of the determining field and of another, as hashes.

    Attributes:
        left, right: The pairs, each once; in the order of `left`.
        counts: How often.
    """

    left: Words
    right: Words
    counts: Int64s

    def add(self, other: PairCounts) -> PairCounts:
        """Return both together."""
        return _counted(
            np.concatenate((self.left, other.left)),
            np.concatenate((self.right, other.right)),
            np.concatenate((self.counts, other.counts)),
        )


def _counted(left: Words, right: Words, counts: Int64s) -> PairCounts:
    order = np.lexsort((right, left))
    left, right, counts = left[order], right[order], counts[order]
    is_first = np.ones(len(left), np.bool_)
    is_first[1:] = (left[1:] != left[:-1]) | (right[1:] != right[:-1])
    starts = np.flatnonzero(is_first)
    return PairCounts(left[starts], right[starts], np.add.reduceat(counts, starts) if len(starts) else counts)


def watched_fields(record: ShapeNode) -> list[WatchedFields]:
    """Return what is looked at on each level of a settled shape that was profiled."""
    found = []
    for level, path in levels_of(record):
        scalars = [
            (node, at)
            for node, at in places_on_rows(level, path)
            if at != path and node.profile is not None and any(node.counts[kind] for kind in SCALAR_KINDS)
        ]
        many = [(at, _distinct(node)) for node, at in scalars if _may_determine(node)]
        most = max([count for _, count in many], default=0)
        follows = [at for node, at in scalars if 2 <= _distinct(node) <= most]
        if many and len(follows) > 1:
            determining = tuple(at for at, _ in many[:_MOST_DETERMINING])
            found.append(WatchedFields(path, determining, tuple(follows[:_MOST_FOLLOWING])))
    return found


def _distinct(node: ShapeNode) -> int:
    return 0 if node.profile is None else node.profile.distinct.estimate()


def _may_determine(node: ShapeNode) -> bool:
    is_plain = any(node.counts[kind] == filled_count(node) for kind in (Kind.TEXT, Kind.INTEGER))
    is_plain = is_plain and infer_type(node).type.name in _DETERMINING_TYPES
    count = _distinct(node)
    return is_plain and count >= LEAST_VALUES and LEAST_REPEATS * count <= filled_count(node)


Pair = tuple[Path, Path]
_Found = dict[Pair, PairCounts | None]


@dataclass
class DependencyWork:
    """Counts pairs of values in tapes.

    Attributes:
        record: The settled shape.
        levels: What is looked at.
    """

    record: ShapeNode
    levels: Sequence[WatchedFields]
    form: Form = field(init=False)
    _hopeless: set[Pair] = field(default_factory=set)
    """Pairs that are none, as some tape has shown: they are not looked at again."""

    def __post_init__(self) -> None:
        self.form = form_of(self.record)

    def __call__(self, packed: Packed) -> _Found | None:
        """Return the counts of each pair of fields, None for a pair that is none; None for no tape."""
        nodes = nodes_put_aside(packed, self.form)
        if nodes is None:
            return None
        found: _Found = {}
        for level in self.levels:
            found |= self._pairs_of(level, nodes)
        self._hopeless.update(pair for pair, counts in found.items() if counts is None)
        return found

    def _pairs_of(self, level: WatchedFields, nodes: Mapping[Path, Node]) -> _Found:
        pairs = [
            (left, right)
            for left in level.determining
            for right in level.following
            if left != right and (left, right) not in self._hopeless
        ]
        coded = {path: _coded(nodes.get(path)) for path in {path for pair in pairs for path in pair}}
        return {pair: _pair_counts(coded[pair[0]], coded[pair[1]]) for pair in pairs}


@dataclass(frozen=True, slots=True)
class _Coded:
    """The scalars of a field: in which rows, which of the distinct values each is, and hashes of these."""

    rows: Int64s
    codes: Int64s
    hashes: Words


def _pair_counts(left: _Coded, right: _Coded) -> PairCounts | None:
    code_of_row = np.full(int(left.rows[-1]) + 1 if len(left.rows) else 0, -1, np.int64)
    code_of_row[left.rows] = left.codes
    near = right.rows < len(code_of_row)
    mine, theirs = code_of_row[right.rows[near]], right.codes[near]
    mine, theirs = mine[mine >= 0], theirs[mine >= 0]
    first = np.zeros(len(left.hashes), np.int64)
    first[mine[::-1]] = theirs[::-1]
    if (first[mine] != theirs).sum() > _HOPELESS * len(mine) + LEAST_VALUES:
        return None
    pairs, counts = np.unique(mine * max(len(right.hashes), 1) + theirs, return_counts=True)
    at = np.divmod(pairs, max(len(right.hashes), 1))
    return _counted(left.hashes[at[0]], right.hashes[at[1]], counts.astype(np.int64))


def _coded(node: Node | None) -> _Coded:
    """Return the scalars of a field, each distinct value with a hash."""
    codes, hashes = np.zeros(0 if node is None else len(node.kinds), np.int64), [np.empty(0, np.uint64)]
    if node is None:
        return _Coded(codes, codes, hashes[0])
    count = 0
    for kinds, found in _distinct_values(node):
        own, values = found
        codes[np.isin(node.kinds, kinds)] = own + count
        hashes.append(values)
        count += len(values)
    is_scalar = np.isin(node.kinds, SCALAR_KINDS)
    return _Coded(node.rows_present()[is_scalar].astype(np.int64), codes[is_scalar], np.concatenate(hashes))


def _distinct_values(node: Node) -> Iterator[tuple[tuple[Kind, ...], tuple[Int64s, Words]]]:
    """Yield the kinds of scalars at a node, which of the distinct values each is, and hashes of these."""
    for kinds, lane in (((Kind.TEXT,), node.texts), ((Kind.LONG_INTEGER, Kind.FRACTION), node.numbers)):
        if len(lane):
            encoded = pc.dictionary_encode(lane.to_arrow())
            hashes = digest_texts(TextLane.of(encoded.dictionary))[:, 0]
            yield kinds, (encoded.indices.to_numpy().astype(np.int64), hashes)
    for kind, numbers in ((Kind.INTEGER, node.integers), (Kind.BOOLEAN, node.booleans)):
        if len(numbers):
            values, codes = np.unique(numbers.astype(np.int64), return_inverse=True)
            yield (kind,), (codes.astype(np.int64), values.view(np.uint64))


class DependencyCounts:
    """Takes in what was counted, and says what follows from what."""

    def __init__(self) -> None:
        self._pairs: _Found = {}

    def add(self, found: _Found) -> None:
        """Take in the counts of a tape."""
        for pair, counts in found.items():
            known = self._pairs.get(pair, counts)
            if known is not counts and known is not None and counts is not None:
                known = known.add(counts)
            is_bounded = known is not None and counts is not None and len(known.counts) <= _MOST_PAIRS
            self._pairs[pair] = known if is_bounded else None

    def lookups(self, record: ShapeNode) -> list[Dependency]:
        """Return what follows without exception, and stands in the same rows: each field in one of them only.

        Args:
            record: The settled shape.
        """
        made: list[Dependency] = []
        taken: set[Path] = set()
        for each in self.dependencies():
            rows = filled_count(record.at(each.path))
            following = tuple(
                other
                for other in each.following
                if not other.exceptions
                and other.path not in taken
                and rows == self._together(each.path, other.path) == filled_count(record.at(other.path))
            )
            if len(following) >= LEAST_FOLLOWING and each.path not in taken:
                taken |= {each.path, *(other.path for other in following)}
                made.append(Dependency(each.path, each.values, rows, following))
        return made

    def _together(self, left: Path, right: Path) -> int:
        """Return in how many rows both stand."""
        counts = self._pairs.get((left, right))
        return 0 if counts is None else int(counts.counts.sum())

    def dependencies(self) -> list[Dependency]:
        """Return what follows from what, where there is evidence enough."""
        by_left: dict[Path, list[tuple[Path, PairCounts]]] = {}
        for (left, right), counts in self._pairs.items():
            if counts is not None and _exceptions(counts) is not None:
                by_left.setdefault(left, []).append((right, counts))
        made = []
        for left, pairs in by_left.items():
            following = tuple(Following(right, _exceptions(counts) or 0) for right, counts in pairs)
            widest = max((counts for _, counts in pairs), key=lambda counts: int(counts.counts.sum()))
            values = int((np.diff(widest.left) != 0).sum()) + 1
            made.append(Dependency(left, values, int(widest.counts.sum()), following))
        return list(_telling(made))


def _exceptions(pairs: PairCounts) -> int | None:
    """Return how many rows break a dependency; None if they are too many, or too little is known."""
    rows = int(pairs.counts.sum())
    if not rows:
        return None
    starts = np.flatnonzero(np.concatenate(([True], pairs.left[1:] != pairs.left[:-1])))
    if len(starts) < LEAST_VALUES or rows < LEAST_REPEATS * len(starts):
        return None
    exceptions = rows - int(np.maximum.reduceat(pairs.counts, starts).sum())
    _, codes = np.unique(pairs.right, return_inverse=True)
    guessed = rows - int(np.bincount(codes, weights=pairs.counts).max())
    if exceptions > MOST_EXCEPTIONS * rows or exceptions > BETTER_THAN_GUESSING * guessed:
        return None
    return exceptions if guessed >= LEAST_VALUES else None


def _telling(found: Sequence[Dependency]) -> Iterator[Dependency]:
    """Yield dependencies, those of most fields first, without what follows from one that was told already."""
    told: list[Dependency] = []
    for each in sorted(found, key=lambda each: (-len(each.following), len(each.path))):
        names = {following.path for following in each.following}
        if not any(
            each.path in (known := {f.path for f in other.following}) and names <= {*known, other.path}
            for other in told
        ):
            told.append(each)
            yield each
