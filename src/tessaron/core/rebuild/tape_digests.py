"""Digests of records, straight from the tape: what verify compares."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.digests import digest_texts
from tessaron.core.base.paths import Origin
from tessaron.core.base.text_lane import TextLane
from tessaron.core.rebuild.record_digests import Words, record_digests
from tessaron.core.shape.learning import as_few_columns, new_learner
from tessaron.core.tape.emission import is_compiled
from tessaron.core.tape.tape import Mark, Tape

_NAMES_OF_RECORDS = np.uint64(0x9E37_79B9_7F4A_7C15)


def digests_of(tape: Tape, exact: bool, keys: ArrowArray = None) -> Words:
    """Return one word for all that stands in each record.

    Where the passes are not compiled, `record_digests` does the same on columns, by other words.

    Args:
        tape: The records.
        exact: Whether absent, null, empty objects and empty arrays are told apart, and the spellings of one
            number; else they are not. The number of elements of an array always counts.
        keys: The names of records that are members of an object; else those that the tape has.
    """
    if not is_compiled():
        return record_digests(as_few_columns(tape), exact, keys)
    from tessaron.core.compiled._passes import digest

    words = np.frombuffer(digest(tape.arrays(), exact), np.uint64)
    if keys is None:
        known = [node for node in tape.origins if node.name == Origin.KEY.value]
        keys = known[0].texts.to_arrow() if known else None
    if keys is not None and len(keys):
        words = words + digest_texts(TextLane.of(keys))[:, 0] * _NAMES_OF_RECORDS
    return words


def passed_over(tape: Tape) -> Mapping[str, int]:
    """Return how many values of a tape were passed over, by path."""
    if Mark.PASSED not in tape.kinds and not tape.left_out:
        return {}
    learner = new_learner()
    learner.learn(tape)
    return learner.shape()[1]
