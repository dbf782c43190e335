"""`tessaron fetch`: the documents of a web API in a folder, as they are."""

from __future__ import annotations

import click

from tessaron.cli import completing
from tessaron.cli.command_group import WorkCommand, say, told_if_stopped
from tessaron.cli.source_arguments import tell_requests
from tessaron.core.base.visible import visible


@click.command(cls=WorkCommand)
@click.argument("source", metavar="FEED", shell_complete=completing.files)
@click.option(
    "-o",
    "--output",
    required=True,
    metavar="DIR",
    shell_complete=completing.files,
    help="The folder to write.",
)
@click.option("--replace", is_flag=True, help="Replace what was fetched into DIR before.")
@click.option("--no-sync", is_flag=True, help="Do not wait until the disk has it all: for scratch work.")
@click.option("--verbose", is_flag=True, help="Show requests and answers as they go.")
@click.option("--json", "as_json", is_flag=True, help="Print the receipt as JSON.")
def fetch(source: str, output: str, replace: bool, no_sync: bool, verbose: bool, as_json: bool) -> None:
    """Bring what a web API answers into DIR, a file for each page, with a receipt.

    FEED is a feed file, or an address. Where the run is stopped or breaks, the same command goes on.
    """
    from tessaron.write.fetching import fetch as fetch_documents

    if verbose:
        tell_requests()
    with told_if_stopped("what came is kept; the same command goes on"):
        fetched = fetch_documents(source, output, replace=replace, sync=not no_sync)
    if as_json:
        click.echo(fetched.to_json(), nl=False)
        return
    count = len(fetched.documents)
    size = f"{count:,} {'document' if count == 1 else 'documents'}, {fetched.byte_count:,} bytes"
    click.echo(visible(f"{size}, from {fetched.source} in {output}, {fetched.seconds:.2f} seconds"))
    for note in fetched.notes:
        say(note)
    if fetched.mark is not None:
        say(f"the next run begins at {fetched.mark}")
