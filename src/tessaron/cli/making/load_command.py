"""`tessaron load`: the tables of a source into a database."""

from __future__ import annotations

import sys
from typing import Any, cast

import click

from tessaron.cli.command_group import EXIT_CHECK_FAILED, told_if_stopped
from tessaron.cli.shared_options import (
    database_options,
    dictionary_options,
    dividing_options,
    exact_option,
    key_option,
    keys_option,
    layout_of,
    memory_option,
    name_option,
    no_envelope_option,
    origin_option,
    records_option,
    shaping_options,
    skip_unknown_option,
    stop_options,
    workers_option,
    xml_options,
)
from tessaron.cli.source_arguments import source_of, source_options


@click.command()
@click.argument("sources", nargs=-1, required=True, metavar="SOURCE...")
@click.option("--to", "to", required=True, metavar="URL", help="The database: sqlite:///FILE, postgresql://…")
@click.option(
    "--mode", type=click.Choice(["create", "append", "replace", "merge"]), default="create",
    show_default=True, help="What becomes of tables that are there.",
)  # fmt: skip
@database_options
@click.option("--into-existing", is_flag=True, help="Tables there may differ, if they take the rows.")
@click.option("--as-before", is_flag=True, help="Load by the layout of the last run into these tables.")
@click.option("--complete", is_flag=True, help="With merge: records that do not come again go.")
@name_option
@records_option
@xml_options
@shaping_options
@no_envelope_option
@keys_option
@key_option
@dividing_options
@exact_option
@origin_option
@dictionary_options
@workers_option
@memory_option
@skip_unknown_option
@stop_options
@click.option("--json", "as_json", is_flag=True, help="Print what was done as JSON.")
@source_options
def load(
    sources: tuple[str, ...],
    to: str,
    mode: str,
    schema: str | None,
    no_envelope: bool,
    dictionary: tuple[str, ...],
    no_dictionary: tuple[str, ...],
    layout_file: str | None,
    as_json: bool,
    **options: Any,
) -> None:
    """Load the tables of SOURCE into a database, in one transaction: all of it is there, or nothing.

    SOURCE is anything that export takes, or the folder of an export. What is there afterwards is checked and
    asked. `create` refuses tables that are there, `append` adds rows, `replace` empties them first, `merge`
    replaces the records that come again with all their rows, and leaves the others untouched.
    """
    from tessaron.views.load_view import load_view
    from tessaron.views.progress import ProgressBar
    from tessaron.views.terminal import console, notes_view, show
    from tessaron.write.exported_rows import is_export
    from tessaron.write.loading import load as load_tables

    given = {
        **options,
        "envelope": not no_envelope,
        "dictionaries": dictionary,
        "not_dictionaries": no_dictionary,
    }
    own = {
        name: given.pop(name)
        for name in ("runs_schema", "into_existing", "complete", "as_before", "password")
    }
    if len(sources) == 1 and is_export(sources[0]):
        source: Any = sources[0]
        given = _only_given(given)
    else:
        source = source_of(sources)
    with ProgressBar(console(stderr=True)) as bar:
        loaded = load_tables(
            source, to, mode=cast("Any", mode), schema=schema, progress=bar,
            layout=layout_of(layout_file), **own, **given,
        )  # fmt: skip
    with told_if_stopped(f"the tables are all in {loaded.receipt.target}"):
        if as_json:
            click.echo(loaded.to_json(), nl=False)
        else:
            show(console(), *load_view(loaded))
            show(console(stderr=True), *notes_view(loaded.receipt))
    if not loaded.passed:
        sys.exit(EXIT_CHECK_FAILED)


def _only_given(options: dict[str, Any]) -> dict[str, Any]:
    """Return the options that were given: an export takes none."""
    context = click.get_current_context()
    origins = {
        "envelope": "no_envelope", "dictionaries": "dictionary", "not_dictionaries": "no_dictionary",
    }  # fmt: skip
    default = click.core.ParameterSource.DEFAULT
    return {
        name: value
        for name, value in options.items()
        if context.get_parameter_source(origins.get(name, name)) not in (default, None)
    }
