"""Parts of the core alone: regrouping, digests, paths, splitting of envelopes, casting."""

import json
import random
import unittest
import uuid
from collections import Counter
from itertools import pairwise
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from tessaron.core.base.digests import digest_texts, digest_words, hex_of
from tessaron.core.base.errors import UsageError
from tessaron.core.base.json_text import json_text
from tessaron.core.base.paths import ENTRY, Origin
from tessaron.core.base.text_lane import TextLane
from tessaron.core.cutting.block_scan import scan_block
from tessaron.core.cutting.envelope import EnvelopeSplitter, recognise_envelope
from tessaron.core.cutting.json_splitting import scan_block_fast
from tessaron.core.cutting.scan_state import ScanState
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel import choose_kernel
from tessaron.core.shape.shape import Shape
from tessaron.core.shape.structure import settle
from tessaron.core.tape.branches import fragment_of, order_rows, tree_of
from tessaron.core.tape.put_aside import pack, unpack
from tessaron.core.tape.regroup import to_entries, to_members
from tessaron.core.types.number_digits import OUT_OF_REACH, measure_numbers
from tessaron.core.types.readings import Reading, count_readings
from tests.harness import KERNELS, columns_of, learnt, needs_compiled

VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | st.floats(-2, 2).map(lambda n: round(n, 2)) | st.text("ab", max_size=3),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from("abcd"), inner, max_size=3),
    max_leaves=8,
)  # fmt: skip


def read(records, separator=Separator.LINE):
    return columns_of("\n".join(map(json.dumps, records)).encode(), separator)


def shape_of(fragment):
    shape = Shape()
    shape.add(fragment)
    return shape.record


class RegroupTest(unittest.TestCase):
    @settings(max_examples=90, deadline=None)
    @given(
        st.lists(
            st.dictionaries(st.sampled_from("pqrs"), VALUES, min_size=1, max_size=4), min_size=1, max_size=5
        )
    )
    def test_members_become_entries_and_back(self, objects):
        fragment = read([{"d": item} for item in objects])
        before = shape_of(fragment)
        tree = tree_of(fragment)
        to_entries(tree.children["d"])
        entry = tree.children["d"].children[ENTRY]
        self.assertEqual(entry.node.row_count, sum(map(len, objects)))
        keys = entry.children[Origin.KEY].node.texts.to_arrow().to_pylist()
        self.assertEqual(keys, [name for item in objects for name in item])
        to_members(tree.children["d"])
        after = shape_of(fragment_of(tree, fragment))
        for node in (*before.walk(), *after.walk()):
            node.position_sum = 0
        self.assertEqual(before, after)

    def test_rows_are_ordered_by_parent_and_ordinal(self):
        parents = [np.array([2, 0, -1], np.int32), np.array([0, 2], np.int32)]
        ordinals = [np.array([1, 2, 1], np.int32), np.array([1, 2], np.int32)]
        (joined_parents, joined_ordinals), places = order_rows(parents, ordinals)
        self.assertEqual(joined_parents.tolist(), [0, 0, 2, 2])
        self.assertEqual(joined_ordinals.tolist(), [1, 2, 1, 2])
        self.assertEqual([part.tolist() for part in places], [[2, 1, -1], [0, 3]])

    @settings(max_examples=60, deadline=None)
    @given(st.lists(VALUES, min_size=1, max_size=6))
    def test_a_fragment_survives_the_wire(self, records):
        fragment = read(records)
        back = unpack(pack(fragment))
        self.assertEqual(back.paths(), fragment.paths())
        self.assertEqual(shape_of(back), shape_of(fragment))

    @needs_compiled
    def test_names_become_entries_only_beyond_the_limit(self):
        cases = ((200, 1, False), (2_000, 1, False), (60, 40, True))
        for names, objects, has_entries in cases:
            records = [{f"n{first * names + n}": n for n in range(names)} for first in range(objects)]
            with self.subTest(names=names, objects=objects):
                data = "\n".join(map(json.dumps, records)).encode()
                shape = learnt(choose_kernel(KERNELS[-1])(data, Separator.LINE))
                self.assertEqual(shape.record.is_dictionary, has_entries)


