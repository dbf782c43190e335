"""What the expressions of a layout may name, and the checking of each of them, once."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from tessaron.core.expressions.checking import check_expression
from tessaron.core.expressions.expression_faults import ExpressionError
from tessaron.core.expressions.parsing import parse_expression
from tessaron.core.expressions.typed import Relation, Typed
from tessaron.core.layout.toml_lines import Keys
from tessaron.core.plan.column_plans import TableColumns
from tessaron.core.plan.plan import ColumnPlan
from tessaron.core.plan.rows_finding import RowsFinder, RowsPlace
from tessaron.core.types.column_types import ColumnType


class _UnknownError(Exception):
    """It is not known where rows stand, or what type a column has, because of a mistake that was said."""


class ExpressionScope:
    """The tables and columns of a layout, as expressions see them; see `typed.Schema`.

    Args:
        columns: The columns of each table.
        rows: Where the rows of the tables stand.
        broken: Columns whose type is not known because of a mistake.
        say: Takes in mistakes.
    """

    def __init__(
        self,
        columns: Mapping[str, TableColumns],
        rows: RowsFinder,
        broken: set[tuple[str, str]],
        say: Callable[[Keys, str], None],
    ):
        self._columns, self._rows, self._broken, self._say = columns, rows, broken, say
        self._checked: dict[Keys, Typed | None] = {}
        self._types: dict[tuple[str, str], ColumnType | None] = {}
        self._checking: list[tuple[str, str]] = []

    def tables(self) -> list[str]:
        """Return the names of all tables."""
        return list(self._columns)

    def columns(self, table: str) -> list[str]:
        """Return the names of a table's columns."""
        return self._columns[table].names()

    def relation(self, table: str, other: str) -> Relation:
        """Say where the rows of `other` stand, seen from those of `table`."""
        mine, theirs = self._rows.place(table), self._rows.place(other)
        if mine.is_broken or theirs.is_broken:
            raise _UnknownError
        if mine.is_around != theirs.is_around:
            return "aside"
        return _relation(mine, theirs)

    def type_of(self, table: str, column: str) -> ColumnType:
        """Return the type of a column; text where a mistake was found in it."""
        key = (table, column)
        if key in self._broken:
            raise _UnknownError
        if key not in self._types:
            plan = self._columns[table].plan(column)
            self._types[key] = plan.type if plan.source is not None else self._type_of_value(plan)
        return self._types[key] or ColumnType("text")

    def _type_of_value(self, plan: ColumnPlan) -> ColumnType | None:
        declared = self._columns[plan.table].declared.get(plan.name)
        typed = self.typed_value(plan.table, plan.name)
        if declared is not None or typed is None:
            return declared
        return typed.type

    def typed_value(self, table: str, column: str) -> Typed | None:
        """Return the checked expression of a column; None after a mistake."""
        keys = ("tables", table, "columns", self._columns[table].keys[column], "value")
        if (table, column) in self._checking:
            cycle = " → ".join(f"{t}.{c}" for t, c in [*self._checking, (table, column)])
            self._say(keys, f"the column is worked out from itself: {cycle}")
            return None
        self._checking.append((table, column))
        try:
            return self.checked(keys, table, self._columns[table].plan(column).text, None)
        finally:
            self._checking.pop()

    def checked(self, keys: Keys, table: str, text: str | None, wanted: ColumnType | None) -> Typed | None:
        """Return a checked expression, whose type must be the wanted one; None after a mistake."""
        if text is None:
            return None
        if keys not in self._checked:
            self._checked[keys] = None
            try:
                found = check_expression(parse_expression(text), table, self, text)
                if wanted is not None and found.type not in (wanted, None):
                    raise ExpressionError(f"expected {wanted}, got {found.type}", 0, text)
                self._checked[keys] = found
            except ExpressionError as error:
                self._say(keys, str(error))
            except _UnknownError:
                # The mistake was said; what follows from it is not.
                pass
        return self._checked[keys]


def _relation(mine: RowsPlace, theirs: RowsPlace) -> Relation:
    if mine.level == theirs.level:
        return "same"
    if mine.level[: len(theirs.level)] == theirs.level:
        return "above"
    return "below" if theirs.level[: len(mine.level)] == mine.level else "aside"
