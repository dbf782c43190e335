"""Numbers in expressions: exact on integers and decimals, whole columns at a time."""

from __future__ import annotations

import decimal
import math
from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowType
from tessaron.core.types.column_types import DECIMAL_DIGITS, DOUBLE, INTEGER, ColumnType

DIVISION_DIGITS = 6
"""Digits after the point that a quotient of decimals has at least."""
_WIDE = 76
_INTEGER_DIGITS = 19
_LONG = decimal.Context(prec=400, rounding=decimal.ROUND_HALF_UP, Emax=10_000, Emin=-10_000)
_EXACT = decimal.Context(prec=160, rounding=decimal.ROUND_HALF_UP, Emax=10_000, Emin=-10_000)


def is_number(kind: ColumnType | None) -> bool:
    """Say whether a type is one of numbers."""
    return kind is not None and kind.name in ("integer", "decimal", "double")


def number_type(operator: str, left: ColumnType, right: ColumnType) -> ColumnType:
    """Return the type of `left operator right`, by the rules of SQL: integers stay integers."""
    if "double" in (left.name, right.name):
        return DOUBLE
    if left.name == right.name == "integer":
        return INTEGER
    (p1, s1), (p2, s2) = digits_of(left), digits_of(right)
    whole = max(p1 - s1, p2 - s2)
    if operator == "*":
        return decimal_type(p1 + p2 + 1, s1 + s2)
    if operator == "/":
        return ColumnType("decimal", DECIMAL_DIGITS, min(max(DIVISION_DIGITS, s1, s2), 18))
    if operator == "%":
        return decimal_type(whole + max(s1, s2), max(s1, s2))
    return decimal_type(whole + max(s1, s2) + 1, max(s1, s2))


def digits_of(kind: ColumnType) -> tuple[int, int]:
    """Return all digits, and those after the point, that a number of a type can have."""
    return (_INTEGER_DIGITS, 0) if kind.name == "integer" else (kind.precision, kind.scale)


def decimal_type(precision: int, scale: int) -> ColumnType:
    """Return a decimal type, cut to what 128 bits hold."""
    return ColumnType("decimal", min(precision, DECIMAL_DIGITS), min(scale, DECIMAL_DIGITS))


def common_type(left: ColumnType, right: ColumnType) -> ColumnType:
    """Return the number type that holds the values of both."""
    if left == right:
        return left
    if "double" in (left.name, right.name):
        return DOUBLE
    (p1, s1), (p2, s2) = digits_of(left), digits_of(right)
    return decimal_type(max(p1 - s1, p2 - s2) + max(s1, s2), max(s1, s2))


def compute(
    operator: str, left: ArrowArray, right: ArrowArray, types: tuple[ColumnType, ColumnType]
) -> tuple[ArrowArray, ArrowArray]:
    """Return `left operator right`, and which rows have no result although both operands are there.

    Args:
        operator: One of `+ - * / %`.
        left: An Arrow array.
        right: One of the same length.
        types: Their types.

    Returns:
        An Arrow array, null where there is no result, and a NumPy mask; None when all have one.
    """
    target = number_type(operator, *types)
    zero = None
    if operator in "/%":
        zero = pc.and_(pc.equal(right, zero_of(right.type)), pc.is_valid(left))
        zero = np.asarray(pc.fill_null(zero, False).to_numpy(zero_copy_only=False))
        right = pc.if_else(pa.array(zero), pa.scalar(None, right.type), right) if zero.any() else right
    try:
        found = _compute_fast(operator, left, right, types, target)
        bad = zero
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        found, bad = _compute_exactly(operator, left, right, target)
        bad = bad if zero is None else bad | zero
    if target.name == "double":
        endless = _endless(found, left, right)
        if endless.any():
            found = pc.if_else(pa.array(endless), pa.scalar(None, pa.float64()), found)
            bad = endless if bad is None else bad | endless
    return found, (bad if bad is not None and bad.any() else None)