class DigestsTest(unittest.TestCase):
    def test_known_and_distinct(self):
        texts = ["", "a", "BRW-0000001", "x" * 7, "x" * 8, "x" * 9, "é" * 200, "y" * 5_000]
        digests = hex_of(digest_texts(TextLane.of(texts))).to_pylist()
        self.assertEqual(len(set(digests)), len(texts))
        # Keys must never change from one version to the next:
        self.assertEqual(
            digests[:2], ["b008d1a9003e091e3df740f81f4f5469", "55ab43b739394550fc730a29ceebb0d6"]
        )

    @settings(max_examples=30, deadline=None)
    @given(st.lists(st.text(max_size=40), min_size=1, max_size=12), st.randoms(use_true_random=False))
    def test_a_digest_does_not_depend_on_its_neighbours(self, texts, chance):
        alone = [digest_texts(TextLane.of([text]))[0].tolist() for text in texts]
        self.assertEqual(digest_texts(TextLane.of(texts)).tolist(), alone)
        padded = TextLane.of(["before", *texts, "after"]).slice(1, len(texts) + 1)
        self.assertEqual(digest_texts(padded).tolist(), alone)

    def test_words(self):
        column = np.arange(1_000)
        digests = digest_words([column, column * 0])
        self.assertEqual(len(np.unique(digests[:, 0])), 1_000)
        # A vector of the reference implementation of SipHash-2-4-128, with its key:
        key = np.uint64(0x0706050403020100), np.uint64(0x0F0E0D0C0B0A0908)
        with mock.patch("tessaron.core.base.digests._KEY", key):
            found = hex_of(digest_texts(TextLane.of(["", "\0"]))).to_pylist()
        self.assertEqual(found, ["a3817f04ba25a8e66df67214c7550293", "da87c1d86b99af44347659119b22fc45"])
        self.assertEqual(digests[7].tolist(), digest_words([column[7:8], column[:1] * 0])[0].tolist())


class ScanTest(unittest.TestCase):
    @settings(max_examples=90, deadline=None)
    @given(
        st.lists(st.text('"\\\\{}[],\nx', max_size=6) | VALUES, max_size=4),
        st.lists(st.integers(0, 60), max_size=3),
        st.booleans(),
    )
    @needs_compiled
    def test_compiled_and_numpy_scan_agree(self, values, cuts, on_comma):
        data = (",".join(map(json.dumps, values)) + ("]" if on_comma else "\n")).encode()
        bounds = sorted({0, len(data), *(cut for cut in cuts if cut < len(data))})
        states = ScanState(), ScanState()
        for start, stop in pairwise(bounds):
            found = [
                scan(data[start:stop], state, on_comma)
                for scan, state in zip((scan_block, scan_block_fast), states, strict=True)
            ]
            self.assertEqual(*found)
            if found[0][1] < 0:
                self.assertEqual(*states)
        self.assertEqual(found[0][1] >= 0, on_comma)


class EnvelopeSplitterTest(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(st.lists(VALUES, max_size=4), min_size=1, max_size=3), st.integers(1, 9), st.integers(0, 2)
    )
    def test_any_block_size(self, pages, block_bytes, indent):
        around = [
            {'x\\"]}': '[{"', "p": {"q": [[1], {}]}, "in": {"items": items, "z": n}}
            for n, items in enumerate(pages)
        ]
        data = " ".join(json.dumps(page, indent=indent or None) for page in around).encode()
        splitter = EnvelopeSplitter(("in", "items"))
        chunks = []
        for start in range(0, len(data), block_bytes):
            chunks += splitter.feed(data[start : start + block_bytes])
        chunks += splitter.finish()
        skeletons = [json.loads(chunk.data) for chunk in chunks if chunk.is_skeleton]
        for page in around:
            page["in"]["items"] = []
        self.assertEqual(skeletons, around)
        found = [[] for _ in pages]
        for chunk in chunks:
            if not chunk.is_skeleton:
                self.assertEqual(data[chunk.byte_offset :][: len(chunk.data)], chunk.data)
                found[chunk.document] += json.loads("[" + chunk.data.decode().strip().removeprefix(",") + "]")
        self.assertEqual(found, pages)
        self.assertEqual(splitter.found, len(pages))

    def test_recognised(self):
        two = [{"x": 1}, {"x": 2}]
        cases = (
            ({"items": [{"x": 1}]}, ("items",)),
            ({"berths": two}, ("berths",)),
            ({"a": {"b": {"list": two}}, "n": 1}, ("a", "b", "list")),
            ({"berths": [{"x": 1}]}, None),
            ({"berths": two, "cranes": two}, None),
            ({"berths": [1, 2]}, None),
            ({f"s{n}": n for n in range(300)} | {"berths": two}, None),
            (two, None),
        )
        for document, names in cases:
            data = json.dumps(document).encode()
            with self.subTest(str(document)[:60]):
                self.assertEqual(recognise_envelope(data, True), names)
                self.assertIsNone(recognise_envelope(data + b"\n" + data, True))


