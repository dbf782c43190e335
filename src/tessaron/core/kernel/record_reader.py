"""Walking over the JSON texts of a chunk in Python: where each record stands, its value, or its fault."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any, NoReturn

from tessaron.core.base.errors import Code
from tessaron.core.base.faults import Fault
from tessaron.core.base.parsed_values import NumberText, Pairs, Parsed
from tessaron.core.base.paths import Path, format_path
from tessaron.core.base.visible import in_quotes
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel.careful_json import FaultError, decode, number, parse_carefully
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.kernel.repeated_names import drop_repeated

_SPACE = re.compile(r"[ \t\n\r]*")
_BLANK = re.compile(r"[ \t\r]*")
_BAD_BYTE = re.compile("[\udc80-\udcff]")
_GLUED = re.compile(r"[0-9A-Za-z][0-9A-Za-z+._\u0080-\U0010ffff-]")
"""Two values without anything between them, as in `01` or `truefalse`."""
_TO_RECORD_END = re.compile(r'"(?:[^"\\]|\\.)*"|[{}\[\]]', re.DOTALL)


_STARTS = frozenset(("", "\n", *'{["-0123456789tfn'))
"""What a JSON text begins with, or the end of the line."""


def _refuse_constant(word: str) -> NoReturn:
    raise ValueError(word)


class _RepeatedNameError(Exception):
    """An object has a name twice."""


def _plain_object(pairs: list[tuple[str, Parsed]]) -> dict[str, Parsed]:
    members = dict(pairs)
    if len(members) < len(pairs):
        raise _RepeatedNameError
    return members


_NEGATIVE_ZERO = re.compile(rb"-0(?![0-9.eE])")
_DIGITS_AS_ZERO = bytes.maketrans(b"123456789", b"0" * 9)
_SAFE_DIGITS = 18
"""Every integer of so many digits fits 64 bits."""


def _may_have_odd_integers(data: bytes) -> bool:
    """Say whether some integer may have to be kept as its digits: `-0`, or beyond 64 bits."""
    long = b"0" * (_SAFE_DIGITS + 1) in data.translate(_DIGITS_AS_ZERO)
    return long or (b"-0" in data and _NEGATIVE_ZERO.search(data) is not None)


def _decoder(objects: Parsed, integers: Parsed) -> json.JSONDecoder:
    return json.JSONDecoder(
        object_pairs_hook=objects,
        parse_float=NumberText,
        parse_int=integers,
        parse_constant=_refuse_constant,
    )


_DECODER_WITH_REPEATED = _decoder(Pairs, number)


@dataclass(frozen=True, slots=True)
class Record:
    """One record that could be read.

    Attributes:
        value: Objects as dicts or `Pairs`, arrays as lists, other numbers than 64-bit integers as
            `NumberText`.
        byte_offset: Where it begins in the chunk, in bytes from 0.
        repeated: Path and earlier value of each name that stood twice in an object.
    """

    value: Any
    byte_offset: int
    repeated: tuple[tuple[Path, Any], ...] = ()


class RecordReader:
    """Iterates over the records of a chunk, in order; collects the faults of the others.

    Attributes:
        faults: The faults met so far.
    """

    def __init__(self, data: bytes, separator: Separator, continues: bool, options: KernelOptions):
        self.faults: list[Fault] = []
        self._text = decode(data)
        self._suspect = not data.isascii() and _BAD_BYTE.search(self._text) is not None
        self._ascii = data.isascii()
        self._decoder = _decoder(_plain_object, number if _may_have_odd_integers(data) else int)
        self._separator = separator
        self._options = options
        self._at = 0
        self._record_start = 0
        self._comma_due = separator is Separator.COMMA and continues
        self._passed = 0
        self._known = (0, 0)

    def __iter__(self) -> Iterator[Record]:
        while self._another():
            start = self._at
            try:
                record = self._record()
            except FaultError as error:
                goes_on = self._go_on(start, error.fault)
                self._keep_fault(error.fault, goes_on)
                if not goes_on:
                    return
            else:
                yield record
            self._passed += 1

    def _another(self) -> bool:
        """Say whether a record is to come; in a chunk that goes on, a comma always announces one."""
        self._skip()
        return self._at < len(self._text) or (self._comma_due and self._passed == 0)

    def _record(self) -> Record:
        if self._separator is Separator.COMMA:
            self._pass_comma()
        start = self._record_start = self._at
        try:
            value, self._at = self._decode(start)
            doubtful = self._doubtful(start)
        except (ValueError, RecursionError):
            doubtful = True
        if doubtful:
            value = self._record_carefully(start)
        if self._separator is Separator.LINE:
            self._check_line_end()
        value, repeated = (value, ()) if isinstance(value, dict) else drop_repeated(value)
        if repeated and self._options.reject_repeated:
            path = repeated[0][0]
            reason = f"the name stands twice in its object: {format_path(path)}; expected names to be unique"
            raise FaultError(Fault(Code.REPEATED_NAME, start, reason, path))
        return Record(value, self._in_bytes(start), repeated)

    def _decode(self, start: int) -> tuple[Parsed, int]:
        try:
            return self._decoder.raw_decode(self._text, start)
        except _RepeatedNameError:
            return _DECODER_WITH_REPEATED.raw_decode(self._text, start)

    def _doubtful(self, start: int) -> bool:
        """Say whether the fast decoder may have let something pass that is not allowed."""
        if _GLUED.match(self._text, self._at - 1) or self._too_deep(start):
            return True
        if self._separator is Separator.LINE and self._text.find("\n", start, self._at) >= 0:
            return True
        return self._suspect and bool(_BAD_BYTE.search(self._text, start, self._at))

    def _too_deep(self, start: int) -> bool:
        limit = self._options.depth_limit
        brackets = self._text.count("[", start, self._at) + self._text.count("{", start, self._at)
        if brackets <= limit:
            return False
        from tessaron.core.cutting.block_scan import nesting_depth

        return nesting_depth(self._text[start : self._at].encode("utf-8", "replace")) > limit

    def _record_carefully(self, start: int) -> Parsed:
        limit = self._options.depth_limit
        if self._separator is not Separator.LINE:
            value, self._at = parse_carefully(self._text, start, depth_limit=limit)
            return value
        line = self._text[start : self._line_end(start)]
        try:
            value, length = parse_carefully(line, 0, "line", limit)
        except FaultError as error:
            raise FaultError(replace(error.fault, byte_offset=start + error.fault.byte_offset)) from None
        self._at = start + length
        return value

    def _check_line_end(self) -> None:
        """Check that what follows a record on its line could be another."""
        match = _BLANK.match(self._text, self._at)
        assert match is not None
        if self._text[match.end() : match.end() + 1] not in _STARTS:
            self._at = match.end()
            self._fail("expected the end of the line")

    def _pass_comma(self) -> None:
        if self._comma_due:
            if self._text[self._at : self._at + 1] != ",":
                self._fail("expected ',' between two elements of the array")
            self._at += 1
            self._skip()
        if self._at >= len(self._text) or self._text[self._at] == ",":
            self._fail("expected a value between two commas or before the end of the array")
        self._comma_due = True

    def _fail(self, reason: str) -> NoReturn:
        found = self._text[self._at : self._at + 1]
        raise FaultError(
            Fault(Code.SYNTAX, self._at, f"{reason}, found {in_quotes(found)}" if found else reason)
        )

    def _skip(self) -> None:
        match = _SPACE.match(self._text, self._at)
        assert match is not None
        self._at = match.end()

    def _go_on(self, start: int, fault: Fault) -> bool:
        """Go to where the next record can be; say whether there is such a place."""
        if fault.code is Code.REPEATED_NAME:
            return True
        if self._separator is Separator.LINE:
            self._at = self._line_end(start)
            return True
        if fault.code in (Code.DEPTH, Code.ENCODING):
            self._at = self._record_end(self._record_start)
            return True
        return False

    def _record_end(self, start: int) -> int:
        depth = 0
        for match in _TO_RECORD_END.finditer(self._text, start):
            depth += (match.group() in "{[") - (match.group() in "}]")
            if depth == 0:
                return match.end()
        return len(self._text)

    def _line_end(self, start: int) -> int:
        end = self._text.find("\n", start)
        return len(self._text) if end < 0 else end

    def _keep_fault(self, fault: Fault, goes_on: bool) -> None:
        start = self._in_bytes(self._record_start)
        byte_offset = self._in_bytes(fault.byte_offset)
        stop = self._in_bytes(self._at if goes_on else len(self._text))
        kept = replace(
            fault, byte_offset=byte_offset, record=self._passed, start=start, stop=stop, is_end=not goes_on
        )
        self.faults.append(kept)

    def _in_bytes(self, at: int) -> int:
        """Return the byte offset of the character at `at`; asked in rising order it is quick."""
        if self._ascii:
            return at
        characters, byte_count = self._known if self._known[0] <= at else (0, 0)
        byte_count += len(self._text[characters:at].encode("utf-8", "surrogateescape"))
        self._known = (at, byte_count)
        return byte_count
