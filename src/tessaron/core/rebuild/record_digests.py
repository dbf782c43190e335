"""One number for all that stands in a record, whatever order its members have, whole columns at a time.

Every value adds a 64-bit hash of where it stands and what it is; the sum is the record's digest. Two records
with the same digest hold the same, but for a chance of one in 2^64.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.digests import digest_texts
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, ENTRY, MARKUP, TEXT_STEP, Origin, Step
from tessaron.core.base.text_lane import Int32s, Int64s, TextLane
from tessaron.core.tape.branches import Branch, filled_rows, tree_of
from tessaron.core.tape.fragment import Fragment, Node, Role
from tessaron.core.tape.occurrences import places_of, without_empty_texts

Words = npt.NDArray[np.uint64]
_TEXT, _NUMBER, _BOOLEAN, _NULL, _OBJECT, _ARRAY, _ELEMENT, _ORDER = (
    np.uint64(0x9E37_79B9_7F4A_7C15 * number % 2**64) for number in range(1, 9)
)
_START = np.uint64(0x5441_5353_4152_4F4E)
_FIRST = np.uint64(1)
_NOTHING: Words = np.empty(0, np.uint64)


def record_digests(fragment: Fragment, exact: bool, keys: ArrowArray = None) -> Words:
    """Return a digest of each record of a fragment as a kernel made it.

    Args:
        fragment: The records.
        exact: Whether absent, null, empty objects and empty arrays are told apart, and the spellings of one
            number; else they are not. The number of elements of an array always counts.
        keys: The names of records that are members of an object; else those that the fragment has.
    """
    sums = np.zeros(fragment.record_count, np.uint64)
    start = np.full(fragment.record_count, _START, np.uint64)
    tree = tree_of(fragment)
    if keys is None and Origin.KEY in tree.children:
        keys = tree.children[Origin.KEY].node.texts.to_arrow()
    if keys is not None:
        sums += _mixed(start, _hashes(TextLane.of(keys)))
    hashed = _Hashed(fragment, exact)
    pending = [_Spot(tree, start, start, np.arange(fragment.record_count))]
    while pending:
        spot = pending.pop()
        for rows, hashes in _parts(spot, exact, hashed):
            _add(sums, spot.records[rows], hashes)
        for step, child in spot.branch.children.items():
            if isinstance(step, Origin):
                continue
            below = _below(spot, step, child, hashed)
            if step is ELEMENT and not spot.is_markup:
                _add(sums, below.records, _mixed(below.own, _ELEMENT))
            pending.append(below)
    return sums


@dataclass(frozen=True, slots=True)
class _Spot:
    """A branch, and for each row of its level where its own values and members stand, and its elements.

    In XML an element that stands alone is the first of its name; its text is at the element itself.
    """

    branch: Branch
    own: Words
    elements: Words
    records: Int64s
    is_markup: bool = False


def _below(spot: _Spot, step: Step, child: Branch, hashed: _Hashed) -> _Spot:
    if isinstance(step, str):
        if step == TEXT_STEP:
            return _Spot(child, spot.own, spot.own, spot.records, True)
        at = _mixed(spot.own, hashed.names[step])
        if not step.startswith(MARKUP):
            return _Spot(child, at, at, spot.records)
        return _Spot(child, _mixed(at, _FIRST), at, spot.records, True)
    above = child.node.parent_rows
    if step is ENTRY:
        at = _mixed(spot.own[above], _hashes(child.node.keys))
    else:
        at = _mixed(spot.elements[above], child.node.ordinals.astype(np.uint64))
    return _Spot(child, at, at, spot.records[above], spot.is_markup)


class _Hashed:
    """The hashes of all names, texts and numbers of a fragment, made at once: its places may be as many.

    Attributes:
        names: The hash of each step to a member.
    """

    def __init__(self, fragment: Fragment, exact: bool):
        steps = sorted({step for node in fragment.nodes if isinstance(step := node.step(), str)})
        self.names: dict[str, Any] = dict(zip(steps, _hashes(TextLane.of(steps)), strict=True))
        nodes = [node for node in fragment.nodes if node.role is not Role.ORIGIN]
        self._texts = _by_node(nodes, [node.texts for node in nodes], _hashes)
        self._numbers = _by_node(
            nodes, [node.numbers for node in nodes], lambda lane: _of_numbers(lane, exact)
        )

    def texts(self, node: Node, are_filled: bool) -> Words:
        """Return the hashes of the texts at a node; only of those that are not empty where that is wanted."""
        found = self._texts.get(id(node), _NOTHING)
        return found[node.texts.byte_lengths > 0] if are_filled and len(found) else found

    def numbers(self, node: Node) -> Words:
        """Return the hashes of the numbers at a node."""
        return self._numbers.get(id(node), _NOTHING)


def _by_node(
    nodes: list[Node], lanes: list[TextLane], hashes: Callable[[TextLane], Words]
) -> dict[int, Words]:
    filled = [(node, lane) for node, lane in zip(nodes, lanes, strict=True) if len(lane)]
    if not filled:
        return {}
    found = hashes(TextLane.of(pa.concat_arrays([lane.to_arrow() for _, lane in filled])))
    bounds = np.cumsum([0, *(len(lane) for _, lane in filled)])
    return {
        id(node): found[start:stop]
        for (node, _), start, stop in zip(filled, bounds[:-1].tolist(), bounds[1:].tolist(), strict=True)
    }


def _parts(spot: _Spot, exact: bool, hashed: _Hashed) -> list[tuple[Int32s, Words]]:
    """Return rows, and the hashes of what stands there, of everything at a place itself."""
    branch, locations = spot.branch, spot.own
    are_filled = spot.is_markup and not exact
    node = without_empty_texts(branch.node) if are_filled else branch.node
    present = node.rows_present()
    found: list[tuple[Int32s, Words]] = []
    for kinds, hashes in _scalars(branch.node, are_filled, hashed):
        rows: Int32s = present[places_of(node, kinds)]
        found.append((rows, _mixed(locations[rows], hashes)))
    order = branch.children.get(Origin.ORDER)
    if exact and order is not None:
        rows = order.node.rows_present()
        found.append((rows, _mixed(locations[rows], _hashes(order.node.texts) + _ORDER)))
    if exact:
        for kind, word in ((Kind.NULL, _NULL), (Kind.OBJECT, _OBJECT), (Kind.ARRAY, _ARRAY)):
            rows = present[node.kinds == kind]
            rows = rows[~filled_rows(branch, kind)[rows]] if kind is not Kind.NULL and len(rows) else rows
            if len(rows):
                found.append((rows, _mixed(locations[rows], word)))
    return found


def _scalars(node: Node, are_filled: bool, hashed: _Hashed) -> Iterator[tuple[tuple[Kind, ...], Words]]:
    """Yield the kinds of which scalars stand at a node, with their hashes."""
    if len(node.texts) and len(texts := hashed.texts(node, are_filled)):
        yield (Kind.TEXT,), texts + _TEXT
    if len(node.booleans):
        yield (Kind.BOOLEAN,), node.booleans.astype(np.uint64) + _BOOLEAN
    if len(node.integers):
        yield (Kind.INTEGER,), _spread(node.integers.view(np.uint64)) + _NUMBER
    if len(node.numbers):
        yield (Kind.LONG_INTEGER, Kind.FRACTION), hashed.numbers(node) + _NUMBER


def _add(sums: Words, records: Int64s, hashes: Words) -> None:
    """Add hashes to the sums of their records, which never fall."""
    if not len(records):
        return
    starts = np.flatnonzero(np.concatenate(([True], records[1:] != records[:-1])))
    sums[records[starts]] += np.add.reduceat(hashes, starts)


def _spread(words: Words) -> Words:
    """Return words in which every bit depends on all (the finalizer of SplitMix64; Steele et al., 2014)."""
    words = (words ^ (words >> np.uint64(30))) * np.uint64(0xBF58_476D_1CE4_E5B9)
    words = (words ^ (words >> np.uint64(27))) * np.uint64(0x94D0_49BB_1331_11EB)
    return words ^ (words >> np.uint64(31))


def _mixed(locations: Words, words: Any) -> Words:
    with np.errstate(over="ignore"):
        return _spread(
            locations * np.uint64(0x9E37_79B9_7F4A_7C15)
            + _spread(np.atleast_1d(np.asarray(words, np.uint64)))
        )


def _hashes(lane: TextLane) -> Words:
    return digest_texts(lane)[:, 0] if len(lane) else np.empty(0, np.uint64)


def _of_numbers(lane: TextLane, exact: bool) -> Words:
    """Return hashes of number texts; without `exact` those of one value are alike, however it is written."""
    if not len(lane):
        return np.empty(0, np.uint64)
    if exact:
        return _hashes(lane)
    texts = plain_numbers(lane.to_arrow())
    hashes = _hashes(TextLane.of(texts))
    are_small = _fit_words(texts)
    if are_small.any():
        integers = texts.filter(pa.array(are_small)).cast(pa.int64()).to_numpy()
        hashes[are_small] = _spread(integers.view(np.uint64))
    return hashes


def _fit_words(texts: ArrowArray) -> Any:
    """Say which number texts are integers of 64 bits, as columns hold them by themselves."""
    is_integer = pc.match_substring_regex(texts, "^-?[0-9]{1,19}$")
    is_large = pc.and_(is_integer, pc.match_substring_regex(texts, "[0-9]{19}"))
    fits = is_integer.to_numpy(zero_copy_only=False)
    if pc.any(is_large).as_py():
        at = is_large.to_numpy(zero_copy_only=False)
        fits[at] = [-(2**63) <= int(text) < 2**63 for text in texts.filter(is_large).to_pylist()]
    return fits


def plain_numbers(texts: ArrowArray) -> ArrowArray:
    """Return number texts (RFC 8259 section 6) in one spelling a value: `1.50` and `15e-1` as `1.5`."""
    odd = pc.match_substring_regex(texts, "[eE]|^-0")
    if pc.any(odd).as_py():
        plain = [plain_number(each) for each in texts.filter(odd).to_pylist()]
        texts = pc.replace_with_mask(texts, odd, pa.array(plain, pa.large_string()))
    has_point = pc.match_substring(texts, ".")
    if not pc.any(has_point).as_py():
        return texts
    return pc.if_else(has_point, pc.utf8_rtrim(pc.utf8_rtrim(texts, "0"), "."), texts)


def plain_number(text: str) -> str:
    """Return one number text in that spelling, with all its digits; very large and small: an exponent."""
    mantissa, _, power = text.lower().partition("e")
    whole, _, fraction = mantissa.lstrip("-").partition(".")
    digits = (whole + fraction).lstrip("0")
    if not digits:
        return "0"
    kept = digits.rstrip("0")
    exponent = int(power or 0) - len(fraction) + len(digits) - len(kept)
    sign = "-" if mantissa.startswith("-") else ""
    if not -400 < exponent < 400:
        return f"{sign}{kept}e{exponent}"
    if exponent >= 0:
        return sign + kept + "0" * exponent
    padded = kept.rjust(1 - exponent, "0")
    return f"{sign}{padded[:exponent]}.{padded[exponent:]}"
