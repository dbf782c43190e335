"""Parsing JSONPath (RFC 9535), with its rules of what may be compared and called (section 2.4.3)."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import NoReturn

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.query.jsonpath_functions import FUNCTIONS, Sort
from tessaron.core.query.jsonpath_syntax import (
    All,
    AnyOf,
    ComparisonExpr,
    Condition,
    Exists,
    Filter,
    FunctionCall,
    Index,
    Literal,
    NameSelector,
    Not,
    Operand,
    Query,
    Segment,
    Selector,
    Slice,
    Wildcard,
)

MOST_NESTED = 100
"""The most parentheses, functions and filters in one another."""
_MOST_INTEGER = 2**53 - 1

_LONGEST_SHOWN = 200
"""A longer path is not shown whole where something in it is wrong."""
_SHORTHAND = re.compile(r"[^\x00-@\[-^`{-\x7f\ud800-\udfff][^\x00-/:-@\[-^`{-\x7f\ud800-\udfff]*")
"""A letter, `_` or any character beyond ASCII; then digits too."""
_INTEGER = re.compile(r"0|-?[1-9][0-9]*")
_NUMBER = re.compile(r"(?:-?0|-?[1-9][0-9]*)(\.[0-9]+)?([eE][-+]?[0-9]+)?")
_FUNCTION = re.compile(r"[a-z][a-z0-9_]*(?=\()")
_WORD = re.compile(r"(true|false|null)(?![0-9A-Za-z_])")
_OPERATOR = re.compile(r"==|!=|<=|>=|<|>")
_SPACE = re.compile(r"[ \t\n\r]*")
_HEX = re.compile(r"[0-9A-Fa-f]{4}")
_ESCAPES = {"b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "/": "/", "\\": "\\"}
_WORDS = {"true": True, "false": False, "null": None}


class PathParser:
    """A recursive-descent parser; one for each path.

    Args:
        text: The path.
    """

    def __init__(self, text: str):
        self._text = text
        self._at = 0
        self._depth = 0

    def parse(self) -> tuple[tuple[Segment, ...], tuple[int, ...]]:
        """Return the segments of the path, and where each of them ends.

        Raises:
            UsageError: With the place of the character that cannot stand there.
        """
        if not self._take("$"):
            self._fail("a path that begins with '$', for the document")
        ends: list[int] = []
        segments = self._segments(ends)
        if self._at < len(self._text):
            if self._text[self._at] in " \t\r\n":
                self._fail("nothing behind the path")
            self._fail("'.', '..' or '['")
        return segments, tuple(ends)

    def _segments(self, ends: list[int] | None = None) -> tuple[Segment, ...]:
        segments: list[Segment] = []
        while True:
            before = self._at
            self._skip()
            if self._next() not in (".", "["):
                self._at = before
                return tuple(segments)
            segments.append(self._segment())
            if ends is not None:
                ends.append(self._at)

    def _segment(self) -> Segment:
        if self._take(".."):
            return Segment(self._bracketed() if self._next() == "[" else (self._short(),), descends=True)
        if self._take("."):
            return Segment((self._short(),))
        return Segment(self._bracketed())

    def _short(self) -> Selector:
        if self._take("*"):
            return Wildcard()
        found = _SHORTHAND.match(self._text, self._at)
        if not found:
            self._fail("a name or '*'; a name with other characters stands in brackets, ['so']")
        self._at = found.end()
        return NameSelector(found.group())

    def _bracketed(self) -> tuple[Selector, ...]:
        self._at += 1
        selectors: list[Selector] = []
        while True:
            self._skip()
            selectors.append(self._selector())
            self._skip()
            if self._take("]"):
                return tuple(selectors)
            if not self._take(","):
                self._fail("',' or ']'")

    def _selector(self) -> Selector:
        if self._take("*"):
            return Wildcard()
        if self._take("?"):
            self._skip()
            return Filter(self._condition())
        if self._next() in ("'", '"'):
            return NameSelector(self._quoted())
        start = self._integer()
        before = self._at
        self._skip()
        if self._take(":"):
            return self._slice(start)
        self._at = before
        if start is None:
            self._fail("a quoted name, a number, a slice, a filter ('?') or '*'")
        return Index(start)

    def _slice(self, start: int | None) -> Slice:
        self._skip()
        stop, step = self._integer(), None
        before = self._at
        self._skip()
        if self._take(":"):
            self._skip()
            before_step = self._at
            step = self._integer()
            self._at = self._at if step is not None else before_step
        else:
            self._at = before
        return Slice(start, stop, 1 if step is None else step)

    def _integer(self) -> int | None:
        found = _INTEGER.match(self._text, self._at)
        if found is None:
            return None
        if len(found.group()) > len(str(_MOST_INTEGER)) + 1 or abs(int(found.group())) > _MOST_INTEGER:
            self._fail("an integer of at most 2^53 - 1")
        self._at = found.end()
        if self._next().isascii() and self._next().isdigit():
            self._at = found.start()
            self._fail("an integer without leading zeros")
        return int(found.group())

    def _quoted(self) -> str:
        quote = self._next()
        self._at += 1
        letters: list[str] = []
        while True:
            character = self._next()
            if not character:
                self._fail(f"the closing {quote}")
            if character < " " or _is_surrogate(character):
                self._fail("an escape for such a character, as in JSON")
            self._at += 1
            if character == quote:
                return "".join(letters)
            letters.append(self._escaped(quote) if character == "\\" else character)

    def _escaped(self, quote: str) -> str:
        character = self._next()
        self._at += 1
        if character == quote:
            return quote
        if character == "u":
            return self._unicode()
        if character in _ESCAPES:
            return _ESCAPES[character]
        self._at -= 1
        self._fail("an escape of JSON")

    def _unicode(self) -> str:
        code = self._hex()
        if 0xD800 <= code < 0xDC00 and self._take("\\u"):
            low = self._hex()
            if 0xDC00 <= low < 0xE000:
                return chr(0x10000 + ((code - 0xD800) << 10) + (low - 0xDC00))
            self._at -= 4
            self._fail("the second half of a surrogate pair")
        if 0xD800 <= code < 0xE000:
            self._at -= 4
            self._fail("a character, not one half of a surrogate pair")
        return chr(code)

    def _hex(self) -> int:
        found = _HEX.match(self._text, self._at)
        if not found:
            self._fail("four hexadecimal digits")
        self._at = found.end()
        return int(found.group(), 16)

    def _condition(self) -> Condition:
        """Read conditions joined by `||` and, binding closer, `&&` (section 2.3.5.1)."""
        self._depth += 1
        if self._depth > MOST_NESTED:
            self._fail(f"at most {MOST_NESTED} parentheses, functions and filters in one another")
        either = [self._conjunction()]
        while self._take_after_space("||"):
            self._skip()
            either.append(self._conjunction())
        self._depth -= 1
        return either[0] if len(either) == 1 else AnyOf(tuple(either))

    def _conjunction(self) -> Condition:
        both = [self._basic()]
        while self._take_after_space("&&"):
            self._skip()
            both.append(self._basic())
        return both[0] if len(both) == 1 else All(tuple(both))

    def _basic(self) -> Condition:
        if self._next() == "!":
            self._at += 1
            self._skip()
            if self._next() == "(":
                return Not(self._parenthesised())
            return Not(self._test(self._operand(), None))
        if self._next() == "(":
            return self._parenthesised()
        start = self._at
        left = self._operand()
        before = self._at
        self._skip()
        found = _OPERATOR.match(self._text, self._at)
        if found is None:
            self._at = before
            return self._test(left, start)
        self._check_comparable(left, start)
        self._at = found.end()
        self._skip()
        start = self._at
        right = self._operand()
        self._check_comparable(right, start)
        return ComparisonExpr(left, found.group(), right)

    def _parenthesised(self) -> Condition:
        self._at += 1
        self._skip()
        condition = self._condition()
        self._skip()
        if not self._take(")"):
            self._fail("')', or '&&', '||' or a comparison before it")
        return condition

    def _test(self, operand: Operand, start: int | None) -> Condition:
        at = self._at if start is None else start
        if isinstance(operand, Literal):
            self._fail_at(at, "a comparison: a constant alone is no condition")
        if isinstance(operand, FunctionCall) and FUNCTIONS[operand.name].gives is Sort.VALUE:
            self._fail_at(at, f"a comparison: {operand.name}() gives a value, which is no condition")
        return Exists(operand)

    def _check_comparable(self, operand: Operand, start: int) -> None:
        if isinstance(operand, Query) and not operand.is_singular():
            self._fail_at(start, "a path to one value at most; value(path) or count(path) can be compared")
        if isinstance(operand, FunctionCall) and FUNCTIONS[operand.name].gives is not Sort.VALUE:
            self._fail_at(start, f"a value: {operand.name}() gives true or false already, without comparison")

    def _operand(self) -> Operand:
        character = self._next()
        if character in ("@", "$") and character:
            self._at += 1
            return Query(self._segments(), character == "$")
        if character in ("'", '"') and character:
            return Literal(self._quoted())
        word = _WORD.match(self._text, self._at)
        if word:
            self._at = word.end()
            return Literal(_WORDS[word.group()])
        number = _NUMBER.match(self._text, self._at)
        if number:
            self._at = number.end()
            if self._next().isascii() and self._next().isdigit():
                self._fail_at(number.start(), "a number without leading zeros")
            whole = number.group(1) is None and number.group(2) is None
            return Literal(int(number.group()) if whole else Decimal(number.group()))
        called = _FUNCTION.match(self._text, self._at)
        if called:
            return self._call(called.group())
        self._fail("'@', '$', a constant or a function")

    def _call(self, name: str) -> FunctionCall:
        start = self._at
        function = FUNCTIONS.get(name)
        if function is None:
            self._fail(f"one of the functions {', '.join(FUNCTIONS)}")
        self._at += len(name) + 1
        self._depth += 1
        if self._depth > MOST_NESTED:
            self._fail(f"at most {MOST_NESTED} parentheses, functions and filters in one another")
        arguments: list[Operand] = []
        self._skip()
        while not self._take(")"):
            if arguments and not self._take(","):
                self._fail("',' or ')'")
            self._skip()
            if len(arguments) == len(function.takes):
                self._fail_count(start, name)
            arguments.append(self._argument(name, function.takes[len(arguments)]))
            self._skip()
        if len(arguments) != len(function.takes):
            self._fail_count(start, name)
        self._depth -= 1
        return FunctionCall(name, tuple(arguments))

    def _argument(self, name: str, sort: Sort) -> Operand:
        start = self._at
        operand = self._operand()
        if sort is Sort.NODES and not isinstance(operand, Query):
            self._fail_at(start, f"a path, as {name}() takes")
        if sort is Sort.VALUE:
            self._check_comparable(operand, start)
        return operand

    def _fail_count(self, at: int, name: str) -> NoReturn:
        takes = FUNCTIONS[name].takes
        what = " and ".join(sort.value for sort in takes)
        self._fail_at(at, f"{len(takes)} argument{'s' * (len(takes) > 1)} in {name}(): {what}")

    def _next(self) -> str:
        return self._text[self._at : self._at + 1]

    def _take(self, mark: str) -> bool:
        taken = self._text.startswith(mark, self._at)
        self._at += len(mark) * taken
        return taken

    def _take_after_space(self, mark: str) -> bool:
        before = self._at
        self._skip()
        taken = self._take(mark)
        if not taken:
            self._at = before
        return taken

    def _skip(self) -> None:
        found = _SPACE.match(self._text, self._at)
        assert found is not None
        self._at = found.end()

    def _fail_at(self, at: int, expected: str) -> NoReturn:
        self._at = at
        self._fail(expected)

    def _fail(self, expected: str) -> NoReturn:
        found = self._next()
        got = f"found {in_quotes(found)}" if found else "but it ends"
        is_short = len(self._text) <= _LONGEST_SHOWN and self._text.isprintable()
        pointer = f"\n  {self._text}\n  {' ' * self._at}^" if is_short else ""
        raise UsageError(
            f"path {in_quotes(self._text, self._at)}, character {self._at + 1}: expected "
            f"{expected}, {got}{pointer}"
        )


def _is_surrogate(character: str) -> bool:
    return "\ud800" <= character <= "\udfff"
