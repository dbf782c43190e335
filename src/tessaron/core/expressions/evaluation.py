"""Evaluating checked expressions on whole columns, with SQL's logic of nulls."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import reduce
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.errors import Code
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.text_lane import Bools, TextLane
from tessaron.core.expressions import arithmetic
from tessaron.core.expressions.dates import part_of, plus_days, time_between
from tessaron.core.expressions.folding import FoldOverflowError, Rows, fold
from tessaron.core.expressions.typed import Typed, family
from tessaron.core.query.iregexp_columns import match_pattern
from tessaron.core.types.column_types import INTEGER, TEXT, ColumnType
from tessaron.core.types.fitting import Spelling, fit_texts
from tessaron.core.types.json_columns import quoted


class Scope(Protocol):
    """The rows an expression is worked out for."""

    row_count: int

    def column(self, table: str, name: str) -> ArrowArray:
        """Return a column of this table or one above, a value for each row here."""

    def below(self, table: str) -> tuple[Scope, Rows]:
        """Return the kept rows of a table below, and for each the row here, never falling."""


@dataclass
class Evaluation:
    """Works out expressions for the rows of a scope.

    Attributes:
        scope: The rows.
        failures: By reason code, which rows of the scope have no value because of it.
        active: Which rows are asked for; None for all. Failures elsewhere do not count.
    """

    scope: Scope
    failures: dict[Code, Bools] = field(default_factory=dict)
    active: Bools | None = None

    def evaluate(self, part: Typed) -> ArrowArray:
        """Return an Arrow array with a value of the part's type, or null, for each row."""
        found = self._work(part)
        target = (part.type or TEXT).arrow_type()
        if isinstance(found, pa.ChunkedArray):
            found = found.combine_chunks()
        return found if found.type == target else found.cast(target)

    def _work(self, part: Typed) -> ArrowArray:
        return _WORK[part.operation](self, part)

    def _fail(self, code: Code, rows: Bools | None) -> None:
        if rows is None:
            return
        if self.active is not None:
            rows = rows & self.active
        if rows.any():
            self.failures[code] = self.failures.get(code, np.zeros(len(rows), np.bool_)) | rows

    def _where(self, rows: Bools) -> Evaluation:
        """Return the same for fewer rows."""
        return replace(self, active=rows if self.active is None else rows & self.active)

    def _literal(self, part: Typed) -> ArrowArray:
        count = self.scope.row_count
        if part.detail is None:
            return pa.nulls(count, (part.type or TEXT).arrow_type())
        assert part.type is not None
        value = part.detail
        if isinstance(value, str) and family(part.type) != "text":
            values, bad = fit_texts(pa.array([value], pa.large_string()), part.type)
            return pa.nulls(count, part.type.arrow_type()) if bad[0] else _repeated(values[0], count)
        return _repeated(pa.scalar(value, part.type.arrow_type()), count)

    def _column(self, part: Typed) -> ArrowArray:
        return self.scope.column(*part.detail)

    def _negation(self, part: Typed) -> ArrowArray:
        return pc.invert(self.evaluate(part.parts[0]))

    def _negative(self, part: Typed) -> ArrowArray:
        found, bad = arithmetic.negate(self.evaluate(part.parts[0]), part.parts[0].type or INTEGER)
        self._fail(Code.OVERFLOW, bad)
        return found

    def _both(self, part: Typed) -> ArrowArray:
        left = self.evaluate(part.parts[0])
        open_rows = _mask(left, True)
        return pc.and_kleene(left, self._where(open_rows).evaluate(part.parts[1]))

    def _either(self, part: Typed) -> ArrowArray:
        left = self.evaluate(part.parts[0])
        open_rows = ~_mask(left, False)
        return pc.or_kleene(left, self._where(open_rows).evaluate(part.parts[1]))

    def _any_of(self, part: Typed) -> ArrowArray:
        found = self.evaluate(part.parts[0])
        for test in part.parts[1:]:
            found = pc.or_kleene(found, self.evaluate(test))
        return found

    def _concat(self, part: Typed) -> ArrowArray:
        texts = [self.evaluate(each).cast(pa.large_string()) for each in part.parts]
        return pc.binary_join_element_wise(*texts, pa.scalar("", pa.large_string()))

    def _compare(self, part: Typed) -> ArrowArray:
        left, right = (self.evaluate(each) for each in part.parts)
        kinds = (part.parts[0].type, part.parts[1].type)
        if kinds[0] is None or kinds[1] is None:
            return pa.nulls(self.scope.row_count, pa.bool_())
        if arithmetic.is_number(kinds[0]) and kinds[0] != kinds[1]:
            left, right = _same_numbers(left, right, (kinds[0], kinds[1]))
        return _COMPARE[part.detail](left, right)

    def _arithmetic(self, part: Typed) -> ArrowArray:
        operator, types = part.detail
        left, right = (self.evaluate(each) for each in part.parts)
        if part.parts[0].type is None or part.parts[1].type is None:
            return pa.nulls(self.scope.row_count, (part.type or TEXT).arrow_type())
        found, bad = arithmetic.compute(operator, left, right, types)
        if bad is not None:
            zero = np.zeros(len(bad), np.bool_)
            if operator in "/%":
                zero = bad & _mask(pc.equal(right, arithmetic.zero_of(right.type)), False)
            self._fail(Code.DIVISION_BY_ZERO, zero)
            self._fail(Code.OVERFLOW, bad & ~zero)
        return found

    def _is_null(self, part: Typed) -> ArrowArray:
        found = self.evaluate(part.parts[0])
        return pc.is_valid(found) if part.detail else pc.is_null(found)

    def _conditional(self, part: Typed) -> ArrowArray:
        condition = self.evaluate(part.parts[0])
        chosen = _mask(condition, False)
        then = self._where(chosen).evaluate(part.parts[1])
        otherwise = self._where(~chosen).evaluate(part.parts[2])
        return pc.if_else(pa.array(chosen), then, otherwise)

    def _widen(self, part: Typed) -> ArrowArray:
        found, kind = self.evaluate(part.parts[0]), part.parts[0].type
        assert kind is not None
        assert part.type is not None
        if arithmetic.is_number(part.type):
            return arithmetic.as_type(found, kind, part.type)
        return found.cast(part.type.arrow_type())

    def _cast(self, part: Typed) -> ArrowArray:
        assert part.type is not None
        found, kind = self.evaluate(part.parts[0]), part.parts[0].type
        if kind is None:
            return pa.nulls(len(found), part.type.arrow_type())
        made, bad = convert(found, kind, part.type, Spelling(format=part.detail))
        self._fail(Code.NOT_CONVERTIBLE, bad)
        return made

    def _fold(self, part: Typed) -> ArrowArray:
        name, table, details = part.detail
        scope, above = self.scope.below(table)
        inner = Evaluation(scope)
        if self.active is not None:
            inner.active = self.active[above]
        if len(part.parts) > 1:
            chosen = _mask(inner.evaluate(part.parts[1]), False)
            inner = inner._where(chosen)
            values = inner.evaluate(part.parts[0]).filter(pa.array(chosen))
            kept = above[chosen]
        else:
            values, kept = inner.evaluate(part.parts[0]), above
        for code, rows in inner.failures.items():
            self._fail(code, _at(above[rows], self.scope.row_count))
        if name == "joined":
            values = values.cast(pa.large_string())
        count = self.scope.row_count
        try:
            return fold(name, values, kept, count, **details)
        except FoldOverflowError as error:
            bad = _at(error.rows, count)
            self._fail(Code.OVERFLOW, bad)
            fine = ~bad[kept]
            return fold(name, values.filter(pa.array(fine)), kept[fine], count, **details)

    def _upper(self, part: Typed) -> ArrowArray:
        return pc.utf8_upper(self.evaluate(part.parts[0]))

    def _lower(self, part: Typed) -> ArrowArray:
        return pc.utf8_lower(self.evaluate(part.parts[0]))

    def _trim(self, part: Typed) -> ArrowArray:
        return pc.utf8_trim_whitespace(self.evaluate(part.parts[0]))

    def _length(self, part: Typed) -> ArrowArray:
        return pc.utf8_length(self.evaluate(part.parts[0]))

    def _join(self, part: Typed) -> ArrowArray:
        texts = [self.evaluate(each).cast(pa.large_string()) for each in part.parts]
        separator, nothing = (pa.scalar(each, pa.large_string()) for each in (part.detail, ""))
        # Arrow's way of leaving nulls out leaves out the rows in which all are null: what is left of each
        # row is joined as pieces that begin with the separator.
        pieces = [pc.fill_null(pc.binary_join_element_wise(separator, text, nothing), "") for text in texts]
        joined = pc.binary_join_element_wise(*pieces, nothing)
        made = pc.utf8_slice_codeunits(joined, len(part.detail))
        known = reduce(pc.or_, map(pc.is_valid, texts))
        return pc.if_else(known, made, pa.scalar(None, pa.large_string()))

    def _part(self, part: Typed) -> ArrowArray:
        start, *count = part.detail
        stop = start - 1 + count[0] if count else None
        return pc.utf8_slice_codeunits(self.evaluate(part.parts[0]), start - 1, stop)

    def _replace(self, part: Typed) -> ArrowArray:
        old, new = part.detail
        texts = self.evaluate(part.parts[0])
        return pc.replace_substring(texts, old, new) if old else texts

    def _matches(self, part: Typed) -> ArrowArray:
        return match_pattern(self.evaluate(part.parts[0]), part.detail)

    def _contains(self, part: Typed) -> ArrowArray:
        return pc.match_substring(self.evaluate(part.parts[0]), part.detail)

    def _starts(self, part: Typed) -> ArrowArray:
        return pc.starts_with(self.evaluate(part.parts[0]), part.detail)

    def _ends(self, part: Typed) -> ArrowArray:
        return pc.ends_with(self.evaluate(part.parts[0]), part.detail)

    def _date_part(self, part: Typed) -> ArrowArray:
        values = self.evaluate(part.parts[0])
        if part.parts[0].type is None:
            return pa.nulls(len(values), (part.type or TEXT).arrow_type())
        return part_of(part.detail, values)

    def _span(self, part: Typed) -> ArrowArray:
        start, stop = (self.evaluate(each) for each in part.parts)
        if part.parts[0].type is None or part.parts[1].type is None:
            return pa.nulls(len(start), (part.type or TEXT).arrow_type())
        return time_between(part.operation, start, stop, part.detail == "date")

    def _plus_days(self, part: Typed) -> ArrowArray:
        moved, bad = plus_days(*(self.evaluate(each) for each in part.parts))
        self._fail(Code.OVERFLOW, bad)
        return moved

    def _round(self, part: Typed) -> ArrowArray:
        digits, mode = part.detail
        inner = part.parts[0]
        found, bad = arithmetic.rounded(self.evaluate(inner), inner.type or INTEGER, digits, mode)
        self._fail(Code.OVERFLOW, bad)
        return found

    def _absolute(self, part: Typed) -> ArrowArray:
        found, bad = arithmetic.absolute(self.evaluate(part.parts[0]))
        self._fail(Code.OVERFLOW, bad)
        return found

    def _coalesce(self, part: Typed) -> ArrowArray:
        return pc.coalesce(*(self.evaluate(each) for each in part.parts))

    def _least(self, part: Typed) -> ArrowArray:
        return self._extreme(part, pc.less)

    def _most(self, part: Typed) -> ArrowArray:
        return self._extreme(part, pc.greater)

    def _extreme(self, part: Typed, is_better: Callable[[ArrowArray, ArrowArray], Any]) -> ArrowArray:
        """Return the best value of each row; null only where all are, as PostgreSQL has it."""
        found = self.evaluate(part.parts[0])
        for each in part.parts[1:]:
            other = self.evaluate(each)
            better = pc.or_(pc.is_null(found), pc.fill_null(is_better(other, found), False))
            found = pc.if_else(better, other, found)
        return found

    def _null_if(self, part: Typed) -> ArrowArray:
        found, same = (self.evaluate(each) for each in part.parts)
        return pc.if_else(pc.fill_null(same, False), pa.scalar(None, found.type), found)


