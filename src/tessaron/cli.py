"""The command line: parses, calls the public functions, shows. Results go to standard output."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import signal
import sys
import tempfile
from pathlib import Path
from types import FrameType
from typing import Any, NoReturn, cast

import click

from tessaron.core.errors import TessaronError

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
"""Nothing here multiplies matrices; without threads of its own NumPy loads faster."""

EXIT_CHECK_FAILED, EXIT_FAILED, EXIT_INTERRUPTED = 1, 2, 130


class ByteSize(click.ParamType[int]):
    """A number of bytes, with a unit: 400MB, 2GB, 512MiB."""

    name = "size"

    def convert(self, value: Any, param: click.Parameter | None, context: click.Context | None) -> int:
        """Return the bytes; fails on anything else."""
        found = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([KMG]?)(i?)B?", str(value).strip(), re.IGNORECASE)
        if found is None:
            self.fail(f"expected a size like 400MB or 2GiB, got {value!r}", param, context)
        number, unit, binary = found.groups()
        base = 1024 if binary else 1000
        return int(float(number) * base ** ("KMG".index(unit.upper()) + 1 if unit else 0))


class _Group(click.Group):
    """Turns Tessaron's errors into one or two lines on standard error, and stops cleanly on a signal."""

    def invoke(self, context: click.Context) -> Any:
        signal.signal(signal.SIGTERM, _stop)
        try:
            return super().invoke(context)
        except TessaronError as error:
            click.echo(f"tessaron: {error}", err=True)
            context.exit(EXIT_FAILED)
        except KeyboardInterrupt:
            click.echo("tessaron: stopped; nothing was left half-written", err=True)
            context.exit(EXIT_INTERRUPTED)
        except BrokenPipeError:
            # The reader of standard output has gone; so that the interpreter does not complain at its exit:
            sys.stdout = None
            context.exit(EXIT_FAILED)


def _stop(number: int, frame: FrameType | None) -> NoReturn:
    raise KeyboardInterrupt


@click.group(cls=_Group, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="tessaron", message="tessaron %(version)s")
def main() -> None:
    """Deeply nested JSON in, keyed relational tables out.

    Every array becomes a child table with keys, at any depth; columns get types that keep every value.
    """


@main.command()
@click.argument("sources", nargs=-1, required=True, metavar="SOURCE...")
@click.option("-o", "--output", required=True, metavar="DIR", help="Folder to write the tables into.")
@click.option(
    "--format",
    "format_name",
    type=click.Choice(["parquet", "csv"]),
    default="parquet",
    show_default=True,
    help="Parquet (zstd), or CSV (RFC 4180).",
)
@click.option("--name", metavar="NAME", help="Name of the top table; else from the path or the file's name.")
@click.option("--replace", is_flag=True, help="Replace the export that is in the folder.")
@click.option("--records", metavar="PATH", help="Where the records stand, as JSONPath; '$' is the document.")
@click.option("--no-envelope", is_flag=True, help="Do not keep what stands around the records.")
@click.option(
    "--keys",
    type=click.Choice(["sequence", "digest"]),
    default="sequence",
    show_default=True,
    help="Row keys: numbers, or digests that are the same on every run.",
)
@click.option("--key", metavar="COLUMN", multiple=True, help="Natural key of the top table: is checked.")
@click.option("--origin", is_flag=True, help="Add columns with file, record number and line.")
@click.option(
    "--duplicate-keys",
    type=click.Choice(["last", "reject"]),
    default="last",
    show_default=True,
    help="For a name twice in one object: the last value wins, or reject the record.",
)
@click.option("--dictionary", metavar="PATH", multiple=True, help="The object there is a dictionary.")
@click.option("--no-dictionary", metavar="PATH", multiple=True, help="The object there is not a dictionary.")
@click.option("--workers", type=click.IntRange(min=1), metavar="N", help="Processes; else one per core.")
@click.option("--memory", type=ByteSize(), metavar="SIZE", help="Bound the memory, e.g. 400MB.")
@click.option("--depth-limit", type=click.IntRange(min=1), metavar="N", help="Reject what is nested deeper.")
@click.option("--json", "as_json", is_flag=True, help="Print the receipt as JSON.")
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
    **options: Any,
) -> None:
    """Write the tables of SOURCE into a folder, one file per table, with a receipt.

    SOURCE is a JSON file (one array, one document, or one per line), also compressed, a folder of such
    files, a pattern, or `-` for standard input. Several sources are one feed.
    """
    from tessaron import run
    from tessaron.views.progress import ProgressBar
    from tessaron.views.terminal import console, notes_view, receipt_view, show

    if depth_limit is not None:
        options["depth_limit"] = depth_limit
    with ProgressBar(console(stderr=True)) as bar:
        receipt = run.export(
            _source(sources),
            output,
            format=cast("Any", format_name),
            replace=replace,
            progress=bar,
            envelope=not no_envelope,
            dictionaries=dictionary,
            not_dictionaries=no_dictionary,
            **options,
        )
    if as_json:
        click.echo(receipt.to_json(), nl=False)
    else:
        show(console(), *receipt_view(receipt))
        show(console(stderr=True), *notes_view(receipt))
    if receipt.rejected or (receipt.key_check is not None and not receipt.key_check.passed):
        sys.exit(EXIT_CHECK_FAILED)


def _source(sources: tuple[str, ...]) -> Any:
    """Return what the arguments stand for; `-` is standard input."""
    if sources == ("-",):
        return sys.stdin.buffer
    if "-" in sources:
        raise click.UsageError("standard input (-) cannot be mixed with files; give it alone")
    return [Path(source) for source in sources]


@main.command()
@click.option("--into", metavar="DIR", help="Folder to work in; else a new temporary one.")
@click.option(
    "--records", type=click.IntRange(min=1), help="Only write so many vessel calls, for benchmarks."
)
def demo(into: str | None, records: int | None) -> None:
    """Run the whole example on the harbour's vessel calls, or write its data only."""
    from tessaron.demo.generator import write_calls

    folder = Path(into) if into else Path(tempfile.mkdtemp(prefix="tessaron-demo-"))
    folder.mkdir(parents=True, exist_ok=True)
    if records is not None:
        click.echo(f"{write_calls(folder, records)}: {records:,} vessel calls")
        return
    from tessaron.views.demo import show_demo

    if not show_demo(folder, _command_as_typed()):
        sys.exit(1)


def _command_as_typed() -> str:
    """Return how this command was called, so that what is shown to paste works."""
    typed = sys.argv[0]
    if Path(typed).name == "__main__.py":
        return f"{shlex.quote(sys.executable)} -m tessaron"
    return shlex.quote(typed) if "/" in typed and not _on_path(typed) else "tessaron"


def _on_path(typed: str) -> bool:
    found = shutil.which(Path(typed).name)
    return found is not None and Path(found).resolve() == Path(typed).resolve()