def _endless(found: ArrowArray, *operands: ArrowArray) -> ArrowArray:
    """Return which results are no finite numbers although all operands are."""
    finite = pc.fill_null(pc.is_finite(found), True)
    if pc.all(finite).as_py():
        return np.zeros(len(found), np.bool_)
    known = np.ones(len(found), np.bool_)
    for operand in operands:
        if pa.types.is_floating(operand.type):
            known &= pc.fill_null(pc.is_finite(operand), True).to_numpy(zero_copy_only=False)
    return known & ~finite.to_numpy(zero_copy_only=False)


def zero_of(arrow_type: ArrowType) -> ArrowArray:
    """Return nought as an Arrow scalar of a number type."""
    return pa.scalar(decimal.Decimal(0) if pa.types.is_decimal(arrow_type) else 0, arrow_type)


def _compute_fast(
    operator: str,
    left: ArrowArray,
    right: ArrowArray,
    types: tuple[ColumnType, ColumnType],
    target: ColumnType,
) -> ArrowArray:
    if target.name == "double":
        left, right = (value.cast(pa.float64(), safe=False) for value in (left, right))
        if operator == "%":
            return _double_remainder(left, right)
        return _OPERATIONS[operator](left, right)
    if target.name == "integer":
        if operator == "%":
            quotient = pc.divide_checked(left, right)
            return pc.subtract_checked(left, pc.multiply_checked(quotient, right))
        return _OPERATIONS[operator](left, right)
    wide = [_widened(value, kind) for value, kind in zip((left, right), types, strict=True)]
    if operator == "/":
        return _divided(wide[0], wide[1], target)
    if operator == "%":
        scale = target.scale
        left, right = (value.cast(pa.decimal256(38 + scale, scale)) for value in wide)
        whole = pc.trunc(pc.divide(left.cast(pa.decimal256(38, scale)), right.cast(pa.decimal256(20, scale))))
        rest = pc.subtract(
            left, pc.multiply(whole.cast(pa.decimal256(38, 0)), right.cast(pa.decimal256(37, scale)))
        )
        return rest.cast(target.arrow_type())
    found = _OPERATIONS[operator](*wide)
    if found.type.scale > target.scale:
        found = pc.round(found, ndigits=target.scale, round_mode="half_towards_infinity")
    return found.cast(target.arrow_type())


def _widened(values: ArrowArray, kind: ColumnType) -> ArrowArray:
    precision, scale = digits_of(kind)
    if kind.name == "integer":
        return values.cast(pa.decimal128(_INTEGER_DIGITS, 0)).cast(pa.decimal256(_INTEGER_DIGITS, 0))
    return values.cast(pa.decimal256(precision, scale))


def _divided(left: ArrowArray, right: ArrowArray, target: ColumnType) -> ArrowArray:
    extra = max(0, target.scale + 2 + right.type.scale - left.type.scale)
    if left.type.precision + extra > _WIDE - right.type.precision:
        raise pa.ArrowInvalid("too wide")
    finer = left.cast(pa.decimal256(left.type.precision + extra, left.type.scale + extra))
    quotient = pc.divide(finer, right)
    rounded = pc.round(quotient, ndigits=target.scale, round_mode="half_towards_infinity")
    return rounded.cast(target.arrow_type())


def _double_remainder(left: ArrowArray, right: ArrowArray) -> ArrowArray:
    a, b = (value.to_numpy(zero_copy_only=False) for value in (left, right))
    with np.errstate(invalid="ignore"):
        rest = np.fmod(a, b)
    known = pc.and_(pc.is_valid(left), pc.is_valid(right)).to_numpy(zero_copy_only=False)
    return pa.array(rest, mask=~known)


_OPERATIONS: dict[str, Callable[..., Any]] = {
    "+": pc.add_checked,
    "-": pc.subtract_checked,
    "*": pc.multiply_checked,
    "/": pc.divide_checked,
}


