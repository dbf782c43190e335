"""Finding trees whose node names are data, in which a node's fields stand beside the nodes inside it.

A field of a node comes again under nodes of many names, at several depths. What is counted of tapes merges by
addition, so that any split of the input gives the same trees.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from itertools import chain, count

import numpy as np

from tessaron.core.base.digests import digest_texts
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, ENTRY, Origin, Path, format_path
from tessaron.core.base.text_lane import Bools, Int32s, Int64s, TextLane
from tessaron.core.model.recurring_names import pairs_met
from tessaron.core.shape.dictionaries import (
    CODE_KEYS,
    FEW_OBJECTS,
    LEAST_FIELDS,
    LOW_PRESENCE,
    MANY_KEYS,
    RARE_FIELD,
    SAME_FIELDS,
    is_dictionary,
)
from tessaron.core.shape.shape_node import TOO_MANY_NAMES, ShapeNode
from tessaron.core.tape.gathering import Gathered, TapeView, nodes_of
from tessaron.core.tape.put_aside import Packed, unpack
from tessaron.core.tape.tape import Tape

NODES = "nodes"
"""The name under which the nodes inside a node come together, where no field has it."""
LIKE_FIELDS, LEAST_NEW = 0.25, 0.3
"""Where so great a share of the nodes has a name of its own, their fields need not be there more often."""
LEAST_TOLD = 0.3
"""So great a share of the nodes has fields; the others only hold nodes."""
MOST_PLACES = 200
"""So many places of trees are looked at; where there are more, names are data further out."""
MOST_TOLD_APART = 10_000
"""So many names, and ways to nodes, are told apart at one place."""


@dataclass
class TreeCounts:
    """What was counted of the trees at one place.

    Attributes:
        roots: Their outermost nodes.
        nodes: Nodes inside these.
        names: The names of these.
        ways: For each way to a node from its root a number that tells it apart.
        told: By depth, the nodes that have fields: how many.
        fields: By depth and name, how many of them have the field.
        depth: How deep nodes stand.
        told_by: By name, how many of the nodes that have it have fields.
        no_objects, objects: By name, how often something else than an object has it, and how often one.
    """

    roots: int = 0
    nodes: int = 0
    names: set[str] = field(default_factory=set)
    ways: set[int] = field(default_factory=set)
    told: Counter[int] = field(default_factory=Counter)
    fields: Counter[tuple[int, str]] = field(default_factory=Counter)
    depth: int = 0
    told_by: Counter[str] = field(default_factory=Counter)
    no_objects: Counter[str] = field(default_factory=Counter)
    objects: Counter[str] = field(default_factory=Counter)

    def add(self, other: TreeCounts) -> None:
        """Take in what was counted elsewhere of the same place."""
        self.roots += other.roots
        self.nodes += other.nodes
        self.depth = max(self.depth, other.depth)
        self.told += other.told
        self.fields += other.fields
        self.told_by += other.told_by
        self.no_objects += other.no_objects
        self.objects += other.objects
        for mine, new in ((self.names, other.names), (self.ways, other.ways)):
            if len(mine) < MOST_TOLD_APART:
                mine.update(new)  # type: ignore[arg-type]

    def are_data(self) -> bool:
        """Say whether these are trees of like nodes whose names are data."""
        if len(self.names) < CODE_KEYS or not self._vary() or len(self.no_objects) >= MOST_TOLD_APART:
            return False
        if not self._are_nodes():
            return False
        if self.roots > FEW_OBJECTS and self.nodes > LOW_PRESENCE * len(self.ways) * self.roots:
            return False
        is_new = len(self.names) >= MANY_KEYS and len(self.ways) >= LEAST_NEW * self.nodes
        return self._likeness() >= (LIKE_FIELDS if is_new else SAME_FIELDS)

    def is_field(self, name: str, known: frozenset[str]) -> bool:
        """Say whether a name is that of a field: it is known for one, or mostly stands for no object."""
        return name in known or self.no_objects[name] > self.objects[name]

    def _are_nodes(self) -> bool:
        """Say whether enough nodes have fields, and none of the usual names always stands for one without.

        Such a name is no data: under it stand the nodes inside a node, whose names may be.
        """
        told = self.told.total() - self.told[0]
        if told < LEAST_TOLD * self.nodes:
            return False
        usual = (name for name, times in self.objects.items() if times >= RARE_FIELD * self.nodes)
        if 2 * told < self.nodes:
            return len(self._common_fields()) >= LEAST_FIELDS
        return all(self.told_by[name] >= RARE_FIELD * self.objects[name] for name in usual)

    def _vary(self) -> bool:
        """Say whether one field comes again at two depths, be it in nodes that hold others or in leaves."""
        deep = Counter(
            name
            for (depth, name), times in self.fields.items()
            if depth and 2 * times >= self.told[depth] > 0
        )
        return max(deep.values(), default=0) > 1

    def _common_fields(self) -> list[int]:
        """Return of each field that is not rare how many nodes have it."""
        by_name: Counter[str] = Counter()
        for (_, name), times in self.fields.items():
            by_name[name] += times
        return [times for times in by_name.values() if times >= LIKE_FIELDS * self.told.total()]

    def _likeness(self) -> float:
        """Return the share of their common fields that nodes have."""
        common = self._common_fields()
        return sum(common) / (self.told.total() * len(common)) if common else 0.0


@dataclass(frozen=True)
class TreeWork:
    """Counts what may be trees on what was put aside.

    Attributes:
        record: The shape, not settled yet.
        fields: The names that may be fields of nodes.
    """

    record: ShapeNode
    fields: frozenset[str]

    def __call__(self, packed: Packed) -> dict[Path, TreeCounts]:
        """Return what was counted, by the place of the trees."""
        tape = unpack(packed)
        return self.of(tape) if isinstance(tape, Tape) else {}

    def of(self, tape: Tape) -> dict[Path, TreeCounts]:
        """Return what was counted on a tape, by the place of the trees."""
        view = TapeView.of(tape)
        good, told = _good_objects(view, self.fields)
        roots = good & ~view.inside(good)
        # Most objects hold no others: they are no trees.
        inner = (view.kinds == Kind.OBJECT) & (view.names >= 0) & view.below(roots)
        roots = np.zeros(len(roots), np.bool_)
        roots[view.parents[inner]] = True
        places = self._places(view, roots)
        while any(self._is_wrapper(path) for path, _ in places):
            for path, at in places:
                if self._is_wrapper(path):
                    wrapped = np.zeros(len(roots), np.bool_)
                    wrapped[at] = True
                    roots = (roots & ~wrapped) | (view.below(wrapped) & (view.kinds == Kind.OBJECT))
            places = self._places(view, roots)
        return dict(zip((path for path, _ in places), _counted(view, places, told, self.fields), strict=True))

    def _is_wrapper(self, path: Path) -> bool:
        """Say whether what stands at a path only ever holds one name, so that this is no data."""
        node = self.record.find(path)
        if node is None or node.is_dictionary or not node.members():
            return False
        # What is known of the records besides is no name.
        return sum(not isinstance(step, Origin) for step in node.children) == 1

    def _places(self, view: TapeView, roots: Bools) -> list[tuple[Path, Int64s]]:
        """Return the places of some objects, each with which stand there; nothing of too many places."""
        onward = roots.copy()
        frontier: Bools = roots
        while frontier.any():
            around = np.zeros(len(onward), np.bool_)
            around[view.parents[frontier & (view.parents >= 0)]] = True
            frontier = around & ~onward
            onward |= around
        found: list[tuple[Path, Int64s]] = []
        pending: list[tuple[Path, ShapeNode | None, Int64s]] = [
            ((), self.record, np.flatnonzero(onward & (view.parents < 0)))
        ]
        children = np.flatnonzero(onward & (view.parents >= 0))
        children = children[np.argsort(view.parents[children], kind="stable")]
        above = view.parents[children]
        while pending and len(found) <= MOST_PLACES:
            path, node, here = pending.pop()
            mine = here[roots[here]]
            if len(mine):
                found.append((path, mine))
            starts, stops = np.searchsorted(above, here), np.searchsorted(above, here, side="right")
            below = children[_ranges(starts, stops)]
            pending += _by_step(view, path, node, below)
        return found if len(found) <= MOST_PLACES else []


def _ranges(starts: Int64s, stops: Int64s) -> Int64s:
    """Return all numbers from each start up to its stop."""
    sizes = stops - starts
    ends = np.cumsum(sizes)
    found: Int64s = np.arange(ends[-1] if len(ends) else 0) + np.repeat(starts - (ends - sizes), sizes)
    return found


def _by_step(
    view: TapeView, path: Path, node: ShapeNode | None, below: Int64s
) -> Iterator[tuple[Path, ShapeNode | None, Int64s]]:
    """Yield the places of values that stand in what stands at a path, with which of them stand there."""
    if not len(below):
        return
    children = {} if node is None else node.children
    names = view.names[below]
    elements, members = below[names < 0], below[names >= 0]
    if len(elements):
        yield (*path, ELEMENT), children.get(ELEMENT), elements
    if not len(members):
        return
    if node is not None and (node.is_dictionary or is_dictionary(node)):
        yield (*path, ENTRY), children.get(ENTRY), members
        return
    for number in np.unique(view.names[members]).tolist():
        step = view.steps[number]
        yield (*path, step), children.get(step), members[view.names[members] == number]


def _good_objects(view: TapeView, fields: frozenset[str]) -> tuple[Bools, Bools]:
    """Return which objects may be nodes with all that stands in them, and which of these have fields."""
    is_object, is_member = view.kinds == Kind.OBJECT, view.names >= 0
    is_field = view.are_named(fields)
    size = len(view.kinds)
    told = np.zeros(size, np.bool_)
    told[view.parents[is_field]] = True
    # An object with no field of a node, but with values, is none; nor is what holds one.
    is_value = is_member & ~is_field & ~is_object & (view.kinds != Kind.NULL) & (view.kinds <= Kind.ARRAY)
    bad = np.zeros(size, np.bool_)
    holders = np.where(view.parents >= 0, view.parents, 0)
    bad[holders[is_value & ~told[holders]]] = True
    inner = is_object & is_member & ~is_field
    frontier = bad.copy()
    while frontier.any():
        above = np.zeros(size, np.bool_)
        above[view.parents[frontier & inner]] = True
        frontier = above & ~bad
        bad |= above
    return is_object & ~bad, told & is_object


def _counted(
    view: TapeView, places: list[tuple[Path, Int64s]], told: Bools, fields: frozenset[str]
) -> list[TreeCounts]:
    """Return what is counted of the trees at each of some places, given with the outermost nodes there."""
    counts = [TreeCounts(roots=len(roots)) for _, roots in places]
    of_place = np.full(len(view.kinds), -1, np.int32)
    for number, (_, roots) in enumerate(places):
        of_place[roots] = number
    at = of_place >= 0
    is_field = view.are_named(fields) | (view.kinds != Kind.OBJECT)
    _count_fields(counts, view, np.flatnonzero(at & told), of_place, 0, is_field)
    ways = np.zeros(len(view.kinds), np.uint64)
    hashes = digest_texts(TextLane.of(view.steps))[:, 0]
    for depth, nodes in enumerate(nodes_of(view, at, fields), 1):
        here = np.flatnonzero(nodes)
        of_place[here] = _place_above(view, of_place, here)
        are_objects = view.kinds[here] == Kind.OBJECT
        objects, others = here[are_objects], here[~are_objects]
        ways[objects] = ways[view.parents[objects]] * np.uint64(0x9E37_79B9_7F4A_7C15)
        ways[objects] += hashes[view.names[objects]]
        for number, name, times in pairs_met(of_place[others], view.names[others]):
            counts[number].no_objects[view.steps[name]] += times
        for number, name, times in pairs_met(of_place[objects], view.names[objects]):
            found = counts[number]
            found.objects[view.steps[name]] += times
            found.names.add(view.steps[name])
            found.nodes += times
            found.depth = depth
        having = objects[told[objects]]
        for number, name, times in pairs_met(of_place[having], view.names[having]):
            counts[number].told_by[view.steps[name]] += times
        order = np.argsort(of_place[objects], kind="stable")
        starts = np.flatnonzero(np.diff(of_place[objects][order], prepend=-1))
        for part in np.split(order, starts[1:]) if len(order) else ():
            counts[of_place[objects[part[0]]]].ways.update(np.unique(ways[objects[part]]).tolist())
        _count_fields(counts, view, np.flatnonzero(nodes & told), of_place, depth, is_field)
    return counts


def _place_above(view: TapeView, of_place: Int32s, here: Int64s) -> Int32s:
    """Return the place of each node: that of what it stands in; between them may stand arrays."""
    above = view.parents[here]
    while (unknown := of_place[above] < 0).any():
        above = np.where(unknown, view.parents[above], above)
    return of_place[above]


def _count_fields(
    counts: list[TreeCounts], view: TapeView, nodes: Int64s, of_place: Int32s, depth: int, is_field: Bools
) -> None:
    """Count which fields nodes at a depth have: those known for fields, and all that are no objects."""
    for number, times in enumerate(np.bincount(of_place[nodes], minlength=len(counts)).tolist()):
        if times:
            counts[number].told[depth] += times
    chosen = np.zeros(len(view.kinds), np.bool_)
    chosen[nodes] = True
    at = np.flatnonzero(view.below(chosen) & (view.names >= 0) & is_field)
    for number, name, times in pairs_met(of_place[view.parents[at]], view.names[at]):
        counts[number].fields[depth, view.steps[name]] += times


@dataclass(frozen=True, slots=True)
class FoundTree:
    """A tree that was found.

    Attributes:
        gathered: Where its nodes come together, and what are fields of them.
        name_count: How many names its nodes have; `TOO_MANY_NAMES` for more than were told apart.
        depth: How deep its nodes stand, from 1.
    """

    gathered: Gathered
    name_count: int
    depth: int

    def dictionaries(self) -> Iterator[Path]:
        """Yield where nodes come together: outermost, in these, and so on."""
        path = self.gathered.path
        return ((*path, *((ENTRY, path[-1]) * depth)) for depth in range(self.depth))


def found_trees(found: Mapping[Path, TreeCounts], known: frozenset[str]) -> list[FoundTree]:
    """Return the trees of a feed, the outermost first, by what was counted at each place.

    Args:
        found: What was counted, by place.
        known: The names that may be fields of nodes.
    """
    trees: list[FoundTree] = []
    for path in sorted(found, key=lambda path: (len(path), format_path(path))):
        counts, roots = found[path], [tree.gathered.root for tree in trees]
        if counts.are_data() and not any(path[: len(root)] == root for root in roots):
            fields = frozenset(name for _, name in counts.fields if counts.is_field(name, known))
            names = len(counts.names) if len(counts.names) < MOST_TOLD_APART else TOO_MANY_NAMES
            trees.append(FoundTree(Gathered((*path, _free_name(fields)), fields), names, counts.depth))
    return trees


def _free_name(taken: frozenset[str]) -> str:
    names = chain((NODES,), (f"{NODES}_{number}" for number in count(2)))
    return next(name for name in names if name not in taken)
