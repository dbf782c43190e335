"""`tessaron compare`: in what a structure differs from another."""

from __future__ import annotations

import sys
from typing import Any

import click

from tessaron.cli import completing
from tessaron.cli.command_group import EXIT_CHECK_FAILED, WorkCommand
from tessaron.cli.page_option import page_option, save_page
from tessaron.cli.shared_options import count_type, records_option, workers_option


@click.command(cls=WorkCommand)
@click.argument("old", metavar="OLD", shell_complete=completing.files)
@click.argument("new", metavar="NEW", shell_complete=completing.files)
@click.option(
    "--gate", type=click.Choice(["breaks", "widens", "none"]), default="breaks", show_default=True,
    help="Exit status 1 where a change is as bad as this, or worse.",
)  # fmt: skip
@click.option("--name", metavar="NAME", help="Which records of a database are meant.")
@click.option("--first", type=count_type(), metavar="N", help="Of sources: only the first N records.")
@records_option
@workers_option
@page_option
@click.option("--json", "as_json", is_flag=True, help="Print all changes as JSON.")
def compare(old: str, new: str, gate: str, as_json: bool, page_file: str | None, **options: Any) -> None:
    """Compare the structure NEW with OLD, and judge each change for the tables made by OLD.

    Each is a layout file, a survey that was kept (survey --json), the folder of an export, the URL of a
    database that runs have loaded, or any source. A change is harmless, widens (a column, table or wider type
    is needed) or breaks (values have no place, or mean something else).
    """
    from tessaron.repeat.comparing import compare as compare_structures
    from tessaron.views.progress import ProgressBar
    from tessaron.views.repeating.comparison_view import comparison_view
    from tessaron.views.terminal import console, show

    given = {name: value for name, value in options.items() if value is not None}
    with ProgressBar(console(stderr=True)) as bar:
        found = compare_structures(old, new, progress=bar, **given)
    if as_json:
        click.echo(found.to_json(), nl=False)
    else:
        show(console(), *comparison_view(found))
    if page_file is not None:
        from tessaron.views.page.command_pages import page_of_comparison

        save_page(page_of_comparison(found), page_file)
    if gate != "none" and not found.passes(gate):
        sys.exit(EXIT_CHECK_FAILED)
