"""A folder of tables that grows by part files: its state, and how files come into it."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from tessaron.core.base.errors import TargetError, UsageError
from tessaron.core.layout.table_set import TableSet
from tessaron.sinks.target_folder import LAYOUT_FILE, LOAD_SCRIPT, RECEIPT_FILE, REJECTS_FILE
from tessaron.sources.forms.file_form import FileForm, FormatName
from tessaron.write.books.receipt import read_receipt
from tessaron.write.exported_rows import is_export

_MOST_ROWS = 10_000_000
"""So many rows, at most, have the part files where nothing is said of it."""


@dataclass(frozen=True)
class GrowingFolder:
    """A folder that grows, as it is.

    Attributes:
        path: The folder.
        receipt: Its receipt; None for one that is to be.
        form: How its files are written.
    """

    path: Path
    receipt: Mapping[str, Any] | None
    form: FileForm

    @classmethod
    def of(cls, path: Path, format: FormatName | None, said: Mapping[str, Any]) -> GrowingFolder:
        """Return the state of a folder.

        Raises:
            TargetError: When it is an export that does not grow.
            UsageError: When files were written otherwise so far.
        """
        if not is_export(path):
            form = FileForm(format or "parquet", **said)
            if form.name == "xlsx" or not form.header:
                raise UsageError("what grows tells its columns: no spreadsheet, nor CSV without a header")
            return cls(path, None, form if form.has_folders else replace(form, file_rows=_MOST_ROWS))
        receipt = read_receipt(path)
        if "runs" not in receipt:
            raise TargetError(f"{path}: is an export of one run, which does not grow; choose another folder")
        form = FileForm.of(receipt)
        if (format is not None and format != form.name) or any(
            getattr(form, name) != said[name] for name in said
        ):
            raise UsageError(f"{path}: its files are written otherwise; leave out what is said of them")
        return cls(path, receipt, form)

    @property
    def top(self) -> str:
        """The table of the records; empty for a folder that is to be."""
        return "" if self.receipt is None else str(self.receipt["top"])

    @property
    def rows(self) -> dict[str, int]:
        """The rows of each table."""
        return {} if self.receipt is None else {each["name"]: each["rows"] for each in self.receipt["tables"]}

    def run_of(self, token: str) -> tuple[int, str]:
        """Return the number of the run with a token, and the records' table; 0 for none."""
        runs = [] if self.receipt is None else self.receipt["runs"]
        return next(((each["run"], self.top) for each in runs if each["token"] == token), (0, ""))

    def left_out(self) -> frozenset[str]:
        """Return the places that the first run left out."""
        return frozenset(() if self.receipt is None else self.receipt["left_out_first"])


def link_all(folder: Path, aside: Path) -> None:
    """Let all files of a folder stand in another one too: as links, or else as copies."""
    for path in sorted(folder.rglob("*")):
        name = path.relative_to(folder)
        if path.is_dir():
            (aside / name).mkdir(exist_ok=True)
        elif name.as_posix() not in (RECEIPT_FILE, LAYOUT_FILE, LOAD_SCRIPT):
            try:
                os.link(path, aside / name)
            except OSError:
                shutil.copy2(path, aside / name)


def move_parts(new: Path, aside: Path) -> dict[str, str]:
    """Put part files behind those that are there; return the name of each, by the one it had."""
    names: dict[str, str] = {}
    counts: dict[Path, int] = {}
    for path in sorted(each for each in new.rglob("part-*") if each.is_file()):
        name = path.relative_to(new)
        place = aside / name.parent
        place.mkdir(parents=True, exist_ok=True)
        if place not in counts:
            counts[place] = sum(each.name.startswith("part-") for each in place.iterdir())
        counts[place] += 1
        ending = path.name.partition(".")[2]
        target = place / f"part-{counts[place]:05}.{ending}"
        os.rename(path, target)
        names[name.as_posix()] = target.relative_to(aside).as_posix()
    shutil.rmtree(new)
    return names


def append_rejects(aside: Path, rejects: Iterable[Mapping[str, Any]]) -> None:
    """Put what a run has rejected behind what runs before it have."""
    path = aside / REJECTS_FILE
    before = path.read_bytes() if path.exists() else b""
    path.unlink(missing_ok=True)
    lines = "".join(json.dumps(each, ensure_ascii=False) + "\n" for each in rejects)
    path.write_bytes(before + lines.encode("utf-8", "surrogateescape"))


def load_script_of(plan: TableSet, receipt: Mapping[str, Any], form: FileForm) -> str:
    """Return the script that loads all part files."""
    from tessaron.sinks.ddl.create_tables import CreateTables
    from tessaron.sinks.ddl.known_dialects import dialect_named
    from tessaron.sinks.ddl.load_script import load_script

    names = {each["name"]: each["file"] for each in receipt["tables"]}
    return load_script(CreateTables(dialect_named("postgresql"), plan.tables), names, form)


def write_text(path: Path, text: str) -> None:
    """Write a file; raises `TargetError` where that cannot be."""
    try:
        path.write_text(text, "utf-8")
    except OSError as error:
        raise TargetError(f"the target cannot be written: {error.strerror}") from error
