"""Building a tape from parsed values, record by record: the Python side of every kernel."""

from __future__ import annotations

import datetime
import decimal
import math
import struct
import uuid
from array import array
from collections.abc import Callable, Iterator, Mapping
from typing import Any, NoReturn

from tessaron.core.base.errors import UsageError
from tessaron.core.base.json_text import json_text
from tessaron.core.base.kinds import Kind
from tessaron.core.base.parsed_values import NumberText, Pairs, Parsed
from tessaron.core.base.paths import ELEMENT, Origin, Path, Step, show_path, step_of_name
from tessaron.core.base.surrogates import spell_halves, tell_halves
from tessaron.core.base.visible import in_quotes
from tessaron.core.cutting.selecting import INSIDE, RAW, SCALARS, Selection
from tessaron.core.tape.tape import NO_NAME, Mark, Tape, known_of_records

_INT64_LEAST, _INT64_MOST = -(2**63), 2**63 - 1
_NOWHERE = -1


class TapeBuilder:
    """Writes a tape, value by value.

    Args:
        selection: What is wanted; None for everything.
        tells_halves: See `KernelOptions`.
    """

    def __init__(self, selection: Selection | None = None, tells_halves: bool = False) -> None:
        self.selection = selection
        self._tells_halves = tells_halves
        self._kinds = bytearray()
        self._names = array("i")
        self._parents = array("i")
        self._values = array("q")
        self._data = bytearray()
        self._steps: dict[str, int] = {}
        self.record_count = 0

    def put(self, kind: int, name: int, parent: int, value: int = 0) -> int:
        """Put a value without a text; return its place on the tape."""
        self._kinds.append(kind)
        self._names.append(name)
        self._parents.append(parent)
        self._values.append(value)
        return len(self._kinds) - 1

    def put_text(self, kind: int, name: int, parent: int, text: str) -> int:
        """Put a value with a text; return its place on the tape."""
        data = self._spelled(text, self._tells_halves and kind == Kind.TEXT)
        where = len(self._data) | len(data) << 32
        self._data += data
        return self.put(kind, name, parent, struct.unpack("<q", struct.pack("<Q", where))[0])

    def step_number(self, step: str) -> int:
        """Return the number of a step to a member."""
        return self._steps.setdefault(step, len(self._steps))

    def _spelled(self, text: str, tells_halves: bool) -> bytes:
        if tells_halves and "\\ud" in text:
            return tell_halves(text).encode()
        try:
            return text.encode()
        except UnicodeEncodeError:
            return (tell_halves if tells_halves else spell_halves)(text).encode()

    def wanted_at(self, place: int) -> int:
        """Return what is wanted at a place of the selection."""
        if self.selection is None:
            return SCALARS | INSIDE
        return self.selection.wanted(place) if place >= 0 else 0

    def place_below(self, place: int, step: Step) -> int:
        """Return the place of the selection one step on."""
        return self.selection.step(place, step) if self.selection is not None and place >= 0 else _NOWHERE

    def add(self, record: Parsed) -> None:
        """Add one record: a value as `json` parses it, with an object as a dict or as `Pairs`.

        Names are unique in their object (see `repeated_names`). Depth costs no recursion.

        Raises:
            UsageError: For a value that JSON has no kind for; the tape is then spoilt.
        """
        self.record_count += 1
        pending = [self._open(record, NO_NAME, -1, 0)]
        while pending:
            opened = next(pending[-1], None)
            if opened is None:
                pending.pop()
            else:
                pending.append(self._open(*opened))

    def _open(self, value: Parsed, name: int, parent: int, place: int) -> Iterator[tuple[Any, int, int, int]]:
        """Put a value as far as it is wanted; yield what stands in it, with where it stands."""
        is_open = isinstance(value, (dict, Pairs, list, tuple))
        wanted = self.wanted_at(place)
        is_read = bool(wanted & (INSIDE if is_open else SCALARS))
        if not is_read:
            is_passed = value is not None and not wanted & RAW
            index = self.put(Mark.PASSED if is_passed else Mark.HOLE, name, parent)
        else:
            index = self._put_value(value, name, parent)
        if value is not None and wanted & RAW:
            self.put_text(Mark.RAW, NO_NAME, index, json_text(value, ascii_only=False))
        if not is_read or not is_open:
            return
        if not isinstance(value, (dict, Pairs)):
            below = self.place_below(place, ELEMENT)
            for item in value:
                yield item, NO_NAME, index, below
            return
        for member, item in value.items() if isinstance(value, dict) else value:
            if type(member) is not str:
                self._refuse_name(member, index)
            step = step_of_name(member)
            yield item, self.step_number(step), index, self.place_below(place, step)

    def _put_value(self, value: Parsed, name: int, parent: int) -> int:
        put = _PUT.get(type(value))
        if put is None:
            put = next((put for base, put in _PUT.items() if isinstance(value, base)), None)
        if put is None:
            self._refuse(value, name, parent)
        return put(self, value, name, parent)

    def path_of(self, name: int, parent: int) -> Path:
        """Return the path of a value that stands so."""
        steps: list[Step] = []
        names = list(self._steps)
        while parent >= 0:
            steps.append(names[name] if name >= 0 else ELEMENT)
            name, parent = self._names[parent], self._parents[parent]
        return tuple(reversed(steps))

    def _refuse(self, value: Parsed, name: int, parent: int) -> NoReturn:
        raise UsageError(
            f"expected a JSON value, got {in_quotes(value)} ({type(value).__name__}) at "
            f"{show_path(self.path_of(name, parent))}; "
            "turn it into text, a number, a list or a dict first"
        )

    def _refuse_name(self, name: Any, index: int) -> NoReturn:
        raise UsageError(
            f"expected member names to be text, got {in_quotes(name)} ({type(name).__name__}) in "
            f"{show_path(self.path_of(self._names[index], self._parents[index]))}; "
            "turn the keys into str first"
        )

    def finish(self) -> Tape:
        """Return the tape of all that was put."""
        steps = [step.encode() for step in self._steps]
        return Tape(
            bytes(self._kinds),
            self._names.tobytes(),
            self._parents.tobytes(),
            self._values.tobytes(),
            bytes(self._data),
            array("q", map(len, steps)).tobytes(),
            b"".join(steps),
        )


