"""The receipt of a run, made of what it did and of what was written."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from tessaron._version import __version__
from tessaron.core.base.paths import format_path
from tessaron.core.layout.table_set import TableSet
from tessaron.engine.options import Options
from tessaron.sources.forms.file_form import FileForm
from tessaron.write.books.balance import Balance
from tessaron.write.books.outcome import Outcome
from tessaron.write.books.receipt import ColumnWritten, ForeignKey, LeftOut, Note, Receipt, TableWritten

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout


class Clock:
    """When a run began, and how long it has taken."""

    def __init__(self) -> None:
        self.started = datetime.now(UTC)
        self._begun = time.perf_counter()

    def seconds(self) -> float:
        """Return the seconds since it began."""
        return round(time.perf_counter() - self._begun, 3)


@dataclass(frozen=True, slots=True)
class Written:
    """What was written of each table.

    Attributes:
        rows: Its rows.
        values: The values, null aside, in each of its columns.
        files: Its file, if it has one.
        digests: The SHA-256 of that.
        kept_back: What need not be written, as it is there: rows by table, values by `table.column`.
    """

    rows: Mapping[str, int]
    values: Mapping[str, Sequence[int]]
    files: Mapping[str, str] = field(default_factory=dict)
    digests: Mapping[str, str] = field(default_factory=dict)
    kept_back: Mapping[str, int] = field(default_factory=dict)


def receipt_of(
    done: Outcome,
    tables: TableSet,
    written: Written,
    options: Options,
    clock: Clock,
    format: str,
    target: str,
    layout: Layout | None = None,
    form: FileForm | None = None,
) -> Receipt:
    """Return the receipt of a run that is done; see `Receipt` for what each part means."""
    return Receipt(
        version=__version__,
        started=clock.started.isoformat(timespec="seconds"),
        seconds=clock.seconds(),
        format=format,
        target=target,
        sources=done.sources,
        records=done.records,
        rejected=done.rejected,
        repeated_names=done.repeated_names,
        tables=_tables_written(tables, written),
        notes=tuple(Note(path, text) for path, text in done.notes),
        candidate_keys=done.candidate_keys,
        key_check=done.key_check,
        layout=None if layout is None else layout.source,
        key_checks=done.key_checks,
        filtered=dict(done.filtered),
        left_out=tuple(LeftOut(path, count) for path, count in sorted(done.left_out.items())),
        rejected_values=done.rejected_values,
        findings=done.findings,
        unmet=done.unmet,
        reasons=dict(done.log.reasons.most_common()),
        for_spreadsheets=form is not None and form.for_spreadsheets,
        form={} if form is None else form.to_dict(),
        is_ordered=form is None or form.is_ordered,
        is_whole=done.is_whole,
        depth_limit=options.depth_limit,
        balance=tuple(_balances(done, tables, written)),
        cluster=done.cluster,
    )


def _balances(done: Outcome, tables: TableSet, written: Written) -> Iterator[Balance]:
    """Yield the sums of what was read and what was written: records, then rows and values of each table."""
    kept = written.kept_back
    if done.top in done.counted:
        read = sum(source.records + source.rejected for source in done.sources)
        own = done.counted[done.top]
        filtered = own.filtered + kept.get(done.top, 0)
        yield Balance("records", "", read, written.rows[done.top], filtered, own.rejected + done.unread)
    for table in tables.tables:
        counted = done.counted.get(table.name)
        if counted is not None:
            filtered = counted.filtered + kept.get(table.name, 0)
            yield Balance(
                "rows", table.name, counted.read, written.rows[table.name], filtered, counted.rejected
            )
        for name, values in zip(table.arrow_schema().names, written.values[table.name], strict=True):
            counted = done.counted.get(f"{table.name}.{name}")
            if counted is not None:
                whole = f"{table.name}.{name}"
                filtered = counted.filtered + kept.get(whole, 0)
                yield Balance("values", whole, counted.read, values, filtered, counted.rejected)


def _tables_written(tables: TableSet, written: Written) -> tuple[TableWritten, ...]:
    return tuple(
        TableWritten(
            table.name,
            written.files.get(table.name, ""),
            written.rows[table.name],
            written.digests.get(table.name, ""),
            table.only_parent(),
            (table.row_key,),
            tuple(ForeignKey(column, other) for column, other in table.references()),
            tuple(ColumnWritten(key, table.key_type_of(key)) for key in table.key_columns())
            + tuple(
                ColumnWritten(
                    column.name, str(column.type), column.shown or format_path(column.path), column.note
                )
                for column in table.columns
            ),
            table.places,
        )
        for table in tables.tables
    )
