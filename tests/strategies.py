"""What properties are tried on: documents of JSON and XML of any shape, with odd names, numbers and texts."""

import json
from xml.sax.saxutils import escape, quoteattr

from hypothesis import strategies as st

NAMES = st.sampled_from(["a", "b", "c", "call id", "a.b", "ordinal", "row_key", "value", "ä", "kind", ""])
NUMBERS = st.one_of(
    st.integers(-(2**70), 2**70).map(str),
    st.sampled_from(["1.50", "1.5", "0.10", "-0", "-0.0", "1e5", "1E-7", "12.0", "1e400", "3.14159"]),
)
TEXTS = st.one_of(
    st.text(st.characters(codec="utf-8"), max_size=8),
    st.sampled_from(
        ["", "1", "true", "null", "2026-01-01", "2026-01-01T00:00:00Z", "2026-01-01T10:00:00+02:00", "12:30",
         'q"\\\n\t', "yes", "no", "a,b", "{}", "0", "=1+1"]
    ),
)  # fmt: skip
SCALARS = st.one_of(st.sampled_from(["null", "true", "false"]), NUMBERS, TEXTS.map(json.dumps))


def _object(members: dict[str, str]) -> str:
    return "{" + ",".join(f"{json.dumps(name)}:{value}" for name, value in members.items()) + "}"


VALUES = st.recursive(
    SCALARS,
    lambda inner: st.one_of(
        st.lists(inner, max_size=3).map(lambda items: "[" + ",".join(items) + "]"),
        st.dictionaries(NAMES, inner, max_size=4).map(_object),
    ),
    max_leaves=14,
)
"""Values of JSON, as texts."""
RECORDS = st.one_of(VALUES, st.dictionaries(NAMES, VALUES, max_size=4).map(_object))
DOCUMENTS = st.tuples(
    st.lists(RECORDS, min_size=1, max_size=4),
    st.sampled_from([20, 100, 10**6]),
    st.sampled_from(["parquet", "csv"]),
)
"""Records as lines, bytes of a chunk, and a format."""

_WORDS = st.sampled_from(["1", "07", "x", "2.50", "true", "1970-01-01", "<&>", "é", "a  b"])
_ATTRIBUTES = st.dictionaries(st.sampled_from(["no", "unit"]), _WORDS | st.just(""), max_size=2)
_LEAVES = st.tuples(st.sampled_from(["kg", "note", "berth"]), _ATTRIBUTES, st.lists(_WORDS, max_size=1))
_ELEMENTS = st.recursive(
    _LEAVES,
    lambda inner: st.tuples(
        st.sampled_from(["stay", "move", "hold"]), _ATTRIBUTES, st.lists(inner | _WORDS, max_size=4)
    ),
    max_leaves=12,
)
ELEMENTS = st.lists(
    st.tuples(st.just("call"), _ATTRIBUTES, st.lists(_ELEMENTS | _WORDS, max_size=4)), min_size=2, max_size=4
)
"""Elements of XML: name, attributes, and texts and elements inside."""


def xml_text(element: object) -> str:
    """Return an element as text."""
    if isinstance(element, str):
        return escape(element)
    name, attributes, inside = element  # type: ignore[misc]
    shown = "".join(f" {key}={quoteattr(value)}" for key, value in attributes.items())
    return f"<{name}{shown}>{''.join(map(xml_text, inside))}</{name}>"
