"""A strict JSON parser (RFC 8259) without recursion that says exactly what is wrong, and where.

It is slower than the fast way and only used for a record that the fast way refuses: to find the fault, or
because the record is nested deeper than the fast way goes.
"""

from __future__ import annotations

import json
import re
from typing import Any, NoReturn

from tessaron.core.base.errors import Code
from tessaron.core.base.faults import Fault
from tessaron.core.base.parsed_values import NumberText, Pairs, Parsed
from tessaron.core.base.paths import ELEMENT, Path
from tessaron.core.base.visible import in_quotes
from tessaron.core.kernel.contract import DEPTH_LIMIT

_SPACE = re.compile(r"[ \t\n\r]*")
_STRING = re.compile(r'"(?:[^"\\\x00-\x1f]|\\(?:["\\/bfnrt]|u[0-9A-Fa-f]{4}))*"')
_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]*)(\.[0-9]+)?([eE][-+]?[0-9]+)?")
_WORDS = {"true": True, "false": False, "null": None}
_WORD = re.compile(r"[A-Za-z_+\-][A-Za-z_]*")
_BAD_BYTE = re.compile("[\udc80-\udcff]")


class FaultError(Exception):
    """Carries a `Fault` out of the parser."""

    def __init__(self, fault: Fault):
        super().__init__(fault.reason)
        self.fault = fault


def decode(data: bytes) -> str:
    """Return `data` as text; a byte that is not UTF-8 becomes a lone low surrogate, to be refused later."""
    return data.decode("utf-8", "surrogateescape")


def parse_carefully(
    text: str, start: int, whole: str = "input", depth_limit: int = DEPTH_LIMIT
) -> tuple[Parsed, int]:
    """Return the JSON value that begins at `text[start]` and the index after it.

    Objects come as `Pairs`, arrays as lists, numbers other than 64-bit integers as `NumberText`.
    `whole` says in messages what `text` is.

    Raises:
        FaultError: With the place in characters, the path, and what was expected.
    """
    return _Parser(text, start, whole, depth_limit).parse()


