"""What all commands share: how errors and signals end them, and what their arguments stand for."""

from __future__ import annotations

import io
import os
import re
import shutil
import signal
import sys
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from functools import cached_property
from importlib import import_module
from pathlib import Path
from types import FrameType
from typing import Any, NoReturn, TextIO

import click

from tessaron.core.base.bounds import LEAST_COLUMNS, MOST_BYTES, MOST_COUNTED, MOST_WORKERS
from tessaron.core.base.errors import TessaronError
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.visible import clipped, in_quotes, visible

EXIT_CHECK_FAILED, EXIT_FAILED, EXIT_INTERRUPTED, EXIT_PIPE_CLOSED = 1, 2, 130, 141
"""141 is what a shell says of a command that SIGPIPE ended, as it does others whose reader has gone."""


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


class Group(click.Group):
    """Turns Tessaron's errors into one or two lines on standard error, and stops cleanly on a signal."""

    def invoke(self, context: click.Context) -> Any:
        """Run a command and end with the exit status that fits."""
        stopped = Stopped()
        sys.stdout, sys.stderr = _robust(sys.stdout), _robust(sys.stderr)
        try:
            result = super().invoke(context)
            sys.stdout.flush()
            return result
        except KeyboardInterrupt as stop:
            say("stopped; " + "; ".join(getattr(stop, "__notes__", ["nothing was left half-written"])))
            context.exit(EXIT_INTERRUPTED)
        except Exception as error:
            if stopped.is_asked:
                # A library may take the interrupt for a fault of its own, and a process that is stopped for
                # one that broke down.
                say("stopped; nothing was left half-written")
                context.exit(EXIT_INTERRUPTED)
            self._end_with(context, error)
            raise

    def _end_with(self, context: click.Context, error: Exception) -> None:
        """Say what an error is and end, if it is one that people are to read."""
        if isinstance(error, TessaronError):
            say(str(error))
            context.exit(EXIT_FAILED)
        if isinstance(error, BrokenPipeError):
            # The reader of standard output has gone; so that the interpreter does not complain at its exit:
            sys.stdout = None
            context.exit(EXIT_PIPE_CLOSED)
        if isinstance(error, OSError) and error.filename is not None:
            say(f"{clipped(str(error.filename))}: {error.strerror}")
            context.exit(EXIT_FAILED)
        if isinstance(error, OSError):
            sys.stdout = None
            say(f"standard output cannot be written: {error.strerror}")
            context.exit(EXIT_FAILED)

    def add_late(self, name: str, module: str) -> None:
        """Add a command that is loaded when it is used."""
        self._late[name] = module

    @cached_property
    def _late(self) -> dict[str, str]:
        return {}

    def list_commands(self, context: click.Context) -> list[str]:
        """Return the commands in the order in which people need them, not by the alphabet."""
        return list(self._late)

    def get_command(self, context: click.Context, name: str) -> click.Command | None:
        """Return a command by its name, None for one that is not there."""
        if name not in self._late:
            # click looks among these for what may be meant.
            self.commands = {each: self._loaded(each) for each in self._late}
            return None
        return self._loaded(name)

    def _loaded(self, name: str) -> click.Command:
        command: click.Command = getattr(import_module(self._late[name]), name)
        return command


def _robust(stream: TextIO) -> TextIO:
    """Return a standard stream that shows as escapes what has no other form, and loses no part of a text.

    Half surrogates, and letters that a terminal does not know, have none. Where Python is told to use no
    buffers, it does not look how much of a text was written.
    """
    if not isinstance(stream, io.TextIOWrapper):
        return stream
    if isinstance(stream.buffer, io.RawIOBase):
        whole = io.BufferedWriter(stream.buffer)
        return io.TextIOWrapper(whole, stream.encoding, "backslashreplace", line_buffering=True)
    stream.reconfigure(errors="backslashreplace")
    return stream


class Stopped:
    """Makes signals that ask the process to stop a KeyboardInterrupt, and keeps that one has come."""

    def __init__(self) -> None:
        self.is_asked = False
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, self._stop)

    def _stop(self, number: int, frame: FrameType | None) -> NoReturn:
        self.is_asked = True
        raise KeyboardInterrupt


@contextmanager
def told_if_stopped(what: str) -> Iterator[None]:
    """Who stops the process inside of this context is told what has been done by then."""
    try:
        yield
    except KeyboardInterrupt as stop:
        stop.add_note(what)
        raise


def say(message: str) -> None:
    """Write a message to standard error."""
    click.echo(f"tessaron: {visible(message)}", err=True)


def source_of(sources: tuple[str, ...]) -> Any:
    """Return what the arguments stand for; `-` is standard input."""
    asked = click.get_current_context().meta.get(_DATABASE, {})
    if len(sources) == 1 and "://" in sources[0] and (asked or not _is_web(sources[0])):
        from tessaron.sources.database_query import DatabaseQuery

        if len(asked.keys() & {"query", "table"}) != 1:
            raise click.UsageError(
                "say what to read of the database: --from-table NAME, or --query 'SELECT …'"
            )
        return DatabaseQuery(sources[0], asked.get("query"), asked.get("table"), asked.get("documents", ()))
    if asked:
        raise click.UsageError(
            "--query, --from-table and --documents go with the URL of a database as SOURCE"
        )
    if sources == ("-",):
        return sys.stdin.buffer
    if "-" in sources:
        raise click.UsageError("standard input (-) cannot be mixed with files; give it alone")
    return [source if _is_web(source) else Path(source) for source in sources]


