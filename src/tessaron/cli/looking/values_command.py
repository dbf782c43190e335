"""`tessaron values` and `tessaron compose`: documents as lines for grep, sort and diff, and back."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from itertools import chain
from typing import TYPE_CHECKING, TextIO

import click

from tessaron.cli import completing
from tessaron.cli.command_group import WorkCommand, say
from tessaron.cli.shared_options import count_type, records_option
from tessaron.cli.source_arguments import source_argument, source_of, source_options
from tessaron.core.base.errors import Code
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.visible import visible

if TYPE_CHECKING:
    from tessaron.sources.inputs import ByteInput, Input


@click.command(cls=WorkCommand)
@source_argument
@records_option
@source_options
def values(sources: tuple[str, ...], records: str | None) -> None:
    """Print every scalar of SOURCE with its full place, one per line: made for grep, sort and diff.

    A line is a normalized path (RFC 9535), a tab, and the value as JSON. Where there are several documents,
    the paths begin with their number, as if they were elements of one array. For XML a line is the path of an
    attribute or text (XPath 1.0), a tab, and the text in quotes. `tessaron compose` makes JSON or XML of such
    lines again.
    """
    from tessaron.core.lines.value_lines import value_lines
    from tessaron.sources.formats import xml_inputs
    from tessaron.sources.resolving import resolve_inputs

    inputs = resolve_inputs(source_of(sources))
    documents = xml_inputs(inputs)
    if documents is not None:
        _print_xml(documents, records)
        return
    numbered = False
    for number, document, several in _documents(inputs, records):
        numbered = several
        for line in value_lines(document, (number,) if several else ()):
            sys.stdout.write(visible(line) + "\n")
    if numbered:
        sys.stdout.flush()
        say("several documents, numbered like elements of an array; compose --lines prints one per line")


def _print_xml(inputs: list[ByteInput], records: str | None) -> None:
    from tessaron.core.base.errors import UsageError
    from tessaron.look.xml_lines import xml_lines

    if records is not None:
        raise UsageError("--records is for JSON here; for XML, cut the lines by their path")
    for line in xml_lines(inputs):
        sys.stdout.write(visible(line) + "\n")


def _documents(inputs: list[Input], records: str | None) -> Iterator[tuple[int, Parsed, bool]]:
    """Yield each document with its number, and whether there are several."""
    from tessaron.core.query.jsonpath import parse_path
    from tessaron.engine.path_reading import PathReader

    path = parse_path("$") if records is None else parse_path(records)
    found = iter(PathReader(inputs, path))
    first, second = next(found, None), next(found, None)
    if first is None:
        return
    yield 0, first.match.value, second is not None
    if second is not None:
        yield 1, second.match.value, True
    for number, match in enumerate(found, 2):
        yield number, match.match.value, True


@click.command()
@click.argument("file", default="-", shell_complete=completing.files)
@click.option("--lines", is_flag=True, help="Print each element of the outermost array on a line of its own.")
@click.option("--indent", type=count_type(0, 100), metavar="N", help="Indent by N spaces a level.")
def compose(file: str, lines: bool, indent: int | None) -> None:
    """Print the JSON or XML that the lines in FILE (or on standard input) describe; see `tessaron values`.

    The lines may be filtered, edited or in another order: so a part can be cut out of a document, or lifted
    by editing the paths. Gaps in arrays close up; lines that contradict each other are an error. Lines whose
    paths begin with `/` are of XML.
    """
    from tessaron.core.base.errors import UsageError
    from tessaron.core.lines.value_lines import Composer

    source = "<stdin>" if file == "-" else file
    found = _lines_of(file)
    first = next((line for line in found if line.strip()), "")
    if first.startswith("/"):
        _compose_xml(source, first, found, lines, indent)
        return
    composer = Composer(source)
    for line in chain([first], found):
        composer.add(line)
    document = composer.document()
    if not lines:
        _write_json(document, indent)
        return
    if not isinstance(document, list):
        raise UsageError("--lines needs an array outermost; the paths begin with a name")
    for element in document:
        _write_json(element, None)


def _compose_xml(source: str, first: str, rest: Iterator[str], lines: bool, indent: int | None) -> None:
    from tessaron.core.base.errors import UsageError
    from tessaron.core.lines.xml_value_lines import XmlComposer, xml_text

    composer = XmlComposer(source)
    for line in chain([first], rest):
        composer.add(line)
    roots = composer.documents()
    if len(roots) > 1 and not lines:
        raise UsageError(f"the lines describe {len(roots):,} documents; --lines prints one per line")
    for root in roots:
        sys.stdout.write(xml_text(root, None if lines else indent) + "\n")


def _lines_of(file: str) -> Iterator[str]:
    from tessaron.core.base.errors import DataError, Place, SourceError

    try:
        stream: TextIO = open(sys.stdin.fileno() if file == "-" else file, encoding="utf-8", newline="\n")  # noqa: SIM115
        with stream:
            yield from stream
    except UnicodeDecodeError as error:
        raise DataError(f"the lines are not UTF-8: {error}", Place(file), Code.ENCODING) from error
    except OSError as error:
        raise SourceError(f"{file}: cannot be read: {error.strerror}") from error


def _write_json(document: Parsed, indent: int | None) -> None:
    from tessaron.core.base.json_text import indented_text, json_text

    text = json_text(document, ascii_only=False) if indent is None else indented_text(document, indent)
    sys.stdout.write(text + "\n")
