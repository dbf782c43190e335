"""`tessaron history`: what runs have done to a target."""

from __future__ import annotations

import click

from tessaron.cli import completing
from tessaron.cli.command_group import WorkCommand
from tessaron.cli.page_option import page_option, save_page
from tessaron.cli.shared_options import count_type, database_options

_LAST = 20


@click.command(cls=WorkCommand)
@click.argument("target", metavar="TARGET", shell_complete=completing.files)
@click.option("--name", metavar="NAME", help="Only runs that have loaded records into this table.")
@click.option(
    "--last", type=count_type(), default=_LAST, show_default=True, metavar="N", help="So many runs."
)
@database_options
@page_option
@click.option("--json", "as_json", is_flag=True, help="Print all runs as JSON.")
def history(
    target: str, name: str | None, last: int, schema: str | None, runs_schema: str | None,
    password: str | None, as_json: bool, page_file: str | None,
) -> None:  # fmt: skip
    """Show what runs have done to TARGET: when, from what, how many records, what had changed.

    TARGET is a database or a catalog of lake tables that runs have loaded, or the folder of an export.
    """
    from tessaron.repeat.run_history import history as history_of

    found = history_of(target, name=name, schema=schema, runs_schema=runs_schema, password=password)
    if page_file is not None:
        from tessaron.views.page.command_pages import page_of_history

        save_page(page_of_history(found), page_file)
    if as_json:
        click.echo(found.to_json(), nl=False)
        return
    from tessaron.views.repeating.history_view import history_view
    from tessaron.views.terminal import console, show

    show(console(), *history_view(found, last))
