"""Digest keys: the same for the same record on every run, computed for whole columns."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from itertools import pairwise
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.digests import Digests, digest_texts, digest_words, hex_of
from tessaron.core.fragment import Fragment, TextLane
from tessaron.core.layout import Table, TableSet
from tessaron.core.paths import Origin, Path, format_path

_BETWEEN = "\x1f"
"""What stands between the values of a key of several columns (the unit separator of ASCII)."""


def digest_of_columns(batch: Any, names: tuple[str, ...]) -> Digests:
    """Return the digest of each row's values in these columns; null counts as a value of its own."""
    texts = [_with_mark(batch.column(batch.schema.get_field_index(name))) for name in names]
    joined = pc.binary_join_element_wise(*texts, pa.scalar(_BETWEEN, pa.large_string()))
    return digest_texts(TextLane.of(joined))


def _with_mark(column: Any) -> Any:
    texts = pc.cast(column, pa.large_string())
    mark, nothing = pa.scalar("=", pa.large_string()), pa.scalar("", pa.large_string())
    marked = pc.binary_join_element_wise(mark, texts, nothing)
    return pc.fill_null(marked, "-")


def digest_keys(
    columns: dict[str, list[Any]], batches: Mapping[str, Any], layout: TableSet, fragment: Fragment
) -> None:
    """Replace the key columns of every table, which count rows of the fragment from 1, by digests.

    The key of a top row is the digest of its natural key if there is one, else of its text. The key of a
    child row is the digest of its parent's key, the path of its table, and its ordinal; in a structure that
    contains itself, of its place among all rows of that parent.

    Args:
        columns: Per table the columns, key columns first; changed.
        batches: Per table a batch of the data columns alone.
        layout: The tables.
        fragment: The conformed fragment.
    """
    digests: dict[str, Digests] = {}
    for table in layout.tables:
        keys = dict(zip(table.key_columns(), columns[table.name], strict=False))
        if table.parent is None:
            digests[table.name] = _of_records(batches[table.name], layout, fragment)
        else:
            parents = keys[str(table.parent_key)].to_numpy() - 1
            places = (
                keys[str(table.ordinal)].to_numpy() if table.within_key is None else places_among(parents)
            )
            above = digests[table.parent][parents]
            salt = np.full(len(parents), salt_of(table.rows), np.uint64)
            digests[table.name] = digest_words([above[:, 0], above[:, 1], salt, places])
    texts = {name: hex_of(rows) for name, rows in digests.items()}
    for table in layout.tables:
        for index, other in enumerate(_tables_named(table)):
            rows = pc.subtract(columns[table.name][index], 1)
            columns[table.name][index] = texts[other].take(rows)


def _tables_named(table: Table) -> list[str]:
    """Return for each key column but the ordinal, which stands last, the table whose rows it names."""
    tables = dict([(table.row_key, table.name), *table.references()])
    return [tables[column] for column in table.key_columns() if column in tables]


def _of_records(batch: Any, layout: TableSet, fragment: Fragment) -> Digests:
    if layout.natural_key:
        return digest_of_columns(batch, layout.natural_key)
    for node in fragment.nodes:
        if node.name == Origin.CONTENT.value and node.step() is Origin.CONTENT:
            return digest_texts(node.texts)
    return np.empty((0, 2), np.uint64)


def salt_of(rows: Path) -> int:
    """Return the number that tells the keys of a level from those of others."""
    digest = hashlib.blake2b(format_path(rows).encode(), digest_size=8).digest()
    return int.from_bytes(digest, "little")


def places_among(parents: Any) -> Any:
    """Return the place of each row among the rows of its parent, which stand together."""
    return np.arange(1, len(parents) + 1) - np.searchsorted(parents, parents)


def content_lane(data: bytes, offsets: Any) -> TextLane:
    """Return for each record of a chunk the BLAKE2b digest of its text, in hexadecimal.

    `offsets` says where each record begins; what separates it from the next does not count.
    """
    bounds = [*offsets.tolist(), len(data)]
    texts = [
        hashlib.blake2b(data[start:stop].rstrip(b", \t\r\n"), digest_size=16).hexdigest()
        for start, stop in pairwise(bounds)
    ]
    return TextLane.of(texts)
