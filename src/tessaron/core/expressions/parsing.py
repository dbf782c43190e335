"""Parsing expressions: text becomes a tree; precedence as in SQL."""

from __future__ import annotations

from decimal import Decimal

from tessaron.core.base.visible import in_quotes
from tessaron.core.expressions.expression_faults import ExpressionError, nearest
from tessaron.core.expressions.expression_tokens import Token, tokens_of
from tessaron.core.expressions.syntax import (
    Among,
    Binary,
    Call,
    Cast,
    Conditional,
    Expression,
    IsNull,
    LiteralValue,
    Reference,
    Unary,
)
from tessaron.core.types.column_types import ColumnType, TypeSpellingError, parse_type

_COMPARISONS = {"=": "==", "==": "==", "!=": "!=", "<>": "!=", "<": "<", "<=": "<=", ">": ">", ">=": ">="}
_WORDS = frozenset(
    ("and", "or", "not", "in", "is", "null", "true", "false", "if", "then", "else", "as", "where", "between")
)
_TYPED_LITERALS = frozenset(("date", "time", "timestamp", "timestamp_tz"))
_MOST_NESTED = 60
"""Deeper expressions are refused; no person writes them."""


def parse_expression(text: str) -> Expression:
    """Return the tree of an expression.

    Raises:
        ExpressionError: With the place of the character that cannot stand there.
    """
    return _Parser(text).parse()


