"""Emission in Python: the readable reference of `_emission.h`, value by value."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from tessaron.core.base.kinds import SCALAR_KINDS, Kind
from tessaron.core.base.paths import TEXT_STEP, kept_name
from tessaron.core.tape.form import DICTIONARY, LIFTED, LIFTS_SCALARS, RECURSIVE, RULES, Form, rows_role
from tessaron.core.tape.fragment import Role
from tessaron.core.tape.tape import MEMBER_LIMIT, TEXT_CODES, Mark, Tape

_NUMBER_LANES: dict[str, Any] = {
    "parent_rows": np.int32, "ordinals": np.int32, "rows": np.int32, "kinds": np.uint8, "positions": np.int32,
    "booleans": np.bool_, "integers": np.int64, "within": np.int64, "through": np.int64, "depths": np.int64,
    "ways": np.int32, "raw_rows": np.int32, "order_rows": np.int32,
}  # fmt: skip
_TEXT_LANES = ("numbers", "texts", "keys", "raws", "orders")


@dataclass(slots=True, eq=False)
class _Node:
    """A node under construction, with its lanes as lists."""

    index: int
    parent: _Node | None
    role: Role
    name: str | None
    flags: int = 0
    rule: int = 0
    fold: _Node | None = None
    members: dict[str, _Node] = field(default_factory=dict)
    element: _Node | None = None
    entry: _Node | None = None
    rest: _Node | None = None
    row_count: int = 0
    passed: int = 0
    passed_names: int = 0
    is_touched: bool = False
    lanes: dict[str, list[Any]] = field(
        default_factory=lambda: {lane: [] for lane in (*_NUMBER_LANES, *_TEXT_LANES)}
    )

    @property
    def body(self) -> _Node:
        """Where what stands inside is found."""
        return self.fold or self

    @property
    def level(self) -> _Node:
        """The node whose rows this one has."""
        node = self
        while node.role is Role.MEMBER and node.parent is not None:
            node = node.parent
        return node

    def put(self, lane: str, value: Any) -> None:
        self.lanes[lane].append(value)

    def occur(self, row: int, kind: int, position: int) -> None:
        self.is_touched = True
        self.put("rows", row)
        self.put("kinds", kind)
        if self.role is Role.MEMBER:
            self.put("positions", position)


class _Emitter:
    def __init__(self, tape: Tape, form: Form):
        self.nodes: list[_Node] = []
        for each in form.nodes:
            node = self._new(
                self.nodes[each.parent] if each.parent >= 0 else None, Role(each.role), each.name
            )
            node.flags, node.rule = each.flags, each.rule
        for node, each in zip(self.nodes, form.nodes, strict=True):
            node.fold = self.nodes[each.fold] if each.fold >= 0 else None
        self._tape = tape
        self._values: list[int] = np.frombuffer(tape.values, np.int64).tolist()
        self._last: list[tuple[_Node, int]] = []
        """Where the value put last stands."""

    def _new(self, parent: _Node | None, role: Role, name: str | None) -> _Node:
        node = _Node(len(self.nodes), parent, role, name)
        self.nodes.append(node)
        if parent is not None and role is Role.ELEMENT:
            parent.element = node
        elif parent is not None and role is Role.ENTRY:
            parent.entry = node
        elif parent is not None and name is not None:
            parent.members[name] = node
        return node

    def run(self) -> None:
        tape, steps = self._tape, self._tape.steps()
        names, parents = (
            np.frombuffer(tape.names, np.int32).tolist(),
            np.frombuffer(tape.parents, np.int32).tolist(),
        )
        open_at: dict[int, tuple[_Node, int]] = {}
        counts: dict[int, int] = {}
        for index, (code, name, parent) in enumerate(zip(tape.kinds, names, parents, strict=True)):
            if code == Mark.RAW:
                for node, row in self._last if parent == index - 1 else ():
                    node.put("raw_rows", row)
                    node.put("raws", self._text(index))
                continue
            if parent >= 0 and parent not in open_at:
                continue
            if code == Mark.ORDER:
                node, row = open_at[parent]
                node.put("order_rows", row)
                node.put("orders", self._text(index))
                continue
            position = counts.get(parent, 0)
            counts[parent] = position + 1
            if parent < 0:
                node, row = self.nodes[0], self.nodes[0].row_count
                node.row_count += 1
            else:
                place = self._place_below(*open_at[parent], None if name < 0 else steps[name], position, code)
                if place is None:
                    continue
                node, row = place
            if code == Mark.PASSED:
                node.passed += 1
                self._last = []
            elif code == Mark.HOLE:
                node.is_touched = True
                self._last = [(node, row)]
            else:
                self._put(index, node, row, position, Kind(code))
                open_at[index] = self._last[-1]

    def _place_below(
        self, owner: _Node, row: int, name: str | None, position: int, code: int
    ) -> tuple[_Node, int] | None:
        """Return the node and row of a value in an object or array; None where it is only counted."""
        body = owner.body
        if name is None:
            element = body.element or self._new(body, Role.ELEMENT, None)
            return element, self._new_row(element, owner, row, position + 1)
        if body.flags & DICTIONARY:
            entry = body.entry or self._new(body, Role.ENTRY, None)
            if code == Mark.PASSED:
                entry.passed += 1
                return None
            entry.put("keys", kept_name(name))
            return entry, self._new_row(entry, owner, row, position + 1)
        member = body.members.get(name)
        if member is None and code == Mark.PASSED:
            if body.passed_names >= MEMBER_LIMIT:
                body.rest = body.rest or self._new(body, Role.MEMBER, None)
                return body.rest, row
            body.passed_names += 1
        return member or self._new(body, Role.MEMBER, name), row

    def _put(self, index: int, node: _Node, row: int, position: int, kind: Kind) -> None:
        """Put a value at a row of a node, or where the form moves it."""
        self._last = [(node, row)]
        while True:
            body = node.body
            if body.flags & LIFTED and (
                kind is Kind.OBJECT or (body.flags & LIFTS_SCALARS and kind is not Kind.ARRAY)
            ):
                node.occur(row, Kind.ARRAY, position)
                element = body.element or self._new(body, Role.ELEMENT, None)
                row = self._new_row(element, node, row, 1 if body.flags & LIFTS_SCALARS else 0)
                node, position = element, 0
                self._last.append((node, row))
                continue
            if kind in SCALAR_KINDS and node.rule:
                node.occur(row, Kind.OBJECT, position)
                if node.rule == RULES["empty"]:
                    return
                node, position = node.members.get(TEXT_STEP) or self._new(node, Role.MEMBER, TEXT_STEP), 0
                continue
            node.occur(row, kind, position)
            self._put_value(index, node, kind)
            if kind is Kind.ARRAY:
                (body.element or self._new(body, Role.ELEMENT, None)).is_touched = True
            return

    def _put_value(self, index: int, node: _Node, kind: Kind) -> None:
        if kind is Kind.BOOLEAN:
            node.put("booleans", bool(self._values[index]))
        elif kind is Kind.INTEGER:
            node.put("integers", self._values[index])
        elif kind in TEXT_CODES:
            node.put("texts" if kind is Kind.TEXT else "numbers", self._text(index))

    def _text(self, index: int) -> bytes:
        where = self._values[index] & (2**64 - 1)
        start, size = where & (2**32 - 1), where >> 32
        return self._tape.data[start : start + size]

    def _new_row(self, level: _Node, owner: _Node, row: int, ordinal: int) -> int:
        """Open a row of a level for what stands at a row of `owner`; return its number."""
        level.is_touched = True
        body = level.parent
        if body is not None and body.flags & RECURSIVE and level.role is rows_role(body.flags):
            within, through, depth, way = -1, -1, 1, -1
            if owner is not body:
                at = owner.level
                through = row if at is not level else -1
                while at is not level and at.parent is not None:
                    row, at = at.lanes["parent_rows"][row], at.parent.level
                within, way, depth = row, owner.index, level.lanes["depths"][row] + 1
                row = level.lanes["parent_rows"][row]
            for lane, value in (("within", within), ("through", through), ("depths", depth), ("ways", way)):
                level.put(lane, value)
        level.put("parent_rows", row)
        level.put("ordinals", ordinal)
        level.row_count += 1
        return level.row_count - 1


def emit_plainly(tape: Tape, form: Form) -> dict[str, Any]:
    """Return the lanes of a fragment as the compiled pass does: bytes, and how many values each node has."""
    emitter = _Emitter(tape, form)
    emitter.run()
    nodes = emitter.nodes
    nodes[0].is_touched = True
    for node in reversed(nodes[1:]):
        if node.is_touched and node.parent is not None:
            node.parent.is_touched = True
    lanes: dict[str, Any] = {"heads": [_head(node) for node in nodes]}
    for lane, kind in _NUMBER_LANES.items():
        lanes[lane] = np.array([value for node in nodes for value in node.lanes[lane]], kind).tobytes()
        lanes[f"{lane}_counts"] = _counts(nodes, lane)
    for lane in _TEXT_LANES:
        texts = [
            text.encode() if isinstance(text, str) else bytes(text)
            for node in nodes
            for text in node.lanes[lane]
        ]
        lanes[lane] = np.array([len(text) for text in texts], np.int64).tobytes()
        lanes[f"{lane}_data"], lanes[f"{lane}_counts"] = b"".join(texts), _counts(nodes, lane)
    return lanes


def _counts(nodes: list[_Node], lane: str) -> bytes:
    return np.array([len(node.lanes[lane]) for node in nodes], np.int64).tobytes()


def _head(node: _Node) -> tuple[Any, ...]:
    row_count = node.level.row_count
    in_every_row = node.lanes["rows"] == list(range(row_count))
    if in_every_row:
        node.lanes["rows"] = []
    positions = node.lanes["positions"]
    if positions and len(set(positions)) == 1:
        node.lanes["positions"] = positions[:1]
    parent = -1 if node.parent is None else node.parent.index
    return parent, int(node.role), node.name, row_count, in_every_row, node.passed, node.is_touched
