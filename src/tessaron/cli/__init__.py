"""The command line: parses, calls the public functions, shows. Results go to standard output."""

from __future__ import annotations

import os

import click

from tessaron.cli.command_group import Group

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
"""Nothing here multiplies matrices; without threads of its own NumPy loads faster."""
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
"""The model of layouts has no use for plugins; to look for them takes longer than to check a layout."""


_STEPS = {
    "Get data": {
        "fetch": ("looking.fetch", "Bring what a web API answers into a folder."),
    },
    "Look at it": {
        "survey": ("looking.survey", "Every path: fill, type, distinct values, range; and notes."),
        "find": ("looking.find", "What a path matches: JSONPath, or XPath for XML."),
        "values": ("looking.values", "Every value with its place, one a line, for other tools."),
        "compose": ("looking.values", "Documents again from such lines."),
        "sample": ("looking.sample", "A small file with the same structure, masked if asked."),
    },
    "Decide": {
        "draft": ("making.draft", "The layout that is proposed: as a file, or to choose on a page."),
        "estimate": ("looking.estimate", "What a run would take: time, memory, size."),
        "preview": ("looking.preview", "The first rows of every table, with types."),
    },
    "Write": {
        "export": ("making.export", "Tables into a folder: Parquet, CSV, Arrow, a spreadsheet …"),
        "load": ("making.load", "Tables into a database, in one transaction."),
        "ddl": ("making.ddl", "The SQL that makes the tables."),
    },
    "Prove it": {
        "verify": ("making.verify", "Tables against their source, record by record."),
        "rebuild": ("making.rebuild", "The documents again, from the tables."),
    },
    "Do it again": {
        "compare": ("repeating.compare", "What has changed in a structure, and what it would break."),
        "watch": ("repeating.watch", "Keep a target up with its sources until stopped."),
        "history": ("repeating.history", "What runs have done to a target."),
        "trace": ("repeating.trace", "From which record of which source a row is."),
    },
    "Learn": {
        "demo": ("demo", "The whole of it, on the data of a harbour."),
        "completion": ("completion", "What lets a shell complete paths, tables, columns."),
    },
}
"""The commands in the order of the work: the module of each, and what it does in one line."""


@click.group(cls=Group, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="tessaron", message="tessaron %(version)s")
def main() -> None:
    """Deeply nested JSON and XML in, keyed relational tables out.

    Every array becomes a child table with keys, at any depth; columns get types that keep every value.
    Each command says more with --help, and shows how it is typed. Begin with: tessaron demo
    """


for _title, _commands in _STEPS.items():
    for _name, (_module, _summary) in _commands.items():
        main.add_late(_title, _name, f"tessaron.cli.{_module}_command", _summary)
