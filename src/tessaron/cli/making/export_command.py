"""`tessaron export`: write the tables of a source into a folder."""

from __future__ import annotations

import sys
from typing import Any, cast

import click

from tessaron.cli import completing
from tessaron.cli.cluster_option import cluster_given, cluster_options
from tessaron.cli.command_group import EXIT_CHECK_FAILED, WorkCommand, say, terminal_width, told_if_stopped
from tessaron.cli.page_option import page_option, rejects_in, save_run_page
from tessaron.cli.shared_options import (
    count_type,
    dictionary_options,
    dividing_options,
    exact_option,
    file_options,
    given_file_options,
    growing_options,
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
from tessaron.cli.source_arguments import check_no_mark, mark_option, source_of, source_options
from tessaron.core.base.bounds import MOST_LEVELS


@click.command(cls=WorkCommand)
@click.argument("sources", nargs=-1, metavar="SOURCE...", shell_complete=completing.files)
@click.option(
    "-o",
    "--output",
    required=True,
    metavar="DIR",
    shell_complete=completing.files,
    help="Folder to write the tables into.",
)
@click.option(
    "--format",
    "format_name",
    type=click.Choice(["parquet", "csv", "tsv", "arrow", "jsonl", "xlsx"]),
    default="parquet",
    show_default=True,
    help="Parquet (zstd), CSV (RFC 4180), TSV, Arrow (IPC), lines of JSON, or one spreadsheet.",
)
@click.option(
    "--for-spreadsheets", is_flag=True, help="For CSV: an apostrophe before texts that look like formulas."
)
@click.option(
    "--dialect", default="postgresql", show_default=True, metavar="NAME",
    help="Dialect of load.sql, which makes the tables in a database and loads the files; see ddl.",
)  # fmt: skip
@file_options
@name_option
@click.option("--replace", is_flag=True, help="Replace the export that is in the folder.")
@records_option
@xml_options
@shaping_options
@click.option(
    "--strict", is_flag=True, help="With --layout: paths not met, values beyond columns are failures."
)
@no_envelope_option
@keys_option
@key_option
@dividing_options
@exact_option
@origin_option
@click.option(
    "--duplicate-keys",
    type=click.Choice(["last", "reject"]),
    default="last",
    show_default=True,
    help="For a name twice in one object: the last value wins, or reject the record.",
)
@dictionary_options
@workers_option
@cluster_options
@memory_option
@skip_unknown_option
@click.option(
    "--depth-limit", type=count_type(most=MOST_LEVELS), metavar="N", help="Reject what is nested deeper."
)
@stop_options
@click.option(
    "--from-rejects", metavar="FILE", help="Take the records in a rejects.ndjson, mended, as source."
)
@click.option("--keep-raw-rejects", is_flag=True, help="With masks: keep the records of rejects as they are.")
@growing_options
@mark_option
@click.option("--no-sync", is_flag=True, help="Do not wait until the disk has it all: for scratch work.")
@page_option
@click.option("--json", "as_json", is_flag=True, help="Print the receipt as JSON.")
@source_options
def export(
    sources: tuple[str, ...],
    output: str,
    format_name: str,
    replace: bool,
    no_envelope: bool,
    dictionary: tuple[str, ...],
    no_dictionary: tuple[str, ...],
    depth_limit: int | None,
    as_json: bool,
    layout_file: str | None,
    from_rejects: str | None,
    no_sync: bool,
    ledger: str | None,
    on_change: str | None,
    wait: float | None,
    page_file: str | None,
    **options: Any,
) -> None:
    """Write the tables of SOURCE into a folder, one file per table, with a receipt.

    SOURCE is a JSON file (one array, one document, or one per line), also compressed, a folder of such
    files, a pattern, or `-` for standard input. Several sources are one feed.

    With --ledger the folder grows: only what is new is read, and each table gets part files of it.
    """
    from tessaron.views.page.first_rows import FirstRows, first_rows_of_folder
    from tessaron.views.progress import ProgressBar
    from tessaron.views.terminal import console, notes_view, receipt_view, show
    from tessaron.write.export import export as write_tables

    if bool(sources) is (from_rejects is not None):
        raise click.UsageError("expected SOURCE, or --from-rejects FILE")
    cluster = cluster_given(options)
    if cluster is not None and (ledger is not None or from_rejects is not None):
        raise click.UsageError("--cluster does not go with --ledger or --from-rejects")
    if depth_limit is not None:
        options["depth_limit"] = depth_limit
    options |= given_file_options(options)
    if ledger is None and (on_change, wait) != (None, None):
        raise click.UsageError("--on-change and --wait go with --ledger")
    if ledger is not None:
        if replace or from_rejects or no_sync:
            raise click.UsageError("--replace, --from-rejects and --no-sync do not go with --ledger")
        del options["dialect"]
        given = {**options, "envelope": not no_envelope, "dictionaries": dictionary}
        asked = {"on_change": on_change, "wait": wait}
        given |= {name: value for name, value in asked.items() if value is not None}
        is_said = click.get_current_context().get_parameter_source("format_name") is not _DEFAULT
        given["format"] = format_name if is_said else None
        given["not_dictionaries"] = no_dictionary
        _grow(sources, output, ledger, layout_file, as_json, page_file, given)
        return
    check_no_mark()
    first = FirstRows()
    if page_file is not None and cluster is None:
        options["on_rows"] = first.take
    with ProgressBar(console(stderr=True)) as bar:
        receipt = write_tables(
            source_of(sources) if sources else None,
            output,
            from_rejects=from_rejects,
            format=cast("Any", format_name),
            replace=replace,
            progress=bar,
            layout=layout_of(layout_file),
            envelope=not no_envelope,
            dictionaries=dictionary,
            not_dictionaries=no_dictionary,
            sync=not no_sync,
            cluster=cluster,
            **options,
        )
    with told_if_stopped(f"the new tables are all in {output}"):
        if as_json:
            click.echo(receipt.to_json(), nl=False)
        else:
            show(console(), *receipt_view(receipt, terminal_width()))
            show(console(stderr=True), *notes_view(receipt))
        if page_file is not None:
            told = receipt.to_dict()
            rows = first.rows if cluster is None else first_rows_of_folder(output)
            save_run_page("export", page_file, told, _layout_in(output), rows, rejects_in(output), output)
    if not receipt.passed or (options["strict"] and receipt.misses):
        sys.exit(EXIT_CHECK_FAILED)


def _grow(
    sources: tuple[str, ...], output: str, ledger: str, layout_file: str | None, as_json: bool,
    page_file: str | None, options: dict[str, Any],
) -> None:  # fmt: skip
    """Add what is new to a folder, and show what that was."""
    from tessaron.repeat.growing_export import grow
    from tessaron.views.page.first_rows import first_rows_of_folder
    from tessaron.views.progress import ProgressBar
    from tessaron.views.repeating.kept_view import grown_view, kept_notes
    from tessaron.views.terminal import console, show

    with ProgressBar(console(stderr=True)) as bar:
        grown = grow(
            source_of(sources), output, ledger=ledger, progress=bar, layout=layout_of(layout_file), **options
        )
    with told_if_stopped(f"what is new is all in {output}, and in the ledger"):
        if as_json:
            click.echo(grown.to_json(), nl=False)
        else:
            show(console(), *grown_view(grown))
            show(console(stderr=True), *kept_notes(grown.kept))
        if page_file is not None and grown.receipt is not None:
            told = {"layout": layout_file, **grown.receipt}
            rows = first_rows_of_folder(output)
            save_run_page("export", page_file, told, _layout_in(output), rows, rejects_in(output), output)
        elif page_file is not None:
            say("nothing was new, and nothing is there: no page was written")
    if not grown.passed:
        sys.exit(EXIT_CHECK_FAILED)


def _layout_in(folder: str) -> str:
    """Return the text of the layout file of an export."""
    from tessaron.sinks.target_folder import LAYOUT_FILE
    from tessaron.sources.remote.store_copies import text_in

    return text_in(folder, LAYOUT_FILE)


_DEFAULT = click.core.ParameterSource.DEFAULT
