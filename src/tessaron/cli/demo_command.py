"""`tessaron demo`: the whole example on the harbour's data."""

from __future__ import annotations

import shlex
import shutil
import sys
import tempfile
from pathlib import Path

import click

from tessaron.cli.shared_options import count_type
from tessaron.core.base.errors import UsageError


@click.command()
@click.option("--into", metavar="DIR", help="Folder to work in; else a new temporary one.")
@click.option(
    "--serve", is_flag=True, help="Serve a stand-in web API of the harbour office; stop with Ctrl-C."
)
@click.option(
    "--port", type=click.IntRange(0, 65535), default=8873, help="The port to serve at; 0: a free one."
)
@click.option("--records", type=count_type(), help="Only write so many vessel calls, for benchmarks.")
def demo(into: str | None, serve: bool, port: int, records: int | None) -> None:
    """Run the whole example on the harbour's vessel calls, write its data only, or serve it as a web API."""
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

    if not show_demo(folder, _command_as_typed()):
        sys.exit(1)


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
