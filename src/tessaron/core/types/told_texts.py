"""Columns of texts in which half surrogates are told from what looks like one: see `surrogates`."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.surrogates import read_halves, spell_halves

_TOLD_PATTERN = r"\\ud[89a-f][0-9a-f]{2}"


def looks_told(texts: ArrowArray) -> ArrowArray:
    """Return which texts of an Arrow array `read_halves` would change; None for none of them."""
    if not pc.any(pc.match_substring(texts, "\\ud")).as_py():
        return None
    found = pc.match_substring_regex(texts, _TOLD_PATTERN)
    return found if pc.any(found).as_py() else None


def spelled(texts: ArrowArray) -> ArrowArray:
    """Return texts told apart as `tell_halves` does as they go into tables: as `spell_halves` spells them."""
    odd = looks_told(texts)
    if odd is None:
        return texts
    plain = [spell_halves(read_halves(each)) for each in texts.filter(odd).to_pylist()]
    return pc.replace_with_mask(texts, odd, pa.array(plain, pa.large_string()))
