"""`tessaron find` on XML: evaluate an expression of XPath 1.0 and print what it gives."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Mapping
from itertools import islice
from typing import TYPE_CHECKING, Any, cast

import click

from tessaron.cli.command_group import EXIT_CHECK_FAILED, say, terminal_width
from tessaron.core.base.visible import clipped, in_quotes, visible

if TYPE_CHECKING:
    from tessaron.core.query.xpath_results import Expression
    from tessaron.look.xml_finding import XmlFound, XPathReader
    from tessaron.sources.inputs import ByteInput


def find_in_xml(
    inputs: list[ByteInput],
    text: str,
    records: str | None,
    namespaces: Mapping[str, str],
    raw: bool,
    only_count: bool,
    where_found: bool,
    first: int | None,
    picks: tuple[str, ...],
    form: str | None,
) -> None:
    """Print what an expression finds, as `find` does for JSON."""
    from tessaron.look.xml_finding import XPathReader

    reader = XPathReader(inputs, text, records, namespaces)
    found: Iterator[XmlFound] = iter(reader) if first is None else islice(reader, first)
    if only_count:
        count = sum(1 for _ in found)
        sys.stdout.write(f"{count}\n")
    elif picks:
        count = _print_rows(found, reader, picks, form or "table", where_found)
    else:
        count = _print_found(found, raw, where_found)
    for error in reader.errors[:3]:
        say(str(error))
    if len(reader.errors) > 3:
        say(f"{len(reader.errors) - 3:,} more documents or records could not be read")
    if not count:
        _say_why(reader)
    if not count or reader.errors:
        sys.exit(EXIT_CHECK_FAILED)


def _print_found(found: Iterator[XmlFound], raw: bool, where_found: bool) -> int:
    from tessaron.core.query.xpath_results import one_line

    count = 0
    for each in found:
        count += 1
        text = each.markup if each.markup and not raw else one_line(each.result.text)
        place = f"{each.path}\t{each.source}\t{each.record}\t" if where_found else ""
        sys.stdout.write(visible(f"{place}{text}\n"))
        if count == 1 or sys.stdout.isatty():
            sys.stdout.flush()
    return count


def _print_rows(
    found: Iterator[XmlFound], reader: XPathReader, picks: tuple[str, ...], form: str, where_found: bool
) -> int:
    from tessaron.views.rows_view import RowForm, write_rows

    pairs = [_pick(pick) for pick in picks]
    names = [*(["path", "source", "record"] if where_found else []), *(name for name, _ in pairs)]
    expressions: list[Expression] = []
    rows = (_row(each, reader, pairs, expressions, where_found) for each in found)
    return write_rows(sys.stdout, names, rows, cast("RowForm", form), terminal_width())


def _pick(text: str) -> tuple[str, str]:
    name, equals, path = text.partition("=")
    if not equals or not name:
        raise click.UsageError(
            f"expected --pick NAME=PATH, got {in_quotes(text)}; for example: --pick id=@id"
        )
    return name, path


def _row(
    found: XmlFound,
    reader: XPathReader,
    pairs: list[tuple[str, str]],
    expressions: list[Expression],
    where_found: bool,
) -> list[Any]:
    if not expressions:
        expressions += [reader.relative(path) for _, path in pairs]
    cells: list[Any] = [found.path, found.source, found.record] if where_found else []
    for expression in expressions:
        if found.result.node is None:
            cells.append(found.result.text if expression.text == "." else None)
            continue
        values = [each.text for each in expression.results(found.result.node, lambda node: "")]
        cells.append(values if len(values) > 1 else values[0] if values else None)
    return cells


def _say_why(reader: XPathReader) -> None:
    """Say on standard error how far the expression leads, what stands there, and what is near."""
    from tessaron.core.query.xpath_advice import advise_xpath

    say(f"nothing is found by {clipped(reader.text)}")
    if not reader.paths:
        return
    advice = advise_xpath(reader.text, reader.paths)
    if advice.deepest:
        there = f"; in it stand {', '.join(advice.there)}" if advice.there else "; nothing stands in it"
        click.echo(visible(f"  {clipped(advice.deepest)} is there{there}"), err=True)
    elif advice.there:
        click.echo(visible(f"  outermost stands {', '.join(advice.there)}"), err=True)
    if advice.hint:
        click.echo(visible(f"  {advice.hint}"), err=True)
    for index, text in enumerate(advice.nearest):
        click.echo(visible(f"  {'did you mean' if not index else '          or'} {text}"), err=True)
