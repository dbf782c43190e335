"""The modules of tests, run by two processes that take one after the other."""

from __future__ import annotations

import os
import pickle
import traceback
import unittest
from typing import Any

_MOST_MODULES = 256


class TwoProcesses(unittest.TestSuite):
    """A suite of the tests of many modules; a failure in the other process is told as one in this."""

    def run(self, result: Any, debug: bool = False) -> Any:
        """Run all modules, each in the process that is free first."""
        modules = list(self)
        assert len(modules) <= _MOST_MODULES, "a ticket is a byte"
        tickets, put = os.pipe()
        os.write(put, bytes(range(len(modules))))
        os.close(put)
        answers, answer = os.pipe()
        child = os.fork()
        if child == 0:
            os._exit(_run_and_tell(modules, tickets, answer))
        os.close(answer)
        _run_modules(modules, tickets, result)
        with os.fdopen(answers, "rb") as told:
            _take_in(told.read(), result)
        os.waitpid(child, 0)
        os.close(tickets)
        return result


def _run_modules(modules: list[Any], tickets: int, result: Any) -> None:
    while not result.shouldStop and (ticket := os.read(tickets, 1)):
        modules[ticket[0]].run(result)


def _run_and_tell(modules: list[Any], tickets: int, answer: int) -> int:
    """Run modules in the other process, and tell what became of them."""
    result = unittest.TestResult()
    try:
        _run_modules(modules, tickets, result)
        told = {
            name: [(str(test), reason) for test, reason in getattr(result, name)]
            for name in ("failures", "errors", "skipped")
        }
        data = pickle.dumps((result.testsRun, told))
    except BaseException:
        data = pickle.dumps((result.testsRun, {"errors": [("the other process", traceback.format_exc())]}))
    with os.fdopen(answer, "wb") as file:
        file.write(data)
    return 0


def _take_in(data: bytes, result: Any) -> None:
    """Add what the other process has told; if it died, that is an error."""
    count, told = pickle.loads(data) if data else (0, {"errors": [("the other process", "it died")]})
    result.testsRun += count
    for name, found in told.items():
        getattr(result, name).extend((_Told(test), reason) for test, reason in found)


class _Told:
    """A test that ran in the other process."""

    def __init__(self, name: str):
        self._name = name

    def __str__(self) -> str:
        return self._name

    def shortDescription(self) -> None:  # noqa: N802
        """Return nothing: the name is enough."""
