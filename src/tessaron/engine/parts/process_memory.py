"""The most memory that a process had."""

from __future__ import annotations

import sys


def peak_bytes() -> int:
    """Return the most memory that this process had so far, in bytes; 0 where the system does not tell."""
    try:
        import resource
    except ImportError:
        # Not on this system.
        return 0
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return peak if sys.platform == "darwin" else peak * 1024
