"""How much longer than they are written records become once the entities in them are expanded.

A chunk is bounded by what is in memory while it is worked on: so these lengths count, not those in the file.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import replace

from tessaron.core.cutting.xml_chunks import Piece

_ENTITY = re.compile(rb"""<!ENTITY\s+([^\s%"']+)\s+(?:"([^"]*)"|'([^']*)')""")
_REFERENCE = re.compile(rb"&([^\s&;#]+);")


def entity_lengths(declarations: bytes, most: int) -> dict[bytes, int]:
    """Return the bytes that each declared entity stands for, those in it expanded.

    Args:
        declarations: Declarations of entities, as a document type spells them; the first of a name holds.
        most: More than so many are not told apart; what contains itself, which no parser reads, is that long.
    """
    texts: dict[bytes, bytes] = {}
    for name, double, single in _ENTITY.findall(declarations):
        texts.setdefault(name, double or single)
    lengths: dict[bytes, int] = {}
    for name in texts:
        _add_length(name, texts, lengths, most)
    return lengths


def _add_length(name: bytes, texts: Mapping[bytes, bytes], lengths: dict[bytes, int], most: int) -> None:
    pending = [name]
    while pending:
        each = pending[-1]
        inner = [other for other in _REFERENCE.findall(texts[each]) if other in texts]
        unknown = [other for other in inner if other not in lengths]
        if each in lengths:
            pending.pop()
        elif not unknown:
            lengths[each] = min(most, len(texts[each]) + sum(lengths[other] for other in inner))
        elif len(pending) > len(texts):
            lengths[each] = most
        else:
            pending.append(unknown[0])


def light_pieces(piece: Piece, most: int) -> Iterator[tuple[Piece, int]]:
    """Yield parts of a piece with the bytes they come to, entities expanded: about `most` at the most."""
    lengths = entity_lengths(piece.context.declarations, most)
    if not lengths:
        yield piece, len(piece.data)
        return
    bounds = [*piece.starts, len(piece.data)]
    references = _references(piece, lengths)
    first, weight, line = 0, 0, piece.line
    for index in range(len(piece.starts)):
        own = bounds[index + 1] - bounds[index] + references[index]
        if weight and weight + own > most:
            yield _part(piece, first, index, line), weight
            line += piece.data.count(b"\n", bounds[first], bounds[index])
            first, weight = index, 0
        weight += own
    yield _part(piece, first, len(piece.starts), line), weight


def _references(piece: Piece, lengths: Mapping[bytes, int]) -> list[int]:
    """Return the bytes that the references in each record stand for."""
    found = [0] * len(piece.starts)
    bounds = [*piece.starts[1:], len(piece.data)]
    index = 0
    for reference in _REFERENCE.finditer(piece.data):
        while reference.start() >= bounds[index]:
            index += 1
        found[index] += lengths.get(reference[1], 0)
    return found


def _part(piece: Piece, first: int, stop: int, line: int) -> Piece:
    """Return some of the records of a piece, the first of which begins in a line."""
    begin = piece.starts[first]
    end = piece.starts[stop] if stop < len(piece.starts) else len(piece.data)
    return replace(
        piece,
        data=piece.data[begin:end],
        starts=[start - begin for start in piece.starts[first:stop]],
        byte_offset=piece.byte_offset + begin,
        line=line,
        record=piece.record + first,
        ordinal=piece.ordinal + first,
    )
