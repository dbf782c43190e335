"""Objects of many names: whether they are dictionaries is settled by all records, whatever read them, and how."""

import json
import unittest
from collections import Counter
from unittest import mock

from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ENTRY, Origin
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel import choose_kernel
from tessaron.core.shape.dictionaries import is_dictionary
from tessaron.core.shape.shape import Shape
from tessaron.core.shape.shape_node import MOST_NAMES, ShapeNode
from tessaron.core.shape.structure import StructureRules, settle, settle_names
from tessaron.core.tape.tape import MEMBER_LIMIT
from tests.harness import KERNELS, FolderTest, learnt, needs_compiled, tally, values_of, walk

NAMES = [f"n{number}" for number in range(7)] + ["2026-01-01", "2026-01-02", "2026-01-03", "2026-01-04"]
VALUES = st.recursive(
    st.integers(0, 9) | st.sampled_from(["x", "y"]) | st.none(),
    lambda inner: st.dictionaries(st.sampled_from(NAMES), inner, max_size=6) | st.lists(inner, max_size=2),
    max_leaves=14,
)
RECORDS = st.lists(st.dictionaries(st.sampled_from(NAMES), VALUES, max_size=6), min_size=1, max_size=5)


def few_names(limit):
    """Make objects full when they have so few names; the others become entries while they are read."""
    return mock.patch("tessaron.core.shape.learning.MEMBER_LIMIT", limit)


def as_lines(records):
    return "\n".join(map(json.dumps, records)).encode()


