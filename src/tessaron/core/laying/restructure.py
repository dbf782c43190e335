"""Changing the structure of a fragment as a layout says, whole columns at a time."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.branches import Branch, Part, merge, order_rows, origin, take, tree_of
from tessaron.core.conform import conform_tree
from tessaron.core.fragment import Bools, Fragment, Int32s, Int64s, Node, Role, TextLane
from tessaron.core.kernel import choose_kernel
from tessaron.core.kernel.contract import KernelOptions, Separator
from tessaron.core.kinds import LANE_OF_KIND, Kind
from tessaron.core.laying.plan import Rearrangement
from tessaron.core.laying.skeleton import skeleton_of
from tessaron.core.paths import ELEMENT, Each, Origin, Path, Step, format_path
from tessaron.core.selecting import SelectionBelow


@dataclass(slots=True)
class Oddity:
    """Values that a rearrangement could not place.

    Attributes:
        code: A short stable name of the reason.
        path: Where, as the layout spells it.
        level: The level the rows belong to, as the branch that holds its rows.
        rows: The rows of that level.
        reasons: For each, what is wrong.
        rejects: Whether the values are lost, so that each is a reject; else only noted.
    """

    code: str
    path: str
    level: Path
    rows: Int64s
    reasons: list[str]
    rejects: bool = True


@dataclass(slots=True)
class Rearranging:
    """A tree that is being changed, what could not be placed, and what texts held that is not wanted."""

    tree: Branch
    kernel: str = "auto"
    options: KernelOptions = field(default_factory=KernelOptions)
    passed: Counter[str] = field(default_factory=Counter)
    oddities: list[Oddity] = field(default_factory=list)

    def apply(self, change: Rearrangement) -> None:
        """Make one change."""
        paths = change.detail if change.kind in ("union", "parallel") else [change.path]
        conform_tree(self.tree, skeleton_of(list(paths)))
        REARRANGE[change.kind](self, change)

    def find(self, path: Path) -> Branch | None:
        """Return the branch at a path; None where this fragment has nothing there."""
        branch: Branch | None = self.tree
        for step in path:
            branch = None if branch is None else branch.children.get(step)
        return branch

    def say(
        self, change: Rearrangement, code: str, rows: Int64s, reasons: list[str], rejects: bool = True
    ) -> None:
        """Keep what could not be placed; `rows` are of the level of the change's path."""
        if len(rows):
            level = level_of(change.path)
            self.oddities.append(Oddity(code, change.text, level, rows, reasons, rejects))


def level_of(path: Path) -> Path:
    """Return the level on which what stands at a path belongs: its part up to the last step to each."""
    for count in range(len(path), 0, -1):
        if isinstance(path[count - 1], Each):
            return path[:count]
    return ()


def _without(node: Node, gone: Bools) -> Node:
    """Return a node without some of its occurrences."""
    keep = np.flatnonzero(~gone)
    made = replace(node, rows=node.rows_present()[keep], kinds=node.kinds[keep])
    if len(node.positions) == len(node.kinds):
        made.positions = node.positions[keep]
    for lane in ("booleans", "integers", "numbers", "texts"):
        values = getattr(node, lane)
        if len(values):
            kinds = [kind for kind, other in LANE_OF_KIND.items() if other == lane]
            in_lane = np.isin(node.kinds, kinds)
            setattr(made, lane, take(values, np.flatnonzero(~gone[in_lane])))
    return made


def _split(work: Rearranging, change: Rearrangement) -> None:
    """Make arrays of texts that are lists."""
    branch = work.find(change.path)
    if branch is None or not len(branch.node.texts):
        return
    node = branch.node
    is_text = node.kinds == Kind.TEXT
    rows = node.rows_present()[is_text]
    lists = pc.split_pattern(node.texts.to_arrow(), change.detail)
    parts = lists.values
    lengths = np.diff(lists.offsets.to_numpy())
    # An empty text is an empty list.
    empty = (node.texts.byte_lengths == 0).repeat(lengths)
    parents, ordinals = np.repeat(rows, lengths), _counted(lengths)
    parents, ordinals = parents[~empty], ordinals[~empty]
    lane = TextLane.of(parts.filter(pa.array(~empty)))
    _put_elements(branch, parents, ordinals, lane)
    branch.node = _with_kind(_cleared(branch.node, "texts"), is_text, Kind.ARRAY)


