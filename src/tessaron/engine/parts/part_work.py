"""The task functions on parts, but for writing: each takes one `PartTask`, and can be done again anywhere."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from tessaron.core.base.paths import Path
from tessaron.core.shape.shape import Shape
from tessaron.core.tape.put_aside import unpack
from tessaron.core.tape.tape import Tape
from tessaron.engine.feeds import Learners
from tessaron.engine.parts.kept_parts import context_of, kept_part, lay_tapes, unpacked
from tessaron.engine.parts.part_specs import LightResult, PartRead, PartTask

Learnt = tuple[Shape, Counter[str]]
"""A structure, and how many values were passed over, by path."""


def read_part(task: PartTask) -> PartRead:
    """Read a part, keep what was made of it, and return what there is to tell."""
    return kept_part(context_of(task.context), task.part).read


def learnt_of_part(task: PartTask) -> Learnt:
    """Return the structure of a part, not settled yet."""
    feed = kept_part(context_of(task.context), task.part).feed
    assert feed is not None
    return feed.seen(), feed.passed


def learn_part_again(task: PartTask) -> Learnt:
    """Return the structure of a part, learnt once more with what is known by now.

    The task's detail says of paths of objects whether they are dictionaries.
    """
    settled: Mapping[Path, bool] = task.detail
    context = context_of(task.context)
    feed = kept_part(context, task.part).feed
    assert feed is not None
    learners = Learners(context.wanted.options.kernel != "python", settled)
    for packed in feed.spill.read():
        read = unpack(packed)
        assert isinstance(read, Tape)
        learners.learn(read)
    return learners.shape()


def merge_learnt(several: Sequence[Learnt]) -> Learnt:
    """Return what several parts have learnt together."""
    (shape, passed), *others = several
    for other, passed_by_other in others:
        shape.merge(other)
        passed += passed_by_other
    return shape, passed


def pass_over_part(task: PartTask) -> list[Any]:
    """Return what became of each tape of a part, up to the first that became nothing.

    The task's detail is what is done with each, packed.
    """
    work: Callable[[Any], Any] = unpacked(task.detail)
    feed = kept_part(context_of(task.context), task.part).feed
    assert feed is not None
    found = []
    for packed in feed.spill.read():
        found.append(work(packed))
        if found[-1] is None:
            break
    return found


def lay_part(task: PartTask) -> list[LightResult]:
    """Make rows of the tapes of a part, keep them, and return what there is to tell of each tape."""
    context = context_of(task.context)
    return lay_tapes(context, task.part, kept_part(context, task.part))
