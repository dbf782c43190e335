"""Options that several commands have, written once, and the forms of their values."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING, TypeVar

import click

from tessaron.cli import completing
from tessaron.core.base.bounds import LEAST_COLUMNS, MOST_BYTES, MOST_COUNTED, MOST_WORKERS
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.visible import clipped, in_quotes

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout

Command = TypeVar("Command", bound=Callable[..., object])
"""A function that is to become a command."""


def count_type(least: int = 1, most: int = MOST_COUNTED) -> click.IntRange:
    """Return the type of an option that is a number of things."""
    return click.IntRange(least, most)


class ByteSize(click.ParamType[int]):
    """A number of bytes, with a unit: 400MB, 2GB, 512MiB."""

    name = "size"

    def convert(self, value: Parsed, param: click.Parameter | None, context: click.Context | None) -> int:
        """Return the bytes; fails on anything else."""
        found = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([KMG]?)(i?)B?", str(value).strip(), re.IGNORECASE)
        if found is None:
            self.fail(f"expected a size like 400MB or 2GiB, got {clipped(repr(value))}", param, context)
        number, unit, binary = found.groups()
        base = 1024 if binary else 1000
        size = float(number) * base ** ("KMG".index(unit.upper()) + 1 if unit else 0)
        if size > MOST_BYTES:
            shown = clipped(repr(value))
            self.fail(f"expected a size of at most {MOST_BYTES // 10**9:,}GB, got {shown}", param, context)
        return int(size)


class Share(click.ParamType[float]):
    """A share of all: 1%, or 0.01."""

    name = "share"

    def convert(self, value: Parsed, param: click.Parameter | None, context: click.Context | None) -> float:
        """Return the share, from 0 to 1; fails on anything else."""
        found = re.fullmatch(r"(\d+(?:\.\d+)?)\s*(%?)", str(value).strip())
        share = float(found[1]) / (100 if found[2] else 1) if found else 2
        if share > 1:
            self.fail(f"expected a share like 1% or 0.01, got {clipped(repr(value))}", param, context)
        return share


workers_option = click.option(
    "--workers", type=count_type(most=MOST_WORKERS), metavar="N", help="Threads; else one per core."
)


name_option = click.option(
    "--name", metavar="NAME", help="Name of the top table; else from the path or the file's name."
)


keys_option = click.option(
    "--keys",
    type=click.Choice(["sequence", "digest"]),
    default="sequence",
    show_default=True,
    help="Row keys: numbers, or digests that are the same on every run.",
)


key_option = click.option(
    "--key",
    metavar="COLUMN",
    multiple=True,
    shell_complete=completing.columns,
    help="Natural key of the top table: is checked.",
)


exact_option = click.option(
    "--exact", is_flag=True, help="Tell null, empty and absent apart too: a column for the rest of each row."
)


undivided_option = click.option(
    "--undivided",
    is_flag=True,
    help="One table for a level, also where its rows are of several kinds or most values null.",
)


most_columns_option = click.option(
    "--most-columns",
    type=count_type(LEAST_COLUMNS),
    default=1_000,
    show_default=True,
    metavar="N",
    help="No drafted table is wider; the rest stands in tables beside it.",
)


shared_option = click.option(
    "--shared",
    metavar="PATH",
    shell_complete=completing.paths,
    multiple=True,
    help="One table for all places of the structure at PATH, however few; PATH as a survey shows it.",
)


not_shared_option = click.option(
    "--not-shared", is_flag=True, help="No other table for a structure that stands at many places."
)


def dividing_options(command: Command) -> Command:
    """Add the options that say how rows are divided into tables."""
    return undivided_option(shared_option(not_shared_option(most_columns_option(command))))


origin_option = click.option("--origin", is_flag=True, help="Add columns with file, record number and line.")


no_envelope_option = click.option(
    "--no-envelope", is_flag=True, help="Do not keep what stands around the records."
)


memory_option = click.option(
    "--memory", type=ByteSize(), metavar="SIZE", help="Bound the memory, e.g. 400MB."
)


skip_unknown_option = click.option(
    "--skip-unknown", is_flag=True, help="Pass over files with neither JSON nor XML in them, and empty ones."
)
_dictionary_option = click.option(
    "--dictionary",
    metavar="PATH",
    multiple=True,
    shell_complete=completing.paths,
    help="The object there is a dictionary.",
)


_no_dictionary_option = click.option(
    "--no-dictionary",
    metavar="PATH",
    multiple=True,
    shell_complete=completing.paths,
    help="The object there is not a dictionary.",
)


def dictionary_options(command: Command) -> Command:
    """Add the options that say which objects are dictionaries."""
    return _dictionary_option(_no_dictionary_option(command))


_on_change_option = click.option(
    "--on-change", type=click.Choice(["stop", "note", "extend"]),
    help="Of a structure that has changed: load nothing; values to the rejects (note); or tables grow.",
)  # fmt: skip
_wait_option = click.option(
    "--wait", type=click.FloatRange(0), metavar="SECONDS", help="So long for another run to end; else 600."
)
_LEDGER_OPTIONS = (
    click.option(
        "--ledger", metavar="FILE-OR-URL",
        help="Load only what is new: the ledger of what is done; the URL of --to for one transaction.",
    ),
    click.option(
        "--changed", type=click.Choice(["reject", "reload"]),
        help="Of files that were loaded and are others now: tell them, or merge them again.",
    ),
    _on_change_option,
    click.option("--again", is_flag=True, help="Take sources that are done again, and merge them."),
    _wait_option,
)  # fmt: skip


def growing_options(command: Command) -> Command:
    """Add the options of a ledger for a folder that grows."""
    said = "The folder grows by what is new: the ledger of what is done."
    ledger = click.option("--ledger", metavar="FILE-OR-URL", help=said)
    return ledger(_on_change_option(_wait_option(command)))


def ledger_options(command: Command) -> Command:
    """Add the options of the ledger."""
    for option in reversed(_LEDGER_OPTIONS):
        command = option(command)
    return command


layout_option = click.option(
    "--layout",
    "layout_file",
    metavar="FILE",
    shell_complete=completing.files,
    help="The layout: which tables and columns come out, and how.",
)


only_option = click.option(
    "--only",
    metavar="PATTERN",
    shell_complete=completing.paths,
    multiple=True,
    help="Only these: a path ($.vessel.*) or the name of a field (*_m).",
)


without_option = click.option(
    "--without",
    metavar="PATTERN",
    multiple=True,
    shell_complete=completing.paths,
    help="All but these: a path, or the name of a field.",
)


flat_option = click.option(
    "--flat",
    metavar="PATH",
    shell_complete=completing.paths,
    help="One flat table of the rows at this path, all above them repeated.",
)


times_option = click.option(
    "--times",
    metavar="PATH",
    shell_complete=completing.paths,
    multiple=True,
    help="With --flat: pair its rows with those beside them, at this path.",
)


with_empty_option = click.option(
    "--with-empty", is_flag=True, help="With --flat: keep what has no row at that path too."
)


def shaping_options(command: Command) -> Command:
    """Add the options that choose what comes out."""
    options = (layout_option, only_option, without_option, flat_option, times_option, with_empty_option)
    for option in reversed(options):
        command = option(command)
    return command


def layout_of(file: str | None) -> Layout | None:
    """Return the layout in a file; None for none."""
    if file is None:
        return None
    from tessaron.decide.layout_file import Layout

    return Layout.read(file)


records_option = click.option(
    "--records",
    metavar="PATH",
    shell_complete=completing.paths,
    help="Where the records stand: JSONPath ('$' is the document), or for XML XPath ('/*').",
)


def _namespaces_of(context: click.Context, option: click.Parameter, texts: tuple[str, ...]) -> dict[str, str]:
    """Return the namespaces that were given, by prefix."""
    found = {}
    for text in texts:
        prefix, equals, namespace = text.partition("=")
        if not equals or not prefix or not namespace:
            raise click.UsageError(f"expected --namespace PREFIX=URI, got {in_quotes(text)}")
        found[prefix] = namespace
    return found


namespace_option = click.option(
    "--namespace",
    "namespaces",
    metavar="PREFIX=URI",
    multiple=True,
    callback=_namespaces_of,
    help="For XML: the prefix that a namespace has in paths; else from the document.",
)


_white_space_option = click.option(
    "--white-space",
    type=click.Choice(["trim", "collapse", "keep"]),
    default="trim",
    show_default=True,
    help="For XML: white space at the ends of texts goes, inside too, or stays.",
)


_xsd_option = click.option(
    "--xsd",
    metavar="FILE",
    help="For XML: a schema that says types and what repeats; records are checked. Needs the extra xsd.",
)


def xml_options(command: Command) -> Command:
    """Add the options that are for XML only."""
    return namespace_option(_white_space_option(_xsd_option(command)))


def database_options(command: Command) -> Command:
    """Add the options that say where tables stand in a database, and who asks."""
    for option in (
        click.option("--password", metavar="WHERE", help="env:NAME, file:PATH or keyring:SERVICE/USER."),
        click.option("--runs-schema", metavar="NAME", help="The schema of the table of runs, if not that."),
        click.option("--schema-name", "schema", metavar="NAME", help="The schema that the tables stand in."),
    ):
        command = option(command)
    return command


def file_options(command: Command) -> Command:
    """Add the options that say how files are written; what is not given is as the format has it."""
    for option in (
        click.option(
            "--sort",
            multiple=True,
            metavar="COLUMN",
            shell_complete=completing.columns,
            help="Rows in the order of this column.",
        ),
        click.option(
            "--partition",
            multiple=True,
            metavar="COLUMN",
            shell_complete=completing.columns,
            help="A folder for each value of it.",
        ),
        click.option("--file-rows", type=count_type(), metavar="N", help="So many rows in each file."),
        click.option("--group-rows", type=count_type(), metavar="N", help="Of Parquet: rows in a row group."),
        click.option(
            "--no-header", "header", flag_value=False, default=None, help="Of CSV: no line of names."
        ),
        click.option("--line-end", type=click.Choice(["crlf", "lf"]), help="Of CSV: how lines end."),
        click.option("--encoding", metavar="NAME", help="Of CSV: the encoding; utf-8 if not given."),
        click.option("--null", metavar="TEXT", help="Of CSV: what stands for null; nothing if not given."),
        click.option(
            "--quoting", type=click.Choice(["texts", "all", "needed"]), help="Of CSV: what stands in quotes."
        ),
        click.option("--delimiter", metavar="LETTER", help="Of CSV: what stands between fields."),
        click.option("--compression", metavar="NAME", help="How files are packed: zstd, gzip, snappy, none."),
    ):
        command = option(command)
    return command


def given_file_options(options: dict[str, object]) -> dict[str, object]:
    """Take the options of `file_options` that were given out of all options, and return them."""
    names = (
        "compression", "delimiter", "quoting", "null", "encoding", "line_end", "header", "group_rows",
        "file_rows", "partition", "sort",
    )  # fmt: skip
    taken = {name: options.pop(name) for name in names}
    return {name: value for name, value in taken.items() if value is not None and value != ()}


def stop_options(command: Command) -> Command:
    """Add the options that say how many rejects are too many."""
    command = click.option(
        "--stop-at-share",
        type=Share(),
        metavar="PERCENT",
        help="Fail if more of the records are rejects: 1%.",
    )(command)
    return click.option(
        "--stop-after", type=count_type(0), metavar="N", help="Fail after more than N rejects."
    )(command)
