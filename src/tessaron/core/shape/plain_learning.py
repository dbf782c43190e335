"""Learning in Python: the reference of `_learning.h`. Each tape becomes columns, and these are counted."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from tessaron.core.base.paths import Path
from tessaron.core.shape.shape import Shape
from tessaron.core.tape.emission import emit
from tessaron.core.tape.tape import Tape


class PlainLearner:
    """Learns the structure of tapes."""

    def __init__(self, settled: Mapping[Path, bool]) -> None:
        self._settled = settled
        self._shape = Shape(settled)
        self._passed: Counter[str] = Counter()

    def learn(self, tape: Tape) -> None:
        """Take in a tape."""
        fragment = emit(tape, compiled=False)
        self._passed.update(fragment.passed_by_path())
        shape = Shape(self._settled)
        shape.add(fragment.without_passed() if fragment.passed else fragment)
        self._shape.merge(shape)

    def shape(self) -> tuple[Shape, Counter[str]]:
        """Return the structure of all tapes so far, and how many values were passed over, by path."""
        return self._shape, self._passed