class MeasuresTest(unittest.TestCase):
    def test_numbers(self):
        cases = {
            ("1.10",): (1, 2, 2, 1, 0, 0),
            ("-0.5", "12.25"): (2, 1, 2, 0, 0, 0),
            ("1e3",): (4, 0, 0, 0, 0, 0),
            ("12e-3",): (1, 3, 3, 0, 0, 0),
            ("-0.00", "-0"): (1, 0, 2, 1, 2, 0),
            ("0.1234567890123456789",): (1, 19, 19, 0, 0, 1),
            ("1e999999",): (OUT_OF_REACH, 0, 0, 0, 0, 1),
        }
        for texts, expected in cases.items():
            with self.subTest(texts):
                stats = measure_numbers(TextLane.of(list(texts)))
                whole = min(stats.whole_digits, OUT_OF_REACH)
                found = (
                    whole,
                    stats.least_scale,
                    stats.most_scale,
                    stats.trailing_zeros,
                    stats.negative_zeros,
                    stats.lossy_doubles,
                )
                self.assertEqual(found, expected)

    @settings(max_examples=36, deadline=None)
    @given(st.randoms(use_true_random=False), st.integers(1, 8))
    def test_readings_do_not_depend_on_the_split(self, chance, cut):
        texts = [
            "2026-01-02",
            "10:00",
            "2026-01-02T10:00:00Z",
            str(uuid.UUID(int=5)),
            "x",
            "",
            "2026-13-01",
            "10:00:00.5",
        ]
        chance.shuffle(texts)
        whole, _ = count_readings(TextLane.of(texts))
        parts = Counter()
        for part in (texts[:cut], texts[cut:]):
            parts.update(count_readings(TextLane.of(part))[0])
        self.assertEqual(Counter(whole), parts)
        self.assertEqual(whole[Reading("date")], 1)

    @settings(max_examples=60, deadline=None)
    @given(VALUES)
    def test_json_text_gives_the_value_back(self, value):
        self.assertEqual(json.loads(json_text(value)), value)

    def test_a_lane_can_be_sliced_and_made_compact(self):
        lane = TextLane.of(["a", "", "long text", "é"]).slice(1, 4)
        self.assertEqual(lane.compact().to_arrow().to_pylist(), ["", "long text", "é"])
        self.assertEqual(len(lane.compact().data), 11)
        self.assertEqual(TextLane.of(pa.array(["x", "y"]).slice(1)).to_arrow().to_pylist(), ["y"])


class RandomDocumentsTest(unittest.TestCase):
    """Both kernels give the same shape, and cutting in two merges to the same."""

    @needs_compiled
    def test_both_kernels(self):
        chance = random.Random(7)
        records = [
            {f"k{chance.randrange(400)}": [n, {"t": str(n)}] for n in range(chance.randrange(9))}
            for _ in range(300)
        ]
        data = "\n".join(map(json.dumps, records)).encode()
        shapes = [
            learnt(choose_kernel(name)(data, Separator.LINE), compiled=name != "python") for name in KERNELS
        ]
        halves = Shape()
        for part in (records[:111], records[111:]):
            half = Shape()
            half.add(read(part))
            halves.merge(half)
        for shape in (*shapes, halves):
            self.assertEqual(
                [note.text for note in settle(shape)], ["dictionary: 386 names are keys of rows"]
            )
        self.assertEqual(shapes[0].record, shapes[1].record)
        self.assertEqual(shapes[0].record, halves.record)
        with self.assertRaisesRegex(UsageError, "expected a kernel of auto, compiled, python, got 'rust'"):
            choose_kernel("rust")
