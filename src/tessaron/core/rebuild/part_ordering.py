"""Putting what stands in elements into the order that the rest of their rows keeps."""

from __future__ import annotations

from html import unescape

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.paths import MARKUP, TEXT_STEP
from tessaron.core.kernel.part_order import RECORDS, read_order
from tessaron.core.markup.tokens import RECORDS_MARK
from tessaron.core.types.json_columns import side_by_side, text

APART = "\x00"
"""What stands between elements of one name until they are in their order; no letter of XML."""
_ESCAPED = (("&", "&amp;"), ("<", "&lt;"), (">", "&gt;"), ("\r", "&#13;"))


def in_order(orders: ArrowArray, parts: list[tuple[str, ArrowArray]]) -> ArrowArray:
    """Return what stands in some elements, each in its order.

    Args:
        orders: An order, as `kernel.part_order` writes it, for each element.
        parts: By step what stands there in each element, null where nothing does; texts are escaped.
    """
    encoded = orders.dictionary_encode()
    codes = encoded.indices.to_numpy()
    made = np.full(len(orders), None, object)
    for code, order in enumerate(encoded.dictionary.to_pylist()):
        rows = np.flatnonzero(codes == code)
        taken = pa.array(rows)
        here = {step.removeprefix(MARKUP): each.take(taken) for step, each in parts}
        runs = list(read_order(order))
        names = [name for name, _ in runs]
        if None not in names and len(set(names)) == len(names):
            if RECORDS in names:
                here[RECORDS] = pa.repeat(text(slot_of(None)), len(rows))
            last = [each for name, each in here.items() if name not in names]
            texts = side_by_side([*last, *(here[str(name)] for name in names if name in here)])
            made[rows] = texts.to_pylist()
        else:
            made[rows] = _one_by_one(runs, here, len(rows))
    return pa.array(made.tolist(), pa.large_string())


def _one_by_one(
    runs: list[tuple[str | None, int | None]], here: dict[str, ArrowArray], count: int
) -> list[str]:
    """Return the contents of elements whose parts are interleaved."""
    own = TEXT_STEP.removeprefix(MARKUP)
    columns = {name: pc.fill_null(each, "").to_pylist() for name, each in here.items()}
    made = []
    for row in range(count):
        left = {name: texts[row].split(APART) if texts[row] else [] for name, texts in columns.items()}
        words = unescape("".join(left.pop(own, [])))
        pieces = []
        for name, length in runs:
            if name is None:
                pieces.append(_escaped(words[:length]))
                words = words[length:]
            elif name == RECORDS:
                pieces.append(slot_of(length))
            else:
                known = left.get(name, [])
                stop = len(known) if length is None else length
                pieces += known[:stop]
                left[name] = known[stop:]
        pieces += [_escaped(words), *(each for rest in left.values() for each in rest)]
        made.append("".join(pieces))
    return made


def slot_of(count: int | None) -> str:
    """Return the mark for a place of so many records, None for all that are left."""
    return f"<?{RECORDS_MARK} {'' if count is None else count}?>"


def _escaped(words: str) -> str:
    for plain, escaped in _ESCAPED:
        words = words.replace(plain, escaped)
    return words