def _counted(lengths: Int64s) -> Int32s:
    ends = np.cumsum(lengths)
    starts = np.repeat(ends - lengths, lengths)
    return (np.arange(len(starts)) - starts + 1).astype(np.int32)


def _cleared(node: Node, lane: str) -> Node:
    return replace(node, **{lane: type(getattr(node, lane)).of([])})


def _with_kind(node: Node, chosen: Bools, kind: Kind) -> Node:
    kinds = node.kinds.copy()
    kinds[chosen] = kind
    return replace(node, kinds=kinds)


def _put_elements(branch: Branch, parents: Int32s, ordinals: Int32s, texts: TextLane) -> None:
    """Add texts to the elements of the arrays at a branch."""
    kinds = np.full(len(parents), Kind.TEXT, np.uint8)
    made = Node(-1, Role.ELEMENT, None, len(parents), parents, ordinals, kinds=kinds, texts=texts)
    _join_level(branch, Branch(made), parents, ordinals)


def _join_level(branch: Branch, made: Branch, parents: Int32s, ordinals: Int32s) -> None:
    """Make a level of the elements that are there and those of `made`."""
    there = branch.children.get(ELEMENT)
    if there is None:
        made.node.parent_rows, made.node.ordinals = parents.astype(np.int32), ordinals.astype(np.int32)
        branch.children[ELEMENT] = made
        return
    (all_parents, all_ordinals), places = order_rows(
        [there.node.parent_rows, parents.astype(np.int32)], [there.node.ordinals, ordinals.astype(np.int32)]
    )
    parts = [Part(there, places[0], is_whole=True), Part(made, places[1], is_whole=True)]
    level = merge(parts, Role.ELEMENT, None, len(all_parents), {})
    level.node.parent_rows, level.node.ordinals = all_parents, all_ordinals
    branch.children[ELEMENT] = level


def _as_array(work: Rearranging, change: Rearrangement) -> None:
    """Make each single value at a path the only element of an array."""
    branch = work.find(change.path)
    if branch is None:
        return
    node = branch.node
    single = (node.kinds != Kind.ARRAY) & (node.kinds != Kind.NULL)
    if not single.any():
        return
    rows = node.rows_present()[single]
    new_rows = np.full(node.row_count, -1, np.int32)
    new_rows[rows] = np.arange(len(rows), dtype=np.int32)
    there = branch.children.pop(ELEMENT, None)
    raw = branch.children.pop(Origin.JSON, None)
    made = merge([Part(branch, new_rows)], Role.ELEMENT, None, len(rows), {})
    kept: dict[Step, Branch] = {} if there is None else {ELEMENT: there}
    if raw is not None:
        kept[Origin.JSON] = raw
    branch.children = kept
    branch.node = _with_kind(_scalars_gone(node, single), single, Kind.ARRAY)
    _join_level(branch, made, rows, np.ones(len(rows), np.int32))


def _scalars_gone(node: Node, gone: Bools) -> Node:
    made = copy_lanes(node)
    for lane in ("booleans", "integers", "numbers", "texts"):
        values = getattr(node, lane)
        if len(values):
            setattr(made, lane, take(values, np.zeros(0, np.int64)))
    return made


def copy_lanes(node: Node) -> Node:
    """Return a node of its own that shares the lanes."""
    return replace(node)


def _embedded(work: Rearranging, change: Rearrangement) -> None:
    """Parse the texts at a path as documents, which then stand there in their place."""
    branch = work.find(change.path)
    if branch is None or not len(branch.node.texts):
        return
    node = branch.node
    is_text = node.kinds == Kind.TEXT
    rows = node.rows_present()[is_text]
    inner, good, reasons = _parse_texts(node.texts, work, change.path)
    bad = np.flatnonzero(~good)
    work.say(change, "embedded", rows[bad].astype(np.int64), [reasons[int(index)] for index in bad])
    outer_rows = rows[good]
    gone = np.zeros(len(node.kinds), np.bool_)
    gone[is_text] = True
    kept = Branch(_without(node, gone), branch.children)
    if Origin.JSON in kept.children:
        raw = kept.children[Origin.JSON]
        raw.node = _without(raw.node, np.isin(raw.node.rows_present(), rows))
    if inner is None:
        branch.node = kept.node
        return
    everywhere = np.arange(node.row_count, dtype=np.int32)
    parts = [Part(kept, everywhere), Part(inner, outer_rows.astype(np.int32))]
    made = merge(parts, node.role, node.name, node.row_count, {})
    made.node.parent_rows, made.node.ordinals = node.parent_rows, node.ordinals
    branch.node, branch.children = made.node, made.children


