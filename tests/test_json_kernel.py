"""The JSON kernel and the splitter alone: what is accepted, what is refused and where."""

import json
import unittest
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from tessaron.core.base.paths import format_path
from tessaron.core.cutting.json_splitting import OuterForm, RecordSplitter, SplitError, recognise_form
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel import choose_kernel
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.shape.shape import Shape
from tessaron.core.shape.structure import drop_partial_words, settle
from tessaron.core.tape.emission import emit
from tessaron.core.tape.put_aside import pack, unpack
from tests.harness import KERNELS, learnt, needs_compiled

LINE, COMMA, NOTHING = Separator.LINE, Separator.COMMA, Separator.NOTHING


def record_count(tape):
    return tape.record_count


class EveryKernelTest:
    """The contract: the same cases run on each kernel."""

    kernel = "python"

    def read(self, *arguments):
        return choose_kernel(self.kernel)(*arguments)

    def test_accepted(self):
        cases = (
            (b'{"a":1}\n{"a":2}', LINE, 2),
            (b'\r\n {"a":1} \r\n\n', LINE, 1),
            (b'{"a":1}{"a":2} [3]"x"4 5\ntrue null', NOTHING, 8),
            (b'{"a":1}, 2 ,[] ', COMMA, 3),
            (b"", COMMA, 0),
            (b" ", NOTHING, 0),
            (b'"\\u00e9\\ud83d\\ude00\\/\\b\\f\\n\\r\\t"', NOTHING, 1),
            (b"-0 0 1e5 1E+5 1e-5 0.5 -1.5e0", NOTHING, 7),
            (b'{"":{"":[]}}', LINE, 1),
            ('"é漢😀\u007f"'.encode(), LINE, 1),
        )
        for data, separator, records in cases:
            with self.subTest(data):
                tape = self.read(data, separator)
                self.assertEqual((tape.faults, record_count(tape)), ([], records))

    def test_refused_with_place_and_reason(self):
        cases = (
            (b'{"a":1', LINE, "truncated", 6, "line ends here; expected ',' or '}'"),
            (b'{"a":1', NOTHING, "truncated", 6, "input ends here"),
            (b'["x', NOTHING, "truncated", 3, "ends inside a text"),
            (b'{"a" 1}', LINE, "syntax", 5, "expected ':' after the member name, found '1'"),
            (b'{"a":}', LINE, "syntax", 5, "expected a value, found '}'"),
            (b"{a:1}", LINE, "syntax", 1, "a member name in \"quotes\", found 'a'"),
            (b'{"a":1,}', LINE, "syntax", 7, "member name"),
            (b"[1,]", NOTHING, "syntax", 3, "expected a value, found ']'"),
            (b"[1 2]", NOTHING, "syntax", 3, "expected ',' or ']' in the array, found '2'"),
            (b"[01]", NOTHING, "syntax", 2, "expected the number to end, found '1'"),
            (b"01", NOTHING, "syntax", 1, "expected the number to end"),
            (b"1.", NOTHING, "syntax", 1, "expected the number to end"),
            (b"truefalse", NOTHING, "syntax", 0, "expected a value, found 'truefalse'"),
            (b'{"a": NaN}', LINE, "not_a_number", 6, "NaN is not a number in JSON"),
            (b'["NaN", -Infinity]', LINE, "not_a_number", 8, "-Infinity is not a number"),
            (b'{"a":"\\x"}', LINE, "escape", 6, "not an escape of JSON"),
            (b'{"a":"\t"}', LINE, "control", 6, "must be written as an escape"),
            (b'{"a":"\xc3\xa9\xff"}', LINE, "encoding", 8, "byte 0xFF is not UTF-8"),
            (b'{"\xe4":1}', LINE, "encoding", 2, "byte 0xE4 is not UTF-8"),
            (b"\xff", LINE, "encoding", 0, "byte 0xFF is not UTF-8"),
            (b'{"a":\n1}', LINE, "truncated", 5, "line ends here"),
            (b"'a'", NOTHING, "syntax", 0, "expected a value"),
            (b"1,,2", COMMA, "syntax", 2, "expected a value between two commas"),
            (b"1,", COMMA, "syntax", 2, "expected a value between two commas or before the end"),
            (b",1", COMMA, "syntax", 0, "expected a value"),
            (b"1 2", COMMA, "syntax", 2, "expected ',' between two elements of the array, found '2'"),
            ("é 1 x".encode(), LINE, "syntax", 0, "expected a value, found 'é'"),
        )
        for data, separator, code, byte_offset, reason in cases:
            with self.subTest(data):
                fault = self.read(data, separator).faults[0]
                self.assertEqual((fault.code, fault.byte_offset), (code, byte_offset))
                self.assertIn(reason, fault.reason)

    def test_the_path_of_a_fault(self):
        cases = (
            (b'{"a":1,"b":[{"c d":tru}]}', "$.b[*]['c d']"), (b'{"a":1,"b" 2}', "$.b"), (b'{"a" 1}', "$.a"), (b'{"o":{"a":1,b:2}}', "$.o"),
            (b'{"o":{"a":1,"b', "$.o"), (b'{"o":{"":tru}}', "$.o['']"), (b'{"o":{,}}', "$.o"), (b'{"a":1 "b":2}', "$.a"), (b'{"o":{"a":{},}}', "$.o"),
        )  # fmt: skip
        for data, path in cases:
            with self.subTest(data):
                self.assertEqual(format_path(self.read(data, LINE).faults[0].path), path)

    def test_a_bad_line_loses_that_line_only(self):
        tape = self.read(b'{"a":1}\n{"a":\n{"a":3}\n{"a":"\xff"}\n{"a":5}\n', LINE)
        self.assertEqual(record_count(tape), 3)
        self.assertEqual([fault.byte_offset for fault in tape.faults], [13, 28])

    def test_a_repeated_name_counts_once_with_its_last_value(self):
        tape = self.read(b'{"b":7}\n{"a":{"x":[1e2,{"x":"\xc3\xa9"}],"x":2}}', LINE)
        self.assertEqual(
            [(found.record, format_path(found.path), found.value) for found in tape.repeated],
            [(1, "$.a.x", '[1e2,{"x":"\\u00e9"}]')],
        )
        self.assertEqual(
            [node.integers.tolist() for node in emit(tape).nodes if len(node.integers)], [[7], [2]]
        )
        strict = KernelOptions(reject_repeated=True)
        tape = self.read(b'{"a":1,"a":2} {"a":3}', NOTHING, False, strict)
        self.assertEqual((tape.faults[0].code, record_count(tape)), ("repeated_name", 1))
        self.assertEqual(tape.offsets.tolist(), [14])

    def test_nested_too_deep_is_a_fault_of_that_record(self):
        data = b"[1],[[[[2]]]],[3]"
        tape = self.read(data, COMMA, False, KernelOptions(depth_limit=3))
        self.assertEqual((tape.faults[0].code, tape.offsets.tolist()), ("depth", [0, 14]))

    def test_what_utf8_cannot_hold_is_kept_as_its_escape(self):
        tape = self.read(b'{"\\ud800":"x\\udfff"}', LINE)
        self.assertEqual(tape.steps(), ["\\ud800"])
        self.assertEqual(tape.texts([1]).to_arrow().to_pylist(), ["x\\udfff"])


