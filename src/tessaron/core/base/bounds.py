"""The largest numbers that options take: beyond them a number is a slip, or asks for what no machine has."""

from __future__ import annotations

from typing import Final

MOST_COUNTED: Final = 10**15
"""Records, rows, rejects."""
LEAST_COLUMNS: Final = 20
"""The narrowest that tables can be told to be at most: keys need some."""
MOST_LEVELS: Final = 1_000_000
"""Levels of nesting."""
MOST_WORKERS: Final = 256
"""Threads."""
MOST_BYTES: Final = 10**15
"""Bytes of memory."""
MOST_CHUNK_BYTES: Final = 2**30
"""Bytes read at once: rows of a chunk are counted in 32 bits."""
