"""Who is at work on a target, as those are told who wait."""

from __future__ import annotations

import getpass
import os
import socket


def user_name() -> str:
    """Return who runs this process."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return str(os.getuid())


def told_owner() -> str:
    """Return who this process is of, in words."""
    return f"{user_name()} on {socket.gethostname()}, process {os.getpid()}"


def shown_age(seconds: float) -> str:
    """Return a time in words."""
    if seconds < 120:
        return f"{max(0, seconds):.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 7_200 else f"{seconds / 3_600:.0f} h"
