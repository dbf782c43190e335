"""Files of what a worker keeps, in a folder of its process; those that killed workers have left go first."""

from __future__ import annotations

import atexit
import os
import re
import shutil
import tempfile
from functools import cache
from itertools import count
from pathlib import Path

from tessaron.engine.aside.spill import Spill
from tessaron.sinks.target_folder import is_running

_IN_MEMORY_BYTES = 64 * 1024
"""So little of a part stays in memory: a worker may keep hundreds of parts."""
_PREFIX = "tessaron-kept-"
_numbers = count(1)


def kept_spill() -> Spill:
    """Return where a part is put aside."""
    return Spill(_folder() / f"{next(_numbers)}.spill", _IN_MEMORY_BYTES)


@cache
def _folder() -> Path:
    """Return the folder of this process, which goes with it."""
    above = Path(tempfile.gettempdir())
    for left in above.glob(f"{_PREFIX}*"):
        found = re.fullmatch(rf"{_PREFIX}(\d+)-.*", left.name)
        if found is not None and not is_running(int(found[1])):
            shutil.rmtree(left, ignore_errors=True)
    made = Path(tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-"))
    atexit.register(shutil.rmtree, made, ignore_errors=True)
    return made
