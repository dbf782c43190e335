"""Getting what was written to the disk itself, so that it is whole after a power cut too.

A rename may reach the disk before the bytes of what was renamed (POSIX says nothing of their order): so files
are synced, then the folder that names them, then comes the rename, then the folder around it is synced.
"""

from __future__ import annotations

import os
from pathlib import Path


def sync_path(path: Path) -> None:
    """Wait until a file, or the names in a folder, are on the disk.

    Raises:
        OSError: When the disk does not take it.
    """
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def sync_folder(folder: Path) -> None:
    """Wait until all files in a folder, and below it, are on the disk, then until their names are."""
    for entry in sorted(folder.iterdir()):
        if entry.is_dir():
            sync_folder(entry)
        else:
            sync_path(entry)
    sync_path(folder)


def put_file_in_place(aside: Path, target: Path) -> None:
    """Make a file that was written aside the target, also for the time after a power cut."""
    sync_path(aside)
    os.replace(aside, target)
    sync_path(target.parent)


def write_file(target: Path, text: str) -> None:
    """Write a text file that appears whole or not at all.

    Raises:
        OSError: When it cannot be written; what was there stays.
    """
    aside = target.with_name(f".{target.name}.{os.getpid()}.part")
    try:
        aside.write_text(text, "utf-8")
        put_file_in_place(aside, target)
    finally:
        aside.unlink(missing_ok=True)
