"""Folding: the values of many rows below become one value for each row above, whole columns at a time."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.types.column_types import DECIMAL_DIGITS, ColumnType

Rows = npt.NDArray[np.int64]

MEAN_DIGITS = 6
"""Digits after the point that a mean has beyond those of its values."""
_SAFE_SUM = 2.0**62


class FoldOverflowError(ArithmeticError):
    """A sum that its type cannot hold; `rows` says of which rows above, from 0."""

    def __init__(self, rows: Rows):
        super().__init__(rows)
        self.rows = rows


def fold(name: str, values: ArrowArray, above: Rows, row_count: int, **details: object) -> ArrowArray:
    """Return one value for each row above.

    Args:
        name: A key of `FOLDS`.
        values: An Arrow array with a value, or null, for each row below.
        above: The row above of each row below, from 0 and never falling.
        row_count: Rows above.
        **details: `position` for nth (from 1; from the end if negative), `separator` for joined.

    Returns:
        An Arrow array of `row_count`. Nulls are left out as in SQL; where nothing is left the result is null,
        but 0 for the counts, false for any, true for all.

    Raises:
        FoldOverflowError: When a sum does not fit its type.
    """
    return FOLDS[name](values, above, row_count, **details)


def _ends(above: Rows, row_count: int) -> tuple[Rows, Rows]:
    """Return where the rows below of each row above begin and end."""
    rows = np.arange(row_count)
    return np.searchsorted(above, rows, "left"), np.searchsorted(above, rows, "right")


def _filled(values: ArrowArray, above: Rows) -> tuple[ArrowArray, Rows]:
    """Return the values that are not null, and their rows above."""
    if not values.null_count:
        return values, above
    valid = pc.is_valid(values)
    return values.filter(valid), above[valid.to_numpy(zero_copy_only=False)]


def _chosen(values: ArrowArray, index: Rows, found: npt.NDArray[np.bool_]) -> ArrowArray:
    """Return the values at `index`, null where not `found`."""
    return values.take(pa.array(np.where(found, index, 0), mask=~found))


def _first(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    start, stop = _ends(above, row_count)
    return _chosen(values, start, stop > start)


def _last(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    start, stop = _ends(above, row_count)
    return _chosen(values, stop - 1, stop > start)


def _nth(values: ArrowArray, above: Rows, row_count: int, position: int) -> ArrowArray:
    start, stop = _ends(above, row_count)
    index = start + position - 1 if position > 0 else stop + position
    return _chosen(values, index, (index >= start) & (index < stop))


def _count(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    return pa.array(np.bincount(_filled(values, above)[1], minlength=row_count).astype(np.int64))


def _count_distinct(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    values, above = _filled(values, above)
    codes = values.dictionary_encode().indices.to_numpy().astype(np.int64)
    width = int(codes.max()) + 1 if len(codes) else 1
    pairs = np.unique(above * width + codes)
    return pa.array(np.bincount(pairs // width, minlength=row_count).astype(np.int64))


def _sum(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    values, above = _filled(values, above)
    start, stop = _ends(above, row_count)
    some = stop > start
    if pa.types.is_decimal(values.type):
        return _decimal_sums(values, above, row_count)
    if pa.types.is_integer(values.type) and _may_overflow(values):
        return _large_sums(values, above, row_count)
    numbers = values.to_numpy(zero_copy_only=False)
    sums = np.zeros(row_count, numbers.dtype)
    if some.any():
        with np.errstate(over="ignore", invalid="ignore"):
            sums[some] = np.add.reduceat(numbers, start[some])
    _check_finite(sums, numbers, above)
    return pa.array(sums, mask=~some)


def _check_finite(made: ArrowArray, numbers: ArrowArray, above: Rows) -> None:
    """Raise FoldOverflowError for rows whose result is no finite number though all their values are."""
    endless = ~np.isfinite(made)
    if endless.any():
        endless[above[~np.isfinite(numbers)]] = False
        if endless.any():
            raise FoldOverflowError(np.flatnonzero(endless))


def _may_overflow(values: ArrowArray) -> bool:
    if not len(values):
        return False
    ends = pc.min_max(values).as_py()
    return bool(max(abs(ends["min"]), abs(ends["max"])) * float(len(values)) > _SAFE_SUM)


def _large_sums(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    sums = _decimal_sums(values.cast(pa.decimal128(19, 0)), above, row_count)
    least, most = (pa.scalar(end, pa.decimal128(DECIMAL_DIGITS, 0)) for end in (-(2**63), 2**63 - 1))
    outside = pc.fill_null(pc.or_(pc.less(sums, least), pc.greater(sums, most)), False)
    if pc.any(outside).as_py():
        raise FoldOverflowError(np.flatnonzero(outside.to_numpy(zero_copy_only=False)))
    return sums.cast(pa.int64())


def _decimal_sums(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    scale = values.type.scale
    wide = values.cast(pa.decimal256(76, scale))
    grouped = pa.table({"above": above, "values": wide}).group_by("above").aggregate([("values", "sum")])
    rows = grouped.column("above").to_numpy()
    sums = grouped.column("values_sum").combine_chunks()
    narrow = pa.decimal128(DECIMAL_DIGITS, scale)
    try:
        sums = sums.cast(narrow)
    except pa.ArrowInvalid as error:
        limit = 10 ** (DECIMAL_DIGITS - scale)
        bad = [row for row, value in zip(rows, sums.to_pylist(), strict=True) if abs(value) >= limit]
        raise FoldOverflowError(np.array(bad, np.int64)) from error
    source = np.full(row_count, -1, np.int64)
    source[rows] = np.arange(len(rows))
    return _chosen(sums, source, source >= 0)


def _mean(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    counts = _count(values, above, row_count)
    divisor = pc.if_else(pc.equal(counts, 0), pa.scalar(None, pa.int64()), counts)
    if pa.types.is_floating(values.type):
        return _double_means(values, above, divisor)
    if pa.types.is_integer(values.type):
        values = values.cast(pa.decimal128(19, 0))
    sums = _decimal_sums(values, above, row_count)
    scale = mean_scale(values.type.scale)
    exact = sums.cast(pa.decimal256(DECIMAL_DIGITS + MEAN_DIGITS + 1, scale + 1))
    quotients = pc.divide(exact, divisor.cast(pa.decimal128(19, 0)).cast(pa.decimal256(19, 0)))
    rounded = pc.round(quotients, ndigits=scale, round_mode="half_towards_infinity")
    return rounded.cast(pa.decimal128(DECIMAL_DIGITS, scale))


def _double_means(values: ArrowArray, above: Rows, counts: ArrowArray) -> ArrowArray:
    try:
        return pc.divide(_sum(values, above, len(counts)), counts.cast(pa.float64()))
    except FoldOverflowError:
        # Of very large numbers the sum has no place in a double, but the mean has.
        values, above = _filled(values, above)
        shares = pc.divide(values, counts.take(pa.array(above)).cast(pa.float64()))
        return _sum(shares, above, len(counts))


def mean_scale(scale: int) -> int:
    """Return the digits after the point of a mean of values that have `scale`."""
    return min(scale + MEAN_DIGITS, DECIMAL_DIGITS - 19)


def _extreme(
    values: ArrowArray, above: Rows, row_count: int, reduce: Callable[..., ArrowArray]
) -> ArrowArray:
    values, above = _filled(values, above)
    order = pc.array_sort_indices(values).to_numpy()
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    start, stop = _ends(above, row_count)
    some = stop > start
    index = np.zeros(row_count, np.int64)
    if some.any():
        index[some] = order[reduce(rank, start[some])]
    return _chosen(values, index, some)


def _least(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    return _extreme(values, above, row_count, np.minimum.reduceat)


def _most(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    return _extreme(values, above, row_count, np.maximum.reduceat)


def _quantified(values: ArrowArray, above: Rows, row_count: int, decides: bool) -> ArrowArray:
    """Return `decides` where a value is that, else the opposite; nulls are left out."""
    values, above = _filled(values, above)
    deciding = above[values.to_numpy(zero_copy_only=False) == decides]
    decided = np.bincount(deciding, minlength=row_count) > 0
    return pa.array(decided if decides else ~decided)


def _any(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    return _quantified(values, above, row_count, True)


def _all(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    return _quantified(values, above, row_count, False)


def _lists(texts: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    start, stop = _ends(above, row_count)
    offsets = np.concatenate((start, stop[-1:])) if row_count else np.zeros(1, np.int64)
    return pa.LargeListArray.from_arrays(pa.array(offsets.astype(np.int64)), texts)


def _joined(values: ArrowArray, above: Rows, row_count: int, separator: str) -> ArrowArray:
    """Return the texts with `separator` between them; one inside a text is escaped with a backslash."""
    values, above = _filled(values, above)
    if not pa.types.is_large_string(values.type):
        values = values.cast(pa.large_string())
    if separator:
        values = pc.replace_substring(values, "\\", "\\\\")
        values = pc.replace_substring(values, separator, "\\" + separator)
    joined = pc.binary_join(_lists(values, above, row_count), pa.scalar(separator, pa.large_string()))
    start, stop = _ends(above, row_count)
    return pc.if_else(pa.array(stop > start), joined, pa.scalar(None, pa.large_string()))


def _json(values: ArrowArray, above: Rows, row_count: int) -> ArrowArray:
    """Return JSON arrays of values that are JSON texts themselves; null stands for `null`."""
    values = pc.fill_null(values, "null")
    comma, nothing = pa.scalar(",", pa.large_string()), pa.scalar("", pa.large_string())
    inner = pc.binary_join(_lists(values, above, row_count), comma)
    opening, closing = pa.scalar("[", pa.large_string()), pa.scalar("]", pa.large_string())
    start, stop = _ends(above, row_count)
    made = pc.binary_join_element_wise(opening, inner, closing, nothing)
    return pc.if_else(pa.array(stop > start), made, pa.scalar(None, pa.large_string()))


FOLDS: dict[str, Callable[..., Any]] = {
    "first": _first, "last": _last, "nth": _nth, "count": _count, "count_distinct": _count_distinct,
    "sum": _sum, "mean": _mean, "least": _least, "most": _most, "any": _any, "all": _all,
    "joined": _joined, "json": _json,
}  # fmt: skip

BOOLEAN_TYPE, INTEGER_TYPE = ColumnType("boolean"), ColumnType("integer")


def folded_type(name: str, inner: ColumnType) -> ColumnType | None:
    """Return the type of a fold over values of a type; None when it cannot be made of them."""
    is_number = inner.name in ("integer", "decimal", "double")
    if name in ("count", "count_distinct"):
        return INTEGER_TYPE
    if name == "joined":
        return ColumnType("text")
    if name == "json":
        return ColumnType("json")
    if name in ("any", "all"):
        return BOOLEAN_TYPE if inner.name == "boolean" else None
    if name in ("sum", "mean"):
        return _number_folded(name, inner) if is_number else None
    return None if name in ("least", "most") and inner.name == "boolean" else inner


def _number_folded(name: str, inner: ColumnType) -> ColumnType:
    if inner.name == "double" or (name == "sum" and inner.name == "integer"):
        return inner
    scale = inner.scale if name == "sum" else mean_scale(inner.scale)
    return ColumnType("decimal", DECIMAL_DIGITS, scale)