class _Parser:
    """One pass over one value. `open` is the stack of containers being filled."""

    def __init__(self, text: str, start: int, whole: str, depth_limit: int):
        self.depth_limit = depth_limit
        self.text = text
        self.whole = whole
        self.at = start
        self.open: list[list[Any]] = []
        self.names: list[str | None] = []

    def parse(self) -> tuple[Parsed, int]:
        while True:
            value = self._value()
            if value is _OPENED:
                continue
            while self.open:
                more, value = self._place(value)
                if more:
                    break
            else:
                return value, self.at

    def _value(self) -> Parsed:
        """Read a scalar or an empty container, or open a container (then return `_OPENED`)."""
        self._skip()
        character = self.text[self.at : self.at + 1]
        if character == "{":
            return self._open_object()
        if character == "[":
            self.at += 1
            self._skip()
            if self.text[self.at : self.at + 1] == "]":
                self.at += 1
                return []
            return self._push(None)
        if character == '"':
            return self._string()
        return self._number_or_word(character)

    def _open_object(self) -> Parsed:
        self.at += 1
        self._skip()
        if self.text[self.at : self.at + 1] == "}":
            self.at += 1
            return Pairs()
        opened = self._push(_UNNAMED)
        self._read_name()
        return opened

    def _push(self, name: str | None) -> Parsed:
        if len(self.open) >= self.depth_limit:
            self._fail(
                Code.DEPTH,
                f"nested deeper than {self.depth_limit:,} levels; split the document before reading it",
            )
        self.open.append([])
        self.names.append(name)
        return _OPENED

    def _read_name(self) -> None:
        """Read the name of the next member; a fault in it is one of the object, not of the member before."""
        self.names[-1] = _UNNAMED
        self._skip()
        if self.text[self.at : self.at + 1] != '"':
            self._fail_expecting('a member name in "quotes"')
        self.names[-1] = self._string()
        self._skip()
        if self.text[self.at : self.at + 1] != ":":
            self._fail_expecting("':' after the member name")
        self.at += 1

    def _place(self, value: Parsed) -> tuple[bool, Parsed]:
        """Put `value` into the innermost container; return (more to come, the container if it closed)."""
        container, name = self.open[-1], self.names[-1]
        container.append(value if name is None else (name, value))
        self._skip()
        character = self.text[self.at : self.at + 1]
        if character == ",":
            self.at += 1
            if name is not None:
                self._read_name()
            return True, None
        if character != ("]" if name is None else "}"):
            self._fail_expecting("',' or ']' in the array" if name is None else "',' or '}' in the object")
        self.at += 1
        self.open.pop()
        self.names.pop()
        return False, container if name is None else Pairs(container)

    def _string(self) -> str:
        match = _STRING.match(self.text, self.at)
        if match is None:
            self._fail_in_string()
        bad = _BAD_BYTE.search(match.group())
        if bad:
            self.at += bad.start()
            self._fail_bad_byte()
        self.at = match.end()
        return str(json.loads(match.group()))

    def _fail_in_string(self) -> NoReturn:
        at = self.at + 1
        while True:
            match = re.compile(r'[^"\\\x00-\x1f]*').match(self.text, at)
            at = match.end() if match else at
            character = self.text[at : at + 1]
            if character == "\\" and re.compile(r'\\(?:["\\/bfnrt]|u[0-9A-Fa-f]{4})').match(self.text, at):
                at += 2
                continue
            break
        self.at = at
        if not character:
            self._fail(Code.TRUNCATED, f"the {self.whole} ends inside a text; expected its closing quote")
        if character == "\\":
            self._fail(
                Code.ESCAPE,
                f"{in_quotes(self.text[at : at + 6])} is not an escape of JSON; write a backslash as \\\\",
            )
        self._fail(
            Code.CONTROL,
            f"the control character {in_quotes(character)} must be written as an escape inside a text",
        )

    def _number_or_word(self, character: str) -> Parsed:
        match = _NUMBER.match(self.text, self.at)
        if match:
            return self._number(match)
        match = _WORD.match(self.text, self.at)
        word = match.group() if match else character
        if word in _WORDS:
            self.at += len(word)
            return _WORDS[word]
        if word.lstrip("+-").lower() in ("nan", "infinity", "inf"):
            self._fail(
                Code.NOT_A_NUMBER,
                f"{word} is not a number in JSON (RFC 8259); write null or a number instead",
            )
        self._fail_expecting("a value")

    def _number(self, match: re.Match[str]) -> Parsed:
        self.at = match.end()
        after = self.text[self.at : self.at + 1]
        if after and (after.isalnum() or after in "+-._"):
            self._fail_expecting("the number to end")
        return number(match.group())

    def _skip(self) -> None:
        match = _SPACE.match(self.text, self.at)
        assert match is not None
        self.at = match.end()

    def _fail_expecting(self, expected: str) -> NoReturn:
        found = self.text[self.at : self.at + 1]
        if not found:
            self._fail(Code.TRUNCATED, f"the {self.whole} ends here; expected {expected}")
        if _BAD_BYTE.match(found):
            self._fail_bad_byte()
        match = re.compile(r"[^\s,:{}\[\]\"]{1,20}").match(self.text, self.at)
        self._fail(Code.SYNTAX, f"expected {expected}, found {in_quotes(match.group() if match else found)}")

    def _fail_bad_byte(self) -> NoReturn:
        byte = ord(self.text[self.at]) - 0xDC00
        self._fail(Code.ENCODING, f"byte 0x{byte:02X} is not UTF-8; save the source as UTF-8")

    def _fail(self, code: Code, reason: str) -> NoReturn:
        path: Path = tuple(
            ELEMENT if name is None else name
            for name in self.names[: 50 if code is Code.DEPTH else None]
            if name is not _UNNAMED
        )
        raise FaultError(Fault(code, self.at, reason, path))


def number(text: str) -> int | NumberText:
    """Return a number of JSON: an int when 64 bits hold it and it gives back its text, else its text."""
    if len(text) < 19 and "." not in text and "e" not in text and "E" not in text and text != "-0":
        return int(text)
    try:
        value = int(text) if len(text) <= 20 else None
    except ValueError:
        return NumberText(text)
    return value if value is not None and -(2**63) <= value < 2**63 and text != "-0" else NumberText(text)


class _Unnamed(str):
    """A type of its own, as a member may be named with an empty text, too."""


_UNNAMED = _Unnamed()
"""Stands for the name of a member that is still to be read."""
_OPENED = object()
"""Says that a container was opened and its first value comes next."""