class _Parser:
    def __init__(self, text: str):
        self._text = text
        self._tokens = tokens_of(text)
        self._next = 0
        self._depth = 0

    def parse(self) -> Expression:
        tree = self._or()
        token = self._peek()
        if token.kind != "end":
            self._fail(f"expected an operator or the end, got {token.shown()}", token)
        return tree

    def _peek(self) -> Token:
        return self._tokens[self._next]

    def _take(self) -> Token:
        self._next += 1
        return self._tokens[self._next - 1]

    def _fail(self, reason: str, token: Token) -> None:
        raise ExpressionError(reason, token.at, self._text)

    def _is_word(self, *words: str) -> bool:
        token = self._peek()
        return token.kind == "name" and token.text.lower() in words

    def _is_sign(self, *signs: str) -> bool:
        token = self._peek()
        return token.kind == "sign" and token.text in signs

    def _accept_word(self, word: str) -> bool:
        if self._is_word(word):
            self._next += 1
            return True
        return False

    def _accept_sign(self, sign: str) -> bool:
        if self._is_sign(sign):
            self._next += 1
            return True
        return False

    def _expect_sign(self, sign: str, what: str) -> None:
        if not self._accept_sign(sign):
            self._fail(f"expected {in_quotes(sign)} {what}, got {self._peek().shown()}", self._peek())

    def _expect_word(self, word: str, what: str) -> None:
        if not self._accept_word(word):
            self._fail(f"expected {in_quotes(word)} {what}, got {self._peek().shown()}", self._peek())

    def _or(self) -> Expression:
        self._depth += 1
        if self._depth > _MOST_NESTED:
            self._fail(f"nested deeper than {_MOST_NESTED} levels", self._peek())
        left = self._and()
        while self._is_word("or"):
            at = self._take().at
            left = Binary("or", left, self._and(), at)
        self._depth -= 1
        return left

    def _and(self) -> Expression:
        left = self._not()
        while self._is_word("and"):
            at = self._take().at
            left = Binary("and", left, self._not(), at)
        return left

    def _not(self) -> Expression:
        signs = []
        while self._is_word("not"):
            signs.append(self._take().at)
        tree = self._comparison()
        for at in reversed(signs):
            tree = Unary("not", tree, at)
        return tree

    def _comparison(self) -> Expression:
        left = self._sum()
        while True:
            token = self._peek()
            if token.kind == "sign" and token.text in _COMPARISONS:
                self._take()
                left = Binary(_COMPARISONS[token.text], left, self._sum(), token.at)
            elif self._is_word("is"):
                self._take()
                negated = self._accept_word("not")
                self._expect_word("null", "after 'is'")
                left = IsNull(left, negated, token.at)
            elif self._is_word("in", "not", "between"):
                left = self._in_or_between(left)
            else:
                return left

    def _in_or_between(self, left: Expression) -> Expression:
        at = self._peek().at
        negated = self._accept_word("not")
        if self._accept_word("between"):
            low = self._sum()
            self._expect_word("and", "between the two ends")
            high = self._sum()
            tree: Expression = Binary("and", Binary(">=", left, low, at), Binary("<=", left, high, at), at)
            return Unary("not", tree, at) if negated else tree
        self._expect_word("in", "after 'not'")
        self._expect_sign("(", "before the list")
        choices = [self._or()]
        while self._accept_sign(","):
            choices.append(self._or())
        self._expect_sign(")", "after the list")
        return Among(left, tuple(choices), negated, at)

    def _sum(self) -> Expression:
        left = self._product()
        while self._is_sign("+", "-", "||"):
            token = self._take()
            left = Binary(token.text, left, self._product(), token.at)
        return left

    def _product(self) -> Expression:
        left = self._signed()
        while self._is_sign("*", "/", "%"):
            token = self._take()
            left = Binary(token.text, left, self._signed(), token.at)
        return left

    def _signed(self) -> Expression:
        signs = []
        while self._is_sign("-", "+"):
            signs.append(self._take())
        tree = self._primary()
        for token in reversed(signs):
            if token.text == "-":
                tree = Unary("-", tree, token.at)
        return tree

    def _primary(self) -> Expression:
        token = self._take()
        if token.kind == "number":
            return _number(token)
        if token.kind == "text":
            return LiteralValue(token.text, token.at)
        if token.kind == "quoted":
            return self._reference(token)
        if token.kind == "sign" and token.text == "(":
            tree = self._or()
            self._expect_sign(")", "to close the bracket")
            return tree
        if token.kind == "name":
            return self._word(token)
        self._next -= 1
        self._fail(f"expected a column, value or function, got {token.shown()}", token)
        raise AssertionError

    def _word(self, token: Token) -> Expression:
        word = token.text.lower()
        if word == "if":
            return self._conditional(token)
        if word in ("true", "false", "null"):
            return LiteralValue({"true": True, "false": False, "null": None}[word], token.at)
        if word in _WORDS:
            self._fail(f"expected a column, value or function, got {in_quotes(token.text)}", token)
        if word in _TYPED_LITERALS and self._peek().kind == "text":
            text = self._take().text
            return LiteralValue(text, token.at, ColumnType(word, second_digits=_fraction_digits(text)))  # type: ignore[arg-type]
        if self._is_sign("("):
            return self._cast(token) if word == "cast" else self._call(token)
        return self._reference(token)

    def _conditional(self, token: Token) -> Expression:
        condition = self._or()
        self._expect_word("then", "after the condition of 'if'")
        then = self._or()
        otherwise: Expression = LiteralValue(None, token.at)
        if self._accept_word("else"):
            otherwise = self._or()
        return Conditional(condition, then, otherwise, token.at)

    def _cast(self, token: Token) -> Expression:
        self._take()
        operand = self._or()
        self._expect_word("as", "between the value and its new type")
        start = self._peek()
        words = []
        while not self._is_sign(")") and not self._is_word("format") and self._peek().kind != "end":
            taken = self._take()
            words.append(taken.text)
            if taken.text == "(":
                while not self._is_sign(")") and self._peek().kind != "end":
                    words.append(self._take().text)
                if self._is_sign(")"):
                    words.append(self._take().text)
        try:
            wanted = parse_type("".join(words))
        except TypeSpellingError as error:
            raise ExpressionError(str(error), start.at, self._text) from error
        codes = None
        if self._accept_word("format"):
            if self._peek().kind != "text":
                self._fail(f"expected a text after 'format', got {self._peek().shown()}", self._peek())
            codes = self._take().text
        self._expect_sign(")", "to close 'cast'")
        return Cast(operand, wanted, codes, token.at)

    def _call(self, token: Token) -> Expression:
        from tessaron.core.expressions.function_checks import FUNCTION_NAMES

        name = token.text.lower()
        if name not in FUNCTION_NAMES:
            self._fail(f"no function {in_quotes(token.text)}; {nearest(name, sorted(FUNCTION_NAMES))}", token)
        self._take()
        arguments: list[Expression] = []
        where = None
        if not self._is_sign(")"):
            arguments.append(self._or())
            while self._accept_sign(","):
                arguments.append(self._or())
            if self._accept_word("where"):
                where = self._or()
        self._expect_sign(")", f"to close {in_quotes(name)}")
        return Call(name, tuple(arguments), where, token.at)

    def _reference(self, token: Token) -> Expression:
        if not self._accept_sign("."):
            return Reference(None, token.text, token.at)
        column = self._take()
        if column.kind not in ("name", "quoted"):
            self._fail(f"expected a column of {token.text} after '.', got {column.shown()}", column)
        return Reference(token.text, column.text, token.at)


def _number(token: Token) -> LiteralValue:
    if "e" in token.text.lower():
        return LiteralValue(float(token.text), token.at)
    if "." in token.text:
        return LiteralValue(Decimal(token.text), token.at)
    return LiteralValue(int(token.text), token.at)


def _fraction_digits(text: str) -> int:
    _, point, rest = text.partition(".")
    return len(rest) - len(rest.lstrip("0123456789")) if point else 0