class PythonKernelTest(EveryKernelTest, unittest.TestCase):
    kernel = "python"


class CompiledKernelTest(EveryKernelTest, unittest.TestCase):
    kernel = KERNELS[-1]

    @needs_compiled
    def test_names_beyond_the_limit_become_entries_of_the_same_shape(self):
        records = [{f"n{i}": [i, {"x": str(i)}] for i in range(start, start + 1_500)} for start in (0, 700)]
        data = "\n".join(map(json.dumps, records)).encode()
        shapes = [learnt(choose_kernel(name)(data, LINE), compiled=name != "python") for name in KERNELS]
        self.assertEqual([len(shape.record.names or shape.record.members()) for shape in shapes], [2_200] * 2)
        for shape in shapes:
            settle(shape)
        self.assertTrue(same_shape(*shapes))

    def test_a_key_twice_among_entries(self):
        text = "{" + ",".join(f'"n{i}":{i}' for i in range(1_200)) + ',"n1100":7}'
        fragment = self.read(text.encode(), LINE)
        self.assertEqual([format_path(found.path) for found in fragment.repeated], ["$.n1100"])


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text('a"\\\n{[,]}é\u2028', max_size=6),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text('a"\\,é', max_size=3), inner, max_size=3)
    ),
    max_leaves=12,
)


def split(form, data, block_bytes):
    """Return the chunks of `data`, fed in blocks of so many bytes."""
    splitter = RecordSplitter(form)
    chunks = []
    for start in range(0, len(data), block_bytes):
        chunks += splitter.feed(data[start : start + block_bytes])
    return chunks + list(splitter.finish())


def same_shape(one, other):
    for shape in (one, other):
        for node in shape.record.walk():
            drop_partial_words(node)
    return one.record == other.record


BAD_LINES = (
    b'{"a":',
    b'{"a":1,"a":2}',
    b"nope",
    b'{"a":"\xff"}',
    b"",
    b"  ",
    b'{"a":1} x',
    b"[1,2",
    b'{"b":{"c":1,"c":[2]}}',
)


