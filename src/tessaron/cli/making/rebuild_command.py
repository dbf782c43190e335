"""`tessaron rebuild`: make the documents again from the tables."""

from __future__ import annotations

import json
from dataclasses import asdict
from typing import Any

import click

from tessaron.cli import completing
from tessaron.cli.command_group import WorkCommand
from tessaron.cli.shared_options import database_options, layout_of
from tessaron.core.base.visible import visible


@click.command(cls=WorkCommand)
@click.argument("folder", metavar="FOLDER", shell_complete=completing.files)
@click.option(
    "-o", "--output", required=True, metavar="FILE", help="The file to write, or a folder of files."
)
@click.option(
    "--as",
    "form",
    type=click.Choice(["lines", "array", "documents", "files"]),
    help="One record a line, one array, documents as they were, or a file for each record; else what fits.",
)
@click.option("--layout", "layout_file", metavar="FILE", help="Make documents of this structure instead.")
@click.option("--replace", is_flag=True, help="Replace a file that is there.")
@database_options
@click.option("--name", metavar="NAME", help="Of a database: the records' table, where several are there.")
@click.option("--json", "as_json", is_flag=True, help="Print what was made as JSON.")
def rebuild(
    folder: str, output: str, form: Any, layout_file: str | None, replace: bool, as_json: bool, **options: Any
) -> None:
    """Make the documents again from the tables in FOLDER, JSON or XML, as their layout says.

    FOLDER is an export, or the URL of a database that tessaron load has loaded, or any folder of Parquet or
    CSV files with primary and foreign keys and a layout for them. Whether nothing was lost on the way,
    tessaron verify says.
    """
    from tessaron.prove import rebuilding
    from tessaron.views.progress import ProgressBar
    from tessaron.views.terminal import console
    from tessaron.views.verification_view import rebuilt_view

    with ProgressBar(console(stderr=True)) as bar:
        made = rebuilding.rebuild(
            folder, output, form=form, layout=layout_of(layout_file), replace=replace, progress=bar, **options
        )
    if as_json:
        click.echo(json.dumps(asdict(made), ensure_ascii=False))
    else:
        for line in rebuilt_view(made):
            click.echo(visible(line))
