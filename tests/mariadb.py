"""A server of MariaDB of our own, on a socket in a temporary folder, and databases in it."""

from __future__ import annotations

import atexit
import os
import shutil
import subprocess
import tempfile
import time
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from itertools import count
from pathlib import Path

needs_mariadb = unittest.skipUnless(shutil.which("mariadb-install-db"), "MariaDB is not installed")
_numbers = count(1)


@cache
def server() -> Path:
    """Start the server, once in a process; return its socket."""
    folder = Path(tempfile.mkdtemp(prefix="tessaron-mariadb-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    user = "root" if os.geteuid() == 0 else ""
    options = [f"--datadir={folder / 'data'}", *([f"--user={user}"] if user else [])]
    subprocess.run(
        ["mariadb-install-db", "--no-defaults", "--auth-root-authentication-method=normal", *options],
        check=True,
        capture_output=True,
    )
    options += [f"--socket={folder / 'socket'}", "--skip-networking", "--innodb-flush-log-at-trx-commit=0"]
    process = subprocess.Popen(
        ["mariadbd", "--no-defaults", *options, f"--log-error={folder / 'log'}"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    atexit.register(process.wait)
    atexit.register(process.kill)
    deadline = time.monotonic() + 60
    while not (folder / "socket").exists():
        if process.poll() is not None or time.monotonic() > deadline:
            raise RuntimeError((folder / "log").read_text("utf-8", "replace")[-2_000:])
        time.sleep(0.05)
    return folder / "socket"


@contextmanager
def mariadb_database() -> Iterator[str]:
    """Yield the URL of a new database, which goes afterwards."""
    import pymysql

    socket, name = server(), f"office_{next(_numbers)}"
    connection = pymysql.connect(unix_socket=str(socket), user="root")
    with connection, connection.cursor() as cursor:
        cursor.execute(f"CREATE DATABASE {name} CHARACTER SET utf8mb4")
        yield f"mysql+pymysql://root@/{name}?unix_socket={socket}"
        # Else tables that refer to each other would hold it.
        cursor.execute("SET foreign_key_checks = 0")
        cursor.execute(f"DROP DATABASE {name}")
