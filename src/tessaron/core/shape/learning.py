"""Learning: the classes of tapes, with what was counted of each, become a shape.

A learner takes in tape after tape in one scan each. It is used by one thread at a time; what several have
learnt merges as shapes.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from functools import cache
from typing import Protocol

import numpy as np

from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.paths import ELEMENT, ENTRY, MARKUP, Origin, Path, Step, format_path
from tessaron.core.shape.shape import Shape
from tessaron.core.shape.shape_form import form_of
from tessaron.core.shape.shape_node import TOO_MANY_NAMES, ShapeNode, see_node
from tessaron.core.tape.emission import emit, is_compiled
from tessaron.core.tape.fragment import Fragment, Node
from tessaron.core.tape.tape import MEMBER_LIMIT, Tape
from tessaron.core.types.number_digits import NO_NUMBERS, NumberStats, are_lossy
from tessaron.core.types.readings import BOOLEAN_WORDS, SPECIAL, Reading

Settled = Mapping[Path, bool]
"""Paths of objects for which it is known whether they are dictionaries."""


class Learner(Protocol):
    """Learns the structure of tapes."""

    def learn(self, tape: Tape) -> None:
        """Take in a tape."""

    def shape(self) -> tuple[Shape, Counter[str]]:
        """Return the structure of all tapes so far, and how many values were passed over, by path."""


def new_learner(settled: Settled | None = None, compiled: bool = True) -> Learner:
    """Return a learner that has seen nothing yet.

    Args:
        settled: What is known already.
        compiled: Whether it may be the compiled one, if that is there.
    """
    if compiled and is_compiled():
        return _CompiledLearner(settled or {})
    from tessaron.core.shape.plain_learning import PlainLearner

    return PlainLearner(settled or {})


class _CompiledLearner:
    def __init__(self, settled: Settled):
        from tessaron.core.compiled._passes import Learner as Compiled

        self._compiled = Compiled(MEMBER_LIMIT)
        self._settled = settled
        self._beside = _Beside()
        for path, is_dictionary in sorted(settled.items(), key=lambda item: len(item[0])):
            self._compiled.seed(tuple(map(_seed_step, path)), is_dictionary)

    def learn(self, tape: Tape) -> None:
        """Take in a tape."""
        pairs = np.frombuffer(self._compiled.learn(*tape.arrays()), np.int32).reshape(-1, 2)
        if len(pairs):
            lossy = pairs[are_lossy(tape.texts(pairs[:, 1].astype(np.int64)).to_arrow())]
            classes, counts = np.unique(lossy[:, 0], return_counts=True)
            self._compiled.add_lossy(classes.astype(np.int32).tobytes(), counts.astype(np.int64).tobytes())
        self._beside.see(tape)

    def shape(self) -> tuple[Shape, Counter[str]]:
        """Return the structure of all tapes so far, and how many values were passed over, by path."""
        rows, passed_over = self._compiled.export()
        shape = Shape(self._settled)
        nodes: list[ShapeNode] = []
        paths: list[Path] = []
        for parent, role, name, *fields in rows:
            node: ShapeNode = shape.record
            path: Path = ()
            if parent >= 0:
                step = name if name is not None else _STEP_OF_ROLE[role]
                node, path = nodes[parent].child(step), (*paths[parent], step)
            _fill(node, fields)
            nodes.append(node)
            paths.append(path)
        passed: Counter[str] = Counter()
        for place, name, count in passed_over:
            passed[_passed_path(paths[place], name)] += count
        for path, is_dictionary in self._settled.items():
            settled = shape.node_at(path)
            if settled is not None and is_dictionary:
                settled.name_count = 0
        _drop_empty(shape.record, self._settled)
        self._beside.tell(shape, passed)
        return shape, passed


_STEP_OF_ROLE: dict[int, Step] = {2: ELEMENT, 3: ENTRY, 10: Origin.KEY, 11: Origin.ORDER}


def _seed_step(step: Step) -> str | bool | None:
    if isinstance(step, str):
        return step
    return True if step is ENTRY else None


def _passed_path(path: Path, name: str | bool | None) -> str:
    """Return the path of values that were passed over below a class, as it is shown."""
    if name is True:
        return format_path(())
    if name is False:
        return format_path(path) + " (many names)"
    return format_path((*path, ELEMENT if name is None else str(name)))


def _fill(node: ShapeNode, fields: list[Parsed]) -> None:
    row_count, counts, position_sum, integers, digits, longest, empty, *others = fields
    readings, is_dictionary, names, keeps = others
    node.row_count, node.counts, node.position_sum = row_count, counts, position_sum
    if integers is not None:
        node.least_integer, node.most_integer = integers
    node.numbers = NO_NUMBERS if digits is None else NumberStats(*digits)
    node.longest_text, node.empty_texts = longest, empty
    node.add_readings({reading_of_code(code): count for code, count in readings})
    if is_dictionary:
        node.is_dictionary, node.names = True, names
        node.name_count = TOO_MANY_NAMES if names is None else 0
    node.keeps_members = bool(keeps)


def _drop_empty(record: ShapeNode, settled: Settled) -> None:
    """Take out what was only settled, and never met: a shape holds what is there."""
    for path in sorted(settled, key=len, reverse=True):
        nodes = [record]
        for step in path:
            below = nodes[-1].children.get(step)
            if below is None:
                break
            nodes.append(below)
        for step, above, node in zip(reversed(path), reversed(nodes[:-1]), reversed(nodes[1:]), strict=False):
            if not node.occurrences and not node.row_count and not node.children and len(nodes) > len(path):
                del above.children[step]


_NAMES = ("", "date", "time", "timestamp", "timestamp_tz", "uuid", "boolean", "double")
_WORDS = tuple(word for pair in BOOLEAN_WORDS for word in pair)
_CASES = ("", "lower", "upper")
_WEST = 1440


@cache
def reading_of_code(code: int) -> Reading:
    """Return the reading that stands behind a number of the compiled pass (see `_readings.h`)."""
    name, letter, digits, zone = _NAMES[code & 255], code >> 8 & 255, (code >> 16 & 255) - 1, code >> 24
    if name == "double":
        return SPECIAL
    if name == "boolean":
        return Reading("boolean", _WORDS[letter])
    if name == "uuid":
        return Reading("uuid", zone=_CASES[zone])
    if name in ("date", "time"):
        return Reading(name, second_digits=0 if name == "date" else digits)  # type: ignore[arg-type]
    return Reading(name, chr(letter), digits, _zone(zone))  # type: ignore[arg-type]


def _zone(code: int) -> str:
    if code < len(("", "Z")):
        return "Z" * code
    minutes = (code - 2) % _WEST
    return f"{'-' if code - 2 >= _WEST else '+'}{minutes // 60:02}:{minutes % 60:02}"


class _Beside:
    """What stands on tapes beside values: what is known of records, and what kernels left out."""

    def __init__(self) -> None:
        self._origins = ShapeNode()
        self._left_out: Counter[str] = Counter()

    def see(self, tape: Tape) -> None:
        """Take in what a tape tells."""
        for node in tape.origins:
            see_node(self._origins.child(_origin_of(node)), node)
        for test, count in tape.left_out.items():
            self._left_out[format_path((f"{MARKUP}.//{test}",))] += count

    def tell(self, shape: Shape, passed: Counter[str]) -> None:
        """Put it into the shape, and to what was passed over."""
        for step, node in self._origins.children.items():
            shape.record.child(step).absorb(node)
        passed.update({path: count for path, count in self._left_out.items() if count})


def _origin_of(node: Node) -> Origin:
    return Origin(node.name)


def as_few_columns(tape: Tape) -> Fragment:
    """Return the values of a tape as columns, with one level for each object of very many names."""
    learner = new_learner()
    learner.learn(tape)
    return emit(tape, form_of(learner.shape()[0].record))
