"""Records written as JSON (RFC 8259)."""

from __future__ import annotations

import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.text_lane import Int64s
from tessaron.core.plan.rest_plans import WrittenAs
from tessaron.core.rebuild.overrides import applied
from tessaron.core.rebuild.places import TablePlaces
from tessaron.core.types.json_columns import coalesced, entries, grouped, objects, quoted
from tessaron.core.types.written import texts_of

_NO_STRINGS = frozenset(("boolean", "integer", "decimal", "double", "json"))


class JsonDialect:
    """Writes records as JSON texts without white space."""

    is_markup = False

    def value(self, values: ArrowArray, form: WrittenAs, instead: ArrowArray) -> ArrowArray:
        """Return the values of a column; `instead` is what the rest of the rows says, or None."""
        texts = texts_of(values, form.type, form.written, form.words)
        is_string = form.type.name not in _NO_STRINGS or form.words is not None
        made = quoted(texts) if is_string else texts
        return made if instead is None else applied(made, instead, texts if is_string else None)

    def told(self, tokens: ArrowArray) -> ArrowArray:
        """Return scalars that only the rest of the rows tells of, given as JSON."""
        return tokens

    def row_name(self, places: TablePlaces) -> str:
        """Return the step to what a row of a table is: none, as the name stands at the array."""
        return ""

    def hollow(self, name: str, tokens: ArrowArray) -> ArrowArray:
        """Return what is null or empty, given as JSON."""
        return tokens

    def made(
        self,
        name: str,
        value: ArrowArray,
        members: list[tuple[str, ArrowArray]],
        row_count: int,
        order: ArrowArray,
    ) -> ArrowArray:
        """Return what stands at a place, made of its value, if it has one, and its members."""
        if value is not None and not members:
            return value
        made = objects(members, row_count)
        return made if value is None else coalesced(value, made)

    def array(self, values: ArrowArray, above: Int64s, row_count: int) -> ArrowArray:
        """Return for each row above the array of what stands below it."""
        return grouped(values, above, row_count, "[", "]", ",")

    def dictionary(self, keys: ArrowArray, values: ArrowArray, above: Int64s, row_count: int) -> ArrowArray:
        """Return for each row above the object of the entries below it."""
        return grouped(entries(keys, values), above, row_count, "{", "}", ",")

    def row(self, places: TablePlaces, made: ArrowArray, names: ArrowArray = None) -> ArrowArray:
        """Return rows; where nothing stands in them as empty objects, or null if they have no members."""
        return pc.fill_null(made, "{}" if places.is_object else "null")
