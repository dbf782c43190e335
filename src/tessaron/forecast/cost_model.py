"""How long a run takes, on one machine and on a cluster, as it follows from what a sample took.

The model, whose constants `benchmarks/estimate.py` checks: a run costs what every run does once; then so much
for each byte that comes out of the source, shared by the workers but for a part that one thread does; and, on
a cluster, what one process does for all: hand out tasks, take in what is told of chunks, list files.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from tessaron.engine.parts.part_planning import part_bytes_for

_THREAD_BYTES = 48 * 1024 * 1024
"""What a thread more has in memory: a chunk, with its tape."""
_SERIAL_HERE = 0.18
"""The share of the work on one machine that one thread does: cutting, counting, collecting rows."""
_START_CLUSTER_SECONDS = 3.6
"""Until processes have begun and loaded what they need, and until they have ended."""
_TASKS_OF_PART, _TASK_SECONDS = 3, 0.006
"""A part is read, made into rows, and written; each costs the process that hands them out so much."""
_PART_SECONDS, _FILE_SECONDS = 0.004, 0.0003
"""What that process takes to add up a part, and for a file."""
_CLUSTER_SHARE = 1.08
"""On a cluster rows are put aside until their keys are known, which a run on one machine need not do."""


@dataclass(frozen=True, slots=True)
class Measured:
    """What a sample took, in one thread.

    Attributes:
        bytes: That came out of the source, unpacked.
        packed_bytes: That the source has for them.
        records, rows, tables: In it.
        written_bytes: Of the files that were written.
        written_share: Bytes written for each byte more.
        fixed_seconds: What a run costs however little it reads.
        byte_seconds: For each byte more.
        peak_bytes: The most memory.
    """

    bytes: int
    packed_bytes: int
    records: int
    rows: int
    tables: int
    written_bytes: int
    written_share: float
    fixed_seconds: float
    byte_seconds: float
    peak_bytes: int


@dataclass(frozen=True, slots=True)
class RunCost:
    """What a run would take.

    Attributes:
        workers: Threads of one machine, or workers of a cluster.
        is_cluster: Which of these.
        seconds: How long.
        peak_bytes: The most memory of each process.
        bottleneck: What it waits for most.
    """

    workers: int
    is_cluster: bool
    seconds: float
    peak_bytes: int
    bottleneck: str


def cost_here(measured: Measured, byte_count: float, workers: int) -> RunCost:
    """Return what a run takes in threads of this machine.

    Args:
        measured: What a sample took.
        byte_count: Bytes of the whole source, unpacked.
        workers: Threads.
    """
    work = measured.byte_seconds * byte_count
    serial = work * _SERIAL_HERE
    seconds = measured.fixed_seconds + serial + (work - serial) / workers
    bottleneck = "the one thread that cuts and collects" if serial * workers > work else "the processors"
    # Each thread more has a chunk of its own, with its tape.
    peak = measured.peak_bytes + (workers - 1) * _THREAD_BYTES
    return RunCost(workers, False, seconds, peak, bottleneck)


def cost_on_cluster(
    measured: Measured, byte_count: float, file_count: int, workers: int, part_bytes: int | None = None
) -> RunCost:
    """Return what a run takes on a cluster whose workers are like this machine's threads.

    Args:
        measured: What a sample took.
        byte_count: Bytes of the whole source, unpacked.
        file_count: Its files.
        workers: The workers.
        part_bytes: Of the source in each part; None for what suits so many workers.
    """
    part_bytes = part_bytes or part_bytes_for(round(byte_count), workers)
    parts = max(byte_count / part_bytes, 1)
    shared = measured.byte_seconds * byte_count * _CLUSTER_SHARE
    # The last parts leave workers without work: half a round of them, on the average.
    shared *= max(parts / workers + 0.5, 1) / parts
    alone = parts * (_TASKS_OF_PART * _TASK_SECONDS + _PART_SECONDS) + file_count * _FILE_SECONDS
    seconds = measured.fixed_seconds + _START_CLUSTER_SECONDS + max(shared, alone)
    bottleneck = "the workers' processors" if shared >= alone else "the process that hands out parts"
    if workers > parts:
        whole = math.ceil(parts)
        bottleneck = f"{whole:,} parts" if whole > 1 else "1 part"
        bottleneck += ": other workers have nothing to do"
    return RunCost(workers, True, seconds, measured.peak_bytes + part_bytes // 4, bottleneck)
