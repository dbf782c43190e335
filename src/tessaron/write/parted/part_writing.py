"""The task that writes the rows of one part where they are kept, once it is known what comes before."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.layout.table_set import TableSet
from tessaron.core.plan.plan import LayingPlan
from tessaron.core.tables.numbering import RowNumbers
from tessaron.engine.parts.kept_parts import context_of, forget_part, rows_of
from tessaron.engine.parts.part_specs import PartTask
from tessaron.write.across.chunk_placing import ChunkPlacer, ChunkPlacing
from tessaron.write.across.uniqueness import KeyDigests, possible_key


@dataclass(frozen=True, slots=True)
class PartPlacing:
    """What is decided about the rows of one part.

    Attributes:
        chunks: Of each of its chunks.
        rows_before: By table, the rows of all parts before it.
        rows: By table, its own rows.
        last_keys: As in `moved_keys`.
    """

    chunks: tuple[ChunkPlacing, ...]
    rows_before: Mapping[str, int]
    rows: Mapping[str, int]
    last_keys: Mapping[str, int]


@dataclass(frozen=True, slots=True)
class WatchedKeys:
    """Which values are to be told as digests.

    Attributes:
        columns: Tables and columns that are watched.
        top: The table of records.
        key: Its key that is watched, if one is.
        possible: Its columns that could be keys.
    """

    columns: tuple[tuple[str, tuple[str, ...]], ...] = ()
    top: str = ""
    key: tuple[str, ...] = ()
    possible: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class PartSums:
    """What was written of a part.

    Attributes:
        rows: By table.
        values: By table, the values, null aside, in each column.
        files: By table, the files with the SHA-256 of each.
    """

    rows: Mapping[str, int]
    values: Mapping[str, list[int]]
    files: Mapping[str, list[tuple[str, str]]] = field(default_factory=dict)


class PartPlace(Protocol):
    """Where the rows of parts go; can be pickled."""

    def write(self, number: int, tables: TableSet, rows: Iterator[dict[str, ArrowRows]]) -> PartSums:
        """Write the rows of one part; to do it again changes nothing.

        Args:
            number: The part.
            tables: Its tables: those that have rows.
            rows: The rows, chunk by chunk.
        """


@dataclass(frozen=True, slots=True)
class WriteDetail:
    """What a part is written by."""

    placing: PartPlacing
    place: PartPlace
    watched: WatchedKeys


@dataclass(slots=True)
class PartWritten:
    """What became of a part.

    Attributes:
        sums: What was written.
        gone: What was in records that were left out late: rows by table, values by `table.column`.
        watched: Digests of each of `WatchedKeys.columns`; None where there were no rows.
        key: Digests of the key of the table of records.
        possible: Digests of each column that could be one; None where it is none.
    """

    sums: PartSums
    gone: Counter[str] = field(default_factory=Counter)
    watched: tuple[KeyDigests | None, ...] = ()
    key: KeyDigests | None = None
    possible: Mapping[str, KeyDigests | None] = field(default_factory=dict)


def write_part(task: PartTask) -> PartWritten:
    """Write the rows of a part, and give up what was kept of it. The task's detail is a `WriteDetail`."""
    detail: WriteDetail = task.detail
    context = context_of(task.context)
    work = context.reads or context.lays
    assert work is not None
    plan: LayingPlan = work.plan  # type: ignore[attr-defined]
    told = _Told(detail.watched)
    rows = _placed(rows_of(context, task.part), plan, detail.placing, told)
    chosen = tuple(table for table in plan.written().tables if detail.placing.rows.get(table.name))
    sums = detail.place.write(task.part.number, TableSet(chosen), rows)
    forget_part(context, task.part)
    return told.written(sums)


def _placed(kept: Any, plan: LayingPlan, placing: PartPlacing, told: _Told) -> Iterator[dict[str, ArrowRows]]:
    """Yield the rows of each chunk as they are written."""
    placer = ChunkPlacer(plan, placing.last_keys)
    numbers = RowNumbers(dict(placing.rows_before))
    for laid, chunk in zip(kept, placing.chunks, strict=True):
        left = placer.left(laid, chunk)
        told.gone.update(left.gone)
        batches = placer.numbered(left, chunk, numbers)
        told.see(batches)
        yield {name: batch for name, batch in batches.items() if placing.rows.get(name)}


class _Told:
    """Collects what is to be told of rows while they are written."""

    def __init__(self, watched: WatchedKeys):
        self._watched = watched
        self.gone: Counter[str] = Counter()
        self._columns: list[list[KeyDigests]] = [[] for _ in watched.columns]
        self._key: list[KeyDigests] = []
        self._possible: dict[str, list[KeyDigests]] = {name: [] for name in watched.possible}

    def see(self, batches: Mapping[str, ArrowRows]) -> None:
        for (table, columns), found in zip(self._watched.columns, self._columns, strict=True):
            if table in batches and batches[table].num_rows:
                found.append(KeyDigests.of(batches[table], columns))
        top = batches.get(self._watched.top)
        if top is None or not top.num_rows:
            return
        if self._watched.key:
            self._key.append(KeyDigests.of(top, self._watched.key))
        for name in list(self._possible):
            digests = possible_key(top, name)
            if digests is None:
                del self._possible[name]
            else:
                self._possible[name].append(digests)

    def written(self, sums: PartSums) -> PartWritten:
        possible = {name: _joined(self._possible.get(name)) for name in self._watched.possible}
        watched = tuple(map(_joined, self._columns))
        return PartWritten(sums, self.gone, watched, _joined(self._key), possible)


def _joined(found: list[KeyDigests] | None) -> KeyDigests | None:
    if not found:
        return None
    return KeyDigests(b"".join(each.digests for each in found), sum(each.nulls for each in found))
