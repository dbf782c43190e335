"""Regrouping the branches of a fragment: members that are entries, objects that count as arrays, folds."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from tessaron.core.base.kinds import LANE_OF_KIND, SCALAR_KINDS, Kind
from tessaron.core.base.paths import (
    ELEMENT,
    ENTRY,
    TEXT_STEP,
    Each,
    Origin,
    Path,
    Step,
    format_path,
    kept_name,
)
from tessaron.core.base.text_lane import EMPTY_TEXTS, Int32s, Int64s, TextLane
from tessaron.core.tape.branches import (
    Branch,
    FewRows,
    Part,
    compact_positions,
    expanded_positions,
    joined,
    merge,
    order_rows,
    origin,
    row_order,
    take,
)
from tessaron.core.tape.fragment import NO_ROWS, Node, Role

_FEW_ROWS = 8
"""Where so small a part of the rows has something, their new rows are looked for rather than listed."""


def to_entries(branch: Branch) -> None:
    """Make the members below an object, and its entries, one level with a key for each row."""
    names = [step for step in branch.children if isinstance(step, str)]
    members = [branch.children.pop(name) for name in names]
    entry = branch.children.pop(ENTRY, None)
    if not members and (entry is None or Origin.KEY in entry.children):
        if entry is not None:
            branch.children[ENTRY] = entry
        return
    parents = [member.node.rows_present() for member in members]
    ordinals = [expanded_positions(member.node) + 1 for member in members]
    codes = np.repeat(np.arange(len(names)), [len(rows) for rows in parents])
    shown = pa.array([kept_name(name) for name in names], pa.large_string())
    keys = [TextLane.of(shown.take(pa.array(codes)))]
    if entry is not None:
        parents.append(entry.node.parent_rows)
        ordinals.append(entry.node.ordinals)
        keys.append(_keys_of(entry))
    (parent_rows, sorted_ordinals), places = order_rows(parents, ordinals)
    parts = []
    for member, rows in zip(members, places, strict=False):
        parts.append(Part(member, _moved(member.node, rows), is_whole=True))
    if entry is not None:
        entry.children.pop(Origin.KEY, None)
        parts.append(Part(entry, places[-1], is_whole=True))
    level = merge(parts, Role.ENTRY, None, len(parent_rows), {})
    level.node.parent_rows, level.node.ordinals = parent_rows, sorted_ordinals
    all_keys = take(joined([lane for lane in keys if len(lane)] or [EMPTY_TEXTS]), row_order(places))
    level.children[Origin.KEY] = origin(Origin.KEY, len(parent_rows), texts=all_keys)
    branch.children[ENTRY] = level


def _moved(node: Node, rows: Int32s) -> Int32s | FewRows:
    """Return the new row of each row in which something stands at a node, given in their order."""
    present = node.rows_present()
    if len(present) * _FEW_ROWS < node.row_count:
        # Where names are data there are as many members as rows: none may cost as much as all of these.
        return FewRows(present, rows)
    moved = np.full(node.row_count, -1, np.int32)
    moved[present] = rows
    return moved


def _keys_of(entry: Branch) -> TextLane:
    return entry.node.keys if Origin.KEY not in entry.children else entry.children[Origin.KEY].node.texts


def to_members(branch: Branch) -> None:
    """Make the entries below an object members of their own, together with those of their names there are."""
    if ENTRY not in branch.children:
        return
    if any(isinstance(step, str) for step in branch.children):
        # What stood in one object as members and in another as entries has come together here.
        to_entries(branch)
    entry = branch.children.pop(ENTRY)
    encoded = _keys_of(entry).to_arrow().dictionary_encode()
    names = encoded.dictionary.to_pylist()
    codes = encoded.indices.to_numpy().astype(np.int64)
    entry.children.pop(Origin.KEY, None)
    row_count = branch.node.row_count
    made = _split_node(
        entry.node, codes, entry.node.parent_rows, [row_count] * len(names), entry.node.ordinals - 1
    )
    members = [Branch(node) for node in made]
    for name, member in zip(names, members, strict=True):
        member.node.role, member.node.name = Role.MEMBER, name
        branch.children[name] = member
    _split_below(entry, codes, entry.node.parent_rows, members, [row_count] * len(names))


def _split_below(
    old: Branch, codes: npt.NDArray[np.int64], new_rows: Int32s, parents: list[Branch], row_counts: list[int]
) -> None:
    """Split all below `old`, whose level has a code and a new row for each row, among `parents` by code."""
    pending = [(old, codes, new_rows, parents, row_counts)]
    while pending:
        above, codes, new_rows, parents, row_counts = pending.pop()
        for step, child in above.children.items():
            node, counts = child.node, row_counts
            child_codes, child_rows = codes, new_rows
            if isinstance(step, Each):
                child_codes = codes[node.parent_rows]
                order = np.argsort(child_codes, kind="stable")
                starts = np.searchsorted(child_codes[order], np.arange(len(parents)))
                child_rows = np.empty(len(child_codes), np.int32)
                child_rows[order] = np.arange(len(order)) - starts[child_codes[order]]
                counts = np.bincount(child_codes, minlength=len(parents)).tolist()
            made = [Branch(each) for each in _split_node(node, child_codes, child_rows, counts, None)]
            if isinstance(step, Each):
                _split_level(node, child_codes, new_rows, made)
            keep = [index for index, each in enumerate(made) if _is_there(step, each, parents[index])]
            for index in keep:
                parents[index].children[step] = made[index]
            pending.append((child, child_codes, child_rows, made, counts))


def _is_there(step: Step, branch: Branch, above: Branch) -> bool:
    """Say whether a part of a split branch stands for something, be it an array that is always empty."""
    if step is ELEMENT:
        return bool((above.node.kinds == Kind.ARRAY).any())
    return len(branch.node.kinds) > 0


def _split_level(node: Node, codes: npt.NDArray[np.int64], parent_rows: Int32s, made: list[Branch]) -> None:
    order = np.argsort(codes, kind="stable")
    bounds = np.searchsorted(codes[order], np.arange(len(made) + 1))
    parents, ordinals = parent_rows[node.parent_rows][order], node.ordinals[order]
    keys = take(node.keys, order) if len(node.keys) else None
    for index, branch in enumerate(made):
        start, stop = bounds[index], bounds[index + 1]
        branch.node.parent_rows, branch.node.ordinals = parents[start:stop], ordinals[start:stop]
        if keys is not None:
            branch.node.keys = keys.slice(start, stop)


def _split_node(
    node: Node,
    codes: npt.NDArray[np.int64],
    new_rows: Int32s,
    row_counts: list[int],
    positions: Int32s | None,
) -> list[Node]:
    """Return a node for each code, with the occurrences on rows of that code."""
    present = node.rows_present()
    # Codes of 16 bits are sorted by counting, several times as fast.
    own = codes[present].astype(np.uint16 if len(row_counts) <= 2**16 else np.int64)
    order = np.argsort(own, kind="stable")
    bounds = np.searchsorted(own[order], np.arange(len(row_counts) + 1)).tolist()
    rows, kinds = new_rows[present][order], node.kinds[order]
    spots = (expanded_positions(node) if positions is None else positions)[order]
    lanes = {}
    for lane in ("booleans", "integers", "numbers", "texts"):
        values = getattr(node, lane)
        if len(values):
            in_lane = np.isin(node.kinds, [kind for kind, other in LANE_OF_KIND.items() if other == lane])
            lane_codes = own[in_lane]
            lane_order = np.argsort(lane_codes, kind="stable")
            cuts = np.searchsorted(lane_codes[lane_order], np.arange(len(row_counts) + 1)).tolist()
            lanes[lane] = (take(values, lane_order), cuts)
    made = []
    for index, row_count in enumerate(row_counts):
        start, stop = bounds[index], bounds[index + 1]
        each = Node(-1, node.role, node.name, row_count, kinds=kinds[start:stop])
        each.rows = None if stop - start == row_count else rows[start:stop]
        each.positions = compact_positions(spots[start:stop])
        for lane, (values, cuts) in lanes.items():
            low, high = cuts[index], cuts[index + 1]
            if high > low:
                setattr(
                    each, lane, values.slice(low, high) if isinstance(values, TextLane) else values[low:high]
                )
        made.append(each)
    return made


_SINGLE = tuple(kind for kind in Kind if kind is not Kind.ARRAY)


def lift(branch: Branch, with_scalars: bool = False) -> None:
    """Make each object here an element without an array: its ordinal is 0; what stands in arrays stays there.

    In XML, where nothing tells one element from a list of one, it is the first.

    Args:
        branch: Where they stand.
        with_scalars: Whether scalars, and nulls, become elements too.
    """
    node = branch.node
    lifted = (Kind.OBJECT,) if not with_scalars else _SINGLE
    is_single = np.isin(node.kinds, lifted)
    if not is_single.any():
        return
    rows = node.rows_present()[is_single]
    element = branch.children.pop(ELEMENT, None)
    if element is None and len(rows) == node.row_count:
        _lift_every_row(branch, with_scalars)
        return
    parents, ordinals = [rows], [np.full(len(rows), int(with_scalars), np.int32)]
    if element is not None:
        parents.append(element.node.parent_rows)
        ordinals.append(element.node.ordinals)
    (parent_rows, sorted_ordinals), places = order_rows(parents, ordinals)
    new_rows = np.full(node.row_count, -1, np.int32)
    new_rows[rows] = places[0]
    parts = [Part(branch, new_rows, lifted)]
    if element is not None:
        parts.append(Part(element, places[1], is_whole=True))
    level = merge(parts, Role.ELEMENT, None, len(parent_rows), {})
    level.node.parent_rows, level.node.ordinals = parent_rows, sorted_ordinals
    kinds = node.kinds.copy()
    kinds[is_single] = Kind.ARRAY
    branch.node = replace(node, kinds=kinds)
    if with_scalars:
        _clear_lanes(branch.node)
    raw = branch.children.get(Origin.JSON)
    branch.children = {ELEMENT: level} if raw is None else {ELEMENT: level, Origin.JSON: raw}


def _lift_every_row(branch: Branch, with_scalars: bool) -> None:
    """Make what stands in every row an element; so what is below keeps its rows, and nothing has to be moved.

    Where one such object stands in another, and so on, moving it all would cost the square of their number.
    """
    node, count = branch.node, branch.node.row_count
    raw = branch.children.pop(Origin.JSON, None)
    parents, ordinals = np.arange(count, dtype=np.int32), np.full(count, int(with_scalars), np.int32)
    level = replace(
        node, role=Role.ELEMENT, name=None, parent_rows=parents, ordinals=ordinals, positions=NO_ROWS,
        keys=EMPTY_TEXTS,
    )  # fmt: skip
    children: dict[Step, Branch] = {ELEMENT: Branch(level, branch.children, branch.fold)}
    branch.node = replace(node, kinds=np.full(count, Kind.ARRAY, np.uint8))
    _clear_lanes(branch.node)
    branch.children = children if raw is None else {**children, Origin.JSON: raw}


def texts_to_members(branch: Branch) -> None:
    """Make the scalars here objects, whose text is a member as where something stands beside it."""
    node = branch.node
    is_scalar = np.isin(node.kinds, SCALAR_KINDS)
    if not is_scalar.any():
        return
    same = np.arange(node.row_count, dtype=np.int32)
    own = replace(node, role=Role.MEMBER, name=TEXT_STEP, positions=NO_ROWS)
    parts = [Part(Branch(own), same, SCALAR_KINDS)]
    if TEXT_STEP in branch.children:
        parts.append(Part(branch.children[TEXT_STEP], same, is_whole=True))
    branch.children[TEXT_STEP] = merge(parts, Role.MEMBER, TEXT_STEP, node.row_count, {})
    _count_as_objects(branch, is_scalar)


def empty_texts_to_objects(branch: Branch) -> None:
    """Make the texts here, all of which are empty, objects that hold nothing."""
    _count_as_objects(branch, np.isin(branch.node.kinds, SCALAR_KINDS))


def _count_as_objects(branch: Branch, chosen: npt.NDArray[np.bool_]) -> None:
    kinds = branch.node.kinds.copy()
    kinds[chosen] = Kind.OBJECT
    branch.node = replace(branch.node, kinds=kinds)
    _clear_lanes(branch.node)


def _clear_lanes(node: Node) -> None:
    empty = Node(-1, node.role, node.name, 0)
    for lane in ("booleans", "integers", "numbers", "texts"):
        setattr(node, lane, getattr(empty, lane))


@dataclass(slots=True, eq=False)
class _Depth:
    """The elements of one array inside the structure that contains itself.

    `container` is the one it stands in, `container_rows` the row there for each row; `through` the level
    between, if there is one, and `through_rows` the row there; `way` leads from the container here.
    """

    level: Branch
    container: int
    container_rows: Int32s
    through: Branch | None
    through_rows: Int32s
    way: Path


def fold(outer: Branch, structure: object, with_ways: bool = False) -> None:
    """Make the elements of arrays inside arrays of one structure rows of the outermost array's level.

    Where the structure is a dictionary they are the entries.

    Args:
        outer: The branch with the outermost array.
        structure: What the branches have as `fold` at which the structure stands again.
        with_ways: Whether each row is to say by which way it stands in the row around it.
    """
    step = ENTRY if ENTRY in outer.children else ELEMENT
    first = outer.children.get(step)
    if first is None:
        return
    depths = _find_depths(first, structure, step)
    starts = _number_rows(depths)
    count = sum(depth.level.node.row_count for depth in depths)
    tops, ordinals = np.empty(count, np.int32), np.empty(count, np.int32)
    within, deep, through = (np.full(count, -1, np.int64) for _ in range(3))
    own_tops: list[Int32s] = []
    own_deep: list[npt.NDArray[np.int64]] = []
    for depth, rows in zip(depths, starts, strict=True):
        node = depth.level.node
        if depth.container < 0:
            own_tops.append(node.parent_rows)
            own_deep.append(np.ones(len(rows), np.int64))
        else:
            own_tops.append(own_tops[depth.container][depth.container_rows])
            own_deep.append(own_deep[depth.container][depth.container_rows] + 1)
            within[rows] = starts[depth.container][depth.container_rows]
        tops[rows], ordinals[rows], deep[rows] = own_tops[-1], node.ordinals, own_deep[-1]
    maps: dict[int, Int32s] = {}
    level = merge(
        [Part(d.level, rows, is_whole=True) for d, rows in zip(depths, starts, strict=True)],
        first.node.role,
        None,
        count,
        maps,
    )
    level.node.parent_rows, level.node.ordinals = tops, ordinals
    for depth, rows in zip(depths, starts, strict=True):
        if depth.through is not None:
            through[rows] = maps[id(depth.through)][depth.through_rows]
    level.children[Origin.DEPTH] = origin(Origin.DEPTH, count, integers=deep)
    if with_ways:
        level.children[Origin.WAY] = _ways(depths, starts, within)
    for name, values in ((Origin.WITHIN, within), (Origin.THROUGH, through)):
        known = np.flatnonzero(values >= 0).astype(np.int32)
        if len(known):
            level.children[name] = origin(name, count, rows=known, integers=values[known])
    outer.children[step] = level


def _ways(depths: list[_Depth], starts: list[Int32s], within: Int64s) -> Branch:
    """Return the way from the row around it for each row that stands in one."""
    codes = np.zeros(len(within), np.int64)
    for index, rows in enumerate(starts):
        codes[rows] = index
    known = np.flatnonzero(within >= 0).astype(np.int32)
    names = pa.array([format_path(depth.way) for depth in depths], pa.large_string())
    texts = TextLane.of(names.take(pa.array(codes[known])))
    return origin(Origin.WAY, len(within), rows=known, texts=texts)


def _find_depths(first: Branch, structure: object, own: Each) -> list[_Depth]:
    """Return all levels of the structure, each after its container, and detach the inner ones."""
    none = np.empty(0, np.int32)
    depths = [_Depth(first, -1, none, None, none, ())]
    pending: list[tuple[Branch, int, list[Branch], Path]] = [(first, 0, [], ())]
    while pending:
        branch, container, between, way = pending.pop()
        for step in sorted(branch.children, key=str):
            child = branch.children[step]
            if child.fold is structure and own in child.children:
                level = child.children.pop(own)
                rows = level.node.parent_rows
                through, through_rows = (between[-1], rows) if between else (None, none)
                for above in reversed(between):
                    rows = above.node.parent_rows[rows]
                depths.append(_Depth(level, container, rows, through, through_rows, (*way, step)))
                pending.append((level, len(depths) - 1, [], ()))
            else:
                levels = [*between, child] if isinstance(step, Each) else between
                pending.append((child, container, levels, (*way, step)))
    return depths


def _number_rows(depths: list[_Depth]) -> list[Int32s]:
    """Return the new row of each row: every row before those inside it, and these before its next sibling."""
    sizes = [np.ones(depth.level.node.row_count, np.int64) for depth in depths]
    inside: list[list[int]] = [[] for _ in depths]
    for index in range(len(depths) - 1, 0, -1):
        depth = depths[index]
        np.add.at(sizes[depth.container], depth.container_rows, sizes[index])
        inside[depth.container].append(index)
    starts: list[Int32s] = [np.empty(0, np.int32)] * len(depths)
    starts[0] = (np.cumsum(sizes[0]) - sizes[0]).astype(np.int32)
    for index in range(len(depths)):
        taken = np.ones(len(sizes[index]), np.int64)
        for other in sorted(inside[index]):
            rows, own = depths[other].container_rows, sizes[other]
            before = np.cumsum(own) - own
            first_of_row = np.searchsorted(rows, rows)
            starts[other] = (starts[index][rows] + taken[rows] + before - before[first_of_row]).astype(
                np.int32
            )
            np.add.at(taken, rows, own)
    return starts
