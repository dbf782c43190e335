"""`python -m tessaron` is the command `tessaron`; a signal ends it with a word at any moment."""

from __future__ import annotations

import gc
import os
import signal
import sys
from types import FrameType

_INTERRUPTED = 130


def main() -> None:
    """Run the command line.

    Until the libraries are loaded nothing is read or written, and whoever stops the process is told so at
    once; and behind the end, when all is done and said, a signal changes nothing any more.
    """
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, _stop_at_once)
    # Structures of many thousand columns are small objects that all stay: to look through them as often as is
    # usual, for what nothing refers to any more, takes more time than it saves memory.
    gc.set_threshold(100_000, 20, 20)
    from tessaron.cli import main as command

    try:
        command()
    except SystemExit as end:
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, signal.SIG_IGN)
        if end.code == _INTERRUPTED:
            # All is cleaned up. Where the interrupt went through code made from text (dataclasses), Python
            # would end itself by a signal now, and the status would not be ours.
            sys.stderr.flush()
            os._exit(_INTERRUPTED)
        raise


def _stop_at_once(number: int, frame: FrameType | None) -> None:
    # Inside of an import an exception may be taken for a fault of a library.
    os.write(sys.__stderr__.fileno() if sys.__stderr__ else 2, b"tessaron: stopped; nothing was begun\n")
    os._exit(_INTERRUPTED)


if __name__ == "__main__":
    main()
