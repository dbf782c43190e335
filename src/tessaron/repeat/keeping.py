"""How a target is kept up with its sources, and what a run has done for that."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Literal, get_args

from tessaron.core.base.errors import Code, DataError, Place, SourceError, UsageError
from tessaron.core.base.parsed_values import Parsed
from tessaron.repeat.ledgers.deliveries import Deliveries, Delivery, still_is
from tessaron.repeat.run_history import unplaced
from tessaron.sinks.lake.lake_catalogs import is_lake
from tessaron.sinks.receipt_text import plain_data, spread_json
from tessaron.write.load_place import CHANGES, LoadPlace, OnChange

if TYPE_CHECKING:
    from tessaron.write.loading import Loaded

Changed = Literal["reject", "reload"]
_CHANGES_SHOWN = 20


@dataclass(frozen=True, slots=True)
class Keeping:
    """How a target is kept up.

    Attributes:
        ledger: The ledger: a file of SQLite, or the URL of a database; the target's own for one transaction.
        changed: What becomes of sources that were loaded, and are others now: they are told and left
            (`reject`), or merged again (`reload`).
        on_change: What becomes of data at places that the tables have not: nothing is loaded (`stop`), it
            goes to the rejects (`note`), or tables grow (`extend`).
        again: Whether sources that are loaded are taken again, and merged.
        wait: Seconds to wait for another run.
        settle: Files that were changed less than so many seconds ago are left to the next run: they may not
            be whole yet.
        goes_on: Whether sources whose structure has changed are put aside, with `stop`, and the rest goes on.
    """

    ledger: str
    changed: Changed = "reject"
    on_change: OnChange = "note"
    again: bool = False
    wait: float = 600.0
    settle: float = 0.0
    goes_on: bool = False

    def check(self, place: LoadPlace) -> None:
        """Raise `UsageError` for what cannot be right together."""
        if self.changed not in get_args(Changed):
            raise UsageError(f"changed: expected {' or '.join(get_args(Changed))}, got {self.changed!r}")
        self.check_change()
        if place.mode not in ("append", "merge"):
            raise UsageError(f"a ledger goes with append or merge, not with {place.mode}")
        for name, is_asked in (("changed=reload", self.changed == "reload"), ("again", self.again)):
            if is_asked and place.mode != "merge":
                raise UsageError(f"{name} replaces records that are there; that takes mode merge, and a key")
        if is_lake(place.to) and not self.url().startswith("sqlite:"):
            raise UsageError("lake tables have their ledger beside them, in a file: --ledger FILE")
        if place.complete:
            said = "with a ledger only what is new is read, so nothing tells what is gone"
            raise UsageError(f"{said}: leave complete out")

    def check_change(self) -> None:
        """Raise `UsageError` where what becomes of a changed structure is none of these."""
        if self.on_change not in CHANGES:
            raise UsageError(f"on_change: expected {', '.join(CHANGES)}, got {self.on_change!r}")

    def check_run(
        self, chosen: Sequence[Delivery], receipt: Mapping[str, Any], is_first: bool, done: str
    ) -> None:
        """Check, before anything is seen, that sources are what they were, and so is their structure.

        Args:
            chosen: The sources.
            receipt: The receipt of the run.
            is_first: Whether there is no structure to hold it against.
            done: What would have been done to records: `loaded`.

        Raises:
            SourceError: When a source has changed.
            DataError: With `stop`, when the structure has.
        """
        for each in chosen:
            if not still_is(each):
                said = f"the file changed while it was read; nothing was {done}, the next run takes it"
                raise SourceError(f"{each.source.name}: {said}")
        changes = unplaced(receipt)
        if self.on_change == "stop" and not is_first and changes:
            listed = "".join(f"\n  {each}" for each in changes[:_CHANGES_SHOWN])
            more = len(changes) - _CHANGES_SHOWN
            listed += f"\n  and {more:,} more" if more > 0 else ""
            raise DataError(
                f"the structure has changed, and nothing was {done}:{listed}\n"
                "--on-change extend gives all of it a place, note puts it to the rejects",
                Place("the whole run"), Code.NO_COLUMN,
            )  # fmt: skip

    def url(self) -> str:
        """Return the ledger's URL."""
        return ledger_url(self.ledger)


def ledger_url(ledger: str) -> str:
    """Return the URL of a ledger that is named as people do: by that, or by the file of SQLite."""
    return ledger if "://" in ledger else f"sqlite:///{os.path.abspath(ledger)}"


@dataclass(frozen=True, slots=True)
class KeptUp:
    """What was done.

    Attributes:
        loads: The loads; none where nothing was new, several where a record came in several sources.
        new, known, same, aside: How many sources were loaded; were loaded before; have the bytes of another
            one; are known not to be loadable.
        changed: Those that were loaded, and are others now.
        gone: How many are loaded and no longer there; `gone_first` names some.
        same_as: Of those with the bytes of another one: which.
        put_aside: Those that cannot be loaded, with the reason; they are taken again once they have changed.
        waiting: How many are left to the next run, as they have only just been changed.
        changes: What has changed in the structure, each in words.
        layout_file: The new version of the layout's file, where it has grown.
    """

    loads: tuple[Loaded, ...] = ()
    new: int = 0
    known: int = 0
    same: int = 0
    aside: int = 0
    changed: tuple[str, ...] = ()
    gone: int = 0
    gone_first: tuple[str, ...] = ()
    same_as: Mapping[str, str] = field(default_factory=dict)
    put_aside: Mapping[str, str] = field(default_factory=dict)
    waiting: int = 0
    changes: tuple[str, ...] = ()
    layout_file: str | None = None

    @property
    def passed(self) -> bool:
        """Whether nothing was rejected or put aside, and no source has changed that is not loaded again."""
        return not self.changed and not self.put_aside and all(each.passed for each in self.loads)

    def then(self, other: KeptUp) -> KeptUp:
        """Return what was done by this and then by another, which found what this one had left."""
        return replace(
            other,
            loads=(*self.loads, *other.loads),
            new=self.new + other.new,
            known=max(self.known, other.known),
            same=max(self.same, other.same),
            aside=max(self.aside, other.aside),
            changed=tuple(dict.fromkeys((*self.changed, *other.changed))),
            same_as={**self.same_as, **other.same_as},
            put_aside={**self.put_aside, **other.put_aside},
            changes=(*self.changes, *other.changes),
            layout_file=other.layout_file or self.layout_file,
        )

    def to_json(self) -> str:
        """Return all of it as JSON."""
        data: dict[str, Parsed] = plain_data(self)
        data["loads"] = [{**plain_data(each), "receipt": each.receipt.to_dict()} for each in self.loads]
        return spread_json(data) + "\n"


def told_of_deliveries(found: Deliveries, new: int, left: Sequence[Delivery]) -> KeptUp:
    """Return what is told of sources before anything is loaded.

    Args:
        found: The sources.
        new: How many are loaded.
        left: Those that have changed since they were loaded, and are left as they are.
    """
    same = (*found.same, *found.twins)
    return KeptUp(
        (), new, len(found.known), len(same), found.aside, tuple(each.entry.source for each in left),
        found.gone, tuple(found.gone_first), {each.source: each.said for each in same}, {}, found.waiting,
    )  # fmt: skip