def _parse_texts(
    lane: TextLane, work: Rearranging, path: Path
) -> tuple[Branch | None, Bools, dict[int, str]]:
    """Return the tree of the texts that are JSON, which of them are, and why the others are not."""
    texts = lane.to_arrow()
    good = np.ones(len(texts), np.bool_)
    reasons: dict[int, str] = {}
    blank = pc.equal(pc.utf8_length(pc.utf8_trim_whitespace(texts)), 0).to_numpy(zero_copy_only=False)
    for row in map(int, np.flatnonzero(blank)):
        good[row], reasons[row] = False, "expected JSON, got a blank text"
    breaks = pc.or_(pc.match_substring(texts, "\n"), pc.match_substring(texts, "\r"))
    pretty = np.flatnonzero(breaks.to_numpy(zero_copy_only=False) & good)
    if len(pretty):
        texts = _on_one_line(texts, pretty, good, reasons)
    selection = work.options.selection
    below = None if selection is None else SelectionBelow(selection, path)
    options = replace(work.options, selection=below)
    rows = np.flatnonzero(good)
    if not len(rows):
        return None, good, reasons
    fragment = _parse_lines(texts, rows, work.kernel, options)
    several = _rows_of_several(fragment, texts, rows)
    if len(several):
        for row in several.tolist():
            good[row], reasons[row] = False, "expected one JSON text, got several"
        rows = np.flatnonzero(good)
        fragment = _parse_lines(texts, rows, work.kernel, options)
    for fault in fragment.faults:
        row = int(rows[fault.record])
        good[row], reasons[row] = False, fault.reason
    for shown, count in fragment.passed_by_path().items():
        work.passed[format_path(path) + shown[1:]] += count
    return (tree_of(fragment) if fragment.record_count else None), good, reasons


def _parse_lines(texts: pa.Array, rows: Int64s, kernel: str, options: KernelOptions) -> Fragment:
    data = "\n".join(texts.take(pa.array(rows)).to_pylist()).encode()
    return choose_kernel(kernel)(data, Separator.LINE, False, options)


def _rows_of_several(fragment: Fragment, texts: pa.Array, rows: Int64s) -> Int64s:
    """Return which texts held more than one record."""
    if fragment.record_count + len(fragment.faults) <= len(rows) and not fragment.faults:
        return np.empty(0, np.int64)
    lengths = pc.binary_length(texts.take(pa.array(rows))).to_numpy().astype(np.int64) + 1
    starts = np.cumsum(lengths) - lengths
    lines = np.searchsorted(starts, fragment.offsets, "right") - 1
    return rows[np.flatnonzero(np.bincount(lines, minlength=len(rows)) > 1)]


def _on_one_line(texts: pa.Array, rows: Int64s, good: Bools, reasons: dict[int, str]) -> pa.Array:
    """Return the texts with those in `rows`, which have line breaks, written on one line."""
    from tessaron.core.json_text import json_text
    from tessaron.core.kernel.record_reader import RecordReader

    made = texts.to_pylist()
    for row in rows.tolist():
        reader = RecordReader(made[row].encode(), Separator.NOTHING, False, KernelOptions())
        values = [record.value for record in reader]
        if len(values) == 1 and not reader.faults:
            made[row] = json_text(values[0])
        else:
            good[row] = False
            reasons[row] = reader.faults[0].reason if reader.faults else "expected one JSON text, got several"
    return pa.array(made, pa.large_string())


