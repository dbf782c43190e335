"""`tessaron ddl`: the SQL that makes tables and loads them."""

from __future__ import annotations

import click

from tessaron.cli import completing
from tessaron.cli.command_group import WorkCommand


@click.command(cls=WorkCommand)
@click.argument("source", metavar="FOLDER|LAYOUT", shell_complete=completing.files)
@click.option(
    "--dialect", default="postgresql", show_default=True, metavar="NAME",
    help="postgresql, sqlite, mysql, mariadb, sqlserver, oracle, ansi, or another of SQLAlchemy's.",
)  # fmt: skip
@click.option("--schema-name", metavar="NAME", help="The schema that the tables stand in.")
@click.option("-o", "--output", metavar="FILE", shell_complete=completing.files, help="Write it into a file.")
def ddl(source: str, dialect: str, schema_name: str | None, output: str | None) -> None:
    """Print the SQL that makes the tables of an export, and loads its files; or of a layout.

    What the database would not take is told before: names that are too long or differ only in case, too
    many columns, more digits of a second than it keeps.
    """
    from pathlib import Path

    from tessaron.sinks.syncing import write_file
    from tessaron.write.table_scripts import ddl as script_of

    text = script_of(source, dialect, schema=schema_name)
    if output is None:
        click.echo(text, nl=False)
    else:
        write_file(Path(output), text)
