"""How far a run came: the largest value that its records had, and where it stands until the next run."""

from __future__ import annotations

import json
import os
import tomllib
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path

from tessaron.core.base.errors import SourceError, TargetError, UsageError
from tessaron.core.base.parsed_values import NumberText, Parsed
from tessaron.core.base.visible import in_quotes

Mark = str | int


class HighWater:
    """The largest of the values seen.

    Args:
        path: Where they stand, for messages.
        so_far: The largest of earlier runs; None for a first one.
    """

    def __init__(self, path: str, so_far: Mark | None):
        self._path = path
        self.largest = so_far

    def see(self, values: Iterable[Parsed]) -> None:
        """Take in values; nulls are none.

        Raises:
            SourceError: When they cannot be put in order.
        """
        for value in values:
            if value is None:
                continue
            if isinstance(value, (NumberText, bool, dict, list, float)):
                raise self._wrong(value)
            if self.largest is None or self._is_beyond(value, self.largest):
                self.largest = value

    def _is_beyond(self, value: Mark, other: Mark) -> bool:
        first, second = _ordered(value), _ordered(other)
        try:
            return first > second  # type: ignore[operator]
        except TypeError:
            raise self._wrong(value) from None

    def _wrong(self, value: Parsed) -> SourceError:
        said = f"expected whole numbers, or times of one form, got {in_quotes(str(value))}"
        return SourceError(f"mark: {self._path}: {said}")


def _ordered(value: Mark) -> int | datetime | str:
    """Return what a value is compared by: its number, its time, or else its text."""
    if isinstance(value, int):
        return value
    if value.isdecimal():
        return int(value)
    try:
        found = datetime.fromisoformat(value)
    except ValueError:
        return value
    return found if found.tzinfo is None else found.astimezone(UTC)


def read_mark(path: Path) -> Mark | None:
    """Return how far the last run came; None where there was none.

    Raises:
        SourceError: When it cannot be read.
    """
    if not path.exists():
        return None
    try:
        found = tomllib.loads(path.read_text("utf-8")).get("mark")
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise SourceError(f"{path}: cannot be read: {error}; mend it, or delete it to begin anew") from error
    if not isinstance(found, (str, int)):
        raise UsageError(f'{path}: expected a line mark = "…"; mend it, or delete it to begin anew')
    return found


def write_mark(path: Path, mark: Mark) -> None:
    """Keep how far a run came, whole or not at all.

    Raises:
        TargetError: When that cannot be written.
    """
    aside = path.with_name(f"{path.name}.part")
    try:
        aside.write_text(
            f"# How far the last run came; the next one begins there. Delete this file to begin anew.\n"
            f"mark = {json.dumps(mark, ensure_ascii=False)}\n",
            "utf-8",
        )
        os.replace(aside, path)
    except OSError as error:
        raise TargetError(f"{path}: cannot be written: {error.strerror}") from error
