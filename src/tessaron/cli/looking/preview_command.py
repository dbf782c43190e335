"""`tessaron preview`: the first rows of every table, as an export would write them."""

from __future__ import annotations

import sys
from difflib import get_close_matches
from typing import Any, cast

import click

from tessaron.cli import completing
from tessaron.cli.command_group import WorkCommand, palette, say, terminal_width
from tessaron.cli.shared_options import (
    count_type,
    dictionary_options,
    dividing_options,
    key_option,
    keys_option,
    layout_of,
    name_option,
    origin_option,
    records_option,
    shaping_options,
    xml_options,
)
from tessaron.cli.source_arguments import source_argument, source_of, source_options
from tessaron.core.base.visible import in_quotes, visible

_RECORDS_READ = 200
"""Records that are read at least, to tell types and tables from."""


@click.command(cls=WorkCommand)
@source_argument
@records_option
@xml_options
@shaping_options
@click.option("--table", "one", metavar="NAME", shell_complete=completing.tables, help="Only this table.")
@click.option("--rows", type=count_type(), default=10, show_default=True, help="Rows of each table.")
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "tsv", "csv", "json"]),
    default="table",
    show_default=True,
    help="The form; all but table need --table where there are several.",
)
@click.option("--first", type=count_type(), metavar="N", help="Records to read; else 200 or --rows.")
@name_option
@keys_option
@key_option
@origin_option
@dividing_options
@dictionary_options
@source_options
def preview(
    sources: tuple[str, ...],
    one: str | None,
    rows: int,
    form: str,
    first: int | None,
    dictionary: tuple[str, ...],
    no_dictionary: tuple[str, ...],
    layout_file: str | None,
    **options: Any,
) -> None:
    """Show the first rows of every table of SOURCE as they would come out: names, types, values.

    Only the first records are read: tables and types are as these show them, and an export, which reads all,
    may find more. null is a missing value, "" an empty text.
    """
    from tessaron.write.export import shred

    tables = shred(
        source_of(sources),
        first=first or max(rows, _RECORDS_READ),
        dictionaries=dictionary,
        not_dictionaries=no_dictionary,
        layout=layout_of(layout_file),
        **options,
    )
    shown = [_known(one, list(tables))] if one is not None else list(tables)
    if form != "table" and len(shown) > 1:
        raise click.UsageError(f"--as {form} is for one table; choose with --table: {', '.join(shown)}")
    for index, name in enumerate(shown):
        if form == "table" and one is None:
            sys.stdout.write("\n" * bool(index) + visible(_title(name, tables, rows)))
        _write(tables, name, rows, form)
    _say_what_was_read(tables)


def _known(name: str, names: list[str]) -> str:
    if name in names:
        return name
    ending = [each for each in names if each.endswith(f"_{name}")]
    if len(ending) == 1:
        return ending[0]
    last = {each.rsplit("_", 1)[-1]: each for each in reversed(names)}
    near = ending or [last.get(each, each) for each in get_close_matches(name, [*names, *last], 3)] or names
    raise click.UsageError(
        f"no table {in_quotes(name)}; there {'are' if near == names else 'is'} {', '.join(near)}"
    )


def _title(name: str, tables: Any, rows: int) -> str:
    found = tables[name].num_rows
    more = " or more" if tables.is_partial else ""
    return f"{name} ({min(rows, found):,} of {found:,}{more} rows)\n"


def _write(tables: Any, name: str, rows: int, form: str) -> None:
    from tessaron.views.preview_view import row_values, type_names
    from tessaron.views.rows_view import RowForm, write_rows

    table = next(table for table in tables.layout.tables if table.name == name)
    data = tables[name].slice(0, rows)
    write_rows(
        sys.stdout,
        data.column_names,
        row_values(data, table),
        cast("RowForm", form),
        terminal_width(),
        type_names(table),
        palette(),
    )


def _say_what_was_read(tables: Any) -> None:
    sys.stdout.flush()
    if tables.findings:
        from tessaron.views.terminal import finding_lines

        for line in finding_lines(tables.findings):
            say(line)
    if tables.rejects:
        first = tables.rejects[0]
        count = f"{len(tables.rejects):,} reject{'s' * (len(tables.rejects) > 1)}"
        say(f"{count}, which an export lists; the first: {first.place()}: {first.message}")
    if tables.unmet:
        where = "in these records" if tables.is_partial else "in the source"
        say(f"not met {where}: {'; '.join(tables.unmet)}")
    if tables.is_partial:
        read = f"{tables.record_count:,} records" if tables.record_count != 1 else "1 record"
        say(f"read the first {read} only; tables and types are as these show them")
