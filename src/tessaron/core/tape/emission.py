"""Emission: a tape becomes a fragment in the form that a structure asks for, in one scan."""

from __future__ import annotations

from collections.abc import Sequence
from importlib.util import find_spec
from itertools import accumulate, pairwise
from typing import Any

import numpy as np
import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import MARKUP, Origin, Path
from tessaron.core.base.text_lane import EMPTY_TEXTS, Int32s, Int64s, TextLane
from tessaron.core.tape.form import PLAIN, Form
from tessaron.core.tape.fragment import Fragment, Node, Passed, Role
from tessaron.core.tape.put_aside import Packed, unpack
from tessaron.core.tape.tape import Tape
from tessaron.core.tape.typed_columns import WantedColumn, arrays_of

_LANES = (
    ("parent_rows", np.int32),
    ("ordinals", np.int32),
    ("rows", np.int32),
    ("kinds", np.uint8),
    ("positions", np.int32),
    ("booleans", np.bool_),
    ("integers", np.int64),
    ("within", np.int64),
    ("through", np.int64),
    ("depths", np.int64),
    ("ways", np.int32),
    ("raw_rows", np.int32),
    ("order_rows", np.int32),
)
_TEXT_LANES = ("numbers", "texts", "keys", "raws", "orders")
_NODE_LANES = frozenset(
    (
        "parent_rows",
        "ordinals",
        "rows",
        "kinds",
        "positions",
        "booleans",
        "integers",
        "numbers",
        "texts",
        "keys",
    )
)


def is_compiled() -> bool:
    """Say whether the compiled passes are there: their build needs a C compiler."""
    return find_spec("tessaron.core.compiled._passes") is not None


def emit(
    tape: Tape,
    form: Form = PLAIN,
    compiled: bool = True,
    wanted: Sequence[WantedColumn] = (),
) -> Fragment:
    """Return the values of a tape as columns.

    Args:
        tape: What a kernel has made of a chunk.
        form: The form that they shall have; what it does not know gets a node of its own.
        compiled: Whether the compiled pass may do it, if it is there.
        wanted: Columns that are wanted typed. The compiled pass makes those of which every value fits.

    Returns:
        The fragment; rows are numbered as they stand in the documents. With the tape's faults and places.
    """
    by_compiled = compiled and is_compiled()
    if by_compiled:
        from tessaron.core.compiled._passes import emit as emit_lanes

        lanes = emit_lanes(form.rows, tape.arrays(), [column.row() for column in wanted])
        columns = arrays_of(lanes["columns"], wanted)
    else:
        from tessaron.core.tape.plain_emission import emit_plainly

        lanes, columns = emit_plainly(tape, form), [None] * len(wanted)
    nodes, passed, recursive = _nodes_of(lanes, form)
    passed += [
        Passed(0, f"{MARKUP}.//{test}", Role.MEMBER, count, True)
        for test, count in tape.left_out.items()
        if count
    ]
    fragment = Fragment(
        [*nodes, *tape.origins],
        tape.faults,
        tape.repeated,
        tape.offsets,
        passed,
        tape.element_names,
        tape.places,
        columns,
    )
    if by_compiled or not recursive:
        return fragment
    from tessaron.core.tape.row_order import in_row_order

    return in_row_order(fragment, recursive)


def nodes_put_aside(packed: Packed, form: Form) -> dict[Path, Node] | None:
    """Return what was put aside as nodes of a form, by their path; None for what is no tape."""
    read = unpack(packed)
    if not isinstance(read, Tape):
        return None
    fragment = emit(read, form)
    return dict(zip(fragment.paths(), fragment.nodes, strict=True))


_Structures = list[tuple[Node, Node | None]]
"""The level of each structure that contains itself, and the level through which it does."""


