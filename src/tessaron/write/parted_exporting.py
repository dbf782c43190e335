"""All part files of a run on an engine: what workers write, what is written here, and the sums."""

from __future__ import annotations

import secrets
from collections import Counter
from hashlib import sha256
from pathlib import PurePosixPath

from tessaron.core.base.errors import UsageError
from tessaron.core.layout.table_set import TableSet
from tessaron.core.tables.laid import Laid
from tessaron.engine.parts.rows_aside import RowsAside
from tessaron.sinks.store_target import StoreTarget
from tessaron.sinks.target_folder import TargetFolder
from tessaron.sources.forms.file_form import FileForm
from tessaron.write.books.receipt_making import Written
from tessaron.write.parted.part_files import SHARED_MARK, FilesPlace
from tessaron.write.parted.part_writing import PartPlace, PartSums
from tessaron.write.parted_run import PartedRun
from tessaron.write.table_run import TableRun

HERE = 99_999_999
"""The number of the part files that are written here: those of documents, and of tables without rows."""


def check_form(form: FileForm) -> None:
    """Check that tables can be written in parts.

    Raises:
        UsageError: When they cannot.
    """
    if form.name == "xlsx":
        raise UsageError("a spreadsheet is one file, which a cluster does not write; leave out the cluster")
    if form.sort:
        raise UsageError(
            "sort brings all rows in one order, which parts do not have; sort where it is loaded"
        )


def write_files(
    run: TableRun, tables: TableSet, target: TargetFolder | StoreTarget, form: FileForm, collected_bytes: int
) -> Written:
    """Have all tables of a run written as folders of part files; return what was written."""
    mark = secrets.token_hex(8)
    place = FilesPlace(
        str(target.aside) if isinstance(target, TargetFolder) else "",
        target.part_url if isinstance(target, StoreTarget) else "",
        form, collected_bytes, mark,
    )  # fmt: skip
    if isinstance(target, TargetFolder):
        (target.aside / SHARED_MARK).write_text(mark, "utf-8")
    sums = written_sums(run, tables, place)
    if isinstance(target, TargetFolder):
        (target.aside / SHARED_MARK).unlink()
    if isinstance(target, StoreTarget):
        target.sent += [name for files in sums.files.values() for name, _ in files]
    names = {table.name: table.name for table in tables.tables}
    digests = {name: digest_of_files(name, sums.files[name]) for name in names}
    return Written(sums.rows, sums.values, names, digests)


def written_sums(run: TableRun, tables: TableSet, place: PartPlace) -> PartSums:
    """Have all tables of a run on an engine written, and return what was written in all."""
    assert isinstance(run, PartedRun)
    schemas = {table.name: table.arrow_schema() for table in tables.tables}
    rows: Counter[str] = Counter()
    values = {name: [0] * len(schema) for name, schema in schemas.items()}
    files: dict[str, list[tuple[str, str]]] = {name: [] for name in schemas}

    def add(sums: PartSums) -> None:
        for name, count in sums.rows.items():
            rows[name] += count
            values[name] = [one + other for one, other in zip(values[name], sums.values[name], strict=True)]
            files[name] += sums.files.get(name, [])

    here = RowsAside(schemas)
    for found in run.write_parts(place):
        if isinstance(found, PartSums):
            add(found)
        else:
            here.add(Laid(found, 0))
    # Those of documents, which are made here; and those without any rows.
    own = TableSet(tuple(table for table in tables.tables if not rows[table.name]))
    names = [table.name for table in own.tables]
    waiting = ({name: laid.batches[name] for name in names} for laid in here)
    add(place.write(HERE, own, waiting))
    return PartSums({name: rows[name] for name in schemas}, values, files)


def digest_of_files(table: str, files: list[tuple[str, str]]) -> str:
    """Return the digest of a table's folder, as `sha256_of` does, of files with the digest of each."""
    within = sorted((PurePosixPath(name).relative_to(table), digest) for name, digest in files)
    listed = "".join(f"{path.as_posix()} {digest}\n" for path, digest in within)
    return sha256(listed.encode()).hexdigest()
