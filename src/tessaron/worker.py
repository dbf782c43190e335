"""A worker process: receives what to do, then tasks, and sends back results. Started by `pool`."""

from __future__ import annotations

import pickle
import signal
import sys
from collections.abc import Sequence
from dataclasses import replace
from multiprocessing.connection import Connection
from typing import Any

from tessaron.core.uniques import HashTask
from tessaron.core.work import ReadResult, ReshapeTask, RowsTask
from tessaron.mailbox import Mailbox, Spilled, spill

BOXES = 2
"""Mailboxes in each direction, used in turn: a task can wait there while the one before it is worked on."""


def serve(
    connection: Connection[Any, Any],
    inboxes: Sequence[Mailbox],
    outboxes: Sequence[Mailbox],
    number: int,
    spills: Sequence[int],
) -> None:
    """Work until the other side is gone.

    A message that is a callable is what to do from then on; any other is a letter with a task for it.
    Fragments stay in this worker's spill file, from where any worker can take them.
    """
    work: Any = None
    done = 0
    while True:
        try:
            message = pickle.loads(connection.recv_bytes())
        except EOFError:
            return
        if callable(message):
            work = message
            continue
        try:
            result: Any = _work(work, inboxes[done % BOXES].get(message), number, spills)
        except Exception as error:
            result = error
        try:
            connection.send_bytes(pickle.dumps(outboxes[done % BOXES].put(result)))
        except OSError:
            return
        done += 1


def with_fragment(task: Any, spills: Sequence[int]) -> Any:
    """Return the task with the fragment itself, if it only says in which spill file that is."""
    if isinstance(task, (RowsTask, ReshapeTask, HashTask)) and isinstance(task.packed, Spilled):
        return replace(task, packed=task.packed.read(spills))
    return task


def _work(work: Any, task: Any, number: int, spills: Sequence[int]) -> Any:
    result = work(with_fragment(task, spills))
    if isinstance(result, ReadResult) and isinstance(result.packed, bytes):
        result.packed = spill(result.packed, number, spills)
    return result


if __name__ == "__main__":
    # The parent decides when to stop; the terminal's Ctrl-C reaches all processes at once.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    own, talk, *files = map(int, sys.argv[1:])
    boxes, spills = [Mailbox(file) for file in files[: 2 * BOXES]], files[2 * BOXES :]
    serve(Connection(talk), boxes[:BOXES], boxes[BOXES:], own, spills)
