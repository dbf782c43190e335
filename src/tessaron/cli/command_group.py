"""What all commands share: how errors and signals end them, and how they speak."""

from __future__ import annotations

import io
import os
import shutil
import signal
import sys
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from functools import cached_property
from importlib import import_module
from types import FrameType
from typing import Any, NoReturn, TextIO

import click

from tessaron.core.base.errors import TessaronError
from tessaron.core.base.visible import clipped, visible
from tessaron.views.palette import Palette

EXIT_CHECK_FAILED, EXIT_FAILED, EXIT_INTERRUPTED, EXIT_PIPE_CLOSED = 1, 2, 130, 141
"""141 is what a shell says of a command that SIGPIPE ended, as it does others whose reader has gone."""


class Group(click.Group):
    """Turns Tessaron's errors into one or two lines on standard error, and stops cleanly on a signal."""

    def main(self, *arguments: Any, **options: Any) -> Any:
        """Run the command line and end; what was typed wrongly is told as all else is."""
        run: Any = super().main
        if not options.get("standalone_mode", True):
            return run(*arguments, **options)
        try:
            result = run(*arguments, **{**options, "standalone_mode": False})
        except click.exceptions.NoArgsIsHelpError as error:
            click.echo(error.format_message(), err=True)
            sys.exit(error.exit_code)
        except click.ClickException as error:
            say(_told_of_use(error), is_error=True)
            sys.exit(error.exit_code)
        except click.Abort:
            say("stopped; nothing was begun")
            sys.exit(EXIT_INTERRUPTED)
        sys.exit(result if isinstance(result, int) else 0)

    def invoke(self, context: click.Context) -> object:
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
            say(str(error), is_error=True)
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

    def add_late(self, step: str, name: str, module: str, summary: str) -> None:
        """Add a command that is loaded when it is used, to a step of the work."""
        self._late[name] = module
        self._steps.setdefault(step, []).append((name, summary))

    def format_commands(self, context: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the commands in the order of the work, a line each."""
        widest = max(map(len, self._late))
        for step, commands in self._steps.items():
            with formatter.section(step):
                formatter.write_dl([(name.ljust(widest), text) for name, text in commands])

    @cached_property
    def _steps(self) -> dict[str, list[tuple[str, str]]]:
        return {}

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


def _told_of_use(error: click.ClickException) -> str:
    """Return what was typed wrongly in one line, with where to read on."""
    message = " ".join(error.format_message().split()).rstrip(".")
    message = message[:1].lower() + message[1:]
    context: click.Context | None = getattr(error, "ctx", None)
    if context is None:
        return message
    name = "" if context.parent is None else str(context.info_name)
    # The program's own name stands before the message already.
    return f"{name}: {message}; see tessaron {name} --help" if name else f"{message}; see tessaron --help"


class WorkCommand(click.Command):
    """A command whose help ends with how it is typed."""

    def format_epilog(self, context: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the examples as they are to be typed, however long."""
        from tessaron.cli.command_examples import EXAMPLES

        super().format_epilog(context, formatter)
        for place, (purpose, line) in enumerate(EXAMPLES.get(str(self.name), ())):
            formatter.write("\nExamples:\n" if place == 0 else "")
            formatter.write(f"  # {purpose}\n  {line}\n")


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


def say(message: str, is_error: bool = False) -> None:
    """Write a message to standard error."""
    name = Palette(is_error and _wants_colours(sys.stderr)).paint("trouble", "tessaron:")
    click.echo(f"{name} {visible(message)}", err=True)


def palette() -> Palette:
    """Return colours for standard output, if it is a terminal and nobody said NO_COLOR."""
    return Palette(_wants_colours(sys.stdout))


def _wants_colours(stream: TextIO) -> bool:
    is_asked = not os.environ.get("NO_COLOR") and os.environ.get("TERM", "dumb") != "dumb"
    return stream.isatty() and is_asked


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
