"""Growing a fragment, one record at a time, from parsed values: the Python side of every kernel."""

from __future__ import annotations

import datetime
import decimal
import math
import uuid
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from tessaron.core.errors import UsageError
from tessaron.core.fragment import EMPTY_TEXTS, Fragment, Node, Passed, Role, TextLane
from tessaron.core.json_text import json_text
from tessaron.core.kernel.values import NumberText, Pairs
from tessaron.core.kinds import Kind
from tessaron.core.paths import ELEMENT, Origin, Path, Step, show_path, step_of_name
from tessaron.core.selecting import INSIDE, RAW, SCALARS, Selection
from tessaron.core.surrogates import spell_halves, tell_halves
from tessaron.core.visible import in_quotes

_INT64_LEAST, _INT64_MOST = -(2**63), 2**63 - 1


class GrowingNode:
    """A node under construction: the attributes of `Node` as plain lists.

    For XML, elements are among `members` by their full name, attributes among `attributes`; `is_level` says
    that elements here are rows even where there is one.
    """

    __slots__ = (
        "attributes",
        "booleans",
        "element",
        "index",
        "integers",
        "is_level",
        "kinds",
        "level",
        "members",
        "name",
        "numbers",
        "order_rows",
        "orders",
        "ordinals",
        "parent",
        "parent_rows",
        "passed",
        "place",
        "positions",
        "raw_rows",
        "raws",
        "role",
        "row_count",
        "rows",
        "texts",
        "wanted",
    )

    def __init__(self, index: int, parent: GrowingNode | None, role: Role, name: str | None):
        self.index = index
        self.parent = parent
        self.role = role
        self.name = name
        self.level: GrowingNode = self if role is not Role.MEMBER or parent is None else parent.level
        self.row_count = 0
        self.parent_rows: list[int] = []
        self.ordinals: list[int] = []
        self.rows: list[int] = []
        self.kinds = bytearray()
        self.positions: list[int] = []
        self.booleans: list[bool] = []
        self.integers: list[int] = []
        self.numbers: list[str] = []
        self.texts: list[str] = []
        self.members: dict[str, GrowingNode] = {}
        self.attributes: dict[str, GrowingNode] = {}
        self.is_level = False
        self.element: GrowingNode | None = None
        self.place = 0
        self.wanted = SCALARS | INSIDE
        self.passed = 0
        self.raw_rows: list[int] = []
        self.raws: list[str] = []
        self.order_rows: list[int] = []
        self.orders: list[str] = []

    def put_wanted(self, row: int, value: Any) -> bool:
        """Record one occurrence as far as it is wanted; say whether its content is still to come."""
        if value is not None and self.wanted & RAW:
            self.raw_rows.append(row)
            self.raws.append(json_text(value, ascii_only=False))
        is_open = isinstance(value, (dict, Pairs, list, tuple))
        if not self.wanted & (INSIDE if is_open else SCALARS):
            self.passed += value is not None and not self.wanted & RAW
            return False
        return self.put(row, value)

    def put(self, row: int, value: Any) -> bool:
        """Record one occurrence; say whether it is an object or array whose content is still to come."""
        self.rows.append(row)
        kind = _PUT.get(type(value), _put_other)(self, value)
        self.kinds.append(kind)
        return kind is Kind.OBJECT or kind is Kind.ARRAY

    def path(self) -> Path:
        """Return the path from the record."""
        steps: list[Any] = []
        node: GrowingNode = self
        while node.parent is not None:
            steps.append(node.name if node.role is Role.MEMBER else ELEMENT)
            node = node.parent
        return tuple(reversed(steps))


