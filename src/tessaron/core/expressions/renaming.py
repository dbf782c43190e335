"""Renaming what an expression refers to, with all else in it left as it was written."""

from __future__ import annotations

import re
from itertools import pairwise

from tessaron.core.expressions.expression_tokens import Token, tokens_of

_PLAIN = re.compile(r"[^\W\d]\w*\Z")


def rename_column(text: str, is_home: bool, table: str, old: str, new: str) -> str:
    """Return an expression in which a column has another name.

    Args:
        text: The expression.
        is_home: Whether it belongs to the table of the column, where the name may stand alone.
        table: The column's table.
        old: Its name.
        new: Its new name.
    """
    tokens = tokens_of(text)
    before = [Token("end", "", -1), *tokens[:-1]]
    chosen = []
    for index, (token, after) in enumerate(pairwise(tokens)):
        follows_dot = before[index].text == "." and before[index].kind == "sign"
        owner = before[index - 1].text if follows_dot and index else ""
        stands_alone = is_home and not follows_dot and after.text not in (".", "(")
        if token.kind in ("name", "quoted") and token.text == old and (owner == table or stands_alone):
            chosen.append(token)
    return _with_names(text, chosen, new)


def rename_table(text: str, old: str, new: str) -> str:
    """Return an expression in which a table has another name."""
    tokens = tokens_of(text)
    chosen = []
    for index, (token, after) in enumerate(pairwise(tokens)):
        is_owner = after.kind == "sign" and after.text == "."
        is_counted = index > 1 and tokens[index - 1].text == "(" and tokens[index - 2].text.lower() == "count"
        if token.kind in ("name", "quoted") and token.text == old and (is_owner or is_counted):
            chosen.append(token)
    return _with_names(text, chosen, new)


def _with_names(text: str, tokens: list[Token], new: str) -> str:
    spelled = new if _PLAIN.match(new) else '"' + new.replace('"', '""') + '"'
    for token in reversed(tokens):
        stop = token.at + len(token.text)
        if token.kind == "quoted":
            stop = token.at + len(token.text.replace('"', '""')) + 2
        text = text[: token.at] + spelled + text[stop:]
    return text
