"""What a shell can complete: files, and paths, tables and columns from a layout or a survey that was kept.

These are looked for where they would be: in the layout that the line names (`--layout`), in the folder of an
export that it names, in a file beside the source with its name and `.survey.json` or `.layout.toml`, and at
last in any such file of the folder one is in.
"""

from __future__ import annotations

import json
import tomllib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path
from typing import Any

import click
from click.shell_completion import CompletionItem

_MOST_FILES, _MOST_BYTES = 20, 64_000_000
_KINDS = (".survey.json", ".layout.toml")


@dataclass
class Known:
    """Names that were found, in their order: paths, tables, and columns."""

    paths: dict[str, None] = field(default_factory=dict)
    tables: dict[str, None] = field(default_factory=dict)
    columns: dict[str, None] = field(default_factory=dict)

    def add_file(self, file: Path) -> None:
        """Take in a layout or a survey; what cannot be read tells nothing."""
        try:
            if file.stat().st_size > _MOST_BYTES:
                return
            if file.suffix == ".toml":
                self._add_layout(tomllib.loads(file.read_text("utf-8")))
            else:
                self._add_survey(json.loads(file.read_text("utf-8")))
        except (OSError, ValueError, AttributeError, TypeError, KeyError):
            return

    def _add_layout(self, layout: dict[str, Any]) -> None:
        for name, table in layout["tables"].items():
            self.tables[name] = None
            rows = table.get("rows")
            if isinstance(rows, str):
                self.paths[rows] = None
            for column, keys in table.get("columns", {}).items():
                self.columns[column] = None
                path = keys.get("path")
                if isinstance(path, str):
                    whole = str(rows) + path[1:] if path.startswith("@") and isinstance(rows, str) else path
                    self.paths[whole] = None

    def _add_survey(self, survey: dict[str, Any]) -> None:
        self.paths |= dict.fromkeys(str(entry["path"]) for entry in survey["paths"])


def _files_of(context: click.Context) -> Iterator[Path]:
    """Yield the files that may tell names, the nearest first."""
    given = context.params
    named = [given.get(name) for name in ("layout_file", "old") if given.get(name)]
    yield from (Path(str(name)) for name in named)
    for source in _sources_of({**given, "others": context.args}):
        if source.is_dir():
            yield source / "layout.toml"
        for kind in _KINDS:
            yield source.with_name(source.name.partition(".")[0] + kind)
    for kind in _KINDS:
        yield from islice(sorted(Path().glob(f"*{kind}")), _MOST_FILES)


def _sources_of(given: dict[str, Any]) -> Iterator[Path]:
    for name in ("sources", "arguments", "folder", "target", "source", "others"):
        value = given.get(name)
        for each in value if isinstance(value, (list, tuple)) else [value] if value else []:
            if isinstance(each, str) and "://" not in each:
                yield Path(each)


def _known(context: click.Context, wanted: Callable[[Known], Iterable[str]]) -> list[str]:
    """Return names out of the nearest file that has any."""
    known = Known()
    for file in _files_of(context):
        known.add_file(file)
        if list(wanted(known)):
            break
    return list(wanted(known))


def _beginning(names: Iterable[str], incomplete: str) -> list[CompletionItem]:
    return [CompletionItem(name) for name in names if name.startswith(incomplete)]


def files(context: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Leave it to the shell to complete a file."""
    return [CompletionItem(incomplete, type="file")]


def paths(context: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Return the paths that begin so."""
    return _beginning(_known(context, lambda known: known.paths), incomplete)


def tables(context: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Return the tables that begin so."""
    return _beginning(_known(context, lambda known: known.tables), incomplete)


def columns(context: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Return the columns that begin so."""
    return _beginning(_known(context, lambda known: known.columns), incomplete)


def files_then_paths(
    context: click.Context, parameter: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the paths behind a first file; before that, leave it to the shell."""
    found = paths(context, parameter, incomplete) if context.params.get("arguments") or context.args else []
    return found or files(context, parameter, incomplete)
