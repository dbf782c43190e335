"""In what one structure differs from another, and whether that harms tables made by the first."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from enum import IntEnum

from tessaron.core.changes.place_facts import PlaceFacts, Structure
from tessaron.core.types.column_types import ColumnType, parse_type
from tessaron.core.types.widening import wider_type

_ENTRY = ".*"
_FILL_MOVED, _LEAST_ROWS = 0.2, 20
"""A fill rate has moved by so much, where so many rows were counted on both sides."""
_DISTINCT_FACTOR, _DISTINCT_LEAST = 3.0, 10
_VALUES_SHOWN = 5


class Judgement(IntEnum):
    """What a change means for tables that are there."""

    HARMLESS = 0
    """They take what comes as they are."""
    WIDENS = 1
    """They take it once they have a column, a table or a wider type more."""
    BREAKS = 2
    """Values have no place, or what asks the tables finds something else."""


@dataclass(frozen=True, slots=True)
class Change:
    """One change.

    Attributes:
        path: Where.
        kind: `new`, `gone`, `type`, `array`, `single`, `object`, `dictionary`, `values`, `fill`, `distinct`,
            `required` or `key`.
        judgement: What it means.
        text: What has changed, in words.
        column: The column of the tables that are there; empty where there is none.
        example: A value with its place; empty where none is known.
    """

    path: str
    kind: str
    judgement: Judgement
    text: str
    column: str = ""
    example: str = ""


def changes_between(old: Structure, new: Structure) -> list[Change]:
    """Return what has changed from one structure to another, what breaks most first."""
    compared = _Compared(old, new)
    found = [*compared.new_places(), *compared.gone_places(), *compared.same_places()]
    return sorted(found, key=lambda change: (-change.judgement, change.path))


class _Compared:
    """Two structures, with their places by the path without steps to each element."""

    def __init__(self, old: Structure, new: Structure):
        self._old, self._new = old, new
        self._old_plain = {_plain(path): path for path in old.places}
        self._new_plain = {_plain(path): path for path in new.places}
        self._old_prefixes, self._new_prefixes = _prefixes(old), _prefixes(new)
        every = (*old.places, *old.levels)
        self._dictionaries = {path[: path.index(_ENTRY)] for path in every if _ENTRY in path}
        # Cost follows the paths: each is looked up by those above it, and not held against all others.
        self._with_members = {each.rpartition(".")[0] for each in self._new_prefixes}

    def new_places(self) -> Iterator[Change]:
        """Yield what stands at places that the old structure has not."""
        named: dict[str, list[PlaceFacts]] = {}
        turned: dict[tuple[str, bool], list[PlaceFacts]] = {}
        added: dict[str, list[PlaceFacts]] = {}
        for path, facts in self._new.places.items():
            if path in self._old.places or path in self._old.known or not facts.type:
                continue
            before = self._old_plain.get(_plain(path))
            if (entry := self._entry_of(path)) is not None:
                named.setdefault(entry, []).append(facts)
            elif before is not None:
                is_array = path.count("[*]") > before.count("[*]")
                turned.setdefault((_parted(path, before), is_array), []).append(facts)
            elif (above := self._scalar_above(_plain(path))) is not None:
                text = f"{above.path} was {above.type}, and is an object now"
                yield Change(path, "object", Judgement.BREAKS, text, above.column, facts.example)
            else:
                added.setdefault(_first_unknown(path, self._old_prefixes), []).append(facts)
        for path, many in added.items():
            yield _added(path, many)
        for entry, many in named.items():
            names = sorted({each.path[len(entry) - 1 :].split(".")[0].split("[")[0] for each in many})
            text = f"new names in a dictionary: {_listed(names)}"
            yield Change(entry, "dictionary", Judgement.HARMLESS, text, "", many[0].example)
        for (path, is_array), many in turned.items():
            yield self._turned(path, is_array, many)

    def _turned(self, path: str, is_array: bool, many: list[PlaceFacts]) -> Change:
        """Return that a single one has become an array, or the other way round, with all below it."""
        columns = [self._old.places[self._old_plain[_plain(each.path)]].column for each in many]
        known = list(filter(None, columns))
        shown = known[0] + (f" and {len(known) - 1:,} more" if len(known) > 1 else "") if known else ""
        if is_array:
            text = "a single one before, an array now"
            return Change(path, "array", Judgement.BREAKS, text, shown, many[0].example)
        text = "an array before, a single one now"
        return Change(path, "single", Judgement.HARMLESS, text, shown, many[0].example)

    def _entry_of(self, path: str) -> str | None:
        """Return the place that a path has as an entry of a dictionary of the old structure."""
        for found in re.finditer(r"\.", path):
            start = path[: found.start()]
            if start in self._dictionaries and not path.startswith(f"{start}{_ENTRY}"):
                return f"{start}{_ENTRY}"
        return None

    def _scalar_above(self, plain: str) -> PlaceFacts | None:
        steps = re.split(r"(?=\.)", plain)
        for count in range(len(steps) - 1, 1, -1):
            before = self._old_plain.get("".join(steps[:count]))
            if before is not None and self._old.places[before].type not in ("", "json", "xml"):
                return self._old.places[before]
        return None

    def gone_places(self) -> Iterator[Change]:
        """Yield the places of the old structure at which nothing stands any more."""
        gone: dict[str, list[PlaceFacts]] = {}
        for path, facts in self._old.places.items():
            found = self._new.places.get(path)
            if (found is not None and found.type) or not facts.type:
                continue
            is_told = _plain(path) in self._new_plain or path in self._new_prefixes or self._is_entry(path)
            if found is not None or not is_told:
                # Else that is told with what stands there now.
                is_needed = facts.is_required or facts.is_key
                place = path if is_needed else _first_unknown(path, self._new_prefixes)
                gone.setdefault(place, []).append(facts)
        for path, many in gone.items():
            yield _gone(path, many)

    def _is_entry(self, path: str) -> bool:
        """Say whether a path of a dictionary stands under its names in the new structure."""
        start, sign, _ = path.partition(_ENTRY)
        return bool(sign) and start in self._with_members

    def same_places(self) -> Iterator[Change]:
        """Yield in what the values at the places of both differ."""
        for path, old in self._old.places.items():
            new = self._new.places.get(path)
            if new is None or not new.type:
                continue
            yield from _of_type(old, new)
            yield from _of_values(old, new)
            yield from _of_counts(old, new)


def _prefixes(structure: Structure) -> frozenset[str]:
    """Return all paths that lead to places of a structure, these among them."""
    found = set(structure.levels)
    for each in structure.places:
        path = each
        while path and path not in found:
            found.add(path)
            path = path[:-3] if path.endswith("[*]") else path.rpartition(".")[0]
    return frozenset(found)


def _first_unknown(path: str, known: frozenset[str]) -> str:
    """Return the shortest beginning of a path that is not among those known."""
    found = path
    while path and path not in known:
        found, path = path, path[:-3] if path.endswith("[*]") else path.rpartition(".")[0]
    return found


def _added(path: str, many: list[PlaceFacts]) -> Change:
    first = many[0]
    if len(many) > 1 or first.path != path:
        what = f"{len(many):,} places" if len(many) > 1 else first.type
        return Change(path, "new", Judgement.WIDENS, f"new, with {what} below", "", first.example)
    filled = "" if first.filled is None else f", in {first.filled:,} of {first.rows:,} rows"
    return Change(path, "new", Judgement.WIDENS, f"new: {first.type}{filled}", "", first.example)


def _gone(path: str, many: list[PlaceFacts]) -> Change:
    first = many[0]
    is_needed = any(each.is_required or each.is_key for each in many)
    why = ", and required" if first.is_required else ", and a key" if first.is_key else ""
    was = f"was {first.type}" if len(many) == 1 else f"had {len(many):,} places"
    judgement = Judgement.BREAKS if is_needed else Judgement.HARMLESS
    column = first.column + (f" and {len(many) - 1:,} more" if first.column and len(many) > 1 else "")
    return Change(path, "gone", judgement, f"stands nowhere now; {was}{why}", column)


def _of_type(old: PlaceFacts, new: PlaceFacts) -> Iterator[Change]:
    if old.type in ("", new.type) or "json" in (old.type, new.type):
        return
    before, now = parse_type(old.type), parse_type(new.type)
    if before.name == "decimal" and now.name == "integer" and new.digits is not None:
        now = ColumnType("decimal", max(1, new.digits), 0)
    wider = wider_type(before, now)
    if wider is not None and _is_same(wider, before):
        yield Change(
            old.path, "type", Judgement.HARMLESS, f"narrower: {old.type} before, {new.type} now", old.column
        )
        return
    judgement = Judgement.BREAKS if wider is None else Judgement.WIDENS
    text = f"{old.type} before, {new.type} now"
    yield Change(old.path, "type", judgement, text, old.column, new.example)


def _is_same(one: ColumnType, other: ColumnType) -> bool:
    return str(one) == str(other)


def _of_values(old: PlaceFacts, new: PlaceFacts) -> Iterator[Change]:
    before = old.allowed if old.allowed is not None else old.values
    if before is None or new.values is None:
        return
    added = sorted(new.values - before)
    is_told = old.type != new.type
    if not added or (old.allowed is None and (is_told or len(before) < 2)):
        return
    pinned = old.allowed is not None
    judgement = Judgement.BREAKS if pinned else Judgement.HARMLESS
    text = f"{'not among the values that are allowed' if pinned else 'new values'}: {_listed(added)}"
    yield Change(old.path, "values", judgement, text, old.column, new.example)


def _of_counts(old: PlaceFacts, new: PlaceFacts) -> Iterator[Change]:
    if old.is_required and new.filled is not None and new.rows is not None and new.filled < new.rows:
        lacking = new.rows - new.filled
        text = f"required, and {lacking:,} of {new.rows:,} rows have none"
        yield Change(old.path, "required", Judgement.BREAKS, text, old.column)
    unique = (old.is_unique or old.is_key) and new.is_unique is False
    if unique:
        repeats = (new.filled or 0) - (new.distinct or 0)
        text = f"no longer unique: {repeats:,} of {new.filled:,} values repeat another"
        judgement = Judgement.BREAKS if old.is_key else Judgement.HARMLESS
        yield Change(old.path, "key", judgement, text, old.column, new.example)
    if old.fill_rate is None or new.fill_rate is None or min(old.rows or 0, new.rows or 0) < _LEAST_ROWS:
        return
    if abs(old.fill_rate - new.fill_rate) >= _FILL_MOVED:
        text = f"filled in {old.fill_rate:.0%} of the rows before, {new.fill_rate:.0%} now"
        yield Change(old.path, "fill", Judgement.HARMLESS, text, old.column)
    if not unique and old.distinct is not None and new.distinct is not None and not old.is_unique:
        few, many = sorted((old.distinct, new.distinct))
        if many - few >= _DISTINCT_LEAST and many > few * _DISTINCT_FACTOR:
            text = f"{old.distinct:,} different values before, {new.distinct:,} now"
            yield Change(old.path, "distinct", Judgement.HARMLESS, text, old.column)


def _plain(path: str) -> str:
    return path.replace("[*]", "")


def _parted(path: str, other: str) -> str:
    """Return the path of the array that stands in one of two paths alone: the first such."""
    longer, shorter = (path, other) if path.count("[*]") > other.count("[*]") else (other, path)
    place = 0
    while place < len(shorter) and longer[place] == shorter[place]:
        place += 1
    return longer[:place] if longer[place:].startswith("[*]") else longer[: place + 1].rpartition("[")[0]


def _listed(names: list[str]) -> str:
    more = len(names) - _VALUES_SHOWN
    return ", ".join(names[:_VALUES_SHOWN]) + (f" and {more:,} more" if more > 0 else "")
