"""Cutting an expression into words, numbers, texts and signs."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from tessaron.core.base.visible import in_quotes
from tessaron.core.expressions.expression_faults import ExpressionError

TokenKind = Literal["name", "quoted", "number", "text", "sign", "end"]

_TOKEN = re.compile(
    r"""(?P<space>\s+)
    | (?P<number>(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)(?:[eE][+-]?[0-9]+)?)
    | (?P<text>'(?:[^']|'')*')
    | (?P<quoted>"(?:[^"]|"")+")
    | (?P<name>[^\W\d]\w*)
    | (?P<sign>\|\||==|!=|<>|<=|>=|[-+*/%()=<>,.])""",
    re.VERBOSE,
)


@dataclass(frozen=True, slots=True)
class Token:
    """One token: its kind, its text without quotes, and its place."""

    kind: TokenKind
    text: str
    at: int

    def shown(self) -> str:
        """Return how a message names it."""
        return "the end" if self.kind == "end" else repr(self.text)


def tokens_of(text: str) -> list[Token]:
    """Return the tokens of an expression, with an `end` behind the last.

    Raises:
        ExpressionError: At a character that begins no token, or a text that is not closed.
    """
    found: list[Token] = []
    at = 0
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            raise ExpressionError(_why_none(text[at]), at, text)
        kind = match.lastgroup
        word = match.group()
        if kind in ("text", "quoted"):
            word = word[1:-1].replace(word[0] * 2, word[0])
        if kind != "space":
            found.append(Token(kind, word, at))  # type: ignore[arg-type]
        at = match.end()
    return [*found, Token("end", "", len(text))]


def _why_none(character: str) -> str:
    if character == "'":
        return "a text is not closed; it ends with ' (and '' stands for one ' in it)"
    if character == '"':
        return 'a quoted name is not closed; it ends with " (texts stand in single quotes)'
    return f"{in_quotes(character)} has no meaning here"
