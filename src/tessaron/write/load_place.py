"""Where a load goes, and what becomes of what is there: plain data, quick to import."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal, get_args

from tessaron.core.base.errors import UsageError
from tessaron.sinks.lake.lake_catalogs import is_lake
from tessaron.sinks.load_modes import MODES, LoadMode

if TYPE_CHECKING:
    from tessaron.sinks.database.database_target import DatabaseTarget
    from tessaron.sinks.database.load_target import LoadTarget, OpenTarget
    from tessaron.sinks.database.open_database import OpenDatabase
    from tessaron.sinks.lake.lake_tables import LakeTarget

OnChange = Literal["stop", "note", "extend"]
CHANGES: tuple[OnChange, ...] = get_args(OnChange)


@dataclass(frozen=True, slots=True)
class LoadPlace:
    """Where tables go, and what becomes of those that are there.

    Attributes:
        to, mode, schema, runs_schema, into_existing, complete, password: As in `load`.
        grows: Whether tables that are there get columns and wider types that they lack.
    """

    to: str
    mode: LoadMode = "create"
    schema: str | None = None
    runs_schema: str | None = None
    into_existing: bool = False
    complete: bool = False
    password: str | None = None
    grows: bool = False

    def check(self) -> None:
        """Raise `UsageError` for what cannot be right."""
        if self.mode not in MODES:
            raise UsageError(f"expected a mode of {', '.join(MODES)}, got {self.mode!r}")
        if self.complete and self.mode != "merge":
            raise UsageError(f"complete goes with merge, not with {self.mode}")
        of_databases = (self.runs_schema, self.into_existing or None, self.password)
        if is_lake(self.to) and any(each is not None for each in of_databases):
            said = "runs_schema, into_existing and password go with databases, not with lake tables"
            raise UsageError(f"{said}; leave them out")
        if is_lake(self.to) and self.mode == "merge":
            raise UsageError("merge goes into databases; lake tables take create, append and replace")

    def database(self, say: Callable[[str], None], wait: float | None = None) -> OpenDatabase:
        """Return the database; it is told what is worth telling meanwhile, and may wait so many seconds."""
        from tessaron.sinks.database.open_database import OpenDatabase
        from tessaron.sources.web.secret_values import secret_of

        secret = None if self.password is None else secret_of(self.password)
        made = OpenDatabase(self.to, self.schema, self.runs_schema, secret, say)
        made.wait = made.wait if wait is None else wait
        return made

    def target(self, say: Callable[[str], None]) -> LoadTarget:
        """Return the target; it is told what is worth telling meanwhile."""
        self.check()
        return self._lake() if is_lake(self.to) else self._tables_in(self.database(say))

    def opened(self, say: Callable[[str], None], wait: float | None = None) -> OpenTarget:
        """Return what the load goes into, as `database` does, or a catalog of lake tables."""
        if not is_lake(self.to):
            return self.database(say, wait)
        from tessaron.sinks.lake.lake_runs import OpenLake

        return OpenLake(self.to, self.schema)

    def target_in(self, opened: OpenTarget) -> LoadTarget:
        """Return the target in what is open."""
        from tessaron.sinks.database.open_database import OpenDatabase

        return self._tables_in(opened) if isinstance(opened, OpenDatabase) else self._lake()

    def _tables_in(self, database: OpenDatabase) -> DatabaseTarget:
        from tessaron.sinks.database.database_target import DatabaseTarget

        return DatabaseTarget(database, self.mode, self.into_existing, self.grows)

    def _lake(self) -> LakeTarget:
        from tessaron.sinks.lake.lake_tables import LakeTarget

        return LakeTarget(self.to, self.mode, self.schema, self.grows)
