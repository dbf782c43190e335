"""The command line: parses, calls the public functions, shows. Results go to standard output."""

from __future__ import annotations

import os

import click

from tessaron.cli.demo import demo
from tessaron.cli.draft import draft
from tessaron.cli.export import export
from tessaron.cli.find import find
from tessaron.cli.group import Group
from tessaron.cli.preview import preview
from tessaron.cli.rebuild import rebuild
from tessaron.cli.sample import sample
from tessaron.cli.survey import survey
from tessaron.cli.values import compose, values
from tessaron.cli.verify import verify

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
"""Nothing here multiplies matrices; without threads of its own NumPy loads faster."""
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
"""The model of layouts has no use for plugins; to look for them takes longer than to check a layout."""


@click.group(cls=Group, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="tessaron", message="tessaron %(version)s")
def main() -> None:
    """Deeply nested JSON in, keyed relational tables out.

    Every array becomes a child table with keys, at any depth; columns get types that keep every value.
    """


for _command in (survey, find, values, compose, preview, sample, draft, export, rebuild, verify, demo):
    main.add_command(_command)
