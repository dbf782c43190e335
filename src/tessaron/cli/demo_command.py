"""`tessaron demo`: the whole example on the harbour's data."""

from __future__ import annotations

import shlex
import shutil
import sys
import tempfile
from pathlib import Path

import click

from tessaron.cli.command_group import WorkCommand
from tessaron.cli.shared_options import count_type
from tessaron.cli.walkthrough import STEPS
from tessaron.core.base.errors import UsageError


@click.command(cls=WorkCommand)
@click.option("--into", metavar="DIR", help="Folder to work in; else a new temporary one.")
@click.option(
    "--serve", is_flag=True, help="Serve a stand-in web API of the harbour office; stop with Ctrl-C."
)
@click.option(
    "--port", type=click.IntRange(0, 65535), default=8873, help="The port to serve at; 0: a free one."
)
@click.option("--records", type=count_type(), help="Only write so many vessel calls, for benchmarks.")
@click.option(
    "--step",
    "steps",
    type=click.IntRange(1, STEPS),
    multiple=True,
    help="Only this step, with all that it prints.",
)
@click.option(
    "--all", "is_whole", is_flag=True, help="Every step with all that it prints; pauses on a terminal."
)
def demo(
    into: str | None, serve: bool, port: int, records: int | None, steps: tuple[int, ...], is_whole: bool
) -> None:
    """Run the whole example on the harbour's data, in short; or write its data only, or serve a web API.

    It does in a few seconds what an engineer does in a day: looks, decides, writes, loads, proves, and does
    it again.
    """
    from tessaron.sources.demo.vessel_calls import write_calls

    folder = Path(into) if into else Path(tempfile.mkdtemp(prefix="tessaron-demo-"))
    folder.mkdir(parents=True, exist_ok=True)
    if serve:
        _serve(folder, port)
        return
    if records is not None:
        click.echo(f"{write_calls(folder, records)}: {records:,} vessel calls")
        return
    from tessaron.cli.walkthrough.demo_story import show_demo
    from tessaron.cli.walkthrough.telling import Telling
    from tessaron.views.terminal import console, show

    screen = console()
    show(screen, f"The harbour office of Brackwater, in {folder}", "")
    telling = Telling(
        screen, _command_as_typed(), is_whole, frozenset(steps), _pause if is_whole else lambda: True
    )
    if not show_demo(folder, telling):
        sys.exit(1)


def _pause() -> bool:
    """Wait for a key, where somebody reads along; say whether to go on."""
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        return True
    click.echo("Enter for the next step, q to leave it: ", nl=False, err=True)
    key = click.getchar()
    click.echo("\r\033[K", nl=False, err=True)
    return key.lower() != "q"


def _serve(folder: Path, port: int) -> None:
    """Serve the stand-in office until Ctrl-C, and say what to ask of it."""
    from tessaron.sources.demo.office import ADDRESSES, OFFICE_SECRET, OFFICE_TOKEN
    from tessaron.sources.demo.office_server import OfficeServer, write_feeds

    try:
        server = OfficeServer(port)
    except OSError as error:
        raise UsageError(f"port {port}: {error.strerror}; --port 0 takes a free one") from error
    with server:
        feeds = write_feeds(folder, server.url)
        width = max(map(len, ADDRESSES)) + len(server.url)
        lines = [
            f"The harbour office of Brackwater is at {server.url}, for this machine only; stop with Ctrl-C.\n"
        ]
        lines += [f"{(server.url + path).ljust(width)}  {what}" for path, (what, _) in ADDRESSES.items()]
        said = f"the token is {OFFICE_TOKEN}, the secret for a login {OFFICE_SECRET}"
        lines.append(f"\nFeed files, for what needs one; {said}:\n")
        lines += map(str, feeds)
        by_name = {path.name.partition(".")[0]: shlex.quote(str(path)) for path in feeds}
        typed = _command_as_typed()
        lines += (
            "\nWhat to try, in another terminal:\n",
            f"{typed} survey {server.url}/calls",
            f"{typed} survey {server.url}/calls/number",
            f"{typed} export {by_name['next']} -o tables",
            f"{typed} preview {by_name['details']}",
            f"{typed} fetch {by_name['manifests']} -o manifests",
            f"OFFICE_TOKEN={OFFICE_TOKEN} {typed} survey {by_name['signed']}",
            f"OFFICE_SECRET={OFFICE_SECRET} {typed} export {by_name['login']} -o tables --verbose",
        )
        click.echo("\n".join(lines))
        try:
            server.serve_forever()
        except KeyboardInterrupt:
            click.echo("closed")


def _command_as_typed() -> str:
    """Return how this command was called, so that what is shown to paste works."""
    typed = sys.argv[0]
    if Path(typed).name == "__main__.py":
        return f"{shlex.quote(sys.executable)} -m tessaron"
    return shlex.quote(typed) if "/" in typed and not _on_path(typed) else "tessaron"


def _on_path(typed: str) -> bool:
    found = shutil.which(Path(typed).name)
    return found is not None and Path(found).resolve() == Path(typed).resolve()
