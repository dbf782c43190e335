"""The layout as people keep it: a TOML file that is read, changed, written and run."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property, partial
from pathlib import Path
from typing import Any

from tessaron.core.base.errors import SourceError, TargetError, UsageError
from tessaron.core.base.paths import Origin
from tessaron.core.base.shown_forms import Shown
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.checking_layouts import check_layout
from tessaron.core.layout.layout_model import ColumnPart, LayoutPart, TablePart
from tessaron.core.plan.compiling import CompiledLayout, compile_layout
from tessaron.sinks.syncing import write_file


class Layout(Shown):
    """Which tables and columns come out, and how. Immutable: every change returns a new layout.

    Args:
        text: The TOML text of a layout file.
        source: What messages call it.

    Raises:
        LayoutError: With all that is wrong in it, each with its line.
    """

    def __init__(self, text: str, source: str = "layout"):
        self._text = text
        self._source = source
        self._checked = check_layout(text, source)
        self._part = self._checked.part
        self._compiled = compile_layout(self._checked, self._source, _ANY_SECRET)

    def __repr__(self) -> str:
        return f"Layout({self._source}: {', '.join(self.tables)})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Layout) and other._text == self._text

    def __hash__(self) -> int:
        return hash(self._text)

    @classmethod
    def read(cls, path: str | Path) -> Layout:
        """Return the layout in a file.

        Raises:
            SourceError: When the file cannot be read.
            LayoutError: With all that is wrong in it.
        """
        try:
            text = Path(path).read_text("utf-8")
        except OSError as error:
            raise SourceError(f"{path}: the layout cannot be read: {error.strerror}") from error
        except UnicodeDecodeError as error:
            raise SourceError(f"{path}: a layout is UTF-8; byte {error.start} is not") from error
        return cls(text, str(path))

    def write(self, path: str | Path) -> None:
        """Write the layout into a file, which appears whole.

        Raises:
            TargetError: When that cannot be done.
        """
        try:
            write_file(Path(path), self._text)
        except OSError as error:
            raise TargetError(f"{path}: the layout cannot be written: {error.strerror}") from error

    @property
    def text(self) -> str:
        """The text of the file, comments included."""
        return self._text

    @property
    def source(self) -> str:
        """The file it was read from, or what messages call it."""
        return self._source

    @property
    def part(self) -> LayoutPart:
        """The layout as checked data."""
        return self._part

    @cached_property
    def tables(self) -> tuple[str, ...]:
        """The names of the tables, in the order of the file."""
        return tuple(self._part.tables)

    def columns(self, table: str) -> dict[str, dict[str, object]]:
        """Return the columns of a table: for each name the keys that are set.

        Raises:
            UsageError: When there is no such table.
        """
        if table not in self._part.tables:
            raise UsageError(f"no table {in_quotes(table)} in the layout; there are {', '.join(self.tables)}")
        columns = self._part.tables[table].columns
        return {name: column.model_dump(exclude_unset=True) for name, column in columns.items()}

    def compiled_without(self, columns: Iterable[str]) -> CompiledLayout:
        """Return the layout ready to run, without some columns, given as `table.column`; as it reads only."""
        gone = set(columns)
        tables = {
            name: table.model_copy(
                update={
                    "columns": _columns_but(name, table, gone),
                    "key": [key for key in table.key if f"{name}.{key}" not in gone],
                    "carry": [],
                }
            )
            for name, table in self._part.tables.items()
        }
        part = self._part.model_copy(update={"tables": tables})
        return compile_layout(replace(self._checked, part=part), self._source, b"any")

    def compiled(self, strict: bool = False, secret: bytes | None = None) -> CompiledLayout:
        """Return the layout ready to run.

        Args:
            strict: Whether what numbered columns do not hold is a reject.
            secret: What digest masks are made with; else the environment variable that the layout names. Who
                only wants to know of tables and paths gives `b"any"`.

        Raises:
            LayoutError: With all that is wrong.
            UsageError: When a column has a digest mask and the variable is not set.
        """
        if secret == _ANY_SECRET and not strict:
            return self._compiled
        masked = self._masked()
        if secret is None:
            secret = os.environ.get(self._part.reading.mask_key, "").encode()
        if masked and not secret:
            variable = self._part.reading.mask_key
            raise UsageError(f"{masked} is masked by a keyed digest; set {variable} to a secret of your own")
        return compile_layout(self._checked, self._source, secret, strict)

    def _masked(self) -> str | None:
        for table, part in self._part.tables.items():
            for name, column in part.columns.items():
                if column.mask == "digest":
                    return f"{table}.{name}"
        return None

    def _changed(self, change: Callable[[Any, Any], None]) -> Layout:
        # Most runs only read a layout: what changes its text loads when it is used.
        from tessaron.core.layout.texts import editing

        return Layout(editing.change_text(self._text, partial(change, editing)), self._source)

    def set_reading(self, **keys: Any) -> Layout:
        """Return the layout with keys of `[reading]` set; None takes a key away."""
        return self._changed(
            lambda editing, document: editing.set_keys(editing.section(document, "reading"), keys)
        )

    def set_structure(self, **keys: Any) -> Layout:
        """Return the layout with keys of `[structure]` set; None takes a key away."""
        return self._changed(
            lambda editing, document: editing.set_keys(editing.section(document, "structure"), keys)
        )

    def set_table(
        self, name: str, *, columns: Mapping[str, Mapping[str, Any]] | None = None, **keys: Any
    ) -> Layout:
        """Return the layout with a table added, or with keys of one set; None takes a key away.

        Args:
            name: The table.
            columns: Columns to add or change, by name: their keys.
            **keys: Keys of the table: rows, key, keep, carry, …
        """
        given = {**keys, "columns": columns}
        return self._changed(lambda editing, document: editing.set_table(document, name, given))

    def remove_table(self, name: str) -> Layout:
        """Return the layout without a table, its lines and the comments right above it.

        Raises:
            UsageError: When there is no such table.
        """
        from tessaron.core.layout.texts.table_blocks import has_block, without_table

        if has_block(self._text, name):
            return Layout(without_table(self._text, name), self._source)

        def remove(editing: Any, document: Any) -> None:
            editing.table_in(document, name)
            del document["tables"][name]

        return self._changed(remove)

    def rename_table(self, old: str, new: str) -> Layout:
        """Return the layout with another name for a table, also where expressions and others name it."""
        return self._changed(lambda editing, document: editing.rename_table_in(document, old, new))

    def set_column(self, table: str, name: str, **keys: Any) -> Layout:
        """Return the layout with a column added at the end, or keys of one set; None takes a key away."""
        return self._changed(lambda editing, document: editing.set_column(document, table, name, keys))

    def remark(self, table: str, column: str) -> str:
        """Return the comment beside a column; empty where there is none.

        Raises:
            UsageError: When there is no such table or column.
        """
        import tomlkit

        from tessaron.core.layout.texts import editing

        return editing.comment_of(editing.column_in(tomlkit.parse(self._text), table, column))

    def set_remark(self, table: str, column: str, text: str) -> Layout:
        """Return the layout with a comment beside a column.

        Raises:
            UsageError: When there is no such table or column.
        """
        return self._changed(
            lambda editing, document: editing.set_comment(editing.column_in(document, table, column), text)
        )

    def remove_columns(self, table: str, *names: str) -> Layout:
        """Return the layout without columns of a table.

        Raises:
            UsageError: When there is no such table or column.
        """

        def remove(editing: Any, document: Any) -> None:
            for name in names:
                editing.column_in(document, table, name)
                del document["tables"][table]["columns"][name]

        return self._changed(remove)

    def rename_column(self, table: str, old: str, new: str) -> Layout:
        """Return the layout with another name for a column, also where keys and expressions name it."""
        return self._changed(lambda editing, document: editing.rename_column_in(document, table, old, new))

    def order_columns(self, table: str, names: Iterable[str]) -> Layout:
        """Return the layout with these columns of a table in front, in this order."""
        return self._changed(lambda editing, document: editing.order_columns(document, table, names))

    def flatten(self, table: str, multiply: Sequence[str] = (), with_empty: bool = False) -> Layout:
        """Return a layout with one table only: its rows, with all columns of the tables above them repeated.

        Args:
            table: The table whose rows these are.
            multiply: Tables beside it, with whose rows each row is paired.
            with_empty: Whether rows above without any row in the table stay.

        Raises:
            UsageError: When there is no such table.
        """
        compiled = self.compiled(secret=b"any")
        plans = {plan.name: plan for plan in compiled.records.tables}
        for name in (table, *multiply):
            if name not in plans or name not in self._part.tables:
                raise UsageError(
                    f"no table {in_quotes(name)} in the layout; there are {', '.join(self.tables)}"
                )
        chosen = [plans[name].level for name in (table, *multiply)]
        above = [
            name
            for name in self.tables
            if name in plans and name not in (table, *multiply)
            and any(plans[name].level == level[: len(plans[name].level)] for level in chosen)
        ]  # fmt: skip

        def change(editing: Any, document: Any) -> None:
            for name in self.tables:
                if name not in (table, *multiply, *above):
                    del document["tables"][name]
                elif name != table:
                    document["tables"][name]["write"] = False
            carried = [f"{name}.*" for name in (*above, *multiply)]
            keys = {"carry": carried, "multiply": list(multiply) or None, "with_empty": with_empty or None}
            editing.set_keys(editing.table_in(document, table), keys)

        return self._changed(change)


_ANY_SECRET = b"any"
_ROW_ITSELF = ("@", "$", ".")
"""How a column is spelled that holds all of a row."""


def _is_gone(name: str, column: ColumnPart, gone: set[str]) -> bool:
    """Say whether a column, or one of those it becomes, is among some."""
    is_several = column.flags is not None or column.numbered is not None
    return name in gone or (is_several and any(each.startswith(f"{name}_") for each in gone))


def _columns_but(name: str, table: TablePart, gone: set[str]) -> dict[str, ColumnPart]:
    """Return the columns of a table without some; nothing asks for a row's own scalars without theirs."""
    left = {
        key: column for key, column in table.columns.items() if not _is_gone(f"{name}.{key}", column, gone)
    }
    if any(column.path in _ROW_ITSELF for key, column in table.columns.items() if key not in left):
        return {key: column for key, column in left.items() if column.origin != Origin.REST.value}
    return left
