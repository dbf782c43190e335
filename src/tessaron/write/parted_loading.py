"""A load on an engine: workers copy parts into staging tables, which the load's transaction takes over."""

from __future__ import annotations

from collections import Counter
from contextlib import ExitStack, suppress

from tessaron.core.layout.table_set import TableSet
from tessaron.sinks.database.database_target import DatabaseTarget
from tessaron.sinks.database.staging import StagingTables
from tessaron.write.load_place import LoadPlace
from tessaron.write.parted.part_copies import StagingPlace
from tessaron.write.parted.part_writing import PartSums
from tessaron.write.parted_run import PartedRun
from tessaron.write.table_run import TableRun


def copy_parts(
    run: TableRun,
    tables: TableSet,
    target: DatabaseTarget,
    place: LoadPlace,
    required: frozenset[str],
    most_bytes: int,
    stack: ExitStack,
) -> None:
    """Have the rows of a run copied, part by part, and let the load's transaction take them over.

    Args:
        run: The run, on an engine.
        tables: Its tables.
        target: The load, begun; rows of documents go there from here.
        place: Where that is.
        required: As in `CreateTables`.
        most_bytes: As in `CollectedRows`.
        stack: Closes what is to stay until the load is committed.

    Raises:
        TargetError: When the database does not take something.
    """
    assert isinstance(run, PartedRun)
    rows: Counter[str] = Counter()
    values = {table.name: [0] * len(table.arrow_schema()) for table in tables.tables}
    staging = stack.enter_context(StagingTables(place.database(lambda _: None), tables.tables, required))

    def give_back(kind: object, *_: object) -> None:
        # Else the staging tables could not go: the load's transaction would hold them.
        if kind is not None:
            with suppress(Exception):
                target.connection.rollback()

    stack.push(give_back)
    copies = StagingPlace(place.to, place.password, staging.schema, most_bytes)
    for found in run.write_parts(copies):
        if not isinstance(found, PartSums):
            target.write(found)
            continue
        rows.update(found.rows)
        for name, counts in found.values.items():
            values[name] = [one + other for one, other in zip(values[name], counts, strict=True)]
    target.take_staged(staging.schema, rows, values)
