"""Checks what `tessaron estimate` says against runs of 1, 4 and 16 times its sample.

    python benchmarks/estimate.py [--sample 16] [--rounds 2]

Each size is estimated, then run as a whole process, start included: in 1 and 2 threads, and on a cluster of 2 processes
begun for it. The best round of each counts, as other work on the machine only ever adds time.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from run import write_calls_of_size


def main() -> None:
    """Estimate, run, and print both with the error."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--sample", type=int, default=16, help="MB")
    parser.add_argument("--rounds", type=int, default=2)
    asked = parser.parse_args()
    worst = 0.0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        print(f"{'':>24}{'estimated':>12}{'measured':>12}{'error':>8}")
        for times in (1, 4, 16):
            source = folder / "calls.ndjson"
            write_calls_of_size(source, asked.sample * times)
            found = estimated(source, asked.sample)
            print(f"{times} x the sample, {source.stat().st_size / 1e6:,.0f} MB")
            lines = []
            for cost in found["costs"]:
                workers, is_cluster = cost["workers"], cost["is_cluster"]
                how = ("--cluster", f"local:{workers}") if is_cluster else ("--workers", str(workers))
                seconds, peak, written = measured(source, folder / "tables", how, asked.rounds)
                lines.append((f"seconds, {' '.join(how)[2:]}", cost["seconds"], seconds))
                if not is_cluster:
                    lines.append(("MB of memory", cost["peak_bytes"] / 1e6, peak / 1e6))
            lines.append(("MB written", found["output_bytes"] / 1e6, written / 1e6))
            for what, said, was in lines:
                error = said / was - 1
                worst = max(worst, abs(error))
                print(f"{what:>24}{said:12.2f}{was:12.2f}{100 * error:+7.0f}%")
    print(f"the largest error: {100 * worst:.0f}%")


def estimated(source: Path, megabytes: int) -> dict[str, Any]:
    """Return what the command says, as a process of its own: this one stays small, as its memory would count."""
    command = [sys.executable, "-m", "tessaron", "estimate", str(source), "--on-workers", "2", "--json"]
    size = ["--sample-size", f"{megabytes}MB"]
    return dict(json.loads(subprocess.run([*command, *size], check=True, capture_output=True).stdout))


def measured(source: Path, target: Path, how: tuple[str, ...], rounds: int) -> tuple[float, int, int]:
    """Return the seconds of an export, its largest memory in bytes, and the bytes that it wrote."""
    best, peak = float("inf"), 0
    for _ in range(rounds):
        shutil.rmtree(target, ignore_errors=True)
        begun = time.perf_counter()
        command = [
            sys.executable,
            "-m",
            "tessaron",
            "export",
            str(source),
            "-o",
            str(target),
            "--no-sync",
            *how,
        ]
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        _, _, usage = os.wait4(process.pid, 0)
        best, peak = min(best, time.perf_counter() - begun), max(peak, usage.ru_maxrss * 1024)
    return best, peak, sum(each.stat().st_size for each in target.rglob("*") if each.is_file())


if __name__ == "__main__":
    main()
