"""Parts of dates and times, and the time between them."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.types.column_types import ColumnType

MONTHS = (
    "January", "February", "March", "April", "May", "June", "July", "August", "September", "October",
    "November", "December",
)  # fmt: skip
WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
UNIT_MICROSECONDS = {
    "days_from": 86_400_000_000,
    "hours_from": 3_600_000_000,
    "minutes_from": 60_000_000,
    "seconds_from": 1_000_000,
}
_CALENDAR = (-719_162, 2_932_896)
"""0001-01-01 and 9999-12-31, in days since 1970-01-01."""
SPAN = ColumnType("decimal", 24, 6)
"""The type of a difference of two timestamps, in its unit."""


def part_of(name: str, values: ArrowArray) -> ArrowArray:
    """Return the part of each date, time or timestamp: a number, or an English name."""
    if name == "month_name":
        return _named(pc.subtract(pc.month(values), 1), MONTHS)
    if name == "weekday_name":
        return _named(pc.day_of_week(values), WEEKDAYS)
    if name == "weekday":
        return pc.add(pc.day_of_week(values), 1)
    if name == "week":
        return pc.iso_week(values)
    return getattr(pc, name)(values)


def _named(index: ArrowArray, names: tuple[str, ...]) -> ArrowArray:
    return pa.array(names, pa.large_string()).take(index)


def time_between(name: str, start: ArrowArray, stop: ArrowArray, is_date: bool) -> ArrowArray:
    """Return how much later `stop` is than `start`: whole days of dates, else a decimal with 6 digits."""
    if is_date:
        days = pc.subtract(stop.cast(pa.int32()).cast(pa.int64()), start.cast(pa.int32()).cast(pa.int64()))
        return days if name == "days_from" else pc.multiply(days, 86_400_000_000 // UNIT_MICROSECONDS[name])
    spans = pc.subtract(_microseconds(stop), _microseconds(start))
    known = pc.is_valid(spans)
    numbers = spans.fill_null(0).to_numpy()
    unit = UNIT_MICROSECONDS[name]
    # Exact to a millionth, half away from zero: the whole units and the rest are scaled apart.
    size = np.abs(numbers)
    millionths = size // unit * 1_000_000 + (size % unit * 1_000_000 * 2 + unit) // (2 * unit)
    made = pa.array(np.sign(numbers) * millionths, mask=~known.to_numpy(zero_copy_only=False))
    return _scaled(made)


def _microseconds(values: ArrowArray) -> ArrowArray:
    zone = values.type.tz
    return values.cast(pa.timestamp("us", zone), safe=False).cast(pa.int64())


def _scaled(millionths: ArrowArray) -> ArrowArray:
    """Return numbers of millionths as decimals."""
    halves = np.empty((len(millionths), 2), np.int64)
    numbers = millionths.fill_null(0).to_numpy()
    halves[:, 0], halves[:, 1] = numbers, numbers >> 63
    made = pa.Array.from_buffers(SPAN.arrow_type(), len(numbers), [None, pa.py_buffer(halves)])
    return pc.if_else(pc.is_valid(millionths), made, pa.scalar(None, SPAN.arrow_type()))


def plus_days(values: ArrowArray, days: ArrowArray) -> tuple[ArrowArray, ArrowArray]:
    """Return dates moved by whole days, and a mask of those that would leave the years 1 to 9999."""
    known = pc.and_(pc.is_valid(values), pc.is_valid(days)).to_numpy(zero_copy_only=False)
    start = values.cast(pa.int32()).fill_null(0).to_numpy().astype(np.int64)
    steps = days.fill_null(0).to_numpy()
    least, most = _CALENDAR
    bad = known & ((steps < least - start) | (steps > most - start))
    moved = np.where(known & ~bad, start + np.where(bad, 0, steps), 0)
    return pa.array(moved.astype(np.int32), mask=~known | bad).cast(pa.date32()), bad