class FragmentBuilder:
    """Collects records into a fragment.

    A record is a value as `json` parses it, with an object as a dict or as `Pairs`.
    Names are unique in their object (see `repeated_names`). Depth costs no recursion.

    Args:
        selection: What is wanted; None for everything.
        tells_halves: See `KernelOptions`.
    """

    def __init__(self, selection: Selection | None = None, tells_halves: bool = False) -> None:
        self._tells_halves = tells_halves
        self._nodes = [GrowingNode(0, None, Role.RECORD, None)]
        self._selection = selection
        self._put = GrowingNode.put if selection is None else GrowingNode.put_wanted
        if selection is not None:
            self._nodes[0].wanted = selection.wanted(0)

    @property
    def record_count(self) -> int:
        """Records added so far."""
        return self._nodes[0].row_count

    def add(self, record: Any) -> None:
        """Add one record.

        Raises:
            UsageError: For a value that JSON has no kind for; the fragment is then spoilt.
        """
        root = self._nodes[0]
        row = root.row_count
        root.row_count += 1
        pending = [(root, row, record)] if self._put(root, row, record) else []
        while pending:
            node, row, value = pending.pop()
            is_object = isinstance(value, (dict, Pairs))
            inside = self._open_object(node, row, value) if is_object else self._open_array(node, row, value)
            pending.extend(reversed(inside))

    def _open_object(self, node: GrowingNode, row: int, value: Any) -> list[tuple[GrowingNode, int, Any]]:
        pairs = value.items() if isinstance(value, dict) else value
        inside = []
        for position, (name, item) in enumerate(pairs):
            child = node.members.get(name) or self._member(node, name)
            child.positions.append(position)
            if self._put(child, row, item):
                inside.append((child, row, item))
        return inside

    def _open_array(
        self, node: GrowingNode, row: int, value: Sequence[Any]
    ) -> list[tuple[GrowingNode, int, Any]]:
        element = node.element or self._element(node)
        first = element.row_count
        element.row_count += len(value)
        element.parent_rows.extend([row] * len(value))
        element.ordinals.extend(range(1, len(value) + 1))
        return [
            (element, first + offset, item)
            for offset, item in enumerate(value)
            if self._put(element, first + offset, item)
        ]

    def _member(self, parent: GrowingNode, name: Any) -> GrowingNode:
        if type(name) is not str:
            raise UsageError(
                f"expected member names to be text, got {in_quotes(name)} ({type(name).__name__}) "
                f"in {show_path(parent.path())}; turn the keys into str first"
            )
        node = parent.members[name] = self._grow(parent, Role.MEMBER, step_of_name(name))
        return node

    def _element(self, parent: GrowingNode) -> GrowingNode:
        parent.element = self._grow(parent, Role.ELEMENT, None)
        return parent.element

    def _grow(self, parent: GrowingNode, role: Role, name: str | None) -> GrowingNode:
        node = GrowingNode(len(self._nodes), parent, role, name)
        self._nodes.append(node)
        if self._selection is not None:
            step: Step = ELEMENT if name is None else name
            node.place = self._selection.step(parent.place, step) if parent.place >= 0 else -1
            node.wanted = self._selection.wanted(node.place) if node.place >= 0 else 0
        return node

    def add_origin(self, fragment: Fragment, name: Origin, texts: list[str | None]) -> None:
        """Add what is known of the records of a finished fragment, None where it is not."""
        rows = [row for row, text in enumerate(texts) if text is not None]
        known = [text for text in texts if text is not None]
        if known:
            node = Node(0, Role.ORIGIN, name.value, len(texts), texts=_text_lane(known))
            node.kinds = np.full(len(rows), Kind.TEXT, np.uint8)
            node.rows = None if len(rows) == len(texts) else np.array(rows, np.int32)
            fragment.nodes.append(node)

    def finish(self) -> Fragment:
        """Return the fragment of all records added."""
        return finish_nodes(self._nodes, self._tells_halves)


def finish_nodes(grown: list[GrowingNode], tells_halves: bool = False) -> Fragment:
    """Return the fragment of all that was collected; the first node is the record."""
    kept = [node for node in grown if node.wanted or node.parent is None]
    places = {node.index: place for place, node in enumerate(kept)}
    nodes = [_finish_node(node, tells_halves) for node in kept]
    for growing, node in zip(kept, nodes, strict=True):
        node.parent = -1 if growing.parent is None else places[growing.parent.index]
    known = [
        _known_node(node, places, Origin.JSON, node.raw_rows, node.raws) for node in kept if node.raw_rows
    ]
    known += [
        _known_node(node, places, Origin.ORDER, node.order_rows, node.orders) for node in kept if node.orders
    ]
    return Fragment([*nodes, *known], passed=_passed(grown, places))


def _passed(grown: list[GrowingNode], places: dict[int, int]) -> list[Passed]:
    """Return what was passed over, under nodes that are kept."""
    found = []
    for node in grown:
        if node.passed:
            is_below = not node.wanted and node.parent is not None
            at = node.parent if is_below and node.parent is not None else node
            found.append(Passed(places[at.index], node.name, node.role, node.passed, is_below))
    return found


def _known_node(
    node: GrowingNode, places: dict[int, int], origin: Origin, rows: list[int], texts: list[str]
) -> Node:
    """Return a node for what is known of some rows of another."""
    count = node.level.row_count
    made = Node(places[node.index], Role.ORIGIN, origin.value, count, texts=_text_lane(texts))
    # Elements are walked from the outermost in: their rows come in rising order only within one parent.
    order = np.argsort(rows, kind="stable")
    if len(rows) > 1 and (np.diff(order) != 1).any():
        rows = [rows[at] for at in order]
        made.texts = _text_lane([texts[at] for at in order])
    made.rows = None if len(rows) == count else np.array(rows, np.int32)
    made.kinds = np.full(len(rows), Kind.TEXT, np.uint8)
    return made


