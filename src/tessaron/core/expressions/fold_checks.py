"""Checking folds: which table below they are of, and what they are made of."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import NoReturn

from tessaron.core.base.visible import in_quotes
from tessaron.core.expressions.checker import Checker
from tessaron.core.expressions.expression_faults import nearest
from tessaron.core.expressions.folding import folded_type
from tessaron.core.expressions.syntax import Call, Expression, Reference, parts_of
from tessaron.core.expressions.typed import Typed, shown
from tessaron.core.types.column_types import BOOLEAN, TEXT


def check_fold(checker: Checker, tree: Call) -> Typed:
    """Return the checked form of a fold over the rows of a table below."""
    checker.count(tree, 1, 2 if tree.name in ("nth", "joined") else 1)
    argument = tree.arguments[0]
    if isinstance(argument, Reference) and tree.name == "count" and _names_rows(checker, argument):
        below = argument.column
        inner = Typed("literal", BOOLEAN, (), True)
    else:
        below = _fold_table(checker, tree)
        inner = replace(checker, at=below).check(argument)
    scope = replace(checker, at=below)
    parts = [inner]
    if tree.where is not None:
        parts.append(scope.expect(scope.check(tree.where), "boolean", tree.where))
    kind = folded_type("first" if tree.name == "nth" else tree.name, inner.type or TEXT)
    if kind is None:
        checker.fail(f"{tree.name} cannot be made of {shown(inner.type)}", argument.at)
    return Typed("fold", kind, tuple(parts), (tree.name, below, _fold_details(checker, tree)))


def _names_rows(checker: Checker, argument: Reference) -> bool:
    """Say whether the argument of count names a table below, whose rows are counted."""
    name = argument.column
    known = argument.table is None and name in checker.schema.tables()
    if known and checker.schema.relation(checker.at, name) != "below":
        checker.fail(f"{name} is not below {checker.at}: nothing to count", argument.at)
    return known


def _fold_details(checker: Checker, tree: Call) -> dict[str, object]:
    if tree.name not in ("nth", "joined"):
        return {}
    name, wanted = ("position", int) if tree.name == "nth" else ("separator", str)
    default = ", " if tree.name == "joined" else None
    given = checker.constant(tree.arguments[1], wanted, tree) if len(tree.arguments) > 1 else default
    if given is None or given == 0:
        checker.fail("nth takes a position as its second argument, from 1 or from the end (-1)", tree.at)
    return {name: given}


def _fold_table(checker: Checker, tree: Call) -> str:
    """Return the lowest of the tables below that a fold names."""
    named = [
        reference
        for argument in (*tree.arguments, *((tree.where,) if tree.where is not None else ()))
        for reference in _references(argument)
    ]
    lowest: str | None = None
    for reference in named:
        table = reference.table
        if table is None or table not in checker.schema.tables():
            continue
        if checker.schema.relation(checker.at, table) != "below":
            continue
        if lowest is None or checker.schema.relation(lowest, table) == "below":
            lowest = table
        elif checker.schema.relation(lowest, table) == "aside":
            checker.fail(f"{lowest} and {table} stand beside each other; fold each by itself", reference.at)
    if lowest is None:
        _nothing_below(checker, tree, named)
    return lowest


def _nothing_below(checker: Checker, tree: Call, named: list[Reference]) -> NoReturn:
    below = [name for name in checker.schema.tables() if checker.schema.relation(checker.at, name) == "below"]
    for reference in named:
        if reference.table is not None and reference.table not in checker.schema.tables():
            checker.fail(
                f"no table {in_quotes(reference.table)}; {nearest(reference.table, below)}", reference.at
            )
        for table in below:
            if reference.table is None and reference.column in checker.schema.columns(table):
                checker.fail(f"did you mean {tree.name}({table}.{reference.column})?", reference.at)
    checker.fail(f"{tree.name} folds rows of a table below {checker.at}; {nearest('', below)}", tree.at)


def _references(tree: Expression) -> Iterator[Reference]:
    pending = [tree]
    while pending:
        part = pending.pop()
        if isinstance(part, Reference):
            yield part
        pending.extend(parts_of(part))