def _merged(work: Rearranging, change: Rearrangement) -> None:
    """Put the fields of the elements of an array side by side in one object."""
    branch = work.find(change.path)
    if branch is None or ELEMENT not in branch.children:
        return
    element = branch.children.pop(ELEMENT)
    parents = element.node.parent_rows
    is_array = branch.node.kinds == Kind.ARRAY
    branch.node = _with_kind(branch.node, is_array, Kind.OBJECT)
    count = branch.node.row_count
    for step, child in element.children.items():
        if not isinstance(step, str):
            continue
        present = child.node.rows_present()
        targets = parents[present]
        is_first = np.ones(len(targets), np.bool_)
        is_first[1:] = targets[1:] != targets[:-1]
        work.say(
            change, "piece_repeated", targets[~is_first].astype(np.int64),
            [f"several pieces have the field {step!r}; the first counts"] * int((~is_first).sum()),
        )  # fmt: skip
        new_rows = np.full(element.node.row_count, -1, np.int32)
        new_rows[present[is_first]] = targets[is_first]
        branch.children[step] = merge([Part(child, new_rows)], Role.MEMBER, step, count, {})
    scalars = np.flatnonzero((element.node.kinds != Kind.OBJECT) & (element.node.kinds != Kind.NULL))
    odd = parents[element.node.rows_present()[scalars]].astype(np.int64)
    work.say(change, "piece_not_object", odd, ["expected an object as a piece"] * len(odd))


def _unwrapped(work: Rearranging, change: Rearrangement) -> None:
    """Move the fields of an object, or what stands in the elements of an array, one level up."""
    outer = work.find(change.path[:-1])
    if outer is None or change.path[-1] not in outer.children:
        return
    branch = outer.children[change.path[-1]]
    below = ELEMENT if ELEMENT in branch.children else None
    if below is None:
        _unwrap_object(work, change, outer, branch)
    else:
        _unwrap_array(work, change, outer, branch.children.pop(ELEMENT))
    if not branch.children and not any(branch.node.kinds < Kind.OBJECT):
        del outer.children[change.path[-1]]


def _unwrap_object(work: Rearranging, change: Rearrangement, outer: Branch, branch: Branch) -> None:
    for step in [step for step in branch.children if isinstance(step, str)]:
        child = branch.children.pop(step)
        there = outer.children.get(step)
        if there is None or there is branch:
            outer.children[step] = child
            continue
        rows = child.node.rows_present()
        taken = np.isin(rows, there.node.rows_present())
        work.say(
            change, "name_taken", rows[taken].astype(np.int64),
            [f"the field {step!r} is there one level up too, and stays"] * int(taken.sum()),
        )  # fmt: skip
        everywhere = np.arange(child.node.row_count, dtype=np.int32)
        free = np.where(np.isin(everywhere, rows[taken]), -1, everywhere).astype(np.int32)
        parts = [Part(there, everywhere, is_whole=True), Part(child, free)]
        outer.children[step] = merge(parts, Role.MEMBER, step, child.node.row_count, {})


def _unwrap_array(work: Rearranging, change: Rearrangement, outer: Branch, element: Branch) -> None:
    """Hang the levels inside the elements on the level above; their other fields have no place there."""
    count = outer.node.row_count
    for step, child in element.children.items():
        level = child.children.get(ELEMENT)
        scalars = child.node.rows_present()[child.node.kinds < Kind.OBJECT]
        lost = element.node.parent_rows[scalars].astype(np.int64)
        reason = f"the field {step!r} of an array that is folded away has no row to be in"
        work.say(change, "folded_away", lost, [reason] * len(lost), rejects=False)
        if level is None or not isinstance(step, str):
            continue
        parents = element.node.parent_rows[level.node.parent_rows]
        holder = outer.children.get(step)
        if holder is None:
            present = np.unique(parents).astype(np.int32)
            kinds = np.full(len(present), Kind.ARRAY, np.uint8)
            holder = Branch(Node(-1, Role.MEMBER, step, count, rows=present, kinds=kinds))
            outer.children[step] = holder
        starts = np.searchsorted(parents, parents)
        ordinals = (np.arange(len(parents)) - starts + 1).astype(np.int32)
        _join_level(holder, level, parents, ordinals)


