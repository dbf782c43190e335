"""`tessaron find`: evaluate a path and print what it matches."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from itertools import islice
from typing import TYPE_CHECKING, Any, cast

import click

from tessaron.cli.command_group import (
    EXIT_CHECK_FAILED,
    count_type,
    namespace_option,
    records_option,
    say,
    source_of,
    terminal_width,
)
from tessaron.core.base.visible import clipped, in_quotes, visible

if TYPE_CHECKING:
    from tessaron.core.query.jsonpath import JsonPath
    from tessaron.engine.path_reading import Found, PathReader


@click.command()
@click.argument("arguments", nargs=-1, required=True, metavar="SOURCE... PATH")
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

    \b
    tessaron find calls.ndjson '$.stays[?@.berth == "N1"].moves[*].cargo'
    tessaron find feed.json '$.calls[*]' --pick ship='$.vessel.name' --as csv
    tessaron find manifests.xml '//m:consignment[@call="BWK-00017"]/m:goods' --raw
    """  # noqa: D301  (the backspace is how click is told to keep the lines)
    if len(arguments) < 2:
        raise click.UsageError("expected a source and a path, as in: tessaron find feed.json '$.calls[*]'")
    if form and not picks:
        raise click.UsageError("--as gives the form of the rows of --pick; name the columns with --pick")
    from tessaron.core.query.jsonpath import parse_path
    from tessaron.engine.path_reading import PathReader
    from tessaron.sources.formats import xml_inputs
    from tessaron.sources.inputs import resolve_inputs

    *sources, path = arguments
    inputs = resolve_inputs(source_of(tuple(sources)))
    documents = xml_inputs(inputs)
    if documents is not None:
        from tessaron.cli.find_xml_command import find_in_xml

        find_in_xml(
            documents, path, records, namespaces, raw, only_count, where_found, first, picks,
            form,
        )  # fmt: skip
        return
    reader = PathReader(
        inputs,
        parse_path(path),
        None if records is None else parse_path(records),
    )
    matches: Iterator[Found] = iter(reader) if first is None else islice(reader, first)
    if only_count:
        count = sum(1 for _ in matches)
        sys.stdout.write(f"{count}\n")
    elif picks:
        count = _print_rows(matches, picks, form or "table", where_found)
    else:
        count = _print_matches(matches, raw, where_found)
    if not count:
        _say_why(reader)
        sys.exit(EXIT_CHECK_FAILED)


def _print_matches(matches: Iterator[Found], raw: bool, where_found: bool) -> int:
    count = 0
    at_once = sys.stdout.isatty()
    for found in matches:
        count += 1
        value = found.match.value
        text = one_line(value) if raw and isinstance(value, str) else found.json()
        place = f"{found.path}\t{found.source}\t{found.record}\t" if where_found else ""
        sys.stdout.write(visible(f"{place}{text}\n"))
        if at_once or count == 1:
            sys.stdout.flush()
    return count


def one_line(text: str) -> str:
    """Return a text on one line, its line breaks as escapes."""
    text = text.replace("\r", "\\r").replace("\n", "\\n")
    return text.encode("utf-8", "backslashreplace").decode()


def _print_rows(matches: Iterator[Found], picks: tuple[str, ...], form: str, where_found: bool) -> int:
    from tessaron.views.rows_view import RowForm, write_rows

    columns = [_pick(pick) for pick in picks]
    names = [name for name, _ in columns]
    if where_found:
        names = ["path", "source", "record", *names]
    width = terminal_width()
    rows = (_row(found, columns, where_found) for found in matches)
    return write_rows(sys.stdout, names, rows, cast("RowForm", form), width)


def _pick(text: str) -> tuple[str, JsonPath]:
    from tessaron.core.query.jsonpath import parse_path

    name, equals, path = text.partition("=")
    if not equals or not name:
        raise click.UsageError(
            f"expected --pick NAME=PATH, got {in_quotes(text)}; for example: --pick id='$.call_id'"
        )
    return name, parse_path("$" + path[1:] if path.startswith("@") else path)


def _row(found: Found, columns: list[tuple[str, JsonPath]], where_found: bool) -> list[Any]:
    cells: list[Any] = [found.path, found.source, found.record] if where_found else []
    for _, path in columns:
        values = [match.value for match in path.find(found.match.value)]
        cells.append(values if len(values) > 1 else values[0] if values else None)
    return cells


def _say_why(reader: PathReader) -> None:
    """Say on standard error how far the path leads, what stands there, and what is near."""
    from tessaron.core.cutting.head_sample import sample_documents
    from tessaron.core.query.jsonpath_advice import advise

    samples = [sample_documents(head) for head in reader.heads]
    documents = [document for found, _ in samples for document in found]
    whole = all(complete for _, complete in samples)
    say(f"nothing matches {clipped(reader.path.text)}")
    if reader.records is not None:
        documents = [match.value for document in documents for match in reader.records.find(document)]
    if not documents:
        return
    advice = advise(reader.path, documents, reader.counts if whole or any(reader.counts) else ())
    times = "once" if advice.matched == 1 else f"{advice.matched:,} times"
    click.echo(visible(f"  {clipped(advice.deepest)} matches {times}: {advice.there}"), err=True)
    for index, text in enumerate(advice.nearest):
        click.echo(visible(f"  {'did you mean' if not index else '          or'} {text}"), err=True)
    if not whole:
        click.echo("  (judged from the first megabyte)", err=True)
