"""A run that drafts its own layout: all is read and put aside, then the fragments become rows."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import replace
from difflib import get_close_matches
from typing import TYPE_CHECKING, Any

from tessaron.core.errors import UsageError
from tessaron.core.kinds import SCALAR_KINDS
from tessaron.core.layout import Column, Table, TableSet
from tessaron.core.layouts.around_tables import draft_tables
from tessaron.core.paths import Origin, Path, format_path, markup_path
from tessaron.core.shape import ShapeNode
from tessaron.core.tables import shift_keys
from tessaron.core.visible import in_quotes
from tessaron.core.work import Plan
from tessaron.feeds import Feed, Progress
from tessaron.options import Options
from tessaron.pool import Pool
from tessaron.reading import Reading
from tessaron.receipt import KeyCheck
from tessaron.rejecting import RejectLog
from tessaron.run_outcome import Counted, Outcome
from tessaron.sources.inputs import Input
from tessaron.spill import Spill
from tessaron.uniqueness import CandidateKeys, UniqueCheck

if TYPE_CHECKING:
    from tessaron.flat_rows import FlatRows


class DraftedRun:
    """One run: read all, draft the layout, then turn the fragments into rows."""

    def __init__(self, inputs: list[Input], options: Options, progress: Progress, stack: ExitStack):
        self._options = options
        self._progress = progress
        sizes = [entry.size for entry in inputs]
        self._pool = stack.enter_context(Pool(options.worker_count(), sizes))
        feeds = [Feed(stack.enter_context(Spill())) for _ in range(2)]
        self.reading = Reading(inputs, options, feeds[0], feeds[1], progress, self._pool)
        self.reading.selection = options.selection()
        self.reading.log = stack.enter_context(RejectLog(options.stop_after, options.stop_at_share))
        self._layouts: list[tuple[Feed, TableSet]] = []
        self._stack = stack
        self._check: UniqueCheck | None = None
        self._candidates = CandidateKeys([])
        self._flat: FlatRows | None = None

    def read(self) -> TableSet:
        """Parse all inputs and return the tables that will be written."""
        reading = self.reading
        reading.read_all()
        reading.settle()
        if self._options.flat is not None:
            # The model of layouts takes time to load; most runs do without.
            from tessaron.flat_rows import FlatRows

            self._flat = FlatRows(reading, self._options, self._pool, self._progress)
            return self._flat.tables
        layout, around = draft_tables(
            reading.records.shape.record,
            reading.top_name(),
            reading.around_records(),
            exact=self._options.exact,
        )
        reading.note_unkept(layout)
        if around is not None:
            self._layouts.append((reading.documents, around))
        layout = self._with_keys(self._chosen(layout))
        self._layouts.append((reading.records, layout))
        return TableSet(tuple(table for _, each in self._layouts for table in each.tables))

    def layout_text(self) -> str:
        """Return the layout that was drafted, as a layout file."""
        # Only exports write their layout; a run that makes tables in memory does without.
        from tessaron.core.layouts.writing import write_draft
        from tessaron.draft_facts import plain_draft

        if self._flat is not None:
            return self._flat.layout_text
        around = tuple(table for _, each in self._layouts[:-1] for table in each.tables)
        head = ["The layout of this export, as Tessaron drafted it: rebuild and verify read it."]
        draft = plain_draft(self.reading, self._options, self._layouts[-1][1], around, {}, head)
        return write_draft(draft)

    def _chosen(self, layout: TableSet) -> TableSet:
        """Return the layout without the tables that patterns left without columns."""
        selection = self._options.selection()
        if selection is None:
            return layout
        # Paths as text are only read where patterns choose.
        from tessaron.core.layouts.paths import path_of_text

        met = _paths_of(self.reading.records.shape.record)
        read = path_of_text if self.reading.xml is None else markup_path
        passed = [path for path in map(read, self.reading.passed) if path is not None]
        unmet = selection.unmet(met, passed)
        if unmet:
            paths = [format_path(path) for path in (*met, *passed) if path]
            near = get_close_matches(unmet[0], sorted({*paths, *_last_names(paths)}), 3, 0.5)
            hint = f"; near it: {', '.join(near)}" if near else "; tessaron survey shows all paths"
            raise UsageError(f"nothing is met by the pattern {in_quotes(unmet[0])}{hint}")
        kept: list[Table] = []
        for table in reversed(layout.tables):
            has_children = any(other.parent == table.name or other.through == table.name for other in kept)
            has_data = any(
                not isinstance(column.path[-1:] and column.path[-1], Origin) for column in table.columns
            )
            if has_data or has_children or table.parent is None:
                kept.append(table)
        return replace(layout, tables=tuple(reversed(kept)))

    def done(self) -> Outcome:
        """Return what was done, once all rows were taken."""
        reading = self.reading
        reading.log.check_share(reading.records.shape.record_count + reading.rejected, is_end=True)
        return Outcome(
            tuple(reading.sources),
            reading.records.shape.record_count,
            reading.rejected,
            reading.repeated,
            tuple(reading.notes),
            reading.log,
            reading.is_partial,
            self.candidate_keys(),
            self.key_check(),
            left_out=reading.passed + (self._flat.left_out if self._flat is not None else Counter()),
            counted=dict(self._counted()) if self._flat is None else {},
            is_whole=self._flat is None and reading.selection is None,
            unread=reading.rejected,
            top=self._layouts[-1][1].tables[0].name if self._layouts else "",
        )

    def _counted(self) -> Iterator[tuple[str, Counted]]:
        """Yield what the shapes, which saw the records as they were read, have counted."""
        for feed, layout in self._layouts:
            for table in layout.tables:
                node = feed.shape.node_at(table.rows)
                if table.within_key is None:
                    # The rows of structures that contain themselves are counted by verify alone.
                    yield table.name, Counted(0 if node is None else node.row_count)
                for column in table.columns:
                    node = feed.shape.node_at(column.path)
                    if node is None or (column.path and isinstance(column.path[-1], Origin)):
                        continue
                    empty = node.empty_texts if node.is_markup and column.type.name != "text" else 0
                    read = sum(node.counts[kind] for kind in SCALAR_KINDS) - empty
                    yield f"{table.name}.{column.name}", Counted(read)

    def _with_keys(self, layout: TableSet) -> TableSet:
        """Return the layout with the keys that were asked for, and watch the columns of the top table."""
        top = layout.tables[0]
        names = [column.name for column in top.columns]
        unknown = [name for name in self._options.key if name not in names]
        if unknown:
            raise UsageError(
                f"no column {in_quotes(unknown[0])} in {top.name} for its key; there are {', '.join(names)}"
            )
        if self._options.key:
            self._check = self._stack.enter_context(UniqueCheck(tuple(self._options.key)))
        elif self._options.keys == "digest":
            self._check = self._stack.enter_context(UniqueCheck((top.row_key,)))
        possible = [column.name for column in top.columns if _may_be_key(column)]
        self._candidates = self._stack.enter_context(CandidateKeys(possible))
        if self._options.keys == "sequence":
            return layout
        tables = tuple(replace(table, key_type="text") for table in layout.tables)
        return replace(layout, tables=tables, natural_key=tuple(self._options.key))

    def _watch(self, batch: Any) -> None:
        if batch.num_rows:
            self._candidates.add(batch)
            if self._check is not None:
                self._check.add(batch)

    def key_check(self) -> KeyCheck | None:
        """Return how the key of the top table stood the test of being unique; None if there was none."""
        if self._check is None:
            return None
        return KeyCheck(self._check.columns, self._check.duplicates(), self._check.nulls)

    def candidate_keys(self) -> tuple[str, ...]:
        """Return the columns that could be the natural key of the top table."""
        return tuple(self._candidates.names())

    def rows(self) -> Iterator[dict[str, Any]]:
        """Yield, fragment by fragment, the rows of the tables."""
        if self._flat is not None:
            yield from self._flat.rows()
            return
        steps = sum(len(feed.spill) for feed, _ in self._layouts)
        step = 0
        for feed, layout in self._layouts:
            rows_before: dict[str, int] = {}
            for made in self._pool.map(Plan(feed.shape.record, layout), feed.spill.read()):
                step += 1
                batches = shift_keys(made, layout, rows_before)
                for name, batch in batches.items():
                    rows_before[name] = rows_before.get(name, 0) + batch.num_rows
                if feed is self.reading.records:
                    self._watch(batches[layout.tables[0].name])
                yield batches
                self._progress.write(step, steps)


def _paths_of(record: ShapeNode) -> list[Path]:
    found: list[Path] = []
    pending: list[tuple[ShapeNode, Path]] = [(record, ())]
    while pending:
        node, path = pending.pop()
        found.append(path)
        pending += [(child, (*path, step)) for step, child in node.children.items()]
    return found


def _last_names(paths: list[str]) -> list[str]:
    return [path.rsplit(".", 1)[-1] for path in paths]


def _may_be_key(column: Column) -> bool:
    plain = column.type.name in ("integer", "text", "uuid", "decimal")
    return plain and not isinstance(column.path[-1:] and column.path[-1], Origin)
