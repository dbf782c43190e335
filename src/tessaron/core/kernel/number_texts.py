"""Texts that are numbers, told apart from the others: in XML, where all is text, they are typed.

Only spellings that a number gives back exactly count: `12`, `-3.50`; neither `007` nor `+1` nor `1e3`.
"""

from __future__ import annotations

import re

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.fragment import EMPTY_TEXTS, Node, TextLane
from tessaron.core.kinds import Kind

_INTEGER = "^(?:0|-?[1-9][0-9]*)$"
_FRACTION = r"^-?(?:0|[1-9][0-9]*)\.[0-9]+$"
_ONE = re.compile(f"({_INTEGER})|({_FRACTION})")
_FEW = 12
"""So few texts are looked at one by one: where a chunk has thousands of columns most are that short."""
_SURE_DIGITS = 18
"""Integers of so many digits fit 64 bits."""
_INT64_LEAST, _INT64_MOST = -(2**63), 2**63 - 1


def numbers_apart(node: Node) -> None:
    """Move the texts of a node that are numbers into the lanes of integers and number texts."""
    lane = node.texts
    if len(lane) <= _FEW:
        _few_apart(node)
        return
    firsts = _first_bytes(lane)
    may_be = ((firsts - ord("0")) <= 9) | (firsts == ord("-"))
    if not may_be.any():
        return
    texts = lane.to_arrow()
    whole = may_be & _matches(texts, _INTEGER)
    fractions = may_be & ~whole & _matches(texts, _FRACTION)
    if not whole.any() and not fractions.any():
        return
    kinds = np.full(len(lane), Kind.TEXT, np.uint8)
    kinds[whole] = Kind.INTEGER
    kinds[fractions] = Kind.FRACTION
    long = np.flatnonzero(whole & (lane.byte_lengths > _SURE_DIGITS))
    kinds[[at for at in long.tolist() if not _fits(texts[at].as_py())]] = Kind.LONG_INTEGER
    integers = texts.filter(pa.array(kinds == Kind.INTEGER))
    numbers = texts.filter(pa.array((kinds == Kind.LONG_INTEGER) | (kinds == Kind.FRACTION)))
    rest = texts.filter(pa.array(kinds == Kind.TEXT))
    node.integers = pc.cast(integers, pa.int64()).to_numpy(zero_copy_only=False)
    node.numbers = TextLane.of(numbers)
    node.texts = TextLane.of(rest) if len(rest) else EMPTY_TEXTS
    all_kinds = node.kinds.copy()
    all_kinds[node.kinds == Kind.TEXT] = kinds
    node.kinds = all_kinds


def _few_apart(node: Node) -> None:
    texts = node.texts.to_arrow().to_pylist()
    kinds = [_kind_of(text) for text in texts]
    if all(kind is Kind.TEXT for kind in kinds):
        return
    by_kind = list(zip(kinds, texts, strict=True))
    node.integers = np.array([int(text) for kind, text in by_kind if kind is Kind.INTEGER], np.int64)
    numbers = [text for kind, text in by_kind if kind in (Kind.LONG_INTEGER, Kind.FRACTION)]
    rest = [text for kind, text in by_kind if kind is Kind.TEXT]
    node.numbers = TextLane.of(numbers) if numbers else EMPTY_TEXTS
    node.texts = TextLane.of(rest) if rest else EMPTY_TEXTS
    all_kinds = node.kinds.copy()
    all_kinds[node.kinds == Kind.TEXT] = kinds
    node.kinds = all_kinds


def _kind_of(text: str) -> Kind:
    found = _ONE.fullmatch(text)
    if found is None:
        return Kind.TEXT
    if found[2]:
        return Kind.FRACTION
    return Kind.INTEGER if len(text) <= _SURE_DIGITS or _fits(text) else Kind.LONG_INTEGER


def _first_bytes(lane: TextLane) -> npt.NDArray[np.uint8]:
    """Return the first byte of each text; a letter for an empty one."""
    found = np.full(len(lane), ord("x"), np.uint8)
    filled = lane.byte_lengths > 0
    found[filled] = lane.data[lane.offsets[:-1][filled]]
    return found


def _matches(texts: pa.Array, pattern: str) -> npt.NDArray[np.bool_]:
    return np.asarray(pc.match_substring_regex(texts, pattern).to_numpy(zero_copy_only=False))


def _fits(text: str) -> bool:
    return len(text) <= 20 and _INT64_LEAST <= int(text) <= _INT64_MOST
