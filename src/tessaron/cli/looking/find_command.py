"""`tessaron find`: evaluate a path and print what it matches."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from typing import cast

import click

from tessaron.cli import completing
from tessaron.cli.command_group import EXIT_CHECK_FAILED, WorkCommand, say, terminal_width
from tessaron.cli.looking.finders import Finder, JsonFinder, Located, XmlFinder
from tessaron.cli.shared_options import count_type, namespace_option, records_option
from tessaron.cli.source_arguments import source_of, source_options
from tessaron.core.base.visible import visible

_ERRORS_SHOWN = 3


@click.command(cls=WorkCommand)
@click.argument(
    "arguments", nargs=-1, required=True, metavar="SOURCE... PATH", shell_complete=completing.files_then_paths
)
@records_option
@click.option("--raw", is_flag=True, help="Texts without quotes, for other tools.")
@click.option("--count", "only_count", is_flag=True, help="Print how many matches there are, nothing else.")
@click.option(
    "--where-found", is_flag=True, help="Before each match: its path, the file and the record's number."
)
@click.option("--first", type=count_type(), metavar="N", help="Stop after N matches.")
@click.option(
    "--pick",
    "picks",
    multiple=True,
    metavar="NAME=PATH",
    help="Print a row per match, with what PATH finds in it ('$' is the match); can be given several times.",
)
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "tsv", "csv", "json"]),
    help="The form of the rows of --pick.  [default: table]",
)
@namespace_option
@source_options
def find(
    arguments: tuple[str, ...],
    records: str | None,
    raw: bool,
    only_count: bool,
    where_found: bool,
    first: int | None,
    picks: tuple[str, ...],
    form: str | None,
    namespaces: dict[str, str],
) -> None:
    """Print what PATH (JSONPath, RFC 9535; for XML any XPath 1.0) matches in SOURCE, a line for each.

    `$` is the document, in JSON Lines each line; with --records it is each record. JSON is printed compact,
    elements as XML, attributes and texts as they are. When nothing matches, the exit status is 1, and what
    is near is said on standard error.
    """
    if len(arguments) < 2:
        raise click.UsageError("expected a source and a path, as in: tessaron find feed.json '$.calls[*]'")
    if form and not picks:
        raise click.UsageError("--as gives the form of the rows of --pick; name the columns with --pick")
    from tessaron.sources.formats import xml_inputs
    from tessaron.sources.resolving import resolve_inputs

    *sources, path = arguments
    inputs = resolve_inputs(source_of(tuple(sources)))
    documents = xml_inputs(inputs)
    finder: Finder = (
        JsonFinder(inputs, path, records, picks)
        if documents is None
        else XmlFinder(documents, path, records, namespaces, picks)
    )
    matches = finder.matches(first)
    if only_count:
        count = sum(1 for _ in matches)
        sys.stdout.write(f"{count}\n")
    elif picks:
        count = _print_rows(finder, matches, form or "table", where_found)
    else:
        count = _print_matches(finder, matches, raw, where_found)
    for error in finder.errors[:_ERRORS_SHOWN]:
        say(str(error))
    if len(finder.errors) > _ERRORS_SHOWN:
        say(f"{len(finder.errors) - _ERRORS_SHOWN:,} more documents or records could not be read")
    if not count:
        finder.say_why()
    if not count or finder.errors:
        sys.exit(EXIT_CHECK_FAILED)


def _print_matches(finder: Finder, matches: Iterator[Located], raw: bool, where_found: bool) -> int:
    count = 0
    at_once = sys.stdout.isatty()
    for match in matches:
        count += 1
        place = f"{match.path}\t{match.source}\t{match.record}\t" if where_found else ""
        sys.stdout.write(visible(f"{place}{finder.line(match, raw)}\n"))
        if at_once or count == 1:
            sys.stdout.flush()
    return count


def _print_rows(finder: Finder, matches: Iterator[Located], form: str, where_found: bool) -> int:
    from tessaron.views.rows_view import RowForm, write_rows

    places = ["path", "source", "record"] if where_found else []
    rows = (
        [*((match.path, match.source, match.record) if where_found else ()), *finder.cells(match)]
        for match in matches
    )
    return write_rows(sys.stdout, [*places, *finder.names], rows, cast("RowForm", form), terminal_width())