def _is_web(source: str) -> bool:
    return source.startswith(("http://", "https://"))


def show_paged(lines: Iterable[str]) -> None:
    """Write lines to standard output; on a terminal that they are too many for through the pager."""
    if not sys.stdout.isatty():
        sys.stdout.writelines(lines)
        return
    found = list(lines)
    if len(found) < shutil.get_terminal_size().lines:
        sys.stdout.writelines(found)
        return
    # As other tools have it, unless the user says otherwise: colours stay, and short texts need no key.
    os.environ.setdefault("LESS", "FRX")
    click.echo_via_pager(found)


def terminal_width() -> int:
    """Return the cells of a line: of the terminal, else what COLUMNS says, else 0 for no limit."""
    if not sys.stdout.isatty() and not _has_columns():
        return 0
    return shutil.get_terminal_size().columns


def _has_columns() -> bool:
    return os.environ.get("COLUMNS", "").isdigit()


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
    "--key", metavar="COLUMN", multiple=True, help="Natural key of the top table: is checked."
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
    multiple=True,
    help="One table for all places of the structure at PATH, however few; PATH as a survey shows it.",
)
not_shared_option = click.option(
    "--not-shared", is_flag=True, help="No other table for a structure that stands at many places."
)


def dividing_options(command: Any) -> Any:
    """Add the options that say how rows are divided into tables."""
    return undivided_option(shared_option(not_shared_option(most_columns_option(command))))


origin_option = click.option("--origin", is_flag=True, help="Add columns with file, record number and line.")
no_envelope_option = click.option(
    "--no-envelope", is_flag=True, help="Do not keep what stands around the records."
)
memory_option = click.option(
    "--memory", type=ByteSize(), metavar="SIZE", help="Bound the memory, e.g. 400MB."
)
_dictionary_option = click.option(
    "--dictionary", metavar="PATH", multiple=True, help="The object there is a dictionary."
)
_no_dictionary_option = click.option(
    "--no-dictionary", metavar="PATH", multiple=True, help="The object there is not a dictionary."
)


def dictionary_options(command: Any) -> Any:
    """Add the options that say which objects are dictionaries."""
    return _dictionary_option(_no_dictionary_option(command))


_DATABASE = "tessaron.database"
"""Under this name a command keeps what is to be read of a database."""


def _keep_asked(key: str) -> Callable[[click.Context, click.Parameter, Any], None]:
    def keep(context: click.Context, parameter: click.Parameter, value: Any) -> None:
        if value:
            context.meta.setdefault(_DATABASE, {})[key] = value

    return keep


def database_options(command: Any) -> Any:
    """Add the options that say what is read where SOURCE is the URL of a database; see `source_of`."""
    for flag, key, metavar, text in (
        (
            "--documents",
            "documents",
            "COLUMN",
            "A column of the database with JSON documents; else they are found.",
        ),
        ("--from-table", "table", "NAME", "The table to read where SOURCE is the URL of a database."),
        ("--query", "query", "SQL", "The query to read where SOURCE is the URL of a database."),
    ):
        command = click.option(
            flag,
            metavar=metavar,
            help=text,
            multiple=key == "documents",
            expose_value=False,
            callback=_keep_asked(key),
        )(command)
    return command


source_argument = click.argument("sources", nargs=-1, required=True, metavar="SOURCE...")
layout_option = click.option(
    "--layout", "layout_file", metavar="FILE", help="The layout: which tables and columns come out, and how."
)
only_option = click.option(
    "--only",
    metavar="PATTERN",
    multiple=True,
    help="Only these: a path ($.vessel.*) or the name of a field (*_m).",
)
without_option = click.option(
    "--without", metavar="PATTERN", multiple=True, help="All but these: a path, or the name of a field."
)
flat_option = click.option(
    "--flat", metavar="PATH", help="One flat table of the rows at this path, all above them repeated."
)
times_option = click.option(
    "--times",
    metavar="PATH",
    multiple=True,
    help="With --flat: pair its rows with those beside them, at this path.",
)
with_empty_option = click.option(
    "--with-empty", is_flag=True, help="With --flat: keep what has no row at that path too."
)


def shaping_options(command: Any) -> Any:
    """Add the options that choose what comes out."""
    options = (layout_option, only_option, without_option, flat_option, times_option, with_empty_option)
    for option in reversed(options):
        command = option(command)
    return command


def layout_of(file: str | None) -> Any:
    """Return the layout in a file; None for none."""
    if file is None:
        return None
    from tessaron.decide.layout_file import Layout

    return Layout.read(file)


records_option = click.option(
    "--records",
    metavar="PATH",
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


def xml_options(command: Any) -> Any:
    """Add the options that are for XML only."""
    return namespace_option(_white_space_option(_xsd_option(command)))
