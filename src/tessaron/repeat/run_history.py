"""What runs have done to a target: when, from what, how much, and what has changed in the structure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from tessaron.core.base.errors import Code, SourceError
from tessaron.core.base.shown_forms import Shown
from tessaron.repeat.opened_targets import is_folder, opened_target
from tessaron.sinks.database.run_records import RunRecord
from tessaron.sinks.receipt_text import plain_data, spread_json

_CODES_OF_CHANGE = (Code.NO_COLUMN, Code.MISFIT, Code.NO_TEXT)


@dataclass(frozen=True, slots=True)
class PastRun:
    """One run.

    Attributes:
        run: Its number.
        top: The table of its records.
        mode: What it did with tables that were there.
        started: When, in ISO 8601.
        seconds: How long it took.
        sources: What it read.
        records, rejected: How many records were read, and how many of them went to the rejects.
        rejected_values: How many values of the others went there.
        merged: Where records were merged: how many were new, changed, unchanged and deleted.
        rows: The rows of each table once it was done.
        changes: What had changed in the structure, each in words.
        version: The version of Tessaron.
    """

    run: int
    top: str
    mode: str
    started: str
    seconds: float
    sources: tuple[str, ...]
    records: int
    rejected: int
    rejected_values: int
    merged: Mapping[str, int]
    rows: Mapping[str, int]
    changes: tuple[str, ...]
    version: str

    @classmethod
    def of(cls, record: RunRecord) -> PastRun:
        """Return what a record of a run tells."""
        receipt = record.receipt
        return cls(
            record.run, record.top, record.mode, str(receipt["started"]), float(receipt["seconds"]),
            tuple(str(each["name"]) for each in receipt["sources"]), int(receipt["records"]),
            int(receipt["rejected"]), int(receipt["rejected_values"]), receipt.get("merged", {}), record.rows,
            tuple(changes_of(receipt)), str(receipt["version"]),
        )  # fmt: skip


@dataclass(frozen=True, slots=True)
class History(Shown):
    """What runs have done to a target.

    Attributes:
        target: The target.
        runs: The runs, the last one first.
    """

    target: str
    runs: tuple[PastRun, ...]

    def to_json(self) -> str:
        """Return all of it as JSON."""
        return spread_json(plain_data(self)) + "\n"


def changes_of(receipt: Mapping[str, Any]) -> list[str]:
    """Return what a run has found that had changed in the structure, in words."""
    grown = [*receipt.get("new", ()), *receipt.get("widened", ())]
    return [*map(str, grown), *unplaced(receipt)]


def unplaced(receipt: Mapping[str, Any]) -> list[str]:
    """Return which values of a run had no place in the tables, in words."""
    return [
        f"{each['path'] or each['name']}: {_shown_count(each)}; {each['example']}"
        for each in receipt["findings"]
        if each["code"] in _CODES_OF_CHANGE
    ]


def _shown_count(finding: Mapping[str, Any]) -> str:
    count, is_there = finding["count"], finding["code"] == Code.NO_TEXT
    if count == 1:
        return "1 value is no text" if is_there else "1 value has no place"
    return f"{count:,} values {'are no texts' if is_there else 'have no place'}"


def history(
    target: str | Path,
    *,
    name: str | None = None,
    schema: str | None = None,
    runs_schema: str | None = None,
    password: str | None = None,
) -> History:
    """Return what runs have done to a target.

    Args:
        target: The URL of a database that runs have loaded, a catalog of lake tables, or the folder of an
            export.
        name: Only those that have loaded records into this table.
        schema: As in `load`.
        runs_schema: As in `load`.
        password: As in `load`.

    Raises:
        SourceError: When nothing is known of any run there.
    """
    if is_folder(target):
        return _of_folder(Path(target))
    with opened_target(str(target), schema, runs_schema, password) as opened, opened.told():
        found = [PastRun.of(each) for each in opened.past_runs.every() if name is None or each.top == name]
        shown = opened.name
    if not found:
        of_name = "" if name is None else f" into {name}"
        raise SourceError(
            f"{shown}: no run has loaded anything{of_name}; tessaron load does, or name the schema"
        )
    return History(shown, tuple(reversed(found)))


def _of_folder(folder: Path) -> History:
    from tessaron.write.books.receipt import read_receipt
    from tessaron.write.exported_rows import is_export

    if not is_export(folder):
        raise SourceError(f"{folder}: is no folder of an export, nor the URL of a database")
    receipt = read_receipt(folder)
    rows = {str(table["name"]): int(table["rows"]) for table in receipt["tables"]}
    top = next(iter(rows), "")
    runs = [
        RunRecord(each["run"], str(receipt["top"]), "append", each, "", rows if number == 1 else {})
        for number, each in enumerate(reversed(receipt.get("runs", ())), 1)
    ] or [RunRecord(1, top, "export", dict(receipt), "", rows)]
    return History(str(folder), tuple(PastRun.of(each) for each in runs))
