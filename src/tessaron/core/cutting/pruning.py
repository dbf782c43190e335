"""A tape of XML without what is not wanted: what the Python kernel passes over while it reads.

The compiled scanner reads whole records. Here all values of one depth are looked at together; what is wanted
is asked once for each place and name.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, MARKUP, TEXT_STEP
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.cutting.selecting import INSIDE, RAW, SCALARS, Selection
from tessaron.core.tape.tape import NO_NAME, Mark, Tape

_ATTRIBUTE = MARKUP + "@"


def pruned(tape: Tape, selection: Selection) -> Tape | None:
    """Return the tape of records of XML with only what is wanted.

    Args:
        tape: All that the records hold.
        selection: What is wanted.

    Returns:
        The tape; None where the values alone do not tell what the Python kernel would have made of it.
    """
    work = _Pruning(tape, selection)
    return work.finished() if work.prune() else None


class _Pruning:
    def __init__(self, tape: Tape, selection: Selection):
        self._tape, self._selection, self._steps = tape, selection, tape.steps()
        self._kinds = np.frombuffer(tape.kinds, np.uint8).copy()
        self._names = np.frombuffer(tape.names, np.int32).copy()
        self._parents = np.frombuffer(tape.parents, np.int32).copy()
        self._values = np.frombuffer(tape.values, np.uint64)
        count = len(self._kinds)
        self._places: Int64s = np.full(count, -1, np.int64)
        self._kept: Bools = np.zeros(count, np.bool_)
        self._dissolved: Bools = np.zeros(count, np.bool_)
        self._wrapped: Bools = np.zeros(count, np.bool_)
        self._is_plain = not selection.wanted(0) & RAW

    def prune(self) -> bool:
        """Look at all values, from the records down; say whether that was enough."""
        above = self._parents < 0
        self._places[above], self._kept[above] = 0, True
        while self._is_plain:
            at = np.flatnonzero(above[self._parents] & (self._parents >= 0))
            if not len(at):
                break
            below = np.zeros(len(above), np.bool_)
            below[self._look_at(at)] = True
            above = below
        was_pruned = not self._kept.all() or bool((self._kinds == Mark.PASSED).any())
        # Comments are only counted where something is wanted.
        return self._is_plain and not (was_pruned and self._tape.left_out)

    def _look_at(self, at: Int64s) -> Int64s:
        """Decide about values of one depth; return those that are looked into."""
        inside_gone = self._dissolved[self._parents[at]]
        self._pass_elements(at[inside_gone])
        at = at[~inside_gone]
        if not len(at):
            return at
        places, flags, levels, are_parts = self._asked(at)
        kinds = self._kinds[at]
        is_array = kinds == Kind.ARRAY
        # What stands alone where rows do is an array of one.
        alone = levels & ~is_array & ((flags & INSIDE) > 0)
        self._wrapped[at[alone]] = True
        if alone.any():
            each, each_flags, _, _ = self._asked_steps(places[alone], np.full(int(alone.sum()), NO_NAME))
            places[alone], flags[alone] = each, each_flags
        self._is_plain &= not (flags & RAW).any()
        is_open = is_array | (kinds == Kind.OBJECT)
        wanted = flags > 0
        wanted[is_array] = (flags[is_array] & INSIDE) > 0
        wanted[are_parts] = (flags[are_parts] & SCALARS) > 0
        # A text is no longer wanted as such where only what stands inside is.
        hollow = wanted & ~is_open & ~are_parts & ((flags & SCALARS) == 0) & (kinds != Kind.NULL)
        sizes = self._values[at] >> np.uint64(32)
        self._is_plain &= not (hollow & ~((kinds == Kind.TEXT) & (sizes == 0))).any()
        self._is_plain &= not any(map(self._wants_text, np.unique(places[hollow]).tolist()))
        self._is_plain &= not (wanted & (kinds == Kind.OBJECT) & ((flags & INSIDE) == 0)).any()
        self._kinds[at[hollow]] = Kind.OBJECT
        self._dissolved[at[~wanted & is_array]] = True
        passed = ~wanted & ~is_array & ~(are_parts & (kinds == Kind.NULL))
        self._kinds[at[passed]] = Mark.PASSED
        self._kept[at[wanted | passed]] = True
        self._places[at] = places
        return np.asarray(at[(wanted & is_open) | self._dissolved[at]])

    def _pass_elements(self, at: Int64s) -> None:
        """Pass over the elements of arrays that are not wanted, each by the name of all."""
        arrays = self._parents[at]
        self._kinds[at], self._kept[at] = Mark.PASSED, True
        self._names[at], self._parents[at] = self._names[arrays], self._parents[arrays]

    def _asked(self, at: Int64s) -> tuple[Int64s, Int64s, Bools, Bools]:
        return self._asked_steps(self._places[self._parents[at]], self._names[at])

    def _asked_steps(self, above: Int64s, names: Any) -> tuple[Int64s, Int64s, Bools, Bools]:
        """Return for names below places: the place, its flags, whether rows stand there, whether a part does.

        Parts are attributes and the text beside them, which are no elements.
        """
        pairs, which = np.unique(above * (len(self._steps) + 1) + names + 1, return_inverse=True)
        found = [self._asked_step(*divmod(pair, len(self._steps) + 1)) for pair in pairs.tolist()]
        places, flags, levels, parts = (np.array(column) for column in zip(*found, strict=True))
        return (
            places.astype(np.int64)[which],
            flags.astype(np.int64)[which],
            levels.astype(np.bool_)[which],
            parts.astype(np.bool_)[which],
        )

    def _asked_step(self, above: int, number: int) -> tuple[int, int, bool, bool]:
        step = self._steps[number - 1] if number else ELEMENT
        place = self._selection.step(above, step) if above >= 0 else -1
        flags = self._selection.wanted(place) if place >= 0 else 0
        is_part = isinstance(step, str) and (step == TEXT_STEP or step.startswith(_ATTRIBUTE))
        is_level = number > 0 and not is_part and place >= 0 and self._selection.is_level(place)
        return place, flags, is_level, is_part

    def _wants_text(self, place: int) -> bool:
        """Say whether the text beside what else stands at a place is wanted."""
        below = self._selection.step(place, TEXT_STEP) if place >= 0 else -1
        return below >= 0 and bool(self._selection.wanted(below) & SCALARS)

    def finished(self) -> Tape:
        """Return the tape of what is left."""
        kept = np.flatnonzero(self._kept)
        wrapped = self._wrapped[kept]
        ends = np.cumsum(1 + wrapped)
        # A value that is wrapped comes behind the array it stands in now.
        places = np.zeros(len(self._kept), np.int64)
        places[kept] = own = ends - 1
        arrays = own[wrapped] - 1
        count = int(ends[-1]) if len(ends) else 0
        kinds, names = np.full(count, Kind.ARRAY, np.uint8), np.full(count, NO_NAME, np.int32)
        parents, values = np.full(count, -1, np.int32), np.zeros(count, np.uint64)
        above = np.where(self._parents[kept] < 0, -1, places[self._parents[kept]])
        kinds[own], values[own], parents[own] = self._kinds[kept], self._values[kept], above
        names[own[~wrapped]] = self._names[kept][~wrapped]
        names[arrays], parents[arrays], parents[own[wrapped]] = (
            self._names[kept][wrapped],
            above[wrapped],
            arrays,
        )
        return replace(
            self._tape,
            kinds=kinds.tobytes(),
            names=names.tobytes(),
            parents=parents.tobytes(),
            values=values.tobytes(),
            _counted=None,
        )