def _named_rows(work: Rearranging, change: Rearrangement) -> None:
    """Make objects of rows that are bare arrays; the names stand elsewhere in the same record."""
    rows_branch, names_branch = work.find(change.path), work.find(change.detail)
    element = None if rows_branch is None else rows_branch.children.get(ELEMENT)
    cells = None if element is None else element.children.get(ELEMENT)
    if element is None or cells is None:
        return
    record_of_cell = _rows_up(work, change.path, element, cells)
    table = _names_by_record(work, change.detail, names_branch)
    ordinals = cells.node.ordinals.astype(np.int64)
    found = _lookup(table, record_of_cell, ordinals)
    del element.children[ELEMENT]
    element.node = _with_kind(element.node, element.node.kinds == Kind.ARRAY, Kind.OBJECT)
    names, codes = (
        table[2],
        np.where(found >= 0, table[3][np.maximum(found, 0)], -1)
        if len(table[3])
        else np.full(len(found), -1),
    )
    parents = cells.node.parent_rows
    for code, name in enumerate(names):
        chosen = codes == code
        if not chosen.any():
            continue
        new_rows = np.where(chosen, parents, -1).astype(np.int32)
        element.children[name] = merge([Part(cells, new_rows)], Role.MEMBER, name, element.node.row_count, {})
        element.children[name].node.positions = np.array([code], np.int32)
    _say_lengths(work, change, element, parents, codes, record_of_cell, table)


def _rows_up(work: Rearranging, path: Path, element: Branch, cells: Branch) -> Int64s:
    """Return the record of each cell."""
    rows = element.node.parent_rows[cells.node.parent_rows]
    above = level_of(path)
    while above:
        branch = work.find(above)
        assert branch is not None
        rows = branch.node.parent_rows[rows]
        above = level_of(above[:-1])
    return rows.astype(np.int64)


NamesTable = tuple[Int64s, Int64s, list[str], Int64s]


def _names_by_record(work: Rearranging, path: Path, branch: Branch | None) -> NamesTable:
    """Return the names in the order of records: record, position from 1, all names, and the code of each."""
    nothing = np.empty(0, np.int64)
    if branch is None or not len(branch.node.texts):
        return nothing, nothing, [], nothing
    level = level_of(path)
    holder = work.find(level)
    assert holder is not None
    rows = branch.node.rows_present()[branch.node.kinds == Kind.TEXT]
    ordinals, records, at = holder.node.ordinals[rows], holder.node.parent_rows[rows], level_of(level[:-1])
    while at:
        above = work.find(at)
        assert above is not None
        records, at = above.node.parent_rows[records], level_of(at[:-1])
    encoded = branch.node.texts.to_arrow().dictionary_encode()
    names = encoded.dictionary.to_pylist()
    codes = encoded.indices.to_numpy().astype(np.int64)
    return records.astype(np.int64), ordinals.astype(np.int64), names, codes


def _lookup(table: NamesTable, records: Int64s, ordinals: Int64s) -> Int64s:
    """Return for each cell the row of its name in the table; -1 where there is none."""
    if not len(table[0]):
        return np.full(len(records), -1, np.int64)
    width = int(max(table[1].max(), ordinals.max(initial=1))) + 1
    keys, wanted = table[0] * width + table[1], records * width + ordinals
    at = np.minimum(np.searchsorted(keys, wanted), len(keys) - 1)
    return np.where(keys[at] == wanted, at, -1)


def _say_lengths(
    work: Rearranging, change: Rearrangement, element: Branch, parents: Int32s, codes: Int64s,
    records: Int64s, table: NamesTable,
) -> None:  # fmt: skip
    """Report rows with more values than names, which lose values, and rows with fewer."""
    at_rows = replace(change, path=(*change.path, ELEMENT))
    unnamed = np.unique(parents[codes < 0]).astype(np.int64)
    reason = "the row has more values than there are names; those without a name are left out"
    work.say(at_rows, "row_too_long", unnamed, [reason] * len(unnamed))
    count = element.node.row_count
    widths = np.bincount(parents, minlength=count)
    names_of_record = np.bincount(table[0], minlength=int(records.max(initial=0)) + 1)
    record_of_row = np.zeros(count, np.int64)
    record_of_row[parents] = records
    short = np.flatnonzero((widths > 0) & (widths < names_of_record[record_of_row])).astype(np.int64)
    reason = "the row has fewer values than there are names; the last columns are null"
    work.say(at_rows, "row_too_short", short, [reason] * len(short), rejects=False)


