"""What `tessaron find` asks of JSON and of XML: matches, a line or a row for each, and why there are none."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from itertools import islice
from typing import TYPE_CHECKING, Any, Protocol

import click

from tessaron.cli.command_group import say
from tessaron.core.base.errors import TessaronError
from tessaron.core.base.visible import clipped, in_quotes, visible

if TYPE_CHECKING:
    from tessaron.core.query.jsonpath import JsonPath
    from tessaron.core.query.xpath_results import Expression
    from tessaron.engine.path_reading import Found
    from tessaron.look.xml_finding import XmlFound
    from tessaron.sources.inputs import ByteInput, Input


class Located(Protocol):
    """What was found, with its place."""

    @property
    def path(self) -> str:
        """Where it stands in its document."""

    @property
    def source(self) -> str:
        """Where the document is from."""

    @property
    def record(self) -> int:
        """The number of the document or record, from 1."""


class Finder(Protocol):
    """Finds what a path matches.

    Attributes:
        names: The names of what is picked of each match.
        errors: What could not be read, while the rest went on.
    """

    names: list[str]

    @property
    def errors(self) -> Sequence[TessaronError]:
        """What could not be read, while the rest went on."""

    def matches(self, first: int | None) -> Iterator[Any]:
        """Yield the matches in order, at most `first`."""

    def line(self, match: Any, raw: bool) -> str:
        """Return a match on one line."""

    def cells(self, match: Any) -> list[Any]:
        """Return what each of the picks finds in a match: a value, several in a list, None for nothing."""

    def say_why(self) -> None:
        """Say on standard error why nothing was found: how far the path leads, and what is near."""


def split_pick(text: str, example: str) -> tuple[str, str]:
    """Return the name and the path of a pick, given as NAME=PATH."""
    name, equals, path = text.partition("=")
    if not equals or not name:
        raise click.UsageError(
            f"expected --pick NAME=PATH, got {in_quotes(text)}; for example: --pick {example}"
        )
    return name, path


def one_or_all(values: list[Any]) -> Any:
    """Return the only one of some values, all of several, None for none."""
    return values if len(values) > 1 else values[0] if values else None


class JsonFinder:
    """Finds what a JSONPath matches in JSON.

    Args:
        inputs: Where the documents come from.
        path: The path.
        records: Where the records stand, if `$` is each of these.
        picks: Names and paths of what is picked of each match.
    """

    errors: Sequence[TessaronError] = ()

    def __init__(self, inputs: list[Input], path: str, records: str | None, picks: Sequence[str]):
        from tessaron.core.query.jsonpath import parse_path
        from tessaron.engine.path_reading import PathReader

        self._reader = PathReader(inputs, parse_path(path), None if records is None else parse_path(records))
        self._picks: list[JsonPath] = []
        self.names: list[str] = []
        for pick in picks:
            name, inner = split_pick(pick, "id='$.call_id'")
            self.names.append(name)
            self._picks.append(parse_path("$" + inner[1:] if inner.startswith("@") else inner))

    def matches(self, first: int | None) -> Iterator[Found]:
        """Yield the matches in order, at most `first`."""
        return iter(self._reader) if first is None else islice(self._reader, first)

    def line(self, match: Found, raw: bool) -> str:
        """Return a match on one line."""
        value = match.match.value
        if not (raw and isinstance(value, str)):
            return match.json()
        text = value.replace("\r", "\\r").replace("\n", "\\n")
        return text.encode("utf-8", "backslashreplace").decode()

    def cells(self, match: Found) -> list[Any]:
        """Return what each of the picks finds in a match."""
        return [one_or_all([each.value for each in path.find(match.match.value)]) for path in self._picks]

    def say_why(self) -> None:
        """Say on standard error how far the path leads, what stands there, and what is near."""
        from tessaron.core.cutting.head_sample import sample_documents
        from tessaron.core.query.jsonpath_advice import advise

        reader = self._reader
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


class XmlFinder:
    """Finds what an expression of XPath 1.0 gives in XML.

    Args:
        inputs: Where the documents come from.
        text: The expression.
        records: Where the records stand, if each of these is the context node.
        namespaces: Namespaces by the prefix that expressions have for them.
        picks: Names and expressions of what is picked of each match.
    """

    def __init__(
        self,
        inputs: list[ByteInput],
        text: str,
        records: str | None,
        namespaces: Mapping[str, str],
        picks: Sequence[str],
    ):
        from tessaron.look.xml_finding import XPathReader

        self._reader = XPathReader(inputs, text, records, namespaces)
        pairs = [split_pick(pick, "id=@id") for pick in picks]
        self.names, self._picks = [name for name, _ in pairs], [path for _, path in pairs]

    @property
    def errors(self) -> Sequence[TessaronError]:
        """What could not be read, while the rest went on."""
        return self._reader.errors

    def matches(self, first: int | None) -> Iterator[XmlFound]:
        """Yield the matches in order, at most `first`."""
        return iter(self._reader) if first is None else islice(self._reader, first)

    def line(self, match: XmlFound, raw: bool) -> str:
        """Return a match on one line."""
        from tessaron.core.query.xpath_results import one_line

        return match.markup if match.markup and not raw else one_line(match.result.text)

    def cells(self, match: XmlFound) -> list[Any]:
        """Return what each of the picks finds in a match."""
        return [self._cell(match, each) for each in self._expressions]

    @cached_property
    def _expressions(self) -> list[Expression]:
        # Prefixes are known once something was read.
        return [self._reader.relative(path) for path in self._picks]

    def _cell(self, match: XmlFound, expression: Expression) -> object:
        if match.result.node is None:
            return match.result.text if expression.text == "." else None
        return one_or_all([each.text for each in expression.results(match.result.node, lambda node: "")])

    def say_why(self) -> None:
        """Say on standard error how far the expression leads, what stands there, and what is near."""
        from tessaron.core.query.xpath_advice import advise_xpath

        reader = self._reader
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
