"""Regular expressions of I-Regexp (RFC 9485) matched on whole columns of texts."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.query.iregexp import parse_iregexp


def match_pattern(texts: ArrowArray, pattern: str) -> ArrowArray:
    """Return for each text whether the pattern describes all of it; null for null.

    Args:
        texts: An Arrow array of texts.
        pattern: A valid I-Regexp.
    """
    try:
        return pc.match_substring_regex(texts, _in_re2(pattern))
    except pa.ArrowInvalid:
        # RE2 repeats 1,000 times at most.
        return _match_by_value(texts, pattern)


def _match_by_value(texts: ArrowArray, pattern: str) -> ArrowArray:
    parsed = parse_iregexp(pattern)
    encoded = texts.dictionary_encode()
    words = encoded.dictionary.to_pylist()
    found = pa.array([parsed is not None and parsed.matches(word) for word in words], pa.bool_())
    return found.take(encoded.indices)


def _in_re2(pattern: str) -> str:
    """Return the pattern as RE2 spells it (RFC 9485, section 5.4)."""
    made: list[str] = []
    in_class = escaped = False
    for character in pattern:
        if escaped:
            escaped = False
        elif character == "\\":
            escaped = True
        elif in_class:
            in_class = character != "]"
        elif character == "[":
            in_class = True
        elif character in "^$.":
            made.append("[^\\n\\r]" if character == "." else "\\" + character)
            continue
        made.append(character)
    return rf"\A(?:{''.join(made)})\z"
