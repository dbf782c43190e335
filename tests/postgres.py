"""A server of PostgreSQL of our own, on a socket in a temporary folder, and databases in it."""

from __future__ import annotations

import atexit
import os
import shutil
import subprocess
import tempfile
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from itertools import count
from pathlib import Path

PROGRAMS = next(iter(sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True)), None)
needs_postgres = unittest.skipUnless(PROGRAMS, "PostgreSQL is not installed")
_numbers = count(1)


def _as_server(program: str, *arguments: object) -> None:
    # The server refuses to run as root.
    who = ["runuser", "-u", "postgres", "--"] if os.geteuid() == 0 else []
    subprocess.run([*who, str(PROGRAMS / program), *map(str, arguments)], check=True, capture_output=True)


@cache
def server() -> Path:
    """Start the server, once in a process; return the folder of its socket."""
    folder = Path(tempfile.mkdtemp(prefix="tessaron-pg-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    if os.geteuid() == 0:
        shutil.chown(folder, "postgres")
    _as_server("initdb", "-D", folder / "data", "-A", "trust", "-U", "postgres", "--no-sync", "-E", "UTF8")
    options = f"-k {folder} -c listen_addresses= -c fsync=off"
    _as_server("pg_ctl", "-D", folder / "data", "-o", options, "-l", folder / "log", "-w", "start")
    atexit.register(_as_server, "pg_ctl", "-D", folder / "data", "-m", "immediate", "stop")
    return folder


@contextmanager
def postgres_database() -> Iterator[str]:
    """Yield the URL of a new database, which goes afterwards."""
    import psycopg

    folder, name = server(), f"office_{next(_numbers)}"
    with psycopg.connect(host=str(folder), user="postgres", dbname="postgres", autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {name}")
        yield f"postgresql://postgres@/{name}?host={folder}"
        connection.execute(f"DROP DATABASE {name} WITH (FORCE)")
