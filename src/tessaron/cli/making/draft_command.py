"""`tessaron draft`: write the proposed layout of a source, or bring one up to date."""

from __future__ import annotations

import sys
from importlib.resources import files
from typing import Any

import click

from tessaron.cli import completing
from tessaron.cli.command_group import WorkCommand, say, terminal_width
from tessaron.cli.page_option import check_place, page_option, save_page, typed
from tessaron.cli.shared_options import (
    count_type,
    dictionary_options,
    dividing_options,
    exact_option,
    key_option,
    keys_option,
    memory_option,
    name_option,
    no_envelope_option,
    only_option,
    origin_option,
    records_option,
    skip_unknown_option,
    without_option,
    workers_option,
    xml_options,
)
from tessaron.cli.source_arguments import source_argument, source_of, source_options


def _print_schema(context: click.Context, option: click.Parameter, wanted: bool) -> None:
    if wanted:
        click.echo(files("tessaron").joinpath("layout.schema.json").read_text("utf-8"), nl=False)
        context.exit()


@click.command(cls=WorkCommand)
@click.option(
    "--schema",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=_print_schema,
    help="Print the JSON Schema of layout files, for editors.",
)
@source_argument
@click.option(
    "-o",
    "--output",
    metavar="FILE",
    shell_complete=completing.files,
    help="The layout file to write; else standard output.",
)
@click.option(
    "--update",
    "old",
    metavar="FILE",
    shell_complete=completing.files,
    help="Bring this layout up to date: edits and comments stay.",
)
@click.option("--tree", is_flag=True, help="Draw the tables as a tree, and what refers to what.")
@click.option("--why", is_flag=True, help="Say why each table is one, and what would make it none.")
@click.option(
    "--serve", is_flag=True, help="Choose on a page in the browser: it shows at once what comes out."
)
@click.option(
    "--port",
    type=click.IntRange(0, 65_535),
    default=0,
    metavar="N",
    help="Of --serve: the port; else a free one.",
)
@click.option("--replace", is_flag=True, help="Replace the layout file that is there.")
@records_option
@xml_options
@name_option
@click.option(
    "--names",
    type=click.Choice(["path", "leaf"]),
    default="path",
    show_default=True,
    help="Name columns by their path, or by their last name as far as that tells them apart.",
)
@keys_option
@key_option
@click.option(
    "--lookups", is_flag=True, help="Tables of their own for fields that follow from another in all rows."
)
@dividing_options
@exact_option
@origin_option
@no_envelope_option
@dictionary_options
@only_option
@without_option
@click.option("--first", type=count_type(), metavar="N", help="Only the first N records: a sample.")
@workers_option
@memory_option
@skip_unknown_option
@page_option
@source_options
def draft(
    sources: tuple[str, ...],
    output: str | None,
    old: str | None,
    replace: bool,
    why: bool,
    tree: bool,
    no_envelope: bool,
    dictionary: tuple[str, ...],
    no_dictionary: tuple[str, ...],
    page_file: str | None,
    serve: bool,
    port: int,
    **options: Any,
) -> None:
    """Write the layout that Tessaron proposes for SOURCE: tables, columns, types, with what is known of each.

    Edit the file, keep it in version control, and run it: tessaron export SOURCE --layout FILE -o DIR.
    With --update a layout that was edited gets the paths that are new, and those not met are marked.
    """
    from tessaron.decide import drafting_run
    from tessaron.decide.layout_file import Layout
    from tessaron.views.progress import ProgressBar
    from tessaron.views.reasons_view import reasons_view
    from tessaron.views.terminal import console

    if why and old is not None:
        raise click.UsageError("--why explains a draft; with --update the tables are those of the layout")
    if page_file is not None and old is not None:
        raise click.UsageError(
            "--page shows a draft; for a layout that is there: survey --layout FILE --page"
        )
    options |= {
        "envelope": not no_envelope,
        "dictionaries": dictionary,
        "not_dictionaries": no_dictionary,
    }
    if serve:
        _serve(sources, output, old, replace, port, {"why": why, "tree": tree, "page": page_file}, options)
        return
    changes = None
    reasons: Any = {}
    page: Any = None
    with ProgressBar(console(stderr=True)) as bar:
        if old is not None:
            layout = Layout.read(old)
            made, changes = drafting_run.update(layout, source_of(sources), progress=bar, **options)
        elif page_file is not None:
            made, reasons, page = _charted(source_of(sources), bar, options, typed(sources), output)
        else:
            made, reasons = drafting_run.explained_draft(source_of(sources), progress=bar, **options)
    target = output or old
    if target is not None:
        _write(made, target, replace or old == target)
    elif not (why or tree):
        sys.stdout.write(made.text)
    if page_file is not None:
        save_page(page, page_file)
    if tree:
        sys.stdout.writelines(f"{line}\n" for line in _tree_of(made))
    if why:
        sys.stdout.writelines(f"{line}\n" for line in reasons_view(reasons, terminal_width()))
    if changes is not None:
        _say_changes(changes)


