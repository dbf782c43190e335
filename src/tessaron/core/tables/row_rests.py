"""The rest of a row: what its columns do not tell of what stood there, kept as one JSON text beside them.

Mostly there is nothing to keep, and the text is null. Else it is a value of the same structure that holds
only the odd parts. A number `0` where the column holds a text says that the text is no string but the number
or boolean itself; any other scalar stands instead of what the column has. With `exact` it also holds what is
null or empty, and values whose spelling the column does not give back.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.kinds import LANE_OF_KIND, SCALAR_KINDS, Kind
from tessaron.core.base.paths import Origin, Path, format_path, is_markup, is_markup_step, kept_name
from tessaron.core.base.surrogates import has_half
from tessaron.core.base.text_lane import Bools, Int64s, TextLane
from tessaron.core.plan.rest_plans import RestPlan, WrittenAs
from tessaron.core.tables.counting import IS_NO_TEXT
from tessaron.core.tape.branches import Branch, filled_rows, origin
from tessaron.core.tape.fragment import Node, Role
from tessaron.core.tape.occurrences import places_of
from tessaron.core.types.fitting import fit_integers, fit_numbers, fit_texts
from tessaron.core.types.json_columns import objects_at, quoted, quoted_told, text
from tessaron.core.types.told_texts import looks_told, spelled
from tessaron.core.types.written import texts_of

AS_IT_IS = "0"
"""Says that the text of the column is the number or boolean itself."""
ORDER_NAME = ""
"""The name, which no element of XML has, under which the order of what stands in an element is kept."""
_NO_STRINGS = ("boolean", "integer", "decimal", "double")


def may_have_rests(nodes: Mapping[Path, Node], plans: Iterable[RestPlan], exact: bool) -> bool:
    """Say whether the columns of some tables may not tell all that stands there.

    Args:
        nodes: The nodes of a fragment by their path.
        plans: The tables.
        exact: Whether null, empty values and odd spellings are kept too.
    """
    return any(
        exact or _may_be_odd(nodes[path], form, is_markup(path))
        for plan in plans
        for path, form in plan.forms.items()
        if path in nodes
    )


def add_rests(tree: Branch, plans: Iterable[RestPlan], exact: bool) -> None:
    """Put the rest of the rows of some tables beside their values.

    Args:
        tree: A conformed fragment as a tree; levels get a branch `Origin.REST`.
        plans: The tables.
        exact: Whether null, empty values and odd spellings are kept too.
    """
    for plan in plans:
        branch = _branch_at(tree, plan.level)
        if branch is not None:
            _add_rest(branch, plan, exact)


def _branch_at(tree: Branch, path: Path) -> Branch | None:
    branch: Branch | None = tree
    for step in path:
        branch = None if branch is None else branch.children.get(step)
    return branch


def _add_rest(level: Branch, plan: RestPlan, exact: bool) -> None:
    count = level.node.row_count
    finder = _Finder(level, plan, exact)
    found = finder.tokens()
    if found is not None:
        rows, tokens = found
        lane = TextLane.of(tokens)
        level.children[Origin.REST] = origin(Origin.REST, count, rows=rows.astype(np.int32), texts=lane)


_Tokens = tuple[Int64s, Any]
"""Rows in their order, and for each a text of JSON: cost follows what is odd, not the rows."""


def _in_order(parts: list[_Tokens]) -> _Tokens:
    """Return tokens of different rows together."""
    rows = np.concatenate([rows for rows, _ in parts])
    values = pa.concat_arrays([values.cast(pa.large_string()) for _, values in parts])
    order = np.argsort(rows, kind="stable")
    return rows[order], values.take(pa.array(order))


def _first_of(first: _Tokens | None, second: _Tokens | None) -> _Tokens | None:
    """Return the tokens of both, for rows that have two the first."""
    if first is None or second is None:
        return first if second is None else second
    rest = np.isin(second[0], first[0], invert=True)
    return _in_order([first, (second[0][rest], second[1].filter(pa.array(rest)))])


class _Finder:
    """Finds what is odd on one level."""

    def __init__(self, level: Branch, plan: RestPlan, exact: bool):
        self._level, self._plan, self._exact = level, plan, exact

    def tokens(self) -> _Tokens | None:
        """Return the rest of the rows as JSON; None if there is none anywhere."""
        odd = None if self._exact else self._ways_to_odd()
        places: list[tuple[Branch, Path, list[tuple[str, int]]]] = []
        pending: list[tuple[Branch, Path, int, str]] = [(self._level, (), -1, "")]
        while pending:
            branch, path, above, name = pending.pop()
            if self._is_worked_on((*self._plan.level, *path)):
                continue
            index = len(places)
            places.append((branch, path, []))
            if above >= 0:
                places[above][2].append((name, index))
            if (*self._plan.level, *path, Origin.JSON) not in self._plan.forms:
                pending += [
                    (child, (*path, step), index, step)
                    # In the order of their names: what was met first depends on how the source was cut.
                    for step, child in sorted(_members(branch), key=lambda each: each[0], reverse=True)
                    if odd is None or (*path, step) in odd
                ]
        found: list[_Tokens | None] = [None] * len(places)
        for index in range(len(places) - 1, -1, -1):
            branch, path, members = places[index]
            below = [
                (kept_name(name), *tokens) for name, child in members if (tokens := found[child]) is not None
            ]
            order = branch.children.get(Origin.ORDER) if self._exact else None
            if order is not None:
                rows = order.node.rows_present().astype(np.int64)
                below.append((ORDER_NAME, rows, quoted(order.node.texts.to_arrow())))
            found[index] = _first_of(self._own(branch, path), objects_at(below) if below else None)
        # Nothing is kept where all that a row is has become something else.
        return found[0] if found else None

    def _ways_to_odd(self) -> set[Path]:
        """Return the paths, from the level, to all that may be odd, and to what they lead through."""
        found: set[Path] = set()
        depth = len(self._plan.level)
        for path, form in self._plan.forms.items():
            branch = _branch_at(self._level, path[depth:])
            if branch is not None and _may_be_odd(branch.node, form, is_markup(path)):
                found |= {path[depth:end] for end in range(depth + 1, len(path) + 1)}
        return found

    def _is_worked_on(self, path: Path) -> bool:
        """Say whether all that columns hold of a place has become something else."""
        plan = self._plan
        if not any(other[: len(path)] == path for other in plan.others):
            return False
        return bool(path) and not any(form[: len(path)] == path for form in plan.forms)

    def _own(self, branch: Branch, path: Path) -> _Tokens | None:
        """Return what is odd at one place itself; None if nowhere."""
        form = self._plan.forms.get((*self._plan.level, *path))
        in_markup = self._is_markup(path)
        if not self._exact and (form is None or not _may_be_odd(branch.node, form, in_markup)):
            return None
        if (*self._plan.level, *path, Origin.JSON) in self._plan.forms:
            return None
        parts = []
        if form is not None:
            parts += list(_odd_values(branch.node, form, self._exact, in_markup))
        elif self._exact and in_markup:
            parts += list(_empty_elements(branch.node))
        if self._exact:
            parts += list(self._hollow(branch, path))
        return _in_order(parts) if any(len(rows) for rows, _ in parts) else None

    def _hollow(self, branch: Branch, path: Path) -> Iterable[tuple[Int64s, ArrowArray]]:
        """Yield the rows where null, an empty object or an empty array stands, with what it is."""
        node = branch.node
        present = node.rows_present()
        for kind, shown in ((Kind.NULL, "null"), (Kind.OBJECT, "{}"), (Kind.ARRAY, "[]")):
            rows = present[node.kinds == kind]
            if kind is not Kind.NULL and len(rows):
                rows = rows[~self._filled(branch, kind, path)[rows]]
            # An element that says it is nil is more than one of which nothing is known.
            if not path and shown == self._default() and not (kind is Kind.NULL and self._is_markup(())):
                continue
            if len(rows):
                yield rows.astype(np.int64), _repeated(shown, len(rows))

    def _is_markup(self, path: Path) -> bool:
        return any(isinstance(step, str) and is_markup_step(step) for step in (*self._plan.level, *path))

    def _default(self) -> str:
        """Return what a row without any value is made into."""
        return "{}" if is_object_by_default(self._plan.level, self._plan.forms) else "null"

    def _filled(self, branch: Branch, kind: Kind, path: Path) -> Bools:
        """Return in which rows something stands below an object or array."""
        found = filled_rows(branch, kind)
        if branch.fold is not None:
            found[_folded_rows(self._level, path)] = True
        return found


def _members(branch: Branch) -> list[tuple[str, Branch]]:
    return [(step, child) for step, child in branch.children.items() if isinstance(step, str)]


def is_object_by_default(level: Path, paths: Iterable[Path]) -> bool:
    """Say whether rows of a level without any value are made empty objects: records, and all with members."""
    if not level:
        return True
    return any(len(path) > len(level) and isinstance(path[len(level)], str) for path in paths)


def _folded_rows(level: Branch, path: Path) -> Int64s:
    """Return the rows in which others stand that were folded away from a place below them."""
    for name in (Origin.WITHIN, Origin.THROUGH):
        inner = level.children.get(name)
        if inner is None:
            continue
        ways = level.children.get(Origin.WAY)
        integers = inner.node.integers
        if ways is not None:
            wanted = pc.equal(ways.node.texts.to_arrow(), format_path(path))
            integers = integers[wanted.to_numpy(zero_copy_only=False)]
        return integers
    return np.empty(0, np.int64)


def _repeated(shown: str, count: int) -> ArrowArray:
    return pa.repeat(text(shown), count)


def _odd_values(
    node: Node, form: WrittenAs, exact: bool, in_markup: bool
) -> Iterable[tuple[Int64s, ArrowArray]]:
    """Yield the rows, and values as JSON, of the scalars that a column does not give back."""
    present = node.rows_present()
    for lane, kinds in _KINDS_OF_LANE.items():
        places = places_of(node, kinds)
        if not len(places):
            continue
        if form.type.name == "text" and lane != "texts" and not in_markup:
            yield present[places].astype(np.int64), _repeated(AS_IT_IS, len(places))
            continue
        back = _turned_back(node, lane, form, exact, in_markup)
        if back is None or not back.all():
            odd = np.ones(len(places), np.bool_) if back is None else ~back
            tokens = _shown(node, lane, exact, in_markup).filter(pa.array(odd))
            yield present[places][odd].astype(np.int64), tokens


def _empty_elements(node: Node) -> Iterable[tuple[Int64s, ArrowArray]]:
    """Yield the rows of empty elements of XML: where records stood, that no column tells of, is one."""
    empty = node.texts.byte_lengths == 0
    if empty.any():
        rows = node.rows_present()[places_of(node, (Kind.TEXT,))[empty]]
        yield rows.astype(np.int64), _repeated('""', len(rows))


def _with_halves(lane: TextLane) -> Bools:
    """Return which texts have half a surrogate; the column holds its escape."""
    texts = lane.to_arrow()
    odd = looks_told(texts)
    found = np.zeros(len(lane), np.bool_)
    if odd is not None:
        chosen = np.flatnonzero(odd.to_numpy(zero_copy_only=False))
        found[chosen] = [has_half(each) for each in texts.filter(odd).to_pylist()]
    return found


def spell_texts(tree: Branch) -> None:
    """Spell out the half surrogates in all texts of a tree, as they go into tables; the rests are made."""
    for branch in tree.walk():
        node = branch.node
        if len(node.texts) and node.role is not Role.ORIGIN:
            texts = node.texts.to_arrow()
            made = spelled(texts)
            if made is not texts:
                branch.node = replace(node, texts=TextLane.of(made))


_KINDS_OF_LANE = {
    lane: tuple(kind for kind in SCALAR_KINDS if LANE_OF_KIND[kind] == lane)
    for lane in ("booleans", "integers", "numbers", "texts")
}


def _shown(node: Node, lane: str, exact: bool, is_markup: bool) -> ArrowArray:
    """Return the values of a lane as JSON; in XML all are texts."""
    if lane == "texts":
        return (quoted_told if exact and not is_markup else quoted)(node.texts.to_arrow())
    plain = (
        node.numbers.to_arrow()
        if lane == "numbers"
        else pa.array(getattr(node, lane)).cast(pa.large_string())
    )
    return quoted(plain) if is_markup else plain


_IS_TEXT: Bools = np.arange(256) == Kind.TEXT


def _may_be_odd(node: Node, form: WrittenAs, is_markup: bool) -> bool:
    """Say whether any value may be of another sort than the column, where their spellings do not matter."""
    if is_markup:
        return False
    return bool((IS_NO_TEXT if _holds_strings(form) else _IS_TEXT)[node.kinds].any())


def _holds_strings(form: WrittenAs) -> bool:
    return form.type.name not in _NO_STRINGS or form.words is not None


def _turned_back(node: Node, lane: str, form: WrittenAs, exact: bool, is_markup: bool) -> Bools | None:
    """Return which values of a lane the column gives back; None for not one."""
    if not is_markup and _holds_strings(form) is not (lane == "texts"):
        return None
    values = getattr(node, lane)
    count = len(values)
    if exact and lane == "texts" and not is_markup and form.type.name == "text":
        return ~_with_halves(node.texts)
    if form.type.name == "text" or (form.type.name == "uuid" and lane != "texts") or not exact:
        return np.ones(count, np.bool_)
    plain = pa.array(values) if lane in ("integers", "booleans") else values.to_arrow()
    if form.words is not None and lane != "texts":
        shown = plain.cast(pa.large_string())
        return np.asarray(pc.is_in(shown, pa.array(form.words, shown.type)).to_numpy(zero_copy_only=False))
    if lane == "integers":
        fitted, bad = fit_integers(values, form.type)
    elif lane == "numbers":
        fitted, bad = fit_numbers(plain, form.type)
    elif lane == "texts":
        if form.words is not None:
            return np.asarray(
                pc.is_in(plain, pa.array(form.words, plain.type)).to_numpy(zero_copy_only=False)
            )
        fitted, bad = fit_texts(plain, form.type)
    else:
        return np.full(count, form.type.name == "boolean")
    back = texts_of(fitted, form.type, form.written, form.words)
    same = pc.fill_null(pc.equal(back, plain.cast(pa.large_string())), False)
    return np.asarray(same.to_numpy(zero_copy_only=False)) & ~bad
