"""Documents written aside, into one file or one file each, and renamed once they are whole."""

from __future__ import annotations

import contextlib
import os
import secrets
import shutil
from pathlib import Path
from types import TracebackType
from typing import IO

from tessaron.core.base.errors import TargetError
from tessaron.sinks.syncing import put_file_in_place, sync_folder, sync_path
from tessaron.sinks.target_folder import put_in_place, remove_leftovers


class DocumentTarget:
    """A context in which documents are written aside; `commit` makes them the target.

    Args:
        target: The file, or the folder.
        is_folder: Whether every document gets a file of its own.
        ending: How such files end.
        replace: Whether a target that is there may be replaced.

    Raises:
        TargetError: When it is there and must not be replaced, or cannot be written.
    """

    def __init__(self, target: Path, is_folder: bool, ending: str, replace: bool):
        self._target, self._is_folder, self._ending = Path(os.path.abspath(target)), is_folder, ending
        self._replace = replace
        name = f".{self._target.name}.part-{os.getpid()}-{secrets.token_hex(4)}"
        self._aside = self._target.with_name(name)
        self._file: IO[bytes] | None = None
        self._count = 0

    def __enter__(self) -> DocumentTarget:
        self._check()
        try:
            self._target.parent.mkdir(parents=True, exist_ok=True)
            remove_leftovers(self._target)
            if self._is_folder:
                self._aside.mkdir()
            else:
                self._file = open(self._aside, "wb")
        except OSError as error:
            raise TargetError(f"{self._target}: cannot be written: {error.strerror}") from error
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._file is not None:
            with contextlib.suppress(OSError):
                self._file.close()
        if self._aside.is_dir():
            shutil.rmtree(self._aside, ignore_errors=True)
        else:
            self._aside.unlink(missing_ok=True)

    def start(self) -> None:
        """Begin the next document."""
        self._count += 1
        if not self._is_folder:
            return
        try:
            if self._file is not None:
                self._file.close()
            self._file = open(self._aside / f"{self._count:09d}.{self._ending}", "wb")  # noqa: SIM115
        except OSError as error:
            raise self._unwritable(error) from error

    def write(self, text: str) -> None:
        """Append text to the document.

        Raises:
            TargetError: When the disk does not take it.
        """
        assert self._file is not None
        try:
            self._file.write(text.encode("utf-8"))
        except OSError as error:
            raise self._unwritable(error) from error

    def commit(self) -> None:
        """Make what was written the target."""
        try:
            if self._file is not None:
                self._file.close()
            if self._is_folder:
                sync_folder(self._aside)
                put_in_place(self._aside, self._target)
                sync_path(self._target.parent)
            else:
                put_file_in_place(self._aside, self._target)
        except OSError as error:
            raise self._unwritable(error) from error

    def _check(self) -> None:
        if self._target.is_dir() and not self._is_folder:
            raise TargetError(f"{self._target}: is a folder; expected a file to write the documents into")
        if not self._target.exists():
            return
        if self._is_folder and not self._target.is_dir():
            raise TargetError(f"{self._target}: is a file; expected a folder, as there are several documents")
        is_empty = self._target.is_dir() and not any(self._target.iterdir())
        if not self._replace and not is_empty:
            raise TargetError(f"{self._target}: is there already; choose another name, or --replace it")
        foreign = self._foreign()
        if foreign:
            raise TargetError(f"{self._target}: will not be replaced, as it also holds {foreign[0]}")

    def _foreign(self) -> list[str]:
        """Return the names in a folder that no rebuild has written."""
        if not self._target.is_dir():
            return []
        stems = {"json", "xml"}
        return sorted(
            entry.name
            for entry in self._target.iterdir()
            if not (entry.stem.isdigit() and entry.suffix[1:] in stems)
        )

    def _unwritable(self, error: OSError) -> TargetError:
        return TargetError(f"{self._target}: cannot be written: {error.strerror or error}")