@needs_compiled
class HalvesTest(unittest.TestCase):
    """Lines of which some are bad are read in halves; that is to be as if all were read carefully."""

    def line(self, chance):
        if chance.random() < 0.05:
            return chance.choice(BAD_LINES)
        value = {
            "a": chance.randint(0, 10 ** chance.randint(0, 25)),
            "t": "é" * chance.randint(0, 9),
            "x": [{"y": 1}] * chance.randint(0, 3),
        }
        return json.dumps(value, ensure_ascii=chance.random() < 0.5).encode()

    @settings(max_examples=40, deadline=None)
    @given(
        st.randoms(use_true_random=False), st.integers(1, 300), st.sampled_from((1, 64, 1000)), st.booleans()
    )
    def test_halves_are_as_the_whole(self, chance, count, few, rejects_repeated):
        from tessaron.core.kernel import fast_kernel

        data = b"\n".join(self.line(chance) for _ in range(count)) + chance.choice((b"", b"\n"))
        options = KernelOptions(rejects_repeated)
        whole = fast_kernel._read_carefully(data, LINE, False, options)
        with mock.patch.object(fast_kernel, "_FEW_BYTES", few):
            halves = fast_kernel._read_in_halves(data, options)
        self.assertEqual((halves.faults, halves.repeated), (whole.faults, whole.repeated))
        self.assertEqual(halves.offsets.tolist(), whole.offsets.tolist())
        self.assertEqual((halves.kinds, halves.parents), (whole.kinds, whole.parents))
        found, expected = learnt(halves), learnt(whole)
        self.assertEqual(
            [node.counts for node in found.record.walk()], [node.counts for node in expected.record.walk()]
        )


class SplittingTest(unittest.TestCase):
    @settings(max_examples=180, deadline=None)
    @given(st.lists(JSON, min_size=1, max_size=5), st.integers(1, 9), st.booleans())
    def test_any_block_size_gives_whole_records(self, records, block_bytes, ascii_only):
        texts = [json.dumps(record, ensure_ascii=ascii_only) for record in records]
        forms = (
            (OuterForm.LINES, "\n".join(texts)),
            (OuterForm.ARRAY, " [" + " ,".join(texts) + "]\n"),
            (OuterForm.VALUES, "\n".join(json.dumps(record, indent=1) for record in records)),
        )
        for form, text in forms:
            data = text.encode()
            whole = learnt(choose_kernel("python")("\n".join(texts).encode(), NOTHING), compiled=False)
            pieces = []
            for chunk in split(form, data, block_bytes):
                self.assertEqual(data[chunk.byte_offset :][: len(chunk.data)], chunk.data)
                self.assertEqual(chunk.line, 1 + data[: chunk.byte_offset].count(b"\n"))
                tape = choose_kernel()(chunk.data, chunk.separator, chunk.continues)
                self.assertEqual(tape.faults, [])
                pieces.append(unpack(pack(tape)))
            self.assertTrue(same_shape(whole, learnt(*pieces)), form)

    def test_broken_arrays(self):
        cases = (
            (b"[1,2", "truncated", "ends inside its array"),
            (b"[", "truncated", "ends inside its array"),
            (b"[1}", "syntax", "expected ']' at the end of the array, found '}'"),
            (b"[1] x", "syntax", "nothing after the end of the array, found 'x'"),
        )
        for data, code, reason in cases:
            for block_bytes in (1, 2, 100):
                with self.subTest(data=data, block_bytes=block_bytes):
                    with self.assertRaisesRegex(SplitError, reason) as caught:
                        split(OuterForm.ARRAY, data, block_bytes)
                    self.assertEqual(caught.exception.fault.code, code)

    def test_form_is_recognised(self):
        cases = (
            (b" \n", None),
            (b'[{"a":1}]', OuterForm.ARRAY),
            (b"[1,2", OuterForm.ARRAY),
            (b"[1,2]\n[3,4]\n", OuterForm.LINES),
            (b'{"a":1}', OuterForm.LINES),
            (b'{"a":1}\n{"a":2}', OuterForm.LINES),
            (b'{"a":\n{"a":2}\n{"a":3}\n', OuterForm.LINES),
            (b'{\n"a":1\n}', OuterForm.VALUES),
            (b'{"a":1}{"a":2}', OuterForm.LINES),
            (b'{"a":[{\n"b":1},\n{"b":2}]}', OuterForm.VALUES),
            (b"5\n6\n", OuterForm.LINES),
        )
        for head, form in cases:
            with self.subTest(head):
                self.assertEqual(recognise_form(head), form)


class MergeTest(unittest.TestCase):
    """Merging shapes is associative and commutative and has an identity."""

    @settings(max_examples=36, deadline=None)
    @given(st.lists(st.lists(JSON, max_size=3), min_size=3, max_size=3))
    def test_any_order_gives_the_same_shape(self, groups):
        def shape(*parts):
            made = Shape()
            for part in parts:
                made.merge(part)
            return made

        def read(records):
            return learnt(choose_kernel()("\n".join(map(json.dumps, records)).encode(), LINE))

        a, b, c = map(read, groups)
        expected = read([record for group in groups for record in group])
        for made in (shape(a, b, c), shape(c, a, b), shape(a, shape(b, c)), shape(shape(), a, shape(b), c)):
            self.assertTrue(same_shape(made, expected))
