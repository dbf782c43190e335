"""What is new is taken all at once, or else in parts, so that a bad delivery keeps no good one back."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import replace
from typing import Generic, Protocol, Self, TypeVar

from tessaron.core.base.errors import Code, DataError, SourceError, TessaronError
from tessaron.engine.run_progress import Progress
from tessaron.repeat.keeping import Keeping, KeptUp, told_of_deliveries
from tessaron.repeat.ledgers.deliveries import Deliveries, Delivery, still_is
from tessaron.repeat.ledgers.ledger import Entry

_UNIQUE = "a record comes in several sources that are new: they are loaded one after the other"


class Result(Protocol):
    """What was done."""

    def then(self, other: Self, /) -> Self:
        """Return what was done by this and then by another, which found what this one had left."""


R = TypeVar("R", bound=Result)


class PartByPart(ABC, Generic[R]):
    """Takes in what is new, in one run or more.

    Args:
        keeping: How the target is kept up.
        told: Is told what is worth telling meanwhile.
    """

    def __init__(self, keeping: Keeping, told: Progress):
        self._keeping, self._told = keeping, told
        self._found = Deliveries()
        self._done: set[str] = set()
        self._tried_again: set[str] = set()
        self._taken: list[Delivery] = []
        self._has_more = False

    @abstractmethod
    def once(self, most: int | None = None) -> R:
        """Take in what is new, or at most so many of the sources that are."""

    @abstractmethod
    def note(self, entry: Entry) -> None:
        """Write into the ledger what it is to say of a source that is put aside."""

    @abstractmethod
    def result(self, kept: KeptUp) -> R:
        """Return what was done where nothing was taken in."""

    def choose(self, wanted: Sequence[Delivery], most: int | None) -> list[Delivery]:
        """Return what is taken in now of what is wanted, in its order."""
        left = [each for each in wanted if each.entry.source not in self._done]
        self._taken = left[:most]
        self._has_more = len(self._taken) < len(left)
        return self._taken

    def end(self) -> None:
        """Take in that what was chosen is done."""
        self._done |= {each.entry.source for each in self._taken}

    def all(self) -> R:
        """Take in all that is new at once; where that cannot be, what can be of it.

        Where a run fails half as many sources are taken, until the one is found that cannot be loaded: so the
        time is that of a few runs, however many sources there are.

        Raises:
            SourceError: When nothing can be told of any source.
            DataError: When a structure has changed, and that is to end the run.
        """
        most: int | None = None
        done: R | None = None
        is_one_by_one = False
        while done is None or self._has_more:
            self._taken = []
            try:
                result = self.once(most)
            except (DataError, SourceError) as error:
                if not self._is_of_one(error):
                    raise
                if isinstance(error, DataError) and error.code is Code.UNIQUE and not is_one_by_one:
                    self._told.say(_UNIQUE)
                    is_one_by_one = True
                if len(self._taken) > 1 or self._is_worth_another_try():
                    most = 1 if is_one_by_one else max(1, len(self._taken) // 2)
                    self._has_more = True
                    continue
                result = self._without(self._taken[0], error)
            else:
                most = most if most is None or is_one_by_one else 2 * most
            done = result if done is None else done.then(result)
        return done

    def _is_of_one(self, error: TessaronError) -> bool:
        """Say whether an error is about one source of several, and the others may go on."""
        is_change = isinstance(error, DataError) and error.code is Code.NO_COLUMN
        return bool(self._taken) and not (is_change and not self._keeping.goes_on)

    def _is_worth_another_try(self) -> bool:
        """Say whether the one source that was taken was changed meanwhile, for the first time."""
        delivery = self._taken[0]
        if still_is(delivery) or delivery.entry.source in self._tried_again:
            return False
        self._tried_again.add(delivery.entry.source)
        return True

    def _without(self, delivery: Delivery, error: TessaronError) -> R:
        """Put a source aside; one that was changed meanwhile is only left to the next run."""
        self._done.add(delivery.entry.source)
        kept = told_of_deliveries(self._found, 0, ())
        if not still_is(delivery):
            return self.result(replace(kept, waiting=1))
        said = str(error).removeprefix(f"{delivery.source.name}: ")
        self.note(replace(delivery.entry, state="aside", said=said))
        return self.result(replace(kept, put_aside={delivery.entry.source: said}))