def _finish_node(node: GrowingNode, tells_halves: bool) -> Node:
    row_count = node.level.row_count
    positions = np.array(node.positions, np.int32)
    if len(positions) and (positions == positions[0]).all():
        positions = positions[:1]
    return Node(
        parent=-1 if node.parent is None else node.parent.index,
        role=node.role,
        name=node.name,
        row_count=row_count,
        parent_rows=np.array(node.parent_rows, np.int32),
        ordinals=np.array(node.ordinals, np.int32),
        rows=None if len(node.rows) == row_count else np.array(node.rows, np.int32),
        kinds=np.frombuffer(bytes(node.kinds), np.uint8),
        positions=positions,
        booleans=np.array(node.booleans, np.bool_),
        integers=np.array(node.integers, np.int64),
        numbers=TextLane.of(node.numbers) if node.numbers else EMPTY_TEXTS,
        texts=_text_lane(node.texts, tells_halves) if node.texts else EMPTY_TEXTS,
    )


def _text_lane(texts: list[str], tells_halves: bool = False) -> TextLane:
    if tells_halves and any("\\ud" in text for text in texts):
        return TextLane.of(list(map(tell_halves, texts)))
    try:
        return TextLane.of(texts)
    except UnicodeEncodeError:
        return TextLane.of(list(map(tell_halves if tells_halves else spell_halves, texts)))


def _put_null(node: GrowingNode, value: None) -> Kind:
    return Kind.NULL


def _put_boolean(node: GrowingNode, value: bool) -> Kind:
    node.booleans.append(value)
    return Kind.BOOLEAN


def _put_integer(node: GrowingNode, value: int) -> Kind:
    if _INT64_LEAST <= value <= _INT64_MOST:
        node.integers.append(value)
        return Kind.INTEGER
    node.numbers.append(_digits(value))
    return Kind.LONG_INTEGER


def _digits(value: int) -> str:
    """Return the digits of an integer of any length; `str` refuses those of more than 4,300."""
    return str(decimal.Context(prec=max(1, value.bit_length())).create_decimal(value))


def _put_number_text(node: GrowingNode, value: NumberText) -> Kind:
    node.numbers.append(str(value))
    return Kind.LONG_INTEGER if value.lstrip("-").isdigit() else Kind.FRACTION


def _put_float(node: GrowingNode, value: float) -> Kind:
    if not math.isfinite(value):
        _refuse(node, value)
    return _put_number_text(node, NumberText(repr(value)))


def _put_decimal(node: GrowingNode, value: decimal.Decimal) -> Kind:
    if not value.is_finite():
        _refuse(node, value)
    text = str(value)
    return _put_integer(node, int(text)) if text.isdigit() else _put_number_text(node, NumberText(text))


def _put_text(node: GrowingNode, value: str) -> Kind:
    node.texts.append(value)
    return Kind.TEXT


def _put_timestamp(node: GrowingNode, value: datetime.datetime) -> Kind:
    return _put_text(node, value.isoformat(timespec="microseconds"))


def _put_date(node: GrowingNode, value: datetime.date) -> Kind:
    return _put_text(node, value.isoformat())


def _put_uuid(node: GrowingNode, value: uuid.UUID) -> Kind:
    return _put_text(node, str(value))


def _put_object(node: GrowingNode, value: Any) -> Kind:
    return Kind.OBJECT


def _put_array(node: GrowingNode, value: Sequence[Any]) -> Kind:
    return Kind.ARRAY


def _put_other(node: GrowingNode, value: Any) -> Kind:
    for base, put in _PUT.items():
        if isinstance(value, base):
            return put(node, value)
    return _refuse(node, value)


def _refuse(node: GrowingNode, value: Any) -> Kind:
    raise UsageError(
        f"expected a JSON value, got {in_quotes(value)} ({type(value).__name__}) at "
        f"{show_path(node.path())}; "
        "turn it into text, a number, a list or a dict first"
    )


_PUT: Mapping[type, Callable[[GrowingNode, Any], Kind]] = {
    str: _put_text,
    bool: _put_boolean,
    int: _put_integer,
    type(None): _put_null,
    Pairs: _put_object,
    dict: _put_object,
    list: _put_array,
    tuple: _put_array,
    NumberText: _put_number_text,
    float: _put_float,
    decimal.Decimal: _put_decimal,
    datetime.datetime: _put_timestamp,
    datetime.date: _put_date,
    uuid.UUID: _put_uuid,
}
