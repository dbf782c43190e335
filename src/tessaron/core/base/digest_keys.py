"""Digest keys: the same for the same record on every run, computed for whole columns."""

from __future__ import annotations

import hashlib

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.digests import Digests, digest_texts
from tessaron.core.base.paths import Path, format_path
from tessaron.core.base.text_lane import TextLane

_BETWEEN = "\x1f"
"""What stands between the values of a key of several columns (the unit separator of ASCII)."""


def digest_of_columns(batch: ArrowRows, names: tuple[str, ...]) -> Digests:
    """Return the digest of each row's values in these columns; null counts as a value of its own."""
    texts = [_with_mark(batch.column(batch.schema.get_field_index(name))) for name in names]
    joined = pc.binary_join_element_wise(*texts, pa.scalar(_BETWEEN, pa.large_string()))
    return digest_texts(TextLane.of(joined))


def _with_mark(column: ArrowArray) -> ArrowArray:
    texts = pc.cast(column, pa.large_string())
    mark, nothing = pa.scalar("=", pa.large_string()), pa.scalar("", pa.large_string())
    marked = pc.binary_join_element_wise(mark, texts, nothing)
    return pc.fill_null(marked, "-")


def salt_of(rows: Path) -> int:
    """Return the number that tells the keys of a level from those of others."""
    digest = hashlib.blake2b(format_path(rows).encode(), digest_size=8).digest()
    return int.from_bytes(digest, "little")


def places_among(parents: ArrowArray) -> ArrowArray:
    """Return the place of each row among the rows of its parent, which stand together."""
    return np.arange(1, len(parents) + 1) - np.searchsorted(parents, parents)
