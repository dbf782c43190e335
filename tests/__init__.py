"""The tests; run as a whole they share two processes."""

import unittest
from pathlib import Path
from typing import Any

from tests.two_processes import TwoProcesses


def load_tests(loader: unittest.TestLoader, _: Any, pattern: str | None) -> unittest.TestSuite:
    """Return all tests (the protocol of `unittest`)."""
    here = Path(__file__).parent
    return TwoProcesses(loader.discover(str(here), pattern or "test*.py", str(here.parent)))
