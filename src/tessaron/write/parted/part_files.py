"""Part files of tables, written by workers straight to where they belong: a shared folder, or a store."""

from __future__ import annotations

import os
import secrets
import shutil
import socket
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import TargetError
from tessaron.core.layout.table_set import TableSet
from tessaron.sinks.table_files import TableFiles
from tessaron.sinks.target_folder import sha256_of
from tessaron.sources.forms.file_form import FileForm
from tessaron.write.parted.part_writing import PartSums

SHARED_MARK = ".shared"
"""The file by which a worker sees that a folder is the one that was made for the run."""


@dataclass(frozen=True, slots=True)
class FilesPlace:
    """A folder that all workers see, or a place in a store, in which each table is a folder of part files.

    Attributes:
        folder: The folder, or empty.
        url: The place in a store, or empty.
        form: How files are written.
        collected_bytes: As in `TableFiles`.
        mark: What stands in the folder's mark.
    """

    folder: str
    url: str
    form: FileForm
    collected_bytes: int
    mark: str = ""

    def write(self, number: int, tables: TableSet, rows: Iterator[dict[str, ArrowRows]]) -> PartSums:
        """Write the part files of one part; see `PartPlace`. Files appear whole, under names of the part.

        Raises:
            TargetError: When they cannot be written, or the folder is not there.
        """
        with self._aside() as aside:
            files = TableFiles(aside, tables, self.form, self.collected_bytes)
            with files:
                for batches in rows:
                    files.write(batches)
            found = {
                name: [self._published(aside, path, name, number) for path in _files_at(aside / file)]
                for name, file in files.names.items()
            }
        return PartSums(dict(files.rows), {name: list(each) for name, each in files.values.items()}, found)

    @contextmanager
    def _aside(self) -> Iterator[Path]:
        """Return a folder for files that are being written, gone afterwards."""
        if self.folder:
            self._check_shared()
            aside = Path(self.folder) / f".writing-{secrets.token_hex(8)}"
            try:
                aside.mkdir()
            except OSError as error:
                raise TargetError(f"{self.folder}: cannot be written: {error.strerror}") from error
        else:
            aside = Path(tempfile.mkdtemp(prefix="tessaron-"))
        try:
            yield aside
        finally:
            shutil.rmtree(aside, ignore_errors=True)

    def _check_shared(self) -> None:
        try:
            seen = (Path(self.folder) / SHARED_MARK).read_text("utf-8")
        except OSError:
            seen = ""
        if seen != self.mark:
            raise TargetError(
                f"{self.folder}: the worker on {socket.gethostname()} does not see this folder, or the run "
                "is over; a cluster writes into a folder that all its hosts share, or an object store"
            )

    def _published(self, aside: Path, path: Path, table: str, number: int) -> tuple[str, str]:
        """Put a file where it belongs; return its name there, and its digest."""
        inside = path.relative_to(aside).parts[1:]
        last = path.name[len("part-") :] if inside else ""
        ending = path.name[len(table) :] if not inside else ""
        own = f"part-{number:08}-{last}" if inside else f"part-{number:08}{ending}"
        name = "/".join((table, *inside[:-1], own))
        digest = sha256_of(path)
        if self.folder:
            place = Path(self.folder) / name
            try:
                place.parent.mkdir(parents=True, exist_ok=True)
                os.replace(path, place)
            except OSError as error:
                raise TargetError(f"{place}: cannot be written: {error.strerror}") from error
        else:
            put_object(self.url, name, path)
        return name, digest


def put_object(url: str, name: str, path: Path) -> None:
    """Send a file to a place in a store.

    Raises:
        TargetError: When the store does not take it.
    """
    from tessaron.sources.remote.store_urls import file_system_of, told

    system: Any
    system, root = file_system_of(url)
    with told(url, TargetError):
        system.put_file(str(path), f"{root.rstrip('/')}/{name}")


def _files_at(path: Path) -> Iterator[Path]:
    if path.is_dir():
        yield from sorted(each for each in path.rglob("*") if each.is_file())
    elif path.exists():
        yield path
