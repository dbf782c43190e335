"""`tessaron load`: the tables of a source into a database."""

from __future__ import annotations

import sys
from dataclasses import replace
from typing import Any, cast

import click

from tessaron.cli import completing
from tessaron.cli.cluster_option import cluster_given, cluster_options
from tessaron.cli.command_group import EXIT_CHECK_FAILED, WorkCommand, say, told_if_stopped
from tessaron.cli.page_option import page_option, save_run_page
from tessaron.cli.shared_options import (
    database_options,
    dictionary_options,
    dividing_options,
    exact_option,
    key_option,
    keys_option,
    layout_of,
    ledger_options,
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
from tessaron.cli.source_arguments import check_no_mark, mark_option, source_of, source_options


@click.command(cls=WorkCommand)
@click.argument("sources", nargs=-1, required=True, metavar="SOURCE...", shell_complete=completing.files)
@click.option("--to", "to", required=True, metavar="URL", help="The database: sqlite:///FILE, postgresql://…")
@click.option(
    "--mode", type=click.Choice(["create", "append", "replace", "merge"]),
    help="What becomes of tables that are there; else create, with --ledger append.",
)  # fmt: skip
@database_options
@click.option("--into-existing", is_flag=True, help="Tables there may differ, if they take the rows.")
@click.option("--as-before", is_flag=True, help="Load by the layout of the last run into these tables.")
@click.option("--complete", is_flag=True, help="With merge: records that do not come again go.")
@ledger_options
@mark_option
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
@cluster_options
@memory_option
@skip_unknown_option
@stop_options
@page_option
@click.option("--json", "as_json", is_flag=True, help="Print what was done as JSON.")
@source_options
def load(
    sources: tuple[str, ...],
    to: str,
    mode: str | None,
    schema: str | None,
    no_envelope: bool,
    dictionary: tuple[str, ...],
    no_dictionary: tuple[str, ...],
    layout_file: str | None,
    as_json: bool,
    ledger: str | None,
    changed: str | None,
    on_change: str | None,
    again: bool,
    wait: float | None,
    page_file: str | None,
    **options: Any,
) -> None:
    """Load the tables of SOURCE into a database, in one transaction: all of it is there, or nothing.

    SOURCE is anything that export takes, or the folder of an export. What is there afterwards is checked and
    asked. `create` refuses tables that are there, `append` adds rows, `replace` empties them first, `merge`
    replaces the records that come again with all their rows, and leaves the others untouched.

    With --ledger only what is new is loaded: the ledger says which sources are done, and how far feeds came.
    """
    cluster = cluster_given(options)
    if cluster is not None and ledger is not None:
        raise click.UsageError("--cluster does not go with --ledger")
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
    kept = {"changed": changed, "on_change": on_change, "again": again or None, "wait": wait}
    if ledger is None and any(value is not None for value in kept.values()):
        raise click.UsageError("--changed, --on-change, --again and --wait go with --ledger")
    if ledger is not None:
        refused = ("into_existing", "complete", "as_before")
        wrong = [f"--{name.replace('_', '-')}" for name in refused if own.pop(name)]
        if wrong:
            said = "not with --ledger, which goes on as before by itself"
            raise click.UsageError(f"{', '.join(wrong)}: {said}")
        asked = {name: value for name, value in kept.items() if value is not None}
        every = {**own, **given, **asked}
        _keep_up(source_of(sources), to, ledger, mode, schema, layout_file, as_json, page_file, every)
        return
    from tessaron.views.load_view import load_view
    from tessaron.views.page.first_rows import FirstRows, first_rows_of_folder
    from tessaron.views.progress import ProgressBar
    from tessaron.views.terminal import cluster_lines, console, notes_view, show
    from tessaron.write.exported_rows import is_export
    from tessaron.write.loading import load as load_tables

    check_no_mark()
    if len(sources) == 1 and is_export(sources[0]):
        source: Any = sources[0]
        given = _only_given(given)
    else:
        source = source_of(sources)
    first = FirstRows()
    if page_file is not None and isinstance(source, str):
        first.rows = first_rows_of_folder(source)
    elif page_file is not None:
        given["on_rows"] = first.take
    with ProgressBar(console(stderr=True)) as bar:
        loaded = load_tables(
            source, to, mode=cast("Any", mode or "create"), schema=schema, progress=bar,
            layout=layout_of(layout_file), cluster=cluster, **own, **given,
        )  # fmt: skip
    with told_if_stopped(f"the tables are all in {loaded.receipt.target}"):
        if as_json:
            click.echo(loaded.to_json(), nl=False)
        else:
            show(console(), *load_view(loaded), *cluster_lines(loaded.receipt))
            show(console(stderr=True), *notes_view(loaded.receipt))
        if page_file is not None:
            told = loaded.receipt.to_dict()
            save_run_page("load", page_file, told, loaded.layout, first.rows, (), to)
    if not loaded.passed:
        sys.exit(EXIT_CHECK_FAILED)


def _keep_up(
    source: Any, to: str, ledger: str, mode: str | None, schema: str | None, layout_file: str | None,
    as_json: bool, page_file: str | None, options: dict[str, Any],
) -> None:  # fmt: skip
    """Load what is new, and show what that was."""
    from tessaron.repeat.keeping_up import keep_up
    from tessaron.views.progress import ProgressBar
    from tessaron.views.repeating.kept_view import kept_notes, kept_view
    from tessaron.views.terminal import console, notes_view, show

    with ProgressBar(console(stderr=True)) as bar:
        kept = keep_up(
            source, to, ledger=ledger, mode=cast("Any", mode or "append"), schema=schema, progress=bar,
            layout=layout_of(layout_file), **options,
        )  # fmt: skip
    with told_if_stopped("what is new is all loaded, and in the ledger"):
        if as_json:
            click.echo(kept.to_json(), nl=False)
        else:
            show(console(), *kept_view(kept))
            # What comes need not have all that is in the tables.
            receipts = [replace(loaded.receipt, unmet=()) for loaded in kept.loads]
            notes = [note for receipt in receipts for note in notes_view(receipt)]
            show(console(stderr=True), *notes, *kept_notes(kept))
        if page_file is not None and kept.loads:
            last = kept.loads[-1]
            save_run_page("load", page_file, last.receipt.to_dict(), last.layout, {}, (), to)
        elif page_file is not None:
            say("nothing was new: no page was written; tessaron history --page shows what was done before")
    if not kept.passed:
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