def add_text_origin(tape: Tape, name: Origin, texts: list[str | None]) -> None:
    """Add what is known of the records of a tape, None where it is not."""
    import numpy as np

    from tessaron.core.base.text_lane import TextLane

    rows = [row for row, text in enumerate(texts) if text is not None]
    known = [spell_halves(text) for text in texts if text is not None]
    if known:
        some = {} if len(rows) == len(texts) else {"rows": np.array(rows, np.int32)}
        tape.origins.append(known_of_records(name, len(texts), texts=TextLane.of(known), **some))


def _put_null(builder: TapeBuilder, value: None, name: int, parent: int) -> int:
    return builder.put(Kind.NULL, name, parent)


def _put_boolean(builder: TapeBuilder, value: bool, name: int, parent: int) -> int:
    return builder.put(Kind.BOOLEAN, name, parent, int(value))


def _put_integer(builder: TapeBuilder, value: int, name: int, parent: int) -> int:
    if _INT64_LEAST <= value <= _INT64_MOST:
        return builder.put(Kind.INTEGER, name, parent, int(value))
    return builder.put_text(Kind.LONG_INTEGER, name, parent, _digits(value))


def _digits(value: int) -> str:
    """Return the digits of an integer of any length; `str` refuses those of more than 4,300."""
    return str(decimal.Context(prec=max(1, value.bit_length())).create_decimal(value))


def _put_number_text(builder: TapeBuilder, value: str, name: int, parent: int) -> int:
    kind = Kind.LONG_INTEGER if value.lstrip("-").isdigit() else Kind.FRACTION
    return builder.put_text(kind, name, parent, str(value))


def _put_float(builder: TapeBuilder, value: float, name: int, parent: int) -> int:
    if not math.isfinite(value):
        builder._refuse(value, name, parent)
    return _put_number_text(builder, repr(value), name, parent)


def _put_decimal(builder: TapeBuilder, value: decimal.Decimal, name: int, parent: int) -> int:
    if not value.is_finite():
        builder._refuse(value, name, parent)
    text = str(value)
    if text.isdigit():
        return _put_integer(builder, int(text), name, parent)
    return _put_number_text(builder, text, name, parent)


def _put_text(builder: TapeBuilder, value: str, name: int, parent: int) -> int:
    return builder.put_text(Kind.TEXT, name, parent, value)


def _put_timestamp(builder: TapeBuilder, value: datetime.datetime, name: int, parent: int) -> int:
    return _put_text(builder, value.isoformat(timespec="microseconds"), name, parent)


def _put_date(builder: TapeBuilder, value: datetime.date, name: int, parent: int) -> int:
    return _put_text(builder, value.isoformat(), name, parent)


def _put_uuid(builder: TapeBuilder, value: uuid.UUID, name: int, parent: int) -> int:
    return _put_text(builder, str(value), name, parent)


def _put_object(builder: TapeBuilder, value: Parsed, name: int, parent: int) -> int:
    return builder.put(Kind.OBJECT, name, parent)


def _put_array(builder: TapeBuilder, value: Parsed, name: int, parent: int) -> int:
    return builder.put(Kind.ARRAY, name, parent)


_PUT: Mapping[type, Callable[[TapeBuilder, Any, int, int], int]] = {
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
