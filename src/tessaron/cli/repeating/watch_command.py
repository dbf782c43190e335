"""`tessaron watch`: a database, or a folder of tables, is kept up with its sources until that is stopped."""

from __future__ import annotations

import logging
import re
import signal
import sys
from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tessaron.cli import completing
from tessaron.cli.command_group import EXIT_CHECK_FAILED, WorkCommand, say
from tessaron.cli.shared_options import (
    Command,
    database_options,
    dictionary_options,
    key_option,
    keys_option,
    layout_of,
    layout_option,
    memory_option,
    name_option,
    no_envelope_option,
    records_option,
    stop_options,
    workers_option,
)
from tessaron.cli.source_arguments import mark_option, source_of, source_options

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

    from tessaron.decide.layout_file import Layout
    from tessaron.repeat.keeping import Keeping
    from tessaron.repeat.standing_watch import Looked, StandingWatch
    from tessaron.write.load_place import LoadPlace

_UNITS = {"s": 1.0, "m": 60.0, "min": 60.0, "h": 3_600.0, "": 1.0}


class Duration(click.ParamType[float]):
    """A time in words: 30s, 5m, 1h."""

    name = "duration"

    def convert(self, value: Any, param: click.Parameter | None, context: click.Context | None) -> float:
        """Return the seconds; fails on anything else."""
        found = re.fullmatch(r"(\d+(?:\.\d+)?)\s*(s|m|min|h|)", str(value).strip())
        if found is None:
            self.fail(f"expected a time like 30s, 5m or 1h, got {value!r}", param, context)
        return float(found[1]) * _UNITS[found[2]]


_OWN_OPTIONS = (
    click.option(
        "--to", "to", metavar="URL-OR-DIR",
        help="The database (sqlite:///FILE, postgresql://…) or catalog, or the folder, which grows.",
    ),
    click.option(
        "--every", type=Duration(), default="30s", show_default=True, metavar="TIME",
        help="How often to look.",
    ),
    click.option(
        "--ledger", metavar="FILE-OR-URL",
        help="The ledger of what is done; else in the database itself. Folders and lake tables need one.",
    ),
    click.option(
        "--format", "format_name", type=click.Choice(["parquet", "csv", "tsv", "arrow", "jsonl"]),
        help="Of a folder that is to be: how its files are written.",
    ),
    click.option(
        "--mode", type=click.Choice(["append", "merge"]), default="append", show_default=True,
        help="Whether records that come again are added, or replace those that are there.",
    ),
    click.option(
        "--changed", type=click.Choice(["reject", "reload"]), default="reject", show_default=True,
        help="Of files that were loaded and are others now: tell them, or merge them again.",
    ),
    click.option(
        "--on-change", type=click.Choice(["stop", "note", "extend"]), default="note", show_default=True,
        help="Of a structure that has changed: put the source aside, values to the rejects, or tables grow.",
    ),
    click.option(
        "--settle", type=Duration(), default="2s", show_default=True, metavar="TIME",
        help="Leave files alone that were changed less long ago: they may not be whole yet.",
    ),
    click.option(
        "--health", type=click.Path(path_type=Path), metavar="FILE",
        help="Keep a file that tells how the watch is.",
    ),
    click.option(
        "--status", type=click.Path(path_type=Path), metavar="FILE",
        help="Only say what such a file tells; status 1 where the watch is not well.",
    ),
    click.option("--rounds", type=click.IntRange(1), metavar="N", help="Look so often, and end."),
    click.option(
        "--log", type=click.Choice(["text", "json"]), default="text", show_default=True,
        help="The form of the log on standard error.",
    ),
)  # fmt: skip


def _own_options(command: Command) -> Command:
    for option in reversed(_OWN_OPTIONS):
        command = option(command)
    return command


