"""A script that makes tables in a database and loads the files of an export into them, for people to run."""

from __future__ import annotations

import shlex
from collections.abc import Callable, Iterator, Mapping

from tessaron.core.layout.table_set import Table
from tessaron.sinks.ddl.create_tables import CreateTables, path_of, told_of
from tessaron.sources.forms.file_form import FileForm

_LOADED = "`tessaron load FOLDER --to URL` loads it in any form"
_OTHERWISE, _BY_FOLDER = f"is no plain CSV: {_LOADED}", f"is a folder of files: {_LOADED}"
_Load = Callable[[CreateTables, Table, str], Iterator[str]]
_CSV = FileForm("csv")


def load_script(made: CreateTables, files: Mapping[str, str] | None = None, form: FileForm = _CSV) -> str:
    """Return the script.

    Args:
        made: The tables, and how they are made.
        files: The file of each table, beside the script; None for tables without files.
        form: How these are written.
    """
    lines = list(_head(made, files))
    if made.schema is not None and made.dialect.has_schemas:
        lines += [f"CREATE SCHEMA IF NOT EXISTS {made.dialect.quoted(made.schema)};", ""]
    for table in made.tables:
        lines += [f"-- {table.name}: {_one_line(told_of(table))}", _with_paths(made, table) + ";"]
        lines += [f"{each};" for each in (*made.indexes(table), *made.comments(table))]
        lines.append("")
    if files:
        lines += _loads(made, files, form)
    lines += [f"{each};" for table in made.tables for each in made.late_references(table)]
    return "\n".join(lines).rstrip() + "\n"


def _head(made: CreateTables, files: Mapping[str, str] | None) -> Iterator[str]:
    count = "1 table" if len(made.tables) == 1 else f"{len(made.tables):,} tables"
    yield f"-- {count} for {made.dialect.name}, each behind those that it refers to."
    if files:
        yield f"-- {_HOW_TO_RUN.get(made.dialect.name, 'Run it where the files are.')}"
        yield "-- `tessaron load` does the same in one transaction, and checks what then stands there."
    for fault in made.dialect.faults(made.tables):
        yield f"-- NOT TAKEN by {made.dialect.name}: {_one_line(fault)}"
    yield ""


_HOW_TO_RUN = {
    "postgresql": "Run it where the files are: psql -1 -v ON_ERROR_STOP=1 -f load.sql DATABASE",
    "sqlite": "Run it where the files are: sqlite3 FILE.db < load.sql; empty texts come in as null.",
    "mysql": "Run: mysql --local-infile=1 DATABASE < load.sql; empty texts come in as null.",
    "mariadb": "Run: mariadb --local-infile=1 DATABASE < load.sql; empty texts come in as null.",
    "sqlserver": "The server has to see the files: put their folder before their names.",
    "oracle": "The files go in by SQL*Loader, with the control statements at the end.",
}


def _with_paths(made: CreateTables, table: Table) -> str:
    """Return the statement that makes a table; paths stand behind columns that have no comments."""
    statement = made.create(table)
    if made.dialect.comments:
        return statement
    lines = statement.split("\n")
    for at, column in enumerate(table.columns, 1 + len(table.key_columns())):
        lines[at] += f"  -- {_one_line(path_of(column))}"
    return "\n".join(lines)


def _one_line(text: str) -> str:
    return " ".join(text.split())


def _loads(made: CreateTables, files: Mapping[str, str], form: FileForm) -> Iterator[str]:
    load = _LOADS.get(made.dialect.name)
    is_plain = form.is_plain_csv and form.packed == "none"
    for table in made.tables:
        file = files[table.name]
        if not file.endswith(form.ending):
            yield f"-- {table.name}: {file} {_BY_FOLDER}"
        elif made.dialect.name == "postgresql" and form.is_csv:
            yield _by_copy(made, table, file, form)
        elif not is_plain:
            yield f"-- {table.name}: {file} {_OTHERWISE}"
        elif load is None:
            yield f"-- {table.name}: load {file} by what this database has for CSV."
        else:
            yield from load(made, table, file)


