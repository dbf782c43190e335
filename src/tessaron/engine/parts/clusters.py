"""Which engine an address names."""

from __future__ import annotations

import re
from dataclasses import dataclass

from tessaron.core.base.bounds import MOST_WORKERS
from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.engine.parts.task_engine import TaskEngine

_COUNTED = re.compile(r"(local|here):([0-9]{1,6})")
_SCHEDULER = re.compile(r"(tcp|tls|ws|wss|inproc)://.+")


@dataclass(frozen=True, slots=True)
class Cluster:
    """Where a run is worked on in parts.

    Attributes:
        address: `tcp://HOST:PORT` (or `tls://`), the scheduler of Dask distributed; `local:N`, processes of
            this machine; `here:N`, threads of this process, to try the same plan without a cluster.
        part_bytes: So many bytes of the source make a part; None for 100 million, or fewer where workers
            would not have enough parts.
    """

    address: str
    part_bytes: int | None = None

    def __post_init__(self) -> None:
        if not _SCHEDULER.fullmatch(self.address) and not _COUNTED.fullmatch(self.address):
            raise UsageError(
                f"expected the address of a scheduler, such as tcp://10.0.0.5:8786, or local:4 for processes "
                f"of this machine, got {in_quotes(self.address)}"
            )
        if self.part_bytes is not None and self.part_bytes < 1:
            raise UsageError(f"expected parts of at least 1 byte, got {self.part_bytes:,}")

    def engine(self) -> TaskEngine:
        """Return the engine, to be used as a context.

        Raises:
            SourceError: When there is no scheduler, or it has no workers.
            UsageError: When what it needs is not installed, or workers have another version.
        """
        counted = _COUNTED.fullmatch(self.address)
        count = 0 if counted is None else int(counted[2])
        if counted is not None and not 1 <= count <= MOST_WORKERS:
            raise UsageError(f"expected 1 to {MOST_WORKERS:,} workers, got {count:,}")
        if counted is not None and counted[1] == "here":
            from tessaron.engine.parts.here_engine import HereEngine

            return HereEngine(count)
        from tessaron.engine.parts.dask_engine import DaskEngine

        return DaskEngine(self.address, count)


def cluster_of(given: Cluster | str | None) -> Cluster | None:
    """Return the cluster that was given, or its address."""
    return Cluster(given) if isinstance(given, str) else given