@click.command(cls=WorkCommand)
@click.argument("sources", nargs=-1, metavar="SOURCE...", shell_complete=completing.files)
@_own_options
@mark_option
@database_options
@name_option
@records_option
@layout_option
@no_envelope_option
@keys_option
@key_option
@dictionary_options
@workers_option
@memory_option
@stop_options
@source_options
def watch(
    sources: tuple[str, ...], to: str | None, every: float, ledger: str | None, format_name: str | None,
    mode: str, changed: str, on_change: str, settle: float, health: Path | None, status: Path | None,
    rounds: int | None, log: str, schema: str | None, runs_schema: str | None, password: str | None,
    layout_file: str | None, no_envelope: bool, dictionary: tuple[str, ...], no_dictionary: tuple[str, ...],
    **options: Any,
) -> None:  # fmt: skip
    """Keep a database, lake tables or a folder up with SOURCE: take in what is new, until this is stopped.

    It looks at once where the system tells of changes in a folder. A source that cannot be loaded is put
    aside with the reason, and the rest goes on; a target that is away is tried again. On SIGTERM or Ctrl-C
    what is being loaded is finished first.
    """
    if status is not None:
        _show_status(status)
        return
    if not sources or to is None:
        raise click.UsageError("say what to watch and where it goes: tessaron watch SOURCE --to URL-OR-DIR")
    from tessaron.repeat.keeping import Keeping
    from tessaron.repeat.standing_watch import LOG, StandingWatch
    from tessaron.views.repeating.log_lines import JsonLines, PlainLines
    from tessaron.write.load_place import LoadPlace

    place = LoadPlace(to, mode, schema, runs_schema, password=password)  # type: ignore[arg-type]
    if is_folder := _is_folder(to):
        _check_folder(place, ledger, changed)
    elif format_name is not None:
        raise click.UsageError("--format goes with a folder")
    keeping = Keeping(ledger or to, changed, on_change, settle=settle, goes_on=True)  # type: ignore[arg-type]
    keeping.check(place)
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(JsonLines() if log == "json" else PlainLines())
    LOG.addHandler(handler)
    LOG.setLevel(logging.INFO)
    LOG.propagate = False
    layout = layout_of(layout_file)
    given: Any = {
        **options,
        "envelope": not no_envelope,
        "dictionaries": dictionary,
        "not_dictionaries": no_dictionary,
    }

    look = (
        _look_of_folder(sources, to, keeping, {**given, "format": format_name}, layout)
        if is_folder
        else _look_of_database(sources, place, keeping, given, layout)
    )
    folders = [Path(each) for each in sources if Path(each).is_dir()]
    standing = StandingWatch(look, every, health, folders if len(folders) == len(sources) else (), settle)
    _stop_on_signals(standing)
    standing.run(rounds)


def _is_folder(to: str) -> bool:
    """Say whether a target is a folder: what else there is has a scheme."""
    return re.match(r"[a-z][a-z0-9+.-]+:", to) is None


def _check_folder(place: LoadPlace, ledger: str | None, changed: str) -> None:
    if ledger is None:
        raise click.UsageError("a folder has its ledger beside it: --ledger FILE")
    if place.mode != "append" or changed != "reject":
        raise click.UsageError("a folder grows; --mode merge and --changed reload go with databases")
    if (place.schema, place.runs_schema, place.password) != (None, None, None):
        raise click.UsageError("--schema-name, --runs-schema and --password go with databases")


def _look_of_database(
    sources: tuple[str, ...], place: LoadPlace, keeping: Keeping, given: Any, layout: Layout | None
) -> Callable[[], Looked]:
    """Return what loads into a database what is new."""
    from tessaron.repeat.keeping_up import kept_up
    from tessaron.repeat.standing_watch import Looked

    def look() -> Looked:
        return Looked.of_loads(kept_up(source_of(sources), place, keeping, given, layout, LoggedProgress()))

    return look


def _look_of_folder(
    sources: tuple[str, ...], to: str, keeping: Keeping, given: Any, layout: Layout | None
) -> Callable[[], Looked]:
    """Return what adds to a folder what is new."""
    from tessaron.repeat.growing_export import grown
    from tessaron.repeat.standing_watch import Looked

    def look() -> Looked:
        return Looked.of_folder(grown(source_of(sources), to, keeping, given, layout, LoggedProgress()))

    return look


class LoggedProgress:
    """Writes into the log what is worth telling, and nothing else."""

    def start(self, total_bytes: int | None) -> None:
        """Do nothing."""

    def say(self, text: str) -> None:
        """Write it into the log."""
        logging.getLogger("tessaron.watch").info(text)

    def read(self, byte_count: int) -> None:
        """Do nothing."""

    def write(self, step: int, steps: int) -> None:
        """Do nothing."""

    def work(self, tasks: Mapping[str, int]) -> None:
        """Do nothing."""


def _stop_on_signals(standing: StandingWatch) -> None:
    """Let the first signal end the watch once it can; a second one ends it at once."""
    before = {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM)}

    def stop(number: int, frame: object) -> None:
        standing.stop()
        for each, handler in before.items():
            signal.signal(each, handler)

    for number in before:
        signal.signal(number, stop)


def _show_status(path: Path) -> None:
    from tessaron.repeat.standing_watch import read_health

    health = read_health(path)
    fault = health.fault(datetime.now(UTC))
    for name, value in asdict(health).items():
        click.echo(
            f"{name:9} {value:,}" if isinstance(value, int) and name != "process" else f"{name:9} {value}"
        )
    if fault:
        say(f"the watch is not well: {fault}")
        sys.exit(EXIT_CHECK_FAILED)