def _compute_exactly(
    operator: str, left: ArrowArray, right: ArrowArray, target: ColumnType
) -> tuple[ArrowArray, ArrowArray]:
    """Work value by value, where a row does not fit; the rows that do not fit have no result."""
    found: list[Any] = []
    bad = np.zeros(len(left), np.bool_)
    for row, (a, b) in enumerate(zip(left.to_pylist(), right.to_pylist(), strict=True)):
        value = None if a is None or b is None else _exact(operator, a, b, target)
        found.append(value)
        bad[row] = value is None and a is not None and b is not None
    return pa.array(found, target.arrow_type()), bad


def _exact(operator: str, left: ArrowArray, right: ArrowArray, target: ColumnType) -> ArrowArray:
    a, b = decimal.Decimal(left), decimal.Decimal(right)
    if operator in "/%" and not b:
        return None
    operation = {
        "+": _EXACT.add,
        "-": _EXACT.subtract,
        "*": _EXACT.multiply,
        "/": _EXACT.divide,
        "%": _EXACT.remainder,
    }[operator]
    value = operation(a, b)
    if target.name == "double":
        return float(value)
    if target.name == "integer":
        whole = int(value)
        return whole if -(2**63) <= whole < 2**63 else None
    value = value.quantize(decimal.Decimal(1).scaleb(-target.scale), context=_EXACT)
    return value if len(value.as_tuple().digits) <= target.precision else None


def negate(values: ArrowArray, kind: ColumnType) -> tuple[ArrowArray, ArrowArray]:
    """Return the numbers with the other sign, and which rows have no result."""
    zeros = pa.array(np.zeros(len(values), np.int64))
    if kind.name == "decimal":
        return pc.negate(values), None
    if kind.name == "double":
        return pc.negate(values), None
    return compute("-", zeros, values, (INTEGER, INTEGER))


def rounded_type(kind: ColumnType, digits: int) -> ColumnType:
    """Return the type of a number rounded to so many digits after the point."""
    if kind.name != "decimal":
        return kind
    precision, scale = kind.precision, min(kind.scale, max(digits, 0))
    whole = precision - kind.scale + 1
    return INTEGER if digits <= 0 and whole < _INTEGER_DIGITS else decimal_type(whole + scale, scale)


def absolute(values: ArrowArray) -> tuple[ArrowArray, ArrowArray]:
    """Return numbers without their sign, and which of them have no such number: the smallest integer."""
    if not pa.types.is_integer(values.type):
        return pc.abs(values), None
    bad = pc.fill_null(pc.equal(values, -(2**63)), False)
    found = pc.abs(pc.if_else(bad, pa.scalar(None, values.type), values))
    return found, np.asarray(bad.to_numpy(zero_copy_only=False))


def rounded(values: ArrowArray, kind: ColumnType, digits: int, mode: str) -> tuple[ArrowArray, ArrowArray]:
    """Return numbers rounded to so many digits after the point, and which rows have no result.

    Args:
        values: An Arrow array of numbers.
        kind: Their type.
        digits: Digits after the point; negative before it.
        mode: `half` (away from zero), `down` or `up`.
    """
    target = rounded_type(kind, digits)
    if kind.name == "double":
        return _rounded_doubles(values, digits, mode), None
    if kind.name == "integer" and digits >= 0:
        return values, None
    precision, scale = digits_of(kind)
    exact = values.cast(pa.decimal128(precision, 0)) if kind.name == "integer" else values
    # One digit more before the point than the number has is as far as rounding reaches.
    ndigits = max(min(digits, scale), scale - precision - 1)
    wide = exact.cast(pa.decimal256(precision + 2, scale))
    made = pc.round(wide, ndigits=ndigits, round_mode=_ROUND_MODES[mode])
    if ndigits > digits:
        made = pc.if_else(pc.is_valid(made), zero_of(made.type), made)
    return _narrowed(made, target)


_ROUND_MODES = {"half": "half_towards_infinity", "down": "down", "up": "up"}
_DOUBLE_DIGITS = 308
_DECIMAL_MODES = {"half": decimal.ROUND_HALF_UP, "down": decimal.ROUND_FLOOR, "up": decimal.ROUND_CEILING}


