"""`tessaron values` and `tessaron compose`: documents as lines for grep, sort and diff, and back."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from typing import Any, TextIO

import click

from tessaron.cli.group import records_option, say, source_argument, source_of


@click.command()
@source_argument
@records_option
def values(sources: tuple[str, ...], records: str | None) -> None:
    """Print every scalar of SOURCE with its full place, one per line: made for grep, sort and diff.

    A line is a normalized path (RFC 9535), a tab, and the value as JSON. Where there are several documents,
    the paths begin with their number, as if they were elements of one array. `tessaron compose` makes JSON of
    such lines again.
    """
    from tessaron.core.value_lines import value_lines

    numbered = False
    for number, document, several in _documents(sources, records):
        numbered = several
        for line in value_lines(document, (number,) if several else ()):
            sys.stdout.write(line + "\n")
    if numbered:
        sys.stdout.flush()
        say("several documents, numbered like elements of an array; compose --lines prints one per line")


def _documents(sources: tuple[str, ...], records: str | None) -> Iterator[tuple[int, Any, bool]]:
    """Yield each document with its number, and whether there are several."""
    from tessaron.core.jsonpath import parse_path
    from tessaron.matching import PathReader
    from tessaron.sources.inputs import resolve_inputs

    path = parse_path("$") if records is None else parse_path(records)
    found = iter(PathReader(resolve_inputs(source_of(sources)), path))
    first, second = next(found, None), next(found, None)
    if first is None:
        return
    yield 0, first.match.value, second is not None
    if second is not None:
        yield 1, second.match.value, True
    for number, match in enumerate(found, 2):
        yield number, match.match.value, True


@click.command()
@click.argument("file", default="-")
@click.option("--lines", is_flag=True, help="Print each element of the outermost array on a line of its own.")
@click.option("--indent", type=click.IntRange(min=0), metavar="N", help="Indent by N spaces a level.")
def compose(file: str, lines: bool, indent: int | None) -> None:
    """Print the JSON that the lines in FILE (or on standard input) describe; see `tessaron values`.

    The lines may be filtered, edited or in another order: so a part can be cut out of a document, or lifted
    by editing the paths. Gaps in arrays close up; lines that contradict each other are an error.
    """
    from tessaron.core.errors import UsageError
    from tessaron.core.value_lines import Composer

    composer = Composer("<stdin>" if file == "-" else file)
    for line in _lines_of(file):
        composer.add(line)
    document = composer.document()
    if not lines:
        _write_json(document, indent)
        return
    if not isinstance(document, list):
        raise UsageError("--lines needs an array outermost; the paths begin with a name")
    for element in document:
        _write_json(element, None)


def _lines_of(file: str) -> Iterator[str]:
    from tessaron.core.errors import DataError, Place, SourceError

    try:
        stream: TextIO = open(sys.stdin.fileno() if file == "-" else file, encoding="utf-8", newline="\n")  # noqa: SIM115
        with stream:
            yield from stream
    except UnicodeDecodeError as error:
        raise DataError(f"the lines are not UTF-8: {error}", Place(file), "encoding") from error
    except OSError as error:
        raise SourceError(f"{file}: cannot be read: {error.strerror}") from error


def _write_json(document: Any, indent: int | None) -> None:
    from tessaron.core.json_text import indented_text, json_text

    text = json_text(document, ascii_only=False) if indent is None else indented_text(document, indent)
    sys.stdout.write(text + "\n")
