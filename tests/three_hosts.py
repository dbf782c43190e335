"""A cluster of three hosts, one of which is cut off while it works; run by hand, as root on Linux.

    python tests/three_hosts.py

The hosts are network namespaces on a bridge, each with an address of its own: nothing leaves this machine. The
scheduler and the run are on the bridge's side; each host has two workers. When a third of the parts is done the
cable of one host is pulled. The tables have to be those of a run on one machine.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from contextlib import ExitStack, suppress
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq

import tessaron
from tessaron.engine.parts.clusters import Cluster
from tessaron.engine.parts.dask_engine import DaskEngine
from tessaron.sources.demo.vessel_calls import write_calls

BRIDGE, NET, HOSTS = "tessbr", "10.213.7", 3
PORT = 8786
QUICK = {"DASK_DISTRIBUTED__COMM__TIMEOUTS__TCP": "15s", "DASK_DISTRIBUTED__SCHEDULER__WORKER_TTL": "20s"}
"""So that a host that says nothing is given up soon; what is usual takes half a minute, and five minutes."""


def ip(*arguments: str) -> None:
    """Run `ip`."""
    subprocess.run(["ip", *arguments], check=True)


def make_hosts(stack: ExitStack) -> None:
    """Make the hosts, and their bridge; they go when the stack closes."""
    stack.callback(take_away)
    ip("link", "add", BRIDGE, "type", "bridge")
    ip("addr", "add", f"{NET}.1/24", "dev", BRIDGE)
    ip("link", "set", BRIDGE, "up")
    for number in range(HOSTS):
        host, cable = f"tesshost{number}", f"tesscab{number}"
        ip("netns", "add", host)
        ip("link", "add", cable, "type", "veth", "peer", "name", "eth0", "netns", host)
        ip("link", "set", cable, "master", BRIDGE, "up")
        ip("-n", host, "addr", "add", f"{NET}.{10 + number}/24", "dev", "eth0")
        for device in ("eth0", "lo"):
            ip("-n", host, "link", "set", device, "up")


def take_away() -> None:
    """Take the hosts away."""
    for number in range(HOSTS):
        subprocess.run(["ip", "netns", "del", f"tesshost{number}"], check=False, stderr=subprocess.DEVNULL)
    subprocess.run(["ip", "link", "del", BRIDGE], check=False, stderr=subprocess.DEVNULL)


def begin(stack: ExitStack, *arguments: str, host: str = "") -> None:
    """Begin a process of the cluster, on a host or beside the bridge."""
    within = ["ip", "netns", "exec", host] if host else []
    process = subprocess.Popen(
        [*within, sys.executable, "-m", "dask", *arguments],
        env={**os.environ, **QUICK},
        stderr=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
    )

    def end() -> None:
        process.terminate()
        with suppress(subprocess.TimeoutExpired):
            process.wait(5)
        process.kill()

    stack.callback(end)


def main() -> None:
    """Run, pull a cable, compare."""
    folder = Path(tempfile.mkdtemp(prefix="tessaron-hosts-"))
    with ExitStack() as stack:
        stack.callback(shutil.rmtree, folder, ignore_errors=True)
        source = write_calls(folder, 30_000)
        one = tessaron.export(source, folder / "one", sync=False)
        make_hosts(stack)
        begin(stack, "scheduler", "--host", f"{NET}.1", "--port", str(PORT), "--no-dashboard", "--no-show")
        for number in range(HOSTS):
            begin(
                stack, "worker", f"tcp://{NET}.1:{PORT}", "--host", f"{NET}.{10 + number}", "--nworkers", "2",
                "--nthreads", "1", "--no-dashboard", "--local-directory", str(folder), host=f"tesshost{number}",
            )  # fmt: skip
        time.sleep(6)
        pulled: list[str] = []
        taken: list[object] = []
        real = DaskEngine._taken

        def pulling(engine: DaskEngine, future: object) -> object:
            taken.append(future)
            if len(taken) == 14:
                ip("link", "set", "tesscab2", "down")
                pulled.append(f"{NET}.12")
                print(f"cable of {pulled[0]} pulled after {len(taken)} tasks")
            return real(engine, future)

        DaskEngine._taken = pulling  # type: ignore[method-assign, assignment]
        begun = time.monotonic()
        cluster = Cluster(f"tcp://{NET}.1:{PORT}", 1_000_000)
        many = tessaron.export(source, folder / "many", sync=False, cluster=cluster)
        print(f"done in {time.monotonic() - begun:.1f} seconds")
        assert pulled
        assert many.cluster is not None
        for worker in many.cluster.workers:
            print(f"  {worker.worker}: {worker.tasks} tasks")
        for table in one.tables:
            key = table.primary_key[0]
            alone = pq.read_table(folder / "one" / table.file).sort_by(key)
            parts = sorted((folder / "many" / table.name).rglob("part-*"))
            together = pa.concat_tables([pq.read_table(part) for part in parts]).sort_by(key)
            assert together.equals(alone), table.name
        left = [name for name in os.listdir(folder) if name.startswith(".")]
        print(json.dumps({"tables": len(one.tables), "rows": one.rows, "identical": True, "left over": left}))


if __name__ == "__main__":
    main()
