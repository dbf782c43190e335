"""`tessaron demo`: the whole example on the harbour's data."""

from __future__ import annotations

import shlex
import shutil
import sys
import tempfile
from pathlib import Path

import click

from tessaron.cli.command_group import count_type


@click.command()
@click.option("--into", metavar="DIR", help="Folder to work in; else a new temporary one.")
@click.option("--records", type=count_type(), help="Only write so many vessel calls, for benchmarks.")
def demo(into: str | None, records: int | None) -> None:
    """Run the whole example on the harbour's vessel calls, or write its data only."""
    from tessaron.sources.demo.vessel_calls import write_calls

    folder = Path(into) if into else Path(tempfile.mkdtemp(prefix="tessaron-demo-"))
    folder.mkdir(parents=True, exist_ok=True)
    if records is not None:
        click.echo(f"{write_calls(folder, records)}: {records:,} vessel calls")
        return
    from tessaron.cli.demo_story import show_demo

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
