"""What is fuzzed: each target takes any bytes, and nothing but the errors that Tessaron means may come out."""

from __future__ import annotations

import contextlib
from collections.abc import Callable

import numpy as np

import tessaron
from tessaron.core.cutting.separator import Separator
from tessaron.core.expressions.parsing import parse_expression
from tessaron.core.kernel import choose_kernel
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.query.jsonpath import parse_path
from tessaron.core.query.xpath_location import check_expression, parse_location
from tessaron.core.rebuild.record_digests import record_digests
from tessaron.core.shape.learning import as_few_columns
from tessaron.core.tape.tape import Tape

_MEANT = (tessaron.TessaronError,)
_DEEP = KernelOptions(depth_limit=200)


def json_kernels(data: bytes) -> None:
    """Both kernels find the same records and the same faults, whatever the bytes are."""
    separator = (Separator.LINE, Separator.NOTHING, Separator.COMMA)[data[0] % 3 if data else 0]
    made = [choose_kernel(name)(data[1:], separator, False, _DEEP) for name in ("python", "compiled")]
    assert _facts(made[0]) == _facts(made[1]), "the kernels differ"
    for exact in (False, True):
        digests = [record_digests(as_few_columns(each), exact) for each in made]
        assert np.array_equal(*digests), "the kernels read other values"


def _facts(tape: Tape) -> object:
    faults = [(fault.code, fault.byte_offset, fault.record) for fault in tape.faults]
    return tape.arrays(), faults, [(each.record, each.path) for each in tape.repeated]


def json_tables(data: bytes) -> None:
    """Any bytes make tables whose receipt adds up, or an error that says why not."""
    with contextlib.suppress(*_MEANT):
        tables = tessaron.shred(data, depth_limit=200, workers=1, exact=bool(data[:1] > b"m"))
        assert all(len(table) >= 0 for table in tables.values())


def xml_tables(data: bytes) -> None:
    """Any markup makes tables, or an error that says why not."""
    with contextlib.suppress(*_MEANT):
        tessaron.shred(b"<calls>" + data + b"</calls>", workers=1, exact=bool(data[:1] > b"m"))


def json_paths(data: bytes) -> None:
    """A text is a path that prints and evaluates, or no path."""
    text = data.decode("utf-8", "replace")
    with contextlib.suppress(*_MEANT):
        path = parse_path(text)
        assert parse_path(path.text).text == path.text
        list(path.find({"a": [1, {"b": None}], "c": "x"}))


def xml_paths(data: bytes) -> None:
    """A text is an XPath expression, or none."""
    text = data.decode("utf-8", "replace")
    for parse in (parse_location, check_expression):
        with contextlib.suppress(*_MEANT):
            parse(text)


def expressions(data: bytes) -> None:
    """A text is an expression of a layout, or the message says where not."""
    with contextlib.suppress(*_MEANT, ValueError):
        parse_expression(data.decode("utf-8", "replace"))


def layouts(data: bytes) -> None:
    """A text is a layout that runs and whose receipt adds up, or all its faults are said."""
    with contextlib.suppress(*_MEANT):
        layout = tessaron.Layout(data.decode("utf-8", "replace"))
        tessaron.shred([{"a": 1, "b": [{"c": "x"}, {"c": 2}]}], layout=layout, workers=1)


TARGETS: dict[str, tuple[Callable[[bytes], None], tuple[bytes, ...]]] = {
    "json_kernels": (json_kernels, (b'0{"a":[1,2.50,"x"],"b":null}\n{"a":1e5}', b"1[true]{}", b'2{"a":"\\u00e9"},1')),
    "json_tables": (json_tables, (b'{"a":[{"b":1},{"b":"x"}]}\n{"a":{"b":{"a":{"b":2}}}}', b'{"p":1,"r":[{},{"x":1}]}')),
    "xml_tables": (xml_tables, (b'<call id="1"><stay no="1">x</stay></call><call><stay>2</stay>y</call>',)),
    "json_paths": (json_paths, (b"$.a[*].b", b"$..[?@.a > 1 && match(@.b, 'x')]", b"$['a'][0:2:1]")),
    "xml_paths": (xml_paths, (b"/a/b[@c='1']", b"count(//a) + 1", b"a/text()|b/@c")),
    "expressions": (expressions, (b"a + 2 * (b - 1)", b"upper(name) = 'X' and not is_null(b)")),
    "layouts": (layouts, (
        b'[tables.r]\nrows = "$"\n[tables.r.columns]\na = { path = "$.a", type = "integer" }\n'
        b'[tables.b]\nrows = "$.b[*]"\n[tables.b.columns]\nc = { path = "@.c", type = "text", case = "upper" }\n',
    )),
}  # fmt: skip
"""By name: the target, and what it begins with."""
