"""Measures a cluster of processes on this machine beside threads of one process, and what the cluster itself costs.

    python benchmarks/cluster.py [--megabytes 600] [--rounds 3]

Both sides run one after the other within each round, on workers that are there already and have loaded what they
need; the best round of each counts, as other work on the machine only ever adds time. Then: what a task costs that
does nothing, and how long the structures of 10,000 parts take to merge.
"""

from __future__ import annotations

import argparse
import shutil
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from run import write_calls_of_size

import tessaron
from tessaron.engine.intake import Wanted
from tessaron.engine.options import Options
from tessaron.engine.parts.dask_engine import DaskEngine
from tessaron.engine.parts.local_workers import LocalWorkers
from tessaron.engine.parts.part_planning import PartPlan
from tessaron.engine.parts.part_specs import PackedOnce, PartContext, PartTask, SourcePart
from tessaron.engine.parts.part_work import learnt_of_part, merge_learnt
from tessaron.sources.resolving import resolve_inputs

PARTS, TASKS = 10_000, 500


def main() -> None:
    """Measure, and print what was found."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--megabytes", type=int, default=600)
    parser.add_argument("--rounds", type=int, default=3)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as name, LocalWorkers(2) as workers:
        folder = Path(name)
        source = folder / "calls.ndjson"
        write_calls_of_size(source, asked.megabytes)
        layout = tessaron.draft(source, name="calls")
        print(f"{source.stat().st_size / 1e6:,.0f} MB of vessel calls, 2 threads beside 2 workers")
        for what, options in (("drafted", {}), ("by a layout", {"layout": layout})):
            compare(folder, source, workers.address, asked.rounds, what, options)
        with DaskEngine(workers.address) as engine:
            empty(engine)
            merging(engine, folder)


def compare(
    folder: Path, source: Path, address: str, rounds: int, what: str, options: dict[str, Any]
) -> None:
    """Print how long an export takes here and on a cluster."""
    best = {"threads": float("inf"), "cluster": float("inf")}
    for _ in range(rounds + 1):
        for side, extra in (("threads", {"workers": 2}), ("cluster", {"cluster": address})):
            best[side] = min(best[side], timed(lambda: export(folder, source, {**options, **extra})))  # noqa: B023
    ratio = best["threads"] / best["cluster"]
    print(
        f"{what:<12} threads {best['threads']:6.2f} s   cluster {best['cluster']:6.2f} s   "
        f"{ratio:.2f} of the threads' speed"
    )


def export(folder: Path, source: Path, options: dict[str, Any]) -> None:
    """Write tables into a new folder."""
    target = folder / "tables"
    shutil.rmtree(target, ignore_errors=True)
    tessaron.export(source, target, sync=False, **options)


def empty(engine: DaskEngine) -> None:
    """Print what a task costs that does nothing."""
    for _ in range(2):
        seconds = timed(lambda: [*engine.map(abs, iter(range(TASKS)))])
    print(f"a task that does nothing: {1_000 * seconds / TASKS:.1f} ms")


def merging(engine: DaskEngine, folder: Path) -> None:
    """Print how long structures take to merge as a tree of tasks, those of parts known."""
    small = folder / "small.ndjson"
    write_calls_of_size(small, 1)
    (pieces, size), *_ = PartPlan(resolve_inputs(str(small)), 100_000_000).parts()
    context = PackedOnce.of(PartContext("merging", Wanted(Options())))
    task = PartTask(context, SourcePart(0, pieces, byte_count=size))
    tasks = [task] * PARTS
    engine.fold(learnt_of_part, merge_learnt, tasks[:100])
    seconds = timed(lambda: engine.fold(learnt_of_part, merge_learnt, tasks))
    engine.forget("merging")
    print(f"structures of {PARTS:,} parts learnt, sent and merged: {seconds:.1f} s")


def timed(action: Callable[[], object]) -> float:
    """Return the seconds that an action takes."""
    begun = time.perf_counter()
    action()
    return time.perf_counter() - begun


if __name__ == "__main__":
    main()