def _union(work: Rearranging, change: Rearrangement) -> None:
    """Make one level of the rows that stand at several places; each knows the name of its place."""
    outer = work.find(level_of(change.path[:-2]))
    parts: list[Part] = []
    parents: list[Int32s] = []
    ordinals: list[Int32s] = []
    words: list[str] = []
    for number, path in enumerate(change.detail):
        branch = work.find(path)
        if branch is None:
            continue
        parts.append(Part(branch, np.empty(0, np.int32), is_whole=True))
        parents.append(branch.node.parent_rows)
        ordinals.append(branch.node.ordinals + number * _APART)
        words.append(str(next(step for step in reversed(path) if isinstance(step, str))))
    if outer is None or not parts:
        return
    (all_parents, _), places = order_rows(parents, ordinals)
    parts = [replace(part, rows=rows) for part, rows in zip(parts, places, strict=True)]
    level = merge(parts, Role.ELEMENT, None, len(all_parents), {})
    starts = np.searchsorted(all_parents, all_parents)
    level.node.parent_rows = all_parents
    level.node.ordinals = (np.arange(len(all_parents)) - starts + 1).astype(np.int32)
    codes = np.zeros(len(all_parents), np.int64)
    for code, rows in enumerate(places):
        codes[rows] = code
    texts = TextLane.of(pa.array(words, pa.large_string()).take(pa.array(codes)))
    level.children[Origin.KEY] = origin(Origin.KEY, len(all_parents), texts=texts)
    _hang(work, change.path, outer, level)


_APART = 1 << 24
"""Between the ordinals of two places, so that rows keep their order."""


def _hang(work: Rearranging, path: Path, outer: Branch, level: Branch) -> None:
    """Put a level that was made at `path`, whose last steps are a name of its own and `ELEMENT`."""
    name = str(path[-2])
    present = np.unique(level.node.parent_rows).astype(np.int32)
    kinds = np.full(len(present), Kind.ARRAY, np.uint8)
    holder = Branch(Node(-1, Role.MEMBER, name, outer.node.row_count, rows=present, kinds=kinds))
    holder.children[ELEMENT] = level
    outer.children[name] = holder


def _parallel(work: Rearranging, change: Rearrangement) -> None:
    """Make one level of arrays that stand side by side: a row for each position, a member for each array."""
    outer = work.find(level_of(change.path[:-2]))
    found = [(path, work.find(path)) for path in change.detail]
    there = [(path, branch) for path, branch in found if branch is not None]
    if outer is None or not there:
        return
    width = max(int(branch.node.ordinals.max(initial=0)) for _, branch in there) + 1
    keys = [branch.node.parent_rows.astype(np.int64) * width + branch.node.ordinals for _, branch in there]
    every = np.unique(np.concatenate(keys))
    level = Branch(Node(-1, Role.ELEMENT, None, len(every)))
    level.node.parent_rows = (every // width).astype(np.int32)
    level.node.ordinals = (every % width).astype(np.int32)
    level.node.kinds = np.full(len(every), Kind.OBJECT, np.uint8)
    for number, ((path, branch), own) in enumerate(zip(there, keys, strict=True)):
        name = str(path[-2])
        rows = np.searchsorted(every, own).astype(np.int32)
        member = merge([Part(branch, rows, is_whole=True)], Role.MEMBER, name, len(every), {})
        member.node.parent_rows = member.node.ordinals = np.empty(0, np.int32)
        member.node.positions = np.array([number], np.int32)
        level.children[name] = member
    _say_unequal(work, change, [branch for _, branch in there], outer, len(found) - len(there))
    _hang(work, change.path, outer, level)


def _say_unequal(
    work: Rearranging, change: Rearrangement, branches: list[Branch], outer: Branch, missing: int
) -> None:
    lengths = np.array(
        [np.bincount(each.node.parent_rows, minlength=outer.node.row_count) for each in branches]
    )
    lengths = np.concatenate((lengths, np.zeros((min(missing, 1), outer.node.row_count), np.int64)))
    unequal = np.flatnonzero((lengths != lengths[0]).any(axis=0)).astype(np.int64)
    reasons = [
        f"the arrays have {', '.join(map(str, lengths[:, row].tolist()))} values; the shorter get nulls"
        for row in unequal
    ]
    at_outer = replace(change, path=level_of(change.path[:-2]))
    work.say(at_outer, "unequal_lengths", unequal, reasons, rejects=False)


REARRANGE: dict[str, Callable[[Rearranging, Rearrangement], None]] = {
    "embedded": _embedded,
    "split": _split,
    "array": _as_array,
    "named_rows": _named_rows,
    "merged": _merged,
    "unwrapped": _unwrapped,
    "union": _union,
    "parallel": _parallel,
}
