"""The command line: parses, calls the public functions, shows. Results go to standard output."""

from __future__ import annotations

import os

import click

from tessaron.cli.command_group import Group

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
"""Nothing here multiplies matrices; without threads of its own NumPy loads faster."""
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
"""The model of layouts has no use for plugins; to look for them takes longer than to check a layout."""


_COMMANDS = {
    **dict.fromkeys(("fetch", "survey", "find", "values", "compose", "preview", "sample"), "looking."),
    **dict.fromkeys(("draft", "export", "load", "ddl", "rebuild", "verify"), "making."),
    **dict.fromkeys(("compare", "watch", "history", "trace"), "repeating."),
    "demo": "",
}
"""The commands in the order of the work, with the folder that each is in."""
_MODULES = {"compose": "values"}
"""Where a command is found that is not in a module of its name."""


@click.group(cls=Group, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="tessaron", message="tessaron %(version)s")
def main() -> None:
    """Deeply nested JSON in, keyed relational tables out.

    Every array becomes a child table with keys, at any depth; columns get types that keep every value.
    """


for _name, _folder in _COMMANDS.items():
    main.add_late(_name, f"tessaron.cli.{_folder}{_MODULES.get(_name, _name)}_command")
