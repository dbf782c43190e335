"""A place in an object store as target: written aside, then moved there by copy, the receipt last of all.

A store has no folder that could be renamed. So the files are made on this machine, and sent to a place beside
the target; only when all of them are there they are copied into it by the store itself: tables, then what
stands beside them, then `receipt.json`. Who finds a receipt finds all that it lists. What is replaced loses
its receipt first, so that no receipt ever stands beside tables of another run.
"""

from __future__ import annotations

import json
import secrets
import shutil
import tempfile
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from types import TracebackType

from tessaron.core.base.errors import TargetError
from tessaron.sinks.target_folder import BESIDE_TABLES, LAYOUT_FILE, LOAD_SCRIPT, RECEIPT_FILE, REJECTS_FILE
from tessaron.sources.forms.addresses import without_user
from tessaron.sources.remote.store_urls import ONE_CALL_EACH, file_system_of, scheme_of, told, url_of

_AT_ONCE = 16
"""So many tables, or parts of them, are put in their place at once."""


class StoreTarget:
    """A context in which files are written to `aside`, a folder of this machine; `commit` sends them.

    Args:
        url: The place.
        replace: Whether an export that is there may be replaced.

    Attributes:
        sent: Files that others have sent to `part_url` already.

    Raises:
        TargetError: When the place has other things in it, or cannot be reached.
        UsageError: When what the store needs is not installed.
    """

    def __init__(self, url: str, replace: bool):
        self._url, self._replace = url.rstrip("/"), replace
        self._system, self._root = file_system_of(self._url)
        self._is_slow = scheme_of(self._url) in ONE_CALL_EACH
        self._root = self._root.rstrip("/")
        self._part = f"{self._root}.part-{secrets.token_hex(4)}"
        self._old: set[str] = set()
        self.sent: list[str] = []

    @property
    def part_url(self) -> str:
        """The URL of the place beside the target to which files are sent first."""
        return url_of(self._url, self._part)

    def __enter__(self) -> StoreTarget:
        with told(self._url, TargetError):
            self._check()
        self.aside = Path(tempfile.mkdtemp(prefix="tessaron-"))
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        shutil.rmtree(self.aside, ignore_errors=True)
        # What was sent aside and did not get further is of no use to anybody.
        with suppress(Exception):
            if self._system.exists(self._part):
                self._system.rm(self._part, recursive=True)

    def commit(self) -> None:
        """Send what was written, and make it the target.

        Raises:
            TargetError: When the store does not take it; a target that was there has no receipt then, if it
                was begun to be replaced.
        """
        files = (path for path in self.aside.rglob("*") if path.is_file())
        here = [path.relative_to(self.aside).as_posix() for path in files]
        names = sorted((*here, *self.sent), key=_turn)
        tables = [name for name in names if not _turn(name)[0]]
        with told(self._url, TargetError):
            for name in here:
                self._system.put_file(str(self.aside / name), f"{self._part}/{name}")
            if RECEIPT_FILE in self._old:
                self._system.rm_file(f"{self._root}/{RECEIPT_FILE}")
            with ThreadPoolExecutor(1 if self._is_slow else _AT_ONCE, "tessaron-store") as threads:
                list(threads.map(self._put_in_place, tables))
            for name in names[len(tables) :]:
                self._put_in_place(name)
            for name in sorted(self._old - set(names) - {RECEIPT_FILE}):
                self._system.rm_file(f"{self._root}/{name}")

    def _put_in_place(self, name: str) -> None:
        aside, place = f"{self._part}/{name}", f"{self._root}/{name}"
        try:
            self._system.cp_file(aside, place)
        except NotImplementedError:
            # Of a system that cannot copy: these can rename.
            self._system.makedirs(self._root, exist_ok=True)
            self._system.mv(aside, place)

    def _check(self) -> None:
        try:
            found = self._system.find(self._root)
        except FileNotFoundError:
            return
        names = {path[len(self._root) :].lstrip("/") for path in found}
        if not names:
            return
        if "" in names:
            raise TargetError(
                f"{without_user(self._url)}: is an object; expected a place to write the tables into"
            )
        if not self._replace:
            said = "is not empty; choose another place, or replace its export: --replace"
            raise TargetError(f"{without_user(self._url)}: {said}")
        known = self._files_of_export()
        # A table may be a folder of files.
        self._old = {name for name in names if name.partition("/")[0] in known}
        if foreign := sorted(names - self._old):
            said = f"{', '.join(foreign[:3])}{' …' if len(foreign) > 3 else ''}"
            raise TargetError(
                f"{without_user(self._url)}: will not be replaced, as it also holds other files: {said}; "
                "move that away first"
            )

    def _files_of_export(self) -> set[str]:
        try:
            receipt = json.loads(self._system.cat_file(f"{self._root}/{RECEIPT_FILE}"))
            return {*BESIDE_TABLES, *(table["file"] for table in receipt["tables"])}
        except (OSError, ValueError, KeyError, TypeError):
            return set()


def _turn(name: str) -> tuple[int, str]:
    """Return when a file is moved: tables first, the receipt last."""
    beside = (LOAD_SCRIPT, LAYOUT_FILE, REJECTS_FILE, RECEIPT_FILE)
    return (beside.index(name) + 1 if name in beside else 0, name)