_COMPARE = {
    "==": pc.equal, "!=": pc.not_equal, "<": pc.less, "<=": pc.less_equal,
    ">": pc.greater, ">=": pc.greater_equal,
}  # fmt: skip
_WORK: dict[str, Callable[[Evaluation, Typed], Any]] = {
    "literal": Evaluation._literal, "column": Evaluation._column, "not": Evaluation._negation,
    "negate": Evaluation._negative, "and": Evaluation._both, "or": Evaluation._either,
    "any_of": Evaluation._any_of, "concat": Evaluation._concat, "compare": Evaluation._compare,
    "arithmetic": Evaluation._arithmetic, "is_null": Evaluation._is_null, "if": Evaluation._conditional,
    "widen": Evaluation._widen, "cast": Evaluation._cast, "fold": Evaluation._fold,
    "upper": Evaluation._upper, "lower": Evaluation._lower, "trim": Evaluation._trim,
    "length": Evaluation._length, "join": Evaluation._join, "part": Evaluation._part,
    "replace": Evaluation._replace, "matches": Evaluation._matches, "contains": Evaluation._contains,
    "starts": Evaluation._starts, "ends": Evaluation._ends, "date_part": Evaluation._date_part,
    "days_from": Evaluation._span, "hours_from": Evaluation._span, "minutes_from": Evaluation._span,
    "seconds_from": Evaluation._span, "plus_days": Evaluation._plus_days, "round": Evaluation._round,
    "abs": Evaluation._absolute, "coalesce": Evaluation._coalesce, "least": Evaluation._least,
    "most": Evaluation._most, "null_if": Evaluation._null_if,
}  # fmt: skip


