"""The JSON kernel in Python: the readable reference, built on `json` of the standard library."""

from __future__ import annotations

import json
import re
from dataclasses import replace
from typing import Any, NoReturn

from tessaron.core.fragment import Fault, Fragment
from tessaron.core.kernel.careful_json import FaultError, decode, number, parse_carefully
from tessaron.core.kernel.contract import Separator
from tessaron.core.kernel.growing import FragmentBuilder, NumberText, Pairs

_SPACE = re.compile(r"[ \t\n\r]*")
_BAD_BYTE = re.compile("[\udc80-\udcff]")
_GLUED = re.compile(r"[0-9A-Za-z][0-9A-Za-z+._-]")
"""Two values without anything between them, as in `01` or `truefalse`."""


def _refuse_constant(word: str) -> NoReturn:
    raise ValueError(word)


_DECODER = json.JSONDecoder(
    object_pairs_hook=Pairs, parse_float=NumberText, parse_int=number, parse_constant=_refuse_constant
)


def read_json(data: bytes, separator: Separator, continues: bool = False) -> Fragment:
    """Return the fragment of the JSON texts in `data`; see `contract.Kernel`."""
    return _Reading(data, separator, continues).read()


class _Reading:
    """One call of the kernel: where it stands in the text, what it has collected."""

    def __init__(self, data: bytes, separator: Separator, continues: bool):
        self.text = decode(data)
        self.suspect = not data.isascii() and _BAD_BYTE.search(self.text) is not None
        self.separator = separator
        self.at = 0
        self.comma_due = separator is Separator.COMMA and continues
        self.builder = FragmentBuilder()
        self.faults: list[Fault] = []

    def read(self) -> Fragment:
        while self._another():
            start = self.at
            try:
                self.builder.add(self._record())
            except FaultError as error:
                self.faults.append(self._in_bytes(error.fault))
                if self.separator is not Separator.LINE:
                    break
                self.at = self._line_end(start)
        fragment = self.builder.finish()
        fragment.faults = self.faults
        return fragment

    def _another(self) -> bool:
        """Say whether a record is to come; in a chunk that goes on, a comma always announces one."""
        self._skip()
        return self.at < len(self.text) or (self.comma_due and self.builder.record_count == 0)

    def _record(self) -> Any:
        if self.separator is Separator.COMMA:
            self._pass_comma()
        start = self.at
        try:
            value, self.at = _DECODER.raw_decode(self.text, start)
        except (ValueError, RecursionError):
            return self._record_carefully(start)
        if self._doubtful(start):
            return self._record_carefully(start)
        return value

    def _doubtful(self, start: int) -> bool:
        """Say whether the fast decoder may have let something pass that is not allowed."""
        glued = bool(_GLUED.match(self.text, self.at - 1))
        broken_line = self.separator is Separator.LINE and self.text.find("\n", start, self.at) >= 0
        return glued or broken_line or (self.suspect and bool(_BAD_BYTE.search(self.text, start, self.at)))

    def _record_carefully(self, start: int) -> Any:
        if self.separator is not Separator.LINE:
            value, self.at = parse_carefully(self.text, start)
            return value
        line = self.text[start : self._line_end(start)]
        try:
            value, length = parse_carefully(line, 0, "line")
        except FaultError as error:
            raise FaultError(replace(error.fault, byte_offset=start + error.fault.byte_offset)) from None
        self.at = start + length
        return value

    def _pass_comma(self) -> None:
        if self.comma_due:
            if self.text[self.at : self.at + 1] != ",":
                self._fail("expected ',' between two elements of the array")
            self.at += 1
            self._skip()
        if self.at >= len(self.text) or self.text[self.at] == ",":
            self._fail("expected a value between two commas or before the end of the array")
        self.comma_due = True

    def _fail(self, reason: str) -> NoReturn:
        found = self.text[self.at : self.at + 1]
        raise FaultError(Fault("syntax", self.at, f"{reason}, found {found!r}" if found else reason))

    def _skip(self) -> None:
        match = _SPACE.match(self.text, self.at)
        assert match is not None
        self.at = match.end()

    def _line_end(self, start: int) -> int:
        end = self.text.find("\n", start)
        return len(self.text) if end < 0 else end

    def _in_bytes(self, fault: Fault) -> Fault:
        before = self.text[: fault.byte_offset].encode("utf-8", "surrogateescape")
        record = self.builder.record_count + len(self.faults)
        return replace(fault, byte_offset=len(before), record=record)