def _columns(made: CreateTables, table: Table) -> list[str]:
    return [made.dialect.quoted(name) for name in table.arrow_schema().names]


def _by_copy(made: CreateTables, table: Table, file: str, form: FileForm) -> str:
    # psql takes this on one line only.
    columns = ", ".join(_columns(made, table))
    text = made.dialect.text
    source = text(file) if form.packed == "none" else f"PROGRAM {text(f'gzip -dc {shlex.quote(file)}')}"
    options = ["FORMAT csv", f"HEADER {str(form.header).lower()}"]
    options += [f"DELIMITER {text(form.separator)}"] if form.separator != "," else []
    options += [f"NULL {text(form.null)}"] if form.null else []
    options += [f"ENCODING {text(form.encoding)}"] if form.encoding != "utf-8" else []
    return f"\\copy {made.name(table.name)} ({columns}) FROM {source} WITH ({', '.join(options)})"


def _by_import(made: CreateTables, table: Table, file: str) -> Iterator[str]:
    yield f".import --csv --skip 1 {_in_shell(file)} {_in_shell(table.name)}"
    # It takes what is empty for an empty text, where it stands for null, and true for a text.
    sets = [
        f"{column} = {_imported(column, kind)}"
        for column, kind, field in zip(
            _columns(made, table), _kinds(table), table.arrow_schema(), strict=True
        )
        if field.nullable
    ]
    if sets:
        yield f"UPDATE {made.name(table.name)} SET {', '.join(sets)};"


def _imported(column: str, kind: str) -> str:
    if kind == "boolean":
        return f"CASE {column} WHEN 'true' THEN 1 WHEN 'false' THEN 0 END"
    return f"NULLIF({column}, '')"


def _in_shell(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _by_load_data(made: CreateTables, table: Table, file: str) -> Iterator[str]:
    # Quoted and empty is a text, empty alone is null: OPTIONALLY ENCLOSED BY tells them apart no more.
    names = _columns(made, table)
    taken = ", ".join(f"@v{number}" for number in range(len(names)))
    sets = ", ".join(
        f"{name} = {_read_as(kind, f'@v{number}')}"
        for number, (name, kind) in enumerate(zip(names, _kinds(table), strict=True))
    )
    yield (
        f"LOAD DATA LOCAL INFILE {made.dialect.text(file)} INTO TABLE {made.name(table.name)} "
        "CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"' ESCAPED BY '' "
        f"LINES TERMINATED BY '\\r\\n' IGNORE 1 LINES ({taken}) SET {sets};"
    )


def _kinds(table: Table) -> list[str]:
    keys = [table.key_type_of(name) for name in table.key_columns()]
    return keys + [column.type.name for column in table.columns]


def _read_as(kind: str, value: str) -> str:
    if kind == "boolean":
        return f"CASE {value} WHEN 'true' THEN 1 WHEN 'false' THEN 0 END"
    return (
        f"NULLIF(TRIM(TRAILING 'Z' FROM {value}), '')" if kind == "timestamp_tz" else f"NULLIF({value}, '')"
    )


def _by_bulk_insert(made: CreateTables, table: Table, file: str) -> Iterator[str]:
    yield (
        f"BULK INSERT {made.name(table.name)} FROM {made.dialect.text(file)} WITH "
        "(FORMAT = 'CSV', FIRSTROW = 2, CODEPAGE = '65001', ROWTERMINATOR = '0x0d0a', KEEPNULLS, TABLOCK);"
    )


def _by_loader(made: CreateTables, table: Table, file: str) -> Iterator[str]:
    yield f"-- LOAD DATA CHARACTERSET AL32UTF8 INFILE {made.dialect.text(file)}"
    yield f"-- INTO TABLE {made.name(table.name)} FIELDS CSV WITH EMBEDDED TRAILING NULLCOLS"
    yield f"-- ({', '.join(_columns(made, table))})"


_LOADS: dict[str, _Load] = {
    "sqlite": _by_import,
    "mysql": _by_load_data,
    "mariadb": _by_load_data,
    "sqlserver": _by_bulk_insert,
    "oracle": _by_loader,
}