class AnyWayTest(unittest.TestCase):
    """The limit of names, the kernel and the chunks change nothing of the tables."""

    @settings(max_examples=48, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(RECORDS, st.integers(1, 60), st.sampled_from([1, 2, 4]))
    def test_the_same_tables(self, records, chunk_bytes, limit):
        data = as_lines(records)
        plain = tessaron.shred(data, records="$", kernel="python")
        for kernel in KERNELS:
            with few_names(limit):
                other = tessaron.shred(data, records="$", kernel=kernel, chunk_bytes=chunk_bytes)
            self.assertEqual(other.layout, plain.layout)
            for name, table in other.items():
                self.assertTrue(table.equals(plain[name]), name)
        expected = Counter()
        for record in records:
            expected.update(walk(record))
        found = values_of(tally(plain))
        keys = sum(1 for note in plain.notes if "dictionary" in note[1])
        if not keys:
            self.assertEqual(found, values_of(expected))

    def test_members_and_entries_of_one_name_that_come_together(self):
        inner = {
            "422": {},
            "500": {"s": {"p": {"a2": {"type": "x"}}}},
            "404": {"s": {"p": {"a2": {}, "h2": {}}}},
        }
        other = {"404": {"s": {"p": {"d3": {}}}}}
        data = json.dumps({"r": [{"responses": inner}, {"responses": other}]}).encode()
        for limit in (1, 2, 3, 100):
            with self.subTest(limit=limit), few_names(limit):
                rows = tessaron.shred(data, records="$.r[*]", workers=1)["r_responses"].to_pylist()
                self.assertEqual(
                    [(row["key"], row["s_p_a2_type"]) for row in rows],
                    [("422", None), ("500", "x"), ("404", None), ("404", None)],
                )

    @settings(max_examples=36, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(RECORDS, st.integers(1, 60))
    @example(
        [
            {
                "n0": [{f"2026-01-0{n}": None if n else 0 for n in range(3)}],
                "n1": [{"n0": None, "n1": None}, {"n2": None}],
            }
        ],
        1,
    )
    def test_the_same_survey(self, records, chunk_bytes):
        data = as_lines(records)
        plain = tessaron.survey(data, records="$", kernel="python")
        with few_names(2):
            other = tessaron.survey(data, records="$", chunk_bytes=chunk_bytes)
        self.assertEqual(
            [(e.path, e.rows, e.filled, e.distinct) for e in other],
            [(e.path, e.rows, e.filled, e.distinct) for e in plain],
        )
        self.assertEqual(
            [(note.path, note.code, note.count) for note in other.notes],
            [(note.path, note.code, note.count) for note in plain.notes],
        )


class WideRecordsTest(FolderTest):
    def test_wide_records_stay_wide(self):
        """More names than a fragment has nodes for, in order, types and all."""
        for count in (MEMBER_LIMIT - 1, MEMBER_LIMIT + 1, 1_000):
            records = [{f"f{n}": n * row if n % 2 else f"t{n}" for n in range(count)} for row in range(3)]
            for chunk_bytes in (1_000, 10**6):
                with self.subTest(count=count, chunk_bytes=chunk_bytes):
                    tables = tessaron.shred(
                        as_lines(records), records="$", chunk_bytes=chunk_bytes, undivided=True
                    )
                    (table,) = tables.values()
                    self.assertEqual(table.column_names[1:], list(records[0]))
                    self.assertEqual(table.drop_columns(["row_key"]).to_pylist(), records)

    def test_names_that_come_one_by_one(self):
        """No chunk has many names, all together have."""
        fields = [{"d": {f"berth {n}": {"depth": n}}} for n in range(600)]
        wide = [{f"only_{n}": n, "all": n} for n in range(600)]
        for chunk_bytes in (40, 2_000, 10**6):
            with self.subTest(chunk_bytes):
                tables = tessaron.shred(as_lines(fields), records="$", name="r", chunk_bytes=chunk_bytes)
                self.assertEqual(tables["r_d"].column("key").to_pylist(), [f"berth {n}" for n in range(600)])
                self.assertEqual(tables["r_d"].column("depth").to_pylist(), list(range(600)))
                tables = tessaron.shred(as_lines(wide), records="$", name="r", chunk_bytes=chunk_bytes)
                self.assertEqual(len(tables), 2 if "r_entries" in tables else 1)

    def test_said_by_the_user(self):
        records = [{"d": {f"f{n}": n for n in range(400)}}] * 3
        plain = tessaron.shred(as_lines(records), records="$", name="r")
        self.assertEqual(len(plain["r"].column_names), 401)
        forced = tessaron.shred(as_lines(records), records="$", name="r", dictionaries=["$.d"])
        self.assertEqual(forced["r_d"].num_rows, 1_200)
        days = [{"d": {f"2026-{n // 28 + 1:02}-{n % 28 + 1:02}": n for n in range(300)}}]
        self.assertEqual(tessaron.shred(as_lines(days), records="$", name="r")["r_d"].num_rows, 300)
        kept = tessaron.shred(as_lines(days), records="$", name="r", not_dictionaries=["$.d"])
        self.assertEqual(len(kept["r"].column_names), 301)

    def test_several_threads(self):
        path = self.folder / "wide.ndjson"
        line = json.dumps({f"f{n}": n for n in range(400)} | {"d": {f"k{n}": {"v": n} for n in range(300)}})
        path.write_text("\n".join([line] * 2_500), "utf-8")
        self.assertGreater(path.stat().st_size, 16 * 1024 * 1024)
        one, two = (tessaron.shred(path, workers=workers) for workers in (1, 2))
        self.assertEqual(one.layout, two.layout)
        for name, table in one.items():
            self.assertTrue(table.equals(two[name]), name)


class DictionariesInDictionariesTest(unittest.TestCase):
    def test_names_as_data_on_several_levels(self):
        """Vessels by number, in each the calls by date, in each the berths by name."""
        document = {
            "vessels": {
                f"70{v:05}": {"calls": {f"2026-01-{d:02}": {"berths": [f"N{d}"]} for d in range(1, 5)}}
                for v in range(60)
            }
        }
        tables = tessaron.shred(json.dumps(document).encode(), name="r")
        self.assertEqual(
            {name: table.num_rows for name, table in tables.items()},
            {"r": 1, "r_vessels": 60, "r_vessels_calls": 240, "r_vessels_calls_berths": 240},
        )
        self.assertEqual([str(column.type) for column in tables.layout.tables[2].columns], ["date"])

    def test_values_that_are_dictionaries_themselves(self):
        """The inner names have nothing in common, but what is under them has."""
        document = {
            "ports": {
                f"port {p}": {f"quay {p} {q}": {"depth": q, "lit": True} for q in range(40)}
                for p in range(40)
            }
        }
        tables = tessaron.shred(json.dumps(document).encode(), name="r", records="$")
        self.assertEqual(list(tables), ["r", "r_ports", "r_ports_entries"])
        self.assertEqual(tables["r_ports_entries"].num_rows, 1_600)
        self.assertEqual(tables["r_ports_entries"].column("depth").to_pylist(), list(range(40)) * 40)

    def test_a_document_of_very_many_paths_is_no_burden(self):
        """60,000 different paths, if every name were a field."""
        item = {f"version {n}": {"since": n, "notes": {"by": "desk"}} for n in range(20)}
        document = {"gear": {f"gear {g}": {"docs": f"d{g}", "support": item} for g in range(1_000)}}
        tables = tessaron.shred(json.dumps(document).encode(), name="r", records="$")
        self.assertEqual(tables["r_gear"].num_rows, 1_000)
        self.assertLess(sum(len(table.columns) for table in tables.layout.tables), 200)
        self.assertEqual(values_of(tally(tables)), values_of(walk(document)))


class SettlingTest(unittest.TestCase):
    def shape(self, records, settled=None, limit=256):
        with few_names(limit):
            return learnt(choose_kernel(KERNELS[-1])(as_lines(records), Separator.LINE), settled=settled)

    @needs_compiled
    def test_names_are_counted_until_there_are_too_many(self):
        shape = self.shape([{f"f{n}": n for n in range(300)}], limit=2)
        self.assertTrue(shape.record.is_dictionary)
        self.assertEqual(len(shape.record.names), 300)
        shape = self.shape([{f"f{n}": n for n in range(MOST_NAMES + 1)}])
        self.assertIsNone(shape.record.names)
        self.assertTrue(is_dictionary(shape.record))

    @needs_compiled
    def test_merging_counts_all_names(self):
        parts = [
            [{"d": {f"a{n}": 1 for n in range(300)}}],
            [{"d": {f"b{n}": 1 for n in range(10)}}],
            [{"d": {"a1": 2}}],
        ]
        for order in ((0, 1, 2), (2, 1, 0), (1, 0, 2)):
            with self.subTest(order):
                total = Shape()
                for index in order:
                    total.merge(self.shape(parts[index], limit=4))
                names = total.record.children["d"].names
                self.assertEqual((len(names), names["a1"]), (310, 2))

    @needs_compiled
    def test_what_is_settled_holds_when_it_is_learnt_again(self):
        records = [{"d": {f"f{n}": n for n in range(300)}}]
        shape = self.shape(records, limit=9)
        settled = settle_names(shape, StructureRules(), {})
        self.assertEqual(settled, {("d",): False})
        again = self.shape(records, settled, limit=9)
        node = again.record.children["d"]
        self.assertEqual((node.is_dictionary, len(node.members())), (False, 300))
        self.assertEqual(settle_names(again, StructureRules(), settled), settled)
        known = settle_names(shape, StructureRules(dictionaries=["$.d"]), {})
        self.assertEqual(known, {})
        kept = self.shape(records, {("d",): True}, limit=9)
        self.assertIsNone(kept.record.children["d"].names)

    @needs_compiled
    def test_the_rule_says_the_same_of_both_forms(self):
        cases = {
            "fields": [{f"f{n}": n for n in range(40)}] * 5,
            "rare": [{f"f{n}": {"a": 1}} for n in range(60)],
            "half": [{f"f{n}": {"a": n} for n in range(row, 40, 2)} for row in (0, 1)] * 3,
            "mixed": [{f"f{n}": n if n % 2 else "x" for n in range(40)}],
            "codes": [{f"{a}{b}": 1} for a in "ABC" for b in "DEF"],
            "days": [{f"2026-01-{n:02}": n for n in range(1, 9)}]
            + [{f"2026-02-{n:02}": n for n in range(row, 29)} for row in range(1, 9)],
            "unlike": [{f"f{n}": {f"g{n}": 1}} for n in range(60)],
        }
        for title, records in cases.items():
            with self.subTest(title):
                plain = self.shape([{"d": record} for record in records])
                taken = self.shape([{"d": record} for record in records], limit=2)
                members, entries = (shape.record.children["d"] for shape in (plain, taken))
                self.assertIn(ENTRY, entries.children)
                self.assertNotIn(ENTRY, members.children)
                self.assertEqual(is_dictionary(members), is_dictionary(entries))

    def test_settling_counts_nothing_twice(self):
        """Where structures that contain themselves meet dictionaries, and one structure holds another."""
        unlike = {
            f"op{n}": {"members": {f"f{n}": {}, "g": {"member": {"members": {f"h{n}": {"t": 1}}}}}}
            for n in range(40)
        }
        documents = (
            {"a": {"1": {"2": {"a": {"2": {"4": 1}}, "2": {"a": {"1": 1}}, "4": 1}}}},
            {"operations": unlike},
            {"members": {f"m{n}": {"members": {f"k{n}": {"members": {"z": n}}}} for n in range(40)}},
        )
        for document in documents:
            with self.subTest(str(document)[:30]):
                self.check_counts(document)

    @settings(max_examples=120, deadline=None)
    @given(
        st.recursive(
            st.integers(0, 3),
            lambda inner: (
                st.dictionaries(st.sampled_from(["a", "b", "1", "2", "3"]), inner, min_size=1, max_size=4)
                | st.lists(inner, max_size=2)
            ),
            max_leaves=12,
        )
    )
    def test_settling_counts_everything_once(self, value):
        self.check_counts({"a": value})

    def check_counts(self, document):
        shape = self.shape([document])
        settle(shape)
        found = sum(
            node.counts[Kind.INTEGER] for node in shape.record.walk() if not isinstance(node.step, Origin)
        )
        self.assertEqual(found, sum(walk(document)[key] for key in walk(document) if key[1] != "rows"))

    def test_absorbing_keeps_the_counts(self):
        node, other = ShapeNode("d"), ShapeNode("d")
        for target, name in ((node, "a"), (other, "b")):
            target.child(name).counts[Kind.INTEGER] = 2
        node.become_dictionary()
        node.absorb(other)
        self.assertEqual(node.names, {"a": 2, "b": 2})
        self.assertEqual(node.children[ENTRY].counts[Kind.INTEGER], 4)
