"""The target folder: written aside, then renamed, so that it appears whole or not at all."""

from __future__ import annotations

import ctypes
import hashlib
import json
import os
import re
import secrets
import shutil
import sys
from collections.abc import Callable
from pathlib import Path
from types import TracebackType

from tessaron.core.base.errors import TargetError
from tessaron.sinks.syncing import sync_folder, sync_path

RECEIPT_FILE, REJECTS_FILE, LAYOUT_FILE = "receipt.json", "rejects.ndjson", "layout.toml"
LOAD_SCRIPT = "load.sql"
BESIDE_TABLES = (RECEIPT_FILE, REJECTS_FILE, LAYOUT_FILE, LOAD_SCRIPT)
"""What stands in a folder beside the tables."""


class TargetFolder:
    """A context in which files are written to `aside`; `commit` makes them the target.

    Leaving the context without `commit` removes what was written. The folder aside stands next to the
    target, so that the rename stays on one file system. Who stops the process when the target is in its place
    already is told so, by a note on the KeyboardInterrupt.

    Args:
        target: The folder.
        replace: Whether an export that is there may be replaced.
        syncs: Whether all is on the disk before it is renamed, and the rename before the context is left.
        files_of: Returns the names in a folder that may be replaced; else those that an export wrote.
    """

    def __init__(
        self,
        target: Path,
        replace: bool,
        syncs: bool = True,
        files_of: Callable[[Path], set[str]] | None = None,
    ):
        self._syncs, self._made = syncs, -1
        self._files_of = files_of or _files_of_export
        self.target = Path(os.path.abspath(target))
        self.replace = replace
        self.aside = self.target.parent / f".{self.target.name}.part-{os.getpid()}-{secrets.token_hex(4)}"

    def __enter__(self) -> TargetFolder:
        self._check()
        try:
            self.target.parent.mkdir(parents=True, exist_ok=True)
            remove_leftovers(self.target)
            self.aside.mkdir()
            self._made = self.aside.stat().st_ino
        except OSError as error:
            raise TargetError(
                f"{self.target}: cannot be written: {error.strerror}; choose another folder"
            ) from error
        except BaseException:
            # A signal that comes here finds nobody else who would take it away.
            shutil.rmtree(self.aside, ignore_errors=True)
            raise
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        shutil.rmtree(self.aside, ignore_errors=True)
        if isinstance(error, KeyboardInterrupt) and self._is_in_place():
            error.add_note(f"the new tables are all in {self.target}")

    def _is_in_place(self) -> bool:
        """Say whether the target is what was written here."""
        try:
            return self.target.stat().st_ino == self._made
        except OSError:
            return False

    def commit(self) -> None:
        """Make what was written the target; an old target goes only after the new one is in place."""
        try:
            if self._syncs:
                sync_folder(self.aside)
            put_in_place(self.aside, self.target)
            if self._syncs:
                sync_path(self.target.parent)
        except OSError as error:
            raise TargetError(f"{self.target}: cannot be written: {error.strerror}") from error

    def _check(self) -> None:
        if not self.target.exists():
            return
        if not self.target.is_dir():
            raise TargetError(f"{self.target}: is a file; expected a folder to write the tables into")
        names = {entry.name for entry in self.target.iterdir()}
        if not names:
            return
        if not self.replace:
            raise TargetError(
                f"{self.target}: is not empty; choose another folder, or replace its export with --replace"
            )
        foreign = sorted(names - self._files_of(self.target))
        if foreign:
            raise TargetError(
                f"{self.target}: will not be replaced, as it also holds other files: "
                f"{', '.join(foreign[:3])}{' …' if len(foreign) > 3 else ''}; move that away first"
            )


def put_in_place(aside: Path, target: Path) -> None:
    """Make a folder the target, whatever stands there; what stood there is removed.

    Where the system can exchange two names (Linux, `renameat2`), there is no moment without a whole target;
    elsewhere the old one makes way first.

    Raises:
        OSError: When the target cannot be put there; the old one stands again then.
    """
    if not target.is_dir() or not any(target.iterdir()):
        os.rename(aside, target)
        return
    if _exchange(aside, target):
        shutil.rmtree(aside, ignore_errors=True)
        return
    old = aside.with_name(aside.name + "-old")
    os.rename(target, old)
    try:
        os.rename(aside, target)
    except BaseException:
        if not target.exists():
            os.rename(old, target)
        raise
    shutil.rmtree(old, ignore_errors=True)


def _exchange(one: Path, other: Path) -> bool:
    """Let two folders exchange their names at once; say whether the system can do that."""
    if not sys.platform.startswith("linux"):
        return False
    try:
        rename = ctypes.CDLL(None, use_errno=True).renameat2
    except (AttributeError, OSError):
        return False
    return bool(rename(_HERE, os.fsencode(one), _HERE, os.fsencode(other), _EXCHANGE) == 0)


_HERE, _EXCHANGE = -100, 2
"""AT_FDCWD and RENAME_EXCHANGE of Linux."""


def remove_leftovers(target: Path) -> None:
    """Remove what was written aside for a target by processes that were killed.

    An old target that had made way for a new one that never came is put back.
    """
    pattern = re.compile(re.escape(f".{target.name}.part-") + r"(\d+)-[0-9a-f]{8}(-old)?")
    for entry in target.parent.iterdir():
        match = pattern.fullmatch(entry.name)
        if not match or is_running(int(match.group(1))):
            continue
        if match.group(2) and not target.exists():
            os.rename(entry, target)
        elif entry.is_dir():
            shutil.rmtree(entry, ignore_errors=True)
        else:
            entry.unlink(missing_ok=True)


def is_running(process: int) -> bool:
    """Say whether there is a process of a number."""
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def _files_of_export(folder: Path) -> set[str]:
    """Return the names of the files that the receipt in `folder` lists, its own included."""
    try:
        receipt = json.loads((folder / RECEIPT_FILE).read_text("utf-8"))
        before = {run.get("layout_before") for run in receipt.get("runs", ())} - {None, ""}
        return {*BESIDE_TABLES, *before, *(table["file"] for table in receipt["tables"])}
    except (OSError, ValueError, KeyError, TypeError):
        return set()


def sha256_of(path: Path) -> str:
    """Return the SHA-256 digest of a file in hexadecimal digits; of a folder, of its files and names."""
    if path.is_dir():
        files = sorted(each for each in path.rglob("*") if each.is_file())
        listed = "".join(f"{each.relative_to(path).as_posix()} {sha256_of(each)}\n" for each in files)
        return hashlib.sha256(listed.encode()).hexdigest()
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
