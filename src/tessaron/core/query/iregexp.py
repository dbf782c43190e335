"""Regular expressions of I-Regexp (RFC 9485), matched in time linear in the text whatever the pattern.

A pattern becomes a nondeterministic automaton, whose sets of states are made deterministic as texts ask for
them; there is no backtracking.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes

MOST_STATES = 20_000
"""The largest automaton made for a pattern; repetition counts multiply it."""
_DEEPEST = 100
_SETS_KEPT = 2_000
_CATEGORY = re.compile(r"\{(L[lmotu]?|M[cen]?|N[dlo]?|P[cdefios]?|Z[lps]?|S[ckmo]?|C[cfno]?)\}")
_QUANTITY = re.compile(r"\{(\d+)(?:(,)(\d*))?\}")
_ESCAPED = {character: character for character in "()*+-.?[\\]^{|}"} | {"n": "\n", "r": "\r", "t": "\t"}

Test = Callable[[str], bool]
"""Says whether a character belongs to a class."""


class _State:
    """A state: it reads one character that passes `test`, or (without a test) goes on to all of `after`."""

    __slots__ = ("after", "test")

    def __init__(self, test: Test | None, after: list[_State]):
        self.test = test
        self.after = after


@dataclass(slots=True)
class _Piece:
    """A part of the pattern; `build` returns the state that begins it, given the one to go on with."""

    build: Callable[[_State], _State]
    size: int = 1


@dataclass(slots=True)
class IRegexp:
    """A pattern, ready to match.

    Attributes:
        pattern: As it was written.
    """

    pattern: str
    _whole: _Automaton
    _part: _Automaton

    def matches(self, text: str) -> bool:
        """Say whether the pattern describes all of `text`."""
        return self._whole.accepts(text)

    def occurs_in(self, text: str) -> bool:
        """Say whether the pattern describes some part of `text`."""
        return self._part.accepts(text)


@lru_cache(maxsize=200)
def parse_iregexp(pattern: str) -> IRegexp | None:
    """Return the pattern ready to match; None when it is no I-Regexp.

    Raises:
        UsageError: When its automaton would be too large, or it is nested too deep.
    """
    try:
        piece = _PatternParser(pattern).parse()
    except _NoPatternError:
        return None
    if piece.size > MOST_STATES:
        raise UsageError(
            f"the pattern {in_quotes(pattern)} needs {piece.size:,} states; {MOST_STATES:,} is the limit: "
            "make its repetition counts smaller"
        )
    end = _State(None, [])
    start = piece.build(end)
    return IRegexp(pattern, _Automaton(start, end, anywhere=False), _Automaton(start, end, anywhere=True))


@dataclass(slots=True, eq=False)
class _Set:
    """A set of states that the automaton can be in at once."""

    states: tuple[_State, ...]
    accepts: bool
    moves: dict[str, _Set] = field(default_factory=dict)


class _Automaton:
    def __init__(self, start: _State, end: _State, anywhere: bool):
        self._start, self._end, self._anywhere = start, end, anywhere
        self._sets: dict[frozenset[int], _Set] = {}
        self._first = self._set_of([start])

    def accepts(self, text: str) -> bool:
        here = self._first
        if self._anywhere and here.accepts:
            return True
        for character in text:
            if not here.states and not self._anywhere:
                return False
            here = here.moves.get(character) or self._move(here, character)
            if self._anywhere and here.accepts:
                return True
        return here.accepts

    def _move(self, here: _Set, character: str) -> _Set:
        reached = [
            after
            for state in here.states
            if state.test is not None and state.test(character)
            for after in state.after
        ]
        if self._anywhere:
            reached.append(self._start)
        found = here.moves[character] = self._set_of(reached)
        return found

    def _set_of(self, states: list[_State]) -> _Set:
        closed: dict[int, _State] = {}
        pending = states
        while pending:
            state = pending.pop()
            if id(state) not in closed:
                closed[id(state)] = state
                if state.test is None:
                    pending.extend(state.after)
        key = frozenset(closed)
        found = self._sets.get(key)
        if found is None:
            if len(self._sets) >= _SETS_KEPT:
                self._forget()
            found = self._sets[key] = _Set(
                tuple(state for state in closed.values() if state.test is not None), id(self._end) in closed
            )
        return found

    def _forget(self) -> None:
        for kept in self._sets.values():
            kept.moves.clear()
        self._sets.clear()


class _NoPatternError(Exception):
    """The text is no I-Regexp."""


class _PatternParser:
    """A recursive-descent parser for the grammar of RFC 9485, figure 1."""

    def __init__(self, pattern: str):
        self._text = pattern
        self._at = 0
        self._depth = 0

    def parse(self) -> _Piece:
        piece = self._alternatives()
        if self._at < len(self._text):
            raise _NoPatternError
        return piece

    def _alternatives(self) -> _Piece:
        self._depth += 1
        if self._depth > _DEEPEST:
            raise UsageError(f"a pattern with more than {_DEEPEST} parentheses in one another")
        branches = [self._branch()]
        while self._take("|"):
            branches.append(self._branch())
        self._depth -= 1
        if len(branches) == 1:
            return branches[0]
        return _Piece(
            lambda after: _State(None, [branch.build(after) for branch in branches]),
            1 + sum(branch.size for branch in branches),
        )

    def _branch(self) -> _Piece:
        pieces: list[_Piece] = []
        while self._at < len(self._text) and self._text[self._at] not in "|)":
            pieces.append(self._quantified(self._atom()))

        def build(after: _State) -> _State:
            for piece in reversed(pieces):
                after = piece.build(after)
            return after

        return _Piece(build, sum(piece.size for piece in pieces))

    def _quantified(self, piece: _Piece) -> _Piece:
        for mark, (least, most) in {"*": (0, None), "+": (1, None), "?": (0, 1)}.items():
            if self._take(mark):
                return _repeated(piece, least, most)
        if self._text[self._at : self._at + 1] != "{":
            return piece
        found = _QUANTITY.match(self._text, self._at)
        if found is None:
            raise _NoPatternError
        self._at = found.end()
        if max(len(found.group(1)), len(found.group(3) or "")) > len(str(MOST_STATES)):
            raise UsageError(f"a repetition count in a pattern above the limit of {MOST_STATES:,}")
        least = int(found.group(1))
        most = least if not found.group(2) else int(found.group(3)) if found.group(3) else None
        if most is not None and most < least:
            raise _NoPatternError
        return _repeated(piece, least, most)

    def _atom(self) -> _Piece:
        character = self._text[self._at]
        if character == "(":
            self._at += 1
            piece = self._alternatives()
            if not self._take(")"):
                raise _NoPatternError
            return piece
        if character == "[":
            return _one(self._bracketed())
        self._at += 1
        if character == ".":
            return _one(lambda found: found not in "\n\r")
        if character == "\\":
            return _one(self._escape())
        if character in ")*+?]{|}" or _is_surrogate(character):
            raise _NoPatternError
        return _one(character.__eq__)

    def _escape(self) -> Test:
        """Read what stands behind a backslash."""
        character = self._text[self._at : self._at + 1]
        self._at += 1
        if character in ("p", "P"):
            found = _CATEGORY.match(self._text, self._at)
            if found is None:
                raise _NoPatternError
            self._at = found.end()
            category = found.group(1)
            if character == "p":
                return lambda found: unicodedata.category(found).startswith(category)
            return lambda found: not unicodedata.category(found).startswith(category)
        if character not in _ESCAPED:
            raise _NoPatternError
        return _ESCAPED[character].__eq__

    def _bracketed(self) -> Test:
        self._at += 1
        negated = self._take("^")
        tests: list[Test] = []
        if self._take("-"):
            tests.append("-".__eq__)
        while not self._take("]"):
            if self._text.startswith("-]", self._at) and tests:
                self._at += 1
                tests.append("-".__eq__)
            else:
                tests.append(self._class_part())
        if not tests:
            raise _NoPatternError
        if negated:
            return lambda character: not any(test(character) for test in tests)
        return lambda character: any(test(character) for test in tests)

    def _class_part(self) -> Test:
        if self._text[self._at : self._at + 2] in ("\\p", "\\P"):
            self._at += 1
            return self._escape()
        first = self._class_character()
        if self._text[self._at : self._at + 1] != "-" or self._text.startswith("-]", self._at):
            return first.__eq__
        self._at += 1
        last = self._class_character()
        if last < first:
            raise _NoPatternError
        return lambda character: first <= character <= last

    def _class_character(self) -> str:
        character = self._text[self._at : self._at + 1]
        self._at += 1
        if character == "\\":
            character = self._text[self._at : self._at + 1]
            self._at += 1
            if character not in _ESCAPED:
                raise _NoPatternError
            return _ESCAPED[character]
        if not character or character in "-[]" or _is_surrogate(character):
            raise _NoPatternError
        return character

    def _take(self, mark: str) -> bool:
        taken = self._text.startswith(mark, self._at)
        self._at += taken
        return taken


def _is_surrogate(character: str) -> bool:
    return "\ud800" <= character <= "\udfff"


def _one(test: Test) -> _Piece:
    return _Piece(lambda after: _State(test, [after]))


def _repeated(piece: _Piece, least: int, most: int | None) -> _Piece:
    """Return the piece `least` to `most` times; without end if `most` is None."""

    def build(after: _State) -> _State:
        if most is None:
            again = _State(None, [after])
            again.after.append(piece.build(again))
            here = again
        else:
            here = after
            for _ in range(most - least):
                here = _State(None, [piece.build(here), after])
        for _ in range(least):
            here = piece.build(here)
        return here

    return _Piece(build, (piece.size + 1) * (least + 1 if most is None else max(most, 1)))
