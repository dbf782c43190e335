"""`tessaron verify`: compare an export with what it was made of, and check its tables."""

from __future__ import annotations

import sys
from typing import Any

import click

from tessaron.cli import completing
from tessaron.cli.command_group import EXIT_CHECK_FAILED, WorkCommand
from tessaron.cli.page_option import page_option, save_page
from tessaron.cli.shared_options import count_type, database_options, layout_of, workers_option
from tessaron.cli.source_arguments import source_of, source_options


@click.command(cls=WorkCommand)
@click.argument("folder", metavar="FOLDER", shell_complete=completing.files)
@click.argument("sources", nargs=-1, metavar="[SOURCE...]", shell_complete=completing.files)
@click.option("--sample", type=count_type(), metavar="N", help="Compare only the first N records.")
@click.option("--layout", "layout_file", metavar="FILE", help="The layout; else the one in FOLDER.")
@workers_option
@click.option(
    "--kernel",
    type=click.Choice(["auto", "compiled", "python"]),
    default="auto",
    show_default=True,
    help="What reads both sides; python is another reader than the one that exports.",
)
@database_options
@click.option("--name", metavar="NAME", help="Of a database: the records' table, where several are there.")
@page_option
@click.option("--json", "as_json", is_flag=True, help="Print what was found as JSON.")
@source_options
def verify(
    folder: str,
    sources: tuple[str, ...],
    layout_file: str | None,
    as_json: bool,
    page_file: str | None,
    **options: Any,
) -> None:
    """Compare the tables in FOLDER with SOURCE, record by record, and check the tables in themselves.

    FOLDER may be the URL of a database that tessaron load has loaded. SOURCE is what was exported; without
    it, the sources that the receipt names. The exit status is 1 if anything differs or a check fails.
    """
    from tessaron.prove import verifying
    from tessaron.views.progress import ProgressBar
    from tessaron.views.terminal import console, show
    from tessaron.views.verification_view import verification_view

    with ProgressBar(console(stderr=True)) as bar:
        found = verifying.verify(
            folder,
            source_of(sources) if sources else None,
            layout=layout_of(layout_file),
            progress=bar,
            **options,
        )
    if as_json:
        click.echo(found.to_json())
    else:
        show(console(), *verification_view(found))
    if page_file is not None:
        from tessaron.views.page.command_pages import page_of_verification

        save_page(page_of_verification(found, _tables_in(folder, layout_file)), page_file)
    if not found.passed:
        sys.exit(EXIT_CHECK_FAILED)


def _tables_in(folder: str, layout_file: str | None) -> Any:
    """Return the tables that were looked at, as a page shows them; None where only a database knows them."""
    from pathlib import Path

    from tessaron.decide.layout_file import Layout
    from tessaron.sinks.target_folder import LAYOUT_FILE
    from tessaron.views.page.command_pages import tables_of_layout
    from tessaron.views.page.first_rows import first_rows_of_folder
    from tessaron.write.books.receipt import read_receipt

    file = Path(layout_file) if layout_file is not None else Path(folder) / LAYOUT_FILE
    if not file.exists():
        return None
    rows = {} if layout_file is not None else first_rows_of_folder(folder)
    return tables_of_layout(Layout.read(file), rows, read_receipt(Path(folder)) or None)