def _repeated(value: Parsed, count: int) -> ArrowArray:
    return pa.repeat(value, count)


def _mask(values: ArrowArray, when_null: bool) -> Bools:
    return np.asarray(pc.fill_null(values, when_null).to_numpy(zero_copy_only=False))


def _at(rows: ArrowRows, count: int) -> Bools:
    found = np.zeros(count, np.bool_)
    found[rows] = True
    return found


def _same_numbers(
    left: ArrowArray, right: ArrowArray, kinds: tuple[ColumnType, ColumnType]
) -> tuple[ArrowArray, ArrowArray]:
    """Return numbers of two types in one that can compare them exactly."""
    if "double" in (kinds[0].name, kinds[1].name):
        return left.cast(pa.float64(), safe=False), right.cast(pa.float64(), safe=False)
    scale = max(kind.scale for kind in kinds)
    wide = pa.decimal256(38 + scale, scale)
    made = []
    for values, kind in ((left, kinds[0]), (right, kinds[1])):
        exact = values.cast(pa.decimal128(19, 0)) if kind.name == "integer" else values
        made.append(exact.cast(wide))
    return made[0], made[1]


def convert(
    values: ArrowArray, kind: ColumnType, target: ColumnType, spelling: Spelling
) -> tuple[ArrowArray, Bools | None]:
    """Return values of one type in another, null where one does not fit, and which do not."""
    arrow_type = target.arrow_type()
    if kind == target and spelling.format is None:
        return values, None
    if target.name == "json" and not (arithmetic.is_number(kind) or family(kind) == "boolean"):
        return quoted(in_text(values, kind)), None
    if family(kind) == "text":
        return _convert_texts(values, target, spelling)
    if arithmetic.is_number(kind) and arithmetic.is_number(target):
        return _convert_numbers(values, kind, target)
    if target.name in ("text", "uuid", "json", "xml"):
        return in_text(values, kind), None
    if arithmetic.is_number(kind):
        return pc.not_equal(values, arithmetic.zero_of(values.type)), None
    if family(kind) == "boolean":
        return values.cast(arrow_type), None
    return values.cast(arrow_type, safe=False), None


