"""`tessaron trace`: where a row is from."""

from __future__ import annotations

import sys

import click

from tessaron.cli import completing
from tessaron.cli.command_group import EXIT_CHECK_FAILED, WorkCommand
from tessaron.cli.shared_options import database_options


@click.command(cls=WorkCommand)
@click.argument("target", metavar="TARGET", shell_complete=completing.files)
@click.argument("table", metavar="TABLE", shell_complete=completing.tables)
@click.argument("key", metavar="KEY")
@database_options
@click.option("--json", "as_json", is_flag=True, help="Print what was found as JSON.")
def trace(
    target: str, table: str, key: str, schema: str | None, runs_schema: str | None, password: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Show from which record of which source the row of TABLE with the primary key KEY is, and its run.

    TARGET is a database or a catalog of lake tables that runs have loaded, or the folder of an export.
    The record is shown where its source is still there.
    """
    from tessaron.repeat.tracing import trace as trace_row
    from tessaron.views.progress import ProgressBar
    from tessaron.views.repeating.trace_view import trace_view
    from tessaron.views.terminal import console, show

    with ProgressBar(console(stderr=True)) as bar:
        found = trace_row(
            target, table, key, schema=schema, runs_schema=runs_schema, password=password, progress=bar
        )
    if as_json:
        click.echo(found.to_json(), nl=False)
    else:
        show(console(), *trace_view(found))
    if found.source is None:
        sys.exit(EXIT_CHECK_FAILED)