def _rounded_doubles(values: ArrowArray, digits: int, mode: str) -> ArrowArray:
    """Return doubles rounded; where Arrow's way, by powers of ten, overflows, as their shortest digits."""
    if digits > _DOUBLE_DIGITS:
        return values
    try:
        if digits >= -_DOUBLE_DIGITS:
            return pc.round(values, ndigits=digits, round_mode=_ROUND_MODES[mode])
    except pa.ArrowInvalid:
        pass
    return pa.array([_rounded_double(each, digits, mode) for each in values.to_pylist()], pa.float64())


def _rounded_double(value: float | None, digits: int, mode: str) -> float | None:
    if value is None or not math.isfinite(value):
        return value
    context = decimal.Context(prec=800, rounding=_DECIMAL_MODES[mode], Emax=10_000, Emin=-10_000)
    step = decimal.Decimal(1).scaleb(-digits, context)
    return float(decimal.Decimal(repr(value)).quantize(step, context=context))


def _narrowed(values: ArrowArray, target: ColumnType) -> tuple[ArrowArray, ArrowArray]:
    """Return wide decimals in an integer or decimal type, null where it has too few digits, and where."""
    scale = values.type.scale
    whole = _INTEGER_DIGITS if target.name == "integer" else target.precision - target.scale
    limit = decimal.Decimal(2**63 if target.name == "integer" else 10**whole)
    wide = values.cast(pa.decimal256(_WIDE, scale))
    bound = pa.scalar(limit, pa.decimal256(_WIDE, scale))
    bad = pc.fill_null(pc.greater_equal(pc.abs(wide), bound), False)
    kept = pc.if_else(bad, pa.scalar(None, wide.type), wide)
    if target.name == "integer":
        made = (
            kept.cast(pa.decimal256(_INTEGER_DIGITS, 0))
            .cast(pa.decimal128(_INTEGER_DIGITS, 0))
            .cast(pa.int64())
        )
    else:
        made = kept.cast(pa.decimal256(target.precision, target.scale)).cast(target.arrow_type())
    return made, np.asarray(bad.to_numpy(zero_copy_only=False))


def doubles_as(values: ArrowArray, target: ColumnType) -> tuple[ArrowArray, ArrowArray]:
    """Return doubles, by their shortest digits, in an integer or decimal type, and which do not fit.

    They are rounded half away from zero.
    """
    scale = 0 if target.name == "integer" else target.scale
    size = pc.abs(values)
    # Beyond this no type has the digits; NaN is not below it either.
    fits = pc.fill_null(pc.less(size, 10.0 ** (_WIDE // 2)), True)
    texts = pc.if_else(fits, values, None).cast(pa.large_string())
    wide = pa.decimal256(_WIDE, _WIDE // 2)
    plain = pc.fill_null(pc.invert(pc.match_substring(texts, "e")), True)
    exact = pc.if_else(plain, texts, None).cast(wide)
    if not pc.all(plain).as_py():
        odd = [decimal.Decimal(each) for each in texts.filter(pc.invert(plain)).to_pylist()]
        step = decimal.Decimal(1).scaleb(-scale)
        made = pa.array([each.quantize(step, context=_LONG) for each in odd], wide)
        exact = pc.replace_with_mask(exact, pc.invert(plain), made)
    near = pc.round(exact, scale, round_mode="half_towards_infinity").cast(pa.decimal256(_WIDE, scale))
    found, bad = _narrowed(near, target)
    return found, bad | ~fits.to_numpy(zero_copy_only=False)


def as_type(values: ArrowArray, kind: ColumnType, target: ColumnType) -> ArrowArray:
    """Return numbers in a number type that holds them."""
    if kind == target:
        return values
    if target.name == "double":
        return values.cast(pa.float64(), safe=False)
    if kind.name == "integer":
        return (
            values.cast(pa.decimal128(_INTEGER_DIGITS, 0))
            .cast(pa.decimal256(_INTEGER_DIGITS + target.scale, target.scale))
            .cast(target.arrow_type())
        )
    return values.cast(target.arrow_type())
