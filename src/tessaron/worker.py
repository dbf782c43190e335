"""A worker process: receives what to do, then tasks, and sends back results. Started by `pool`."""

from __future__ import annotations

import pickle
import signal
import sys
from multiprocessing.connection import Connection
from typing import Any


def serve(connection: Connection[Any, Any]) -> None:
    """Work until the other side is gone.

    A message that is a callable is what to do from then on; any other is a task for it.
    """
    work: Any = None
    while True:
        try:
            message = pickle.loads(connection.recv_bytes())
        except EOFError:
            return
        if callable(message):
            work = message
            continue
        try:
            result: Any = work(message)
        except Exception as error:
            result = error
        try:
            connection.send_bytes(pickle.dumps(result, protocol=5))
        except OSError:
            return


if __name__ == "__main__":
    # The parent decides when to stop; the terminal's Ctrl-C reaches all processes at once.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    serve(Connection(int(sys.argv[1])))