def _nodes_of(lanes: dict[str, Any], form: Form) -> tuple[list[Node], list[Passed], _Structures]:
    """Return the nodes, what was passed over, and what contains itself."""
    columns = _columns_of(lanes)
    nodes: list[Node] = []
    known: list[Node] = []
    passed: list[Passed] = []
    places: list[int] = []
    recursive: _Structures = []
    through, ways = form.levels_between, dict(form.ways)
    for index, (parent, role, name, row_count, in_every_row, count, is_touched) in enumerate(lanes["heads"]):
        above = places[parent] if parent >= 0 else -1
        places.append(len(nodes) if is_touched else -1)
        if count:
            at = len(nodes) if is_touched else above
            passed.append(Passed(at, name, Role(role), count, not is_touched))
        if not is_touched:
            continue
        values = {lane: slices[index] for lane, slices in columns.items()}
        own = {lane: values[lane] for lane in _NODE_LANES}
        if in_every_row:
            own["rows"] = None
        nodes.append(Node(above, Role(role), name, row_count, **own))
        if role != Role.MEMBER or len(values["raw_rows"]) or len(values["order_rows"]):
            known += _known(places[index], row_count, values, ways, index in through)
    for level, between in through.items():
        if places[level] >= 0:
            inner = None if between is None or places[between] < 0 else nodes[places[between]]
            recursive.append((nodes[places[level]], inner))
    return [*nodes, *known], passed, recursive


def _known(
    place: int, row_count: int, values: dict[str, ArrowArray], ways: dict[int, str], is_recursive: bool
) -> list[Node]:
    """Return the nodes of what is known of the rows of a node besides their values."""
    found = []
    if len(values["keys"]):
        found.append(_origin(place, Origin.KEY, row_count, texts=values["keys"]))
    for lane, texts, name in (("raw_rows", "raws", Origin.JSON), ("order_rows", "orders", Origin.ORDER)):
        if len(values[lane]):
            rows, told = values[lane], values[texts]
            if (np.diff(rows) < 0).any():
                # Of structures that contain themselves the inner ones come first.
                order = np.argsort(rows, kind="stable")
                rows, told = rows[order], TextLane.of(told.to_arrow().take(pa.array(order)))
            found.append(_origin(place, name, row_count, rows, texts=told))
    if not is_recursive or not len(values["depths"]):
        return found
    found.append(_origin(place, Origin.DEPTH, row_count, integers=values["depths"]))
    codes = values["ways"]
    within = np.flatnonzero(values["within"] >= 0).astype(np.int32)
    if len(within) and all(code in ways for code in np.unique(codes[within]).tolist()):
        names = pa.array([ways[code] for code in codes[within].tolist()], pa.large_string())
        found.append(_origin(place, Origin.WAY, row_count, within, texts=TextLane.of(names)))
    for lane, name in (("within", Origin.WITHIN), ("through", Origin.THROUGH)):
        rows = np.flatnonzero(values[lane] >= 0).astype(np.int32)
        if len(rows):
            found.append(_origin(place, name, row_count, rows, integers=values[lane][rows]))
    return found


def _origin(parent: int, name: Origin, row_count: int, rows: Int32s | None = None, **lanes: Any) -> Node:
    kind = Kind.TEXT if "texts" in lanes else Kind.INTEGER
    count = row_count if rows is None else len(rows)
    some = None if rows is None or count == row_count else rows
    return Node(
        parent, Role.ORIGIN, name.value, row_count, rows=some, kinds=np.full(count, kind, np.uint8), **lanes
    )


def _columns_of(lanes: dict[str, Any]) -> dict[str, list[Any]]:
    """Return for each lane its part for each node."""
    columns: dict[str, list[Any]] = {}
    for name, kind in _LANES:
        values = np.frombuffer(lanes[name], kind)
        columns[name] = [values[start:stop] for start, stop in _slices(lanes, name)]
    for name in _TEXT_LANES:
        lengths: Int64s = np.frombuffer(lanes[name], np.int64)
        offsets = np.zeros(len(lengths) + 1, np.int64)
        np.cumsum(lengths, out=offsets[1:])
        whole = TextLane(offsets, np.frombuffer(lanes[f"{name}_data"], np.uint8))
        columns[name] = [
            whole.slice(start, stop) if stop > start else EMPTY_TEXTS for start, stop in _slices(lanes, name)
        ]
    return columns


def _slices(lanes: dict[str, Any], name: str) -> Any:
    counts = np.frombuffer(lanes[f"{name}_counts"], np.int64).tolist()
    return pairwise(accumulate(counts, initial=0))
