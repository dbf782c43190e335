"""Endurance: deliveries under a ledger with faults thrown in, from a seed; at the end all of it is there, once.

    python -m tests.endurance --deliveries 1000 --seed 7 [--to postgresql://…]

Files come that are new, correct others, come again, come late, are broken, or have another structure; loads are
killed, run two at once, or lose their connection. At the end the database is compared with all that has come.
"""

import argparse
import gzip
import json
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

import sqlalchemy as sa

import tessaron

DELIVERIES = ("new", "new", "new", "corrected", "again", "late", "broken", "mended", "structure")
_KILLED, _TWICE, _CUT_OFF, _AT_ONCE = 0.1, 0.14, 0.18, 0.75
"""Up to these shares of the deliveries a load is killed, two run at once, one has a full disk or loses its
connection, one runs; else more comes before."""


_TERMINATE = (
    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
    "WHERE datname = current_database() AND application_name LIKE 'tessaron%'"
)


class Feed:
    """Deliveries of calls in a folder, and what all of them say together."""

    def __init__(self, folder, seed):
        self.inbox, self.chance = folder / "inbox", random.Random(seed)
        self.inbox.mkdir()
        self.truth, self.told = {}, Counter()
        self._fields, self._number, self._files, self._broken = ["port"], 0, [], []

    def deliver(self):
        """Put one more file into the folder."""
        kind = self.chance.choice(DELIVERIES)
        self.told[kind] += 1
        self._number += 1
        getattr(self, kind)()

    def new(self):
        self._put([self._record(len(self.truth) + place) for place in range(self.chance.randrange(1, 8))])

    def corrected(self):
        self._put(
            [
                self._record(number)
                for number in self.chance.sample(sorted(self.truth), min(3, len(self.truth)))
            ]
        )

    def again(self):
        if self._files:
            path = self.chance.choice(self._files)
            shutil.copy(path, self.inbox / f"again_{self._number:05}_{path.name}")

    def late(self):
        """What comes late has the name of an earlier day."""
        self._put([self._record(2_000_000 + self._number)], f"a_late_{self._number:05}.ndjson")

    def broken(self):
        path = self.inbox / f"broken_{self._number:05}.ndjson.gz"
        path.write_bytes(b"\x1f\x8b\x08\x00 these are no packed bytes")
        self._broken.append((path, self._record(1_000_000 + self._number)))

    def mended(self):
        if self._broken:
            path, record = self._broken.pop(0)
            self._write(path, [record])

    def structure(self):
        if len(self._fields) < 8:
            self._fields.append(f"field_{len(self._fields)}")
        self.new()

    def end(self):
        while self._broken:
            self.mended()

    def _record(self, number):
        chance, names = self.chance, self._fields
        record = {
            "call_id": number,
            "teu": chance.randrange(50) if len(names) < 3 else chance.randrange(500) / 10,
        }
        record |= {name: chance.choice(("N1", "S2", "W3")) for name in names if chance.random() < 0.8}
        return record | {
            "moves": [
                {"crane": chance.randrange(5), "seals": [chance.randrange(9)] * chance.randrange(3)}
                for _ in range(chance.randrange(4))
            ]
        }

    def _put(self, records, name=None):
        path = self.inbox / (name or f"calls_{self._number:05}.ndjson{'.gz' * (self._number % 3 == 0)}")
        if records:
            self._write(path, records)
            self._files.append(path)

    def _write(self, path, records):
        data = "".join(json.dumps(each) + "\n" for each in records).encode()
        aside = path.with_name(f".{path.name}")
        aside.write_bytes(gzip.compress(data, mtime=1) if path.suffix == ".gz" else data)
        aside.rename(path)
        self.truth |= {each["call_id"]: each for each in records}


class Office:
    """Loads what is in the folder into a database, and proves it."""

    def __init__(self, feed, to, ledger, folder):
        self.feed, self.to, self.ledger, self.folder = feed, to, ledger, folder
        self.told = Counter()

    def load(self):
        kept = tessaron.keep_up(
            self.feed.inbox,
            self.to,
            ledger=self.ledger,
            mode="merge",
            key=["call_id"],
            name="calls",
            on_change="extend",
        )
        self.told["put aside"] += len(kept.put_aside)
        self.told["same"] += kept.same
        return kept

    def start(self, most_bytes=None):
        command = [
            sys.executable,
            "-m",
            "tessaron",
            "load",
            self.feed.inbox,
            "--to",
            self.to,
            "--ledger",
            self.ledger,
        ]
        command += ["--mode", "merge", "--key", "call_id", "--name", "calls", "--on-change", "extend"]
        if most_bytes is not None:
            command = ["bash", "-c", f'ulimit -f {most_bytes // 1_024}; exec "$@"', "limited", *command]
        return subprocess.Popen(list(map(str, command)), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def step(self):
        """Deliver, and load with or without a fault."""
        self.feed.deliver()
        chance = self.feed.chance.random()
        if chance < _KILLED:
            process = self.start()
            time.sleep(self.feed.chance.random() * 1.2)
            process.kill()
            self.told["killed" if process.wait() else "done before it was killed"] += 1
        elif chance < _TWICE:
            for process in [self.start(), self.start()]:
                self.told[f"of two at once: status {process.wait()}"] += 1
        elif chance < _CUT_OFF:
            self.told[f"cut off: status {self._cut_off()}"] += 1
        elif chance < _AT_ONCE:
            self.load()

    def _cut_off(self):
        """Let a load run into a full disk or, where the database is a server, lose its connection."""
        if self.to.startswith("sqlite"):
            path = Path(self.to.removeprefix("sqlite:///"))
            return self.start(path.stat().st_size + 2_000 if path.exists() else 9_000).wait()
        process = self.start()
        engine = sa.create_engine(self.to.replace("postgresql://", "postgresql+psycopg://"))
        until = time.monotonic() + 1 + self.feed.chance.random()
        while process.poll() is None and time.monotonic() < until:
            with engine.connect() as connection:
                connection.execute(sa.text(_TERMINATE))
            time.sleep(0.05)
        engine.dispose()
        return process.wait()

    def prove(self):
        """Return what is wrong at the end; nothing where all is right."""
        self.feed.end()
        self.load()
        last = self.load()
        whole = self.folder / "whole.ndjson"
        whole.write_text("".join(json.dumps(each) + "\n" for each in self.feed.truth.values()))
        found = tessaron.verify(self.to, whole)
        wrong = [str(each) for each in found.differences] + [
            str(each) for each in found.checks if not each.passed
        ]
        return wrong + ([] if last.loads == () else ["something was loaded twice"])


def run(folder, to, ledger, deliveries, seed):
    """Deliver and load so often; return what is wrong, and what was done."""
    office = Office(Feed(folder, seed), to, ledger, folder)
    for _ in range(deliveries):
        office.step()
    return office.prove(), office


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--deliveries", type=int, default=1_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--to")
    parser.add_argument("--ledger")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        to = given.to or f"sqlite:///{folder / 'office.db'}"
        began = time.monotonic()
        wrong, office = run(folder, to, given.ledger or to, given.deliveries, given.seed)
        print(
            dict(office.feed.told),
            dict(office.told),
            f"{len(office.feed.truth)} records, {time.monotonic() - began:.0f} s",
        )
        print("\n".join(wrong) or "all of it is there, once")
    return bool(wrong)


if __name__ == "__main__":
    sys.exit(main())
