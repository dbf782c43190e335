"""What is new is taken all at once, or else one by one, so that a bad delivery keeps no good one back."""

from __future__ import annotations

from typing import Protocol, Self, TypeVar

from tessaron.core.base.errors import Code, DataError, SourceError, TessaronError
from tessaron.repeat.ledgers.deliveries import Delivery

_UNIQUE = "a record comes in several sources that are new: they are loaded one after the other"


class Result(Protocol):
    """What was done."""

    def then(self, other: Self, /) -> Self:
        """Return what was done by this and then by another, which found what this one had left."""


R = TypeVar("R", bound=Result)
R_co = TypeVar("R_co", bound=Result, covariant=True)


class Taking(Protocol[R_co]):
    """Takes in what is new.

    Attributes:
        taken: What it was about to take in.
        has_more: Whether it has left something to the next call.
        goes_on: Whether a source whose structure has changed is put aside, where that is not to be.
    """

    taken: list[Delivery]
    has_more: bool

    @property
    def goes_on(self) -> bool:
        """See above."""

    def once(self, most: int | None = None) -> R_co:
        """Take in what is new, or at most so many of the sources that are."""

    def without(self, delivery: Delivery, error: TessaronError) -> R_co:
        """Put a source aside; one that was changed meanwhile is only left to the next run."""

    def say(self, text: str) -> None:
        """Tell what is worth telling meanwhile."""


def all_or_each(taking: Taking[R]) -> R:
    """Take in all that is new at once; where that cannot be, what can be of it.

    Raises:
        SourceError: When nothing can be told of any source.
        DataError: When a structure has changed, and that is to end the run.
    """
    try:
        return taking.once()
    except (DataError, SourceError) as error:
        if not _is_of_one(taking, error):
            raise
        if isinstance(error, DataError) and error.code is Code.UNIQUE:
            taking.say(_UNIQUE)
    done: R | None = None
    while done is None or taking.has_more:
        try:
            result = taking.once(1)
        except (DataError, SourceError) as error:
            if not _is_of_one(taking, error):
                raise
            result = taking.without(taking.taken[0], error)
        done = result if done is None else done.then(result)
    return done


def _is_of_one(taking: Taking[R], error: TessaronError) -> bool:
    """Say whether an error is about one source of several, and the others may go on."""
    is_meant = isinstance(error, DataError) and error.code is Code.NO_COLUMN and not taking.goes_on
    return bool(taking.taken) and not is_meant