def _tree_of(layout: Any) -> Any:
    from tessaron.views.diagram.table_links import drawn_tables, single_tables
    from tessaron.views.diagram.text_drawing import diagram_lines

    tables = layout.compiled(secret=b"any").written().tables
    return diagram_lines(drawn_tables(tables, single_tables(layout.part)), terminal_width())


def _serve(
    sources: tuple[str, ...],
    output: str | None,
    old: str | None,
    replace: bool,
    port: int,
    others: dict[str, Any],
    options: dict[str, Any],
) -> None:
    """Serve the page of choices until it is closed."""
    from tessaron.choosing.choosing_server import ChoosingServer
    from tessaron.choosing.live_draft import LiveDraft
    from tessaron.core.base.errors import UsageError
    from tessaron.decide.layout_file import Layout
    from tessaron.look.charting import chart_source
    from tessaron.views.progress import ProgressBar
    from tessaron.views.terminal import console

    wrong = [f"--{name}" for name, value in others.items() if value]
    if wrong:
        raise click.UsageError(f"{' and '.join(wrong)} and --serve: one of them at a time")
    target = output or old
    if target is None:
        raise click.UsageError("--serve saves into a file: -o FILE, or --update FILE")
    check_place(target, "the layout")
    if old is None:
        _check_free(target, replace)
    layout = None if old is None else Layout.read(old)
    with ProgressBar(console(stderr=True)) as bar:
        chart = chart_source(source_of(sources), bar, seen_by=layout, **options)
    live = LiveDraft(chart, layout, target, typed(sources))
    try:
        server = ChoosingServer(live, port)
    except OSError as error:
        raise UsageError(f"port {port}: {error.strerror}; without --port a free one is taken") from error
    with server:
        say(f"choose on {server.url}")
        say(f"it is saved in {target} when you say so; Ctrl-C, or closing the page, ends this")
        try:
            server.serve_until_closed()
        except KeyboardInterrupt:
            say("stopped")
    if live.is_saved:
        say(f"{target} holds what you have chosen; tessaron export {typed(sources)} --layout {target} -o DIR")
    elif live.choices.steps:
        say(f"{live.choices.steps:,} choices were not saved")
    else:
        say("nothing was chosen, and nothing saved")


def _check_free(target: str, replace: bool) -> None:
    from pathlib import Path

    from tessaron.core.base.errors import TargetError

    if Path(target).exists() and not replace:
        raise TargetError(f"{target} is there already; --update keeps its edits, --replace writes it anew")


def _charted(source: Any, bar: Any, options: dict[str, Any], shown: str, output: str | None) -> Any:
    """Return the draft, why its tables are tables, and the page of both."""
    from tessaron.core.base.errors import UsageError
    from tessaron.look.charting import chart_source
    from tessaron.views.page.command_pages import page_of_chart

    chart = chart_source(source, bar, **options)
    if chart.layout is None:
        raise UsageError("there are no records to draft a layout from")
    return chart.layout, chart.reasons, page_of_chart(chart, "draft", shown, output)


def _write(layout: Any, target: str, replace: bool) -> None:
    _check_free(target, replace)
    layout.write(target)
    tables = len(layout.tables)
    columns = sum(len(layout.columns(name)) for name in layout.tables)
    say(f"{target}: {tables} table{'s' * (tables != 1)}, {columns} columns")


def _say_changes(changes: Any) -> None:
    for word, names in (("new", changes.new), ("not met", changes.unmet), ("met again", changes.met_again)):
        for name in names:
            say(f"{word}: {name}")
    if not any((changes.new, changes.unmet, changes.met_again)):
        say("the layout knows every path of the source, and the source has every path of the layout")
