"""`tessaron completion`: the script with which a shell completes commands, options, and names of data."""

from __future__ import annotations

import click

from tessaron.cli.command_group import WorkCommand

_PROGRAM, _VARIABLE = "tessaron", "_TESSARON_COMPLETE"


@click.command(cls=WorkCommand)
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> None:
    """Print what lets SHELL complete commands, options, files, and names out of your data.

    Paths, tables and columns come from the layout that a line names, or from one beside the source:
    FEED.layout.toml, or a survey that was kept (tessaron survey FEED.ndjson --json > FEED.survey.json).
    """
    from click.shell_completion import get_completion_class

    from tessaron.cli import main

    kind = get_completion_class(shell)
    assert kind is not None
    script = kind(main, {}, _PROGRAM, _VARIABLE)
    click.echo(script.source_template % script.source_vars())