def in_text(values: ArrowArray, kind: ColumnType) -> ArrowArray:
    """Return values as text: decimals written out, times as ISO 8601 with a space."""
    from tessaron.core.types.column_types import in_shown_unit

    return in_shown_unit(values, kind).cast(pa.large_string())


def _convert_texts(values: ArrowArray, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    known = values.is_valid().to_numpy(zero_copy_only=False)
    texts = values if known.all() else values.filter(pa.array(known))
    made, bad = fit_texts(TextLane.of(texts).to_arrow() if texts.offset else texts, target, spelling)
    if known.all():
        return made, bad
    rows = np.flatnonzero(known)
    source = np.full(len(values), -1, np.int64)
    source[rows] = np.arange(len(rows))
    return made.take(pa.array(source, mask=source < 0)), _at(rows[bad], len(values))


def _convert_numbers(
    values: ArrowArray, kind: ColumnType, target: ColumnType
) -> tuple[ArrowArray, Bools | None]:
    """Return numbers rounded to the digits of the target, half away from zero."""
    if target.name == "double":
        return values.cast(pa.float64(), safe=False), None
    if kind.name == "double":
        return arithmetic.doubles_as(values, target)
    exact = values.cast(pa.decimal128(19, 0)) if kind.name == "integer" else values
    precision, scale = arithmetic.digits_of(kind)
    room = max(precision - scale, 38) + max(scale, target.scale) + 1
    wide_values = exact.cast(pa.decimal256(min(room, 76), max(scale, target.scale)))
    rounded = pc.round(wide_values, ndigits=target.scale, round_mode="half_towards_infinity")
    digits = 19 if target.name == "integer" else target.precision
    limit = 2**63 if target.name == "integer" else 10 ** (digits - target.scale)
    bound = pa.scalar(limit, pa.int64() if limit < 2**62 else pa.decimal256(40, 0)).cast(
        pa.decimal256(76, max(scale, target.scale))
    )
    size = pc.abs(rounded).cast(bound.type)
    bad = np.asarray(pc.fill_null(pc.greater_equal(size, bound), False).to_numpy(zero_copy_only=False))
    kept = pc.if_else(pa.array(bad), pa.scalar(None, rounded.type), rounded)
    narrow = kept.cast(pa.decimal256(digits, 0 if target.name == "integer" else target.scale))
    if target.name == "integer":
        return narrow.cast(pa.decimal128(19, 0)).cast(pa.int64()), bad
    return narrow.cast(target.arrow_type()), bad
