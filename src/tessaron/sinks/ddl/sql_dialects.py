"""A dialect of SQL: how it spells types and names, and what its database does not take."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field

from tessaron.core.base.errors import UsageError
from tessaron.core.layout.table_set import Table
from tessaron.core.types.column_types import INTEGER, ColumnType

DIGEST_LETTERS = 32
"""Letters of a digest key."""
_SHOWN = 20


@dataclass(frozen=True)
class SqlDialect:
    """One dialect.

    Attributes:
        name: As users say it.
        spelled: Returns how a type is spelled; the type `digest` is that of digest keys.
        quotes: What stands around names; the second is doubled in them.
        most_letters: Of a name, in bytes where `counts_bytes`; None for no limit.
        most_columns: Of a table; None for no limit.
        second_digits: Digits of a second that it keeps.
        comments: Whether there are any: `apart` in statements of their own, `within` those that make a table.
        folds_case: Whether names that differ only in case are one.
        has_schemas: Whether a script can make a schema where it is lacking.
        has_escapes: Whether a backslash in a text says that the letter behind it is another.
        commits_tables: Whether making a table ends the transaction.
        defers: Whether references can wait for the end of the transaction.
        checks_late: Whether a load checks references at its end, as it has no other way for those in a ring.
    """

    name: str
    spelled: Callable[[str, ColumnType], str]
    quotes: tuple[str, str] = ('"', '"')
    most_letters: int | None = None
    counts_bytes: bool = False
    most_columns: int | None = None
    second_digits: int = 6
    comments: str = ""
    folds_case: bool = False
    has_schemas: bool = False
    has_escapes: bool = False
    commits_tables: bool = False
    defers: bool = False
    checks_late: bool = False
    _known: dict[tuple[str, int], str] = field(default_factory=dict, compare=False)

    def quoted(self, name: str) -> str:
        """Return a name in quotes, always: so no word is reserved, and letters keep their case."""
        begin, end = self.quotes
        return begin + name.replace(end, end * 2) + end

    def text(self, value: str) -> str:
        """Return a text as a literal."""
        if self.has_escapes:
            value = value.replace("\\", "\\\\")
        return "'" + value.replace("'", "''") + "'"

    def type_of(self, column_type: ColumnType) -> str:
        """Return how a column of this type is declared."""
        key = str(column_type), column_type.second_digits
        if key not in self._known:
            self._known[key] = self.spelled(column_type.name, column_type)
        return self._known[key]

    def key_type(self, kind: str) -> str:
        """Return how a key is declared: `integer`, or `text` for a digest."""
        return self.spelled("integer" if kind == "integer" else "digest", INTEGER)

    def faults(self, tables: Iterable[Table]) -> list[str]:
        """Return what the database would not take of tables, in words."""
        found: list[str] = []
        names: dict[str, str] = {}
        for table in tables:
            folded = table.name.casefold() if self.folds_case else table.name
            if folded in names:
                found.append(f"tables {names[folded]} and {table.name} have one name there")
            names[folded] = table.name
            found += self._faults_of(table)
        return found

    def _faults_of(self, table: Table) -> Iterator[str]:
        names = table.arrow_schema().names
        if self.most_columns is not None and len(names) > self.most_columns:
            yield f"{table.name} has {len(names):,} columns; at most {self.most_columns:,} can be"
        for name in (table.name, *names):
            where = "the table" if name is table.name else f"a column of {table.name},"
            length = len(name.encode()) if self.counts_bytes else len(name)
            if self.most_letters is not None and length > self.most_letters:
                unit = "bytes" if self.counts_bytes else "letters"
                yield f"{where} {name} has a name of {length} {unit}; at most {self.most_letters} can be"
        for column in table.columns:
            if column.type.second_digits > self.second_digits:
                yield (
                    f"{table.name}.{column.name} has {column.type.second_digits} digits of a second; "
                    f"{self.second_digits} are kept there"
                )


def check_tables(dialect: SqlDialect, tables: Iterable[Table]) -> None:
    """Check that a database would take tables.

    Raises:
        UsageError: With all that it would not, before it is asked.
    """
    faults = dialect.faults(tables)
    if faults:
        shown = "\n  ".join(faults[:_SHOWN])
        more = f"\n  and {len(faults) - _SHOWN:,} more" if len(faults) > _SHOWN else ""
        raise UsageError(
            f"{dialect.name} does not take these tables:\n  {shown}{more}\nchange the layout there"
        )
