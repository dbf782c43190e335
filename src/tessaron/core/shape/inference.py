"""Choosing a column's type from what was met at its path: the narrowest that gives every value back."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from tessaron.core.base.kinds import Kind
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.types.column_types import (
    BOOLEAN,
    DECIMAL_DIGITS,
    DOUBLE,
    DOUBLE_SAFE_INTEGER,
    INTEGER,
    TEXT,
    ColumnType,
)
from tessaron.core.types.readings import BOOLEAN_WORDS, ONE_AND_ZERO, SPECIAL, Reading

_TIMES = ("timestamp", "timestamp_tz")
_FEW_TEXTS = 0.1
"""So small a share of texts among numbers is said: perhaps they stand there by mistake."""


@dataclass(frozen=True, slots=True)
class Inferred:
    """A type, how texts are read into it, and why it is wider than one might expect (or empty)."""

    type: ColumnType
    reading: Reading | None = None
    note: str = ""


def infer_type(node: ShapeNode) -> Inferred:
    """Return the type for the scalars met at `node`: the first rule that fits.

    Mixed kinds widen from integer to decimal to double, and else to text, and the note says so. A type is
    chosen only if every value can be turned back from it; a decimal gives back the number, and its digits
    up to trailing zeros.
    """
    found = next((made for rule in _RULES if (made := rule(node)) is not None), None)
    if found is None:
        found = Inferred(TEXT, note=_why_text(node))
    return _with_empty(found if node.declared is None else _as_declared(found, node), node)


def _as_declared(found: Inferred, node: ShapeNode) -> Inferred:
    """Return the type that a schema declares where it gives every value back, else the one that was found."""
    declared = node.declared
    assert declared is not None
    kind = found.type.name
    if not node.scalar_kinds() or declared.name == "text":
        return Inferred(declared)
    if kind == declared.name != "decimal" or (declared.name in _TIMES and kind in _TIMES):
        return found
    whole = kind == "integer"
    if declared.name == "boolean" and whole and node.least_integer in (0, 1) and node.most_integer in (0, 1):
        return Inferred(BOOLEAN, ONE_AND_ZERO)
    if declared.name == "decimal" and kind in ("integer", "decimal"):
        scale = max(declared.scale, found.type.scale if kind == "decimal" else 0)
        precision = max(declared.precision - declared.scale, _whole_digits(node)) + scale
        return Inferred(ColumnType("decimal", precision, scale)) if precision <= DECIMAL_DIGITS else found
    if declared.name == "double" and kind in ("integer", "decimal"):
        as_double = _when_double(node)
        return found if as_double is None else replace(as_double, note="")
    wider = f"declared {declared}, which does not give back every value"
    return replace(found, note=f"{wider}; {found.note}" if found.note else wider)


def _with_empty(found: Inferred, node: ShapeNode) -> Inferred:
    """Say where empty elements have no value of the type."""
    if found.type.name == "text" or not node.is_markup or not node.empty_texts:
        return found
    empty = f"{node.empty_texts:,} empty {'element is' if node.empty_texts == 1 else 'elements are'} null"
    return replace(found, note=f"{found.note}; {empty}" if found.note else empty)


def _when_nothing(node: ShapeNode) -> Inferred | None:
    return None if node.scalar_kinds() else Inferred(TEXT)


def _when_boolean(node: ShapeNode) -> Inferred | None:
    return Inferred(BOOLEAN) if node.scalar_kinds() == [Kind.BOOLEAN] else None


def _when_integer(node: ShapeNode) -> Inferred | None:
    return Inferred(INTEGER) if node.scalar_kinds() == [Kind.INTEGER] else None


def _when_text(node: ShapeNode) -> Inferred | None:
    if node.scalar_kinds() != [Kind.TEXT]:
        return None
    count = node.text_count()
    if count and sum(node.readings.values()) == count:
        if len(node.readings) == 1:
            reading = next(iter(node.readings))
            if reading.name not in ("boolean", "double"):
                return Inferred(reading.column_type(), reading)
        words = {reading.separator for reading in node.readings if reading.name == "boolean"}
        for yes, no in BOOLEAN_WORDS:
            if words == {yes, no} and len(node.readings) == 2:
                return Inferred(BOOLEAN, Reading("boolean", f"{yes}/{no}"))
    return Inferred(TEXT, note=_why_not_read(node))


def _when_decimal(node: ShapeNode) -> Inferred | None:
    if not _all_numbers(node) or node.numbers.negative_zeros:
        return None
    scale = node.numbers.most_scale
    precision = _whole_digits(node) + scale
    if precision > DECIMAL_DIGITS:
        return None
    note = "integers among fractions" if node.counts[Kind.INTEGER] and scale else ""
    return Inferred(ColumnType("decimal", precision=precision, scale=scale), note=note)


def _when_double(node: ShapeNode) -> Inferred | None:
    if not _all_numbers(node) or node.numbers.lossy_doubles:
        return None
    least, most = node.least_integer or 0, node.most_integer or 0
    if least < -DOUBLE_SAFE_INTEGER or most > DOUBLE_SAFE_INTEGER:
        return None
    why = "a negative zero" if node.numbers.negative_zeros else f"more than {DECIMAL_DIGITS} digits"
    return Inferred(DOUBLE, note=f"double, as {why} does not fit a decimal")


def _when_special(node: ShapeNode) -> Inferred | None:
    """Numbers of XML Schema 1.0 (part 2, 3.2.5), among them infinities or what is no number."""
    numbers = Kind.FRACTION in node.scalar_kinds() or Kind.INTEGER in node.scalar_kinds()
    special = node.readings.get(SPECIAL, 0)
    if not node.is_markup or not numbers or not special or special != node.text_count():
        return None
    if node.numbers.lossy_doubles or node.counts[Kind.LONG_INTEGER]:
        return None
    least, most = node.least_integer or 0, node.most_integer or 0
    if least < -DOUBLE_SAFE_INTEGER or most > DOUBLE_SAFE_INTEGER:
        return None
    return Inferred(DOUBLE, SPECIAL, "double, for INF or NaN")


_RULES: tuple[Callable[[ShapeNode], Inferred | None], ...] = (
    _when_nothing,
    _when_boolean,
    _when_integer,
    _when_text,
    _when_special,
    _when_decimal,
    _when_double,
)


def _all_numbers(node: ShapeNode) -> bool:
    return not node.text_count() and not node.counts[Kind.BOOLEAN]


def _whole_digits(node: ShapeNode) -> int:
    ends = (node.least_integer or 0, node.most_integer or 0)
    return max(node.numbers.whole_digits, *(len(str(abs(end))) for end in ends))


def _why_text(node: ShapeNode) -> str:
    if node.is_markup and node.text_count():
        return _why_no_number(node)
    if _all_numbers(node):
        return "numbers that neither a decimal nor a double holds exactly"
    names = {Kind.LONG_INTEGER: "integer"}
    kinds = [names.get(kind, kind.name.lower()) for kind in node.scalar_kinds()]
    counts = [node.counts[kind] for kind in node.scalar_kinds()]
    return "mixed kinds: " + ", ".join(f"{n:,} {kind}" for n, kind in zip(counts, kinds, strict=True))


def _why_no_number(node: ShapeNode) -> str:
    """Say of a column of XML that is nearly all numbers what is in the way; else nothing is odd about it."""
    texts, total = node.text_count(), sum(node.counts[kind] for kind in node.scalar_kinds())
    return f"{texts:,} of {total:,} are no numbers" if texts <= total * _FEW_TEXTS else ""


def _why_not_read(node: ShapeNode) -> str:
    readings = {reading: n for reading, n in node.readings.items() if reading.name != "boolean"}
    read = sum(readings.values())
    if not read:
        return ""
    rest = node.text_count() - read
    what = "/".join(sorted({reading.name for reading in readings}))
    spellings = f" in {len(readings)} spellings" if len(readings) > 1 else ""
    return f"{read:,} texts look like {what}{spellings}" + (f", {rest:,} do not" if rest else "")
