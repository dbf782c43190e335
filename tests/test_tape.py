"""The tape and its passes: the compiled ones do what the Python ones do, whatever the split and the form."""

import io
import json
import unittest
from dataclasses import replace
from decimal import Decimal
from itertools import combinations

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv
import pyarrow.parquet as pq
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.base.paths import ELEMENT, ENTRY, Origin
from tessaron.core.cutting.selecting import PathSelection
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel import choose_kernel
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.kernel.tape_builder import TapeBuilder
from tessaron.core.plan.plan import ColumnPlan, Source
from tessaron.core.rebuild.record_digests import record_digests
from tessaron.core.rebuild.tape_digests import digests_of, passed_over
from tessaron.core.shape.conform import conform
from tessaron.core.shape.learning import as_few_columns, new_learner
from tessaron.core.shape.shape_form import form_of
from tessaron.core.shape.structure import drop_partial_words, settle
from tessaron.core.tables.column_values import fit_node
from tessaron.core.tape.emission import emit
from tessaron.core.tape.form import PLAIN
from tessaron.core.tape.fragment import Role
from tessaron.core.tape.joining import join_tapes
from tessaron.core.tape.put_aside import pack, unpack
from tessaron.core.tape.tape import Tape, members_as_records
from tessaron.core.tape.typed_columns import WantedColumn
from tessaron.core.types.column_types import parse_type
from tessaron.core.types.fitting import PLAIN as PLAIN_SPELLING
from tessaron.core.types.fitting import Spelling, boolean_words
from tessaron.sinks.csv_rows import csv_header, iter_csv_rows
from tests.harness import KERNELS, FolderTest, learnt, needs_compiled

NAMES = st.sampled_from(["a", "b", "c", "d e", "7", "2026-01-01", "2026-01-02"])
SCALARS = st.none() | st.booleans() | st.integers(-(2**66), 2**66) | st.sampled_from([
    1.5, -0.0, 1e300, 0.1234567890123456789, "", "x", "no", "true", "INF", "1e5", "2026-01-01", "12:00:00.5",
    "2026-01-01T10:00:00Z", "2026-02-30", "2026-01-01 10:00-01:30", "ABCDEF12-1234-1234-1234-123456789012",
    "12345678-1234-1234-1234-123456789012",
])  # fmt: skip
VALUES = st.recursive(
    SCALARS,
    lambda inner: st.dictionaries(NAMES, inner, max_size=4) | st.lists(inner, max_size=3),
    max_leaves=16,
)
RECORDS = st.lists(st.dictionaries(NAMES, VALUES, max_size=5), min_size=1, max_size=8)
KINDS = tuple(map(parse_type, (
    "boolean", "integer", "decimal(20,3)", "decimal(38,0)", "double", "text", "date", "time(3)", "timestamp",
    "timestamp_tz", "timestamp(9)", "uuid",
)))  # fmt: skip
NO_AND_X = Spelling(words=("no", "x"))
LANES = ("row_count", "kinds", "positions", "parent_rows", "ordinals", "booleans", "integers")
MANY = settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])


def tape_of(records, kernel=KERNELS[-1], **options):
    data = "\n".join(map(json.dumps, records)).encode()
    return choose_kernel(kernel)(data, Separator.LINE, False, KernelOptions(**options))


def contents(fragment):
    """Return all that a fragment holds, by path."""
    found = {}
    for path, node in zip(fragment.paths(), fragment.nodes, strict=True):
        lanes = [np.asarray(getattr(node, lane)).tolist() for lane in LANES]
        texts = [lane.to_arrow().to_pylist() for lane in (node.numbers, node.texts, node.keys)]
        found[path] = (node.rows_present().tolist(), lanes, texts)
    return found


def told(shape):
    """Return a shape, without what is only counted where a chunk has nothing else."""
    for node in shape.record.walk():
        drop_partial_words(node)
    return shape.record


class PassesTest(unittest.TestCase):
    @needs_compiled
    @MANY
    @given(RECORDS)
    def test_the_compiled_passes_do_what_the_python_ones_do(self, records):
        tape, plain = tape_of(records), tape_of(records, "python")
        self.assertEqual(tape.arrays(), plain.arrays())
        shape = learnt(tape)
        self.assertEqual(told(shape), told(learnt(plain, compiled=False)))
        settle(shape)
        for form in (PLAIN, form_of(shape.record)):
            self.assertEqual(contents(emit(tape, form)), contents(emit(plain, form, compiled=False)))

    @MANY
    @given(RECORDS)
    def test_a_typed_column_is_what_fitting_makes_of_the_same_values(self, records):
        tape = tape_of(records)
        shape = learnt(tape)
        settle(shape)
        form = form_of(shape.record)
        plans = [
            ColumnPlan("t", "c", kind, Source(path, (), True), spelling=spelling)
            for path in form.paths
            for kind in KINDS
            for spelling in ((PLAIN_SPELLING, NO_AND_X) if kind.name == "boolean" else (PLAIN_SPELLING,))
        ]
        wanted = [
            WantedColumn(
                form.paths.index(plan.source.path), plan.type.name, plan.type.arrow_type(),
                plan.type.precision or plan.type.second_digits, plan.type.scale,
                words=boolean_words(plan.spelling) if plan.type.name == "boolean" else (),
                keeps_values=False,
            )
            for plan in plans
        ]  # fmt: skip
        plain, typed = emit(tape, form), emit(tape, form, wanted=wanted)
        nodes = dict(zip(plain.paths(), plain.nodes, strict=True))
        for plan, column in zip(plans, typed.columns, strict=True):
            node = nodes.get(plan.source.path)
            if column is not None:
                fitted = fit_node(node, len(column), plan)
                column.validate(full=True)
                self.assertEqual(
                    (column.to_pylist(), 0), (fitted.values.to_pylist(), len(fitted.misfits)), plan
                )
        self.assertEqual(typed.paths(), plain.paths())

    @needs_compiled
    def test_values_that_plainly_fit_are_typed_without_python(self):
        zoned = "2026-03-04T05:06:07.25+01:30"
        cases = (
            ("boolean", [True, None, False], [True, None, False]),
            ("integer", [2**62, -1, None], [2**62, -1, None]),
            ("decimal(38,4)", ["1.25", "-0.0001", "9" * 34, "7"], [1.25, -0.0001, int("9" * 34), 7]),
            ("double", ["0.1", "-12.5", "1e2", 3], None),
            ("double", ["0.1", "-12.5", 3], [0.1, -12.5, 3.0]),
            ("text", ['"a"', "1.50", 12, True, '""'], ["a", "1.50", "12", "true", ""]),
            ("date", ['"2026-02-28"', '"0001-01-01"'], ["2026-02-28", "0001-01-01"]),
            ("time", ['"05:06"', '"05:06:07"'], ["05:06:00", "05:06:07"]),
            ("timestamp(3)", ['"2026-01-02 03:04:05.678"', '"2026-01-02T03:04"'],
             ["2026-01-02 03:04:05.678000", "2026-01-02 03:04:00"]),
            ("timestamp_tz(2)", [f'"{zoned}"', '"2026-01-01T00:00:00Z"'],
             ["2026-03-04 03:36:07.250000+00:00", "2026-01-01 00:00:00+00:00"]),
            ("timestamp", [f'"{zoned}"'], None),
            ("decimal(3,2)", ["10.25"], None),
            ("integer", ["1.0"], None),
            ("date", ['"2026-02-30"'], None),
            ("uuid", ['"12345678-1234-1234-1234-123456789ABC"'], ["12345678-1234-1234-1234-123456789ABC"]),
            ("uuid", ['"12345678-1234-1234-1234-12345678"'], None),
        )  # fmt: skip
        for spelled, values, expected in cases:
            with self.subTest(type=spelled, values=values):
                kind = parse_type(spelled)
                texts = [json.dumps(v) if not isinstance(v, str) else v for v in values]
                tape = choose_kernel(KERNELS[-1])(
                    "\n".join(f'{{"a":{text}}}' for text in texts).encode(), Separator.LINE
                )
                form = form_of(learnt(tape).record)
                digits = kind.precision or kind.second_digits
                wanted = WantedColumn(1, kind.name, kind.arrow_type(), digits, kind.scale)
                (column,) = emit(tape, form, wanted=[wanted]).columns
                if expected is None:
                    self.assertIsNone(column)
                else:
                    shown = [str(v) if not isinstance(e, (int, float)) and e is not None else v
                             for v, e in zip(column.to_pylist(), expected, strict=True)]  # fmt: skip
                    self.assertEqual(
                        shown, [Decimal(str(e)) if kind.name == "decimal" else e for e in expected]
                    )

    @needs_compiled
    def test_what_is_no_column_or_form_is_refused(self):
        from tessaron.core.compiled._passes import emit as emit_lanes

        tape = tape_of([{"a": 1}])
        rows = form_of(learnt(tape).record).rows
        for wanted in ((9, 1, 0, 0, False, (), True), (1, 99, 0, 0, False, (), True), (1, 2, 3, 5, False, (), True),
                       (1, 0, 0, 0, False, ("yes",), True), (-1, 1, 0, 0, False, (), True)):  # fmt: skip
            with self.subTest(wanted=wanted), self.assertRaises(ValueError):
                emit_lanes(rows, tape.arrays(), [wanted])

    @MANY
    @given(RECORDS)
    def test_a_form_does_what_regrouping_columns_does(self, records):
        tape = tape_of(records)
        shape = learnt(tape)
        settle(shape)
        form = form_of(shape.record)
        if not form.ways:
            # Where a structure contains itself in several places rows come as in the document.
            wanted = contents(conform(emit(tape), shape.record))
            found = contents(emit(tape, form))
            for path in wanted.keys() | found.keys():
                self.assertEqual(found[path][0:2], wanted[path][0:2], path)
                self.assertEqual(found[path][2][:2], wanted[path][2][:2], path)

    @MANY
    @given(RECORDS, st.integers(0, 8))
    def test_any_split_gives_the_same_structure_and_rows(self, records, cut):
        whole, parts = tape_of(records), [tape_of(part) for part in (records[:cut], records[cut:])]
        first, second = new_learner(), new_learner()
        first.learn(parts[0])
        second.learn(parts[1])
        merged = second.shape()[0]
        merged.merge(first.shape()[0])
        self.assertEqual(told(merged), told(learnt(whole)))
        joined = join_tapes([unpack(pack(part)) for part in parts])
        self.assertEqual(contents(emit(joined)), contents(emit(whole)))

    @needs_compiled
    def test_what_is_not_wanted_is_counted(self):
        records = [{"a": 1, "b": {"c": [1, 2]}, "k": n, f"only_{n}": None} for n in range(4)]
        for selection in (PathSelection([("a",)]), PathSelection([("b", "c", ELEMENT), ("b", Origin.JSON)])):
            counted = [passed_over(tape_of(records, name, selection=selection)) for name in KERNELS]
            self.assertEqual(counted[0], counted[1])
            fragment = emit(tape_of(records, selection=selection))
            self.assertEqual(dict(counted[0]), dict(fragment.passed_by_path()))
            self.assertEqual(counted[0]["$.k"], 4)

    def test_members_of_an_object_as_records(self):
        tape = members_as_records(tape_of([{"x": {"v": 1}, "y": [2, {"v": 3}]}]))
        fragment = emit(tape)
        self.assertEqual(fragment.record_count, 2)
        found = contents(fragment)
        self.assertEqual(found[(Origin.KEY,)][2][1], ["x", "y"])
        self.assertEqual(found[(ELEMENT, "v")][0], [1])

    @needs_compiled
    def test_names_that_are_data_cost_no_column_each(self):
        records = [{"d": {f"buoy {n}": {"at": {f"{h:02}": h for h in range(24)}} for n in range(400)}}]
        fragment = as_few_columns(tape_of(records))
        self.assertLess(len(fragment.nodes), 60)
        entry = contents(fragment)[("d", ENTRY)]
        self.assertEqual(entry[2][2], [f"buoy {n}" for n in range(400)])


class DigestsTest(unittest.TestCase):
    @MANY
    @given(RECORDS, st.booleans())
    def test_records_are_told_apart_as_by_columns(self, records, exact):
        records += records[::-1]
        words = digests_of(tape_of(records), exact).tolist()
        wanted = record_digests(emit(tape_of(records)), exact).tolist()
        for one, other in combinations(range(len(records)), 2):
            self.assertEqual(words[one] == words[other], wanted[one] == wanted[other])

    def test_what_is_the_same(self):
        cases = (
            ('{"a":1.50,"b":null}', '{"b":{},"a":15e-1}', False, True),
            ('{"a":1.50,"b":null}', '{"a":15e-1}', False, True),
            ('{"a":1.5}', '{"a":1.50}', True, False),
            ('{"a":1000000000000000000}', '{"a":1e18}', False, True),
            ('{"a":-9223372036854775808}', '{"a":-9223372036854775808.0}', False, True),
            ('{"a":9223372036854775808}', '{"a":9223372036854775808.0}', False, True),
            ('{"a":-0}', '{"a":0.00}', False, True),
            ('{"a":[1,2]}', '{"a":[2,1]}', False, False),
            ('{"a":"1"}', '{"a":1}', False, False),
            ('{"a":[null]}', '{"a":[null,null]}', False, False),
            ('{"a":{}}', "{}", False, True),
            ('{"a":{}}', "{}", True, False),
            ('{"a":{"b":1}}', '{"a.b":1}', False, False),
        )
        for one, other, exact, same in cases:
            with self.subTest(one=one, other=other, exact=exact):
                data = f"{one}\n{other}".encode()
                found = digests_of(choose_kernel(KERNELS[-1])(data, Separator.LINE), exact)
                self.assertEqual(bool(found[0] == found[1]), same)


class BrokenTapesTest(unittest.TestCase):
    @needs_compiled
    def test_numbers_that_lead_outside_are_refused(self):
        tape = tape_of([{"a": ["x", {"b": 1.5}]}])
        ones = np.ones(1, np.int32).tobytes()
        cases = {
            "kinds": b"\xff" + tape.kinds[1:],
            "names": np.full(len(tape.kinds), 9, np.int32).tobytes(),
            "parents": np.arange(len(tape.kinds), dtype=np.int32).tobytes(),
            "values": np.full(len(tape.kinds), 2**62, np.int64).tobytes(),
            "data": b"",
            "step_sizes": np.full(2, 2**40, np.int64).tobytes(),
            "step_data": b"",
        }
        for lane, broken in (*cases.items(), ("names", tape.names + ones)):
            with self.subTest(lane):
                wrong: Tape = replace(tape, **{lane: broken})
                for use in (new_learner().learn, emit, lambda each: digests_of(each, True)):
                    with self.assertRaisesRegex(ValueError, "this is no tape"):
                        use(wrong)

    def test_values_that_json_has_no_kind_for_are_refused_with_their_path(self):
        for value, message in (
            (object(), r"at \$\.a\[\*\]\.b"),
            (float("inf"), "got inf"),
            ({1: 2}, "member names"),
        ):
            with self.subTest(value=value), self.assertRaisesRegex(tessaron.UsageError, message):
                TapeBuilder().add({"a": [{"b": value}]})


class RowsOfCsvTest(unittest.TestCase):
    @MANY
    @given(
        st.lists(
            st.tuples(st.none() | st.text('a",\r\né', max_size=4), st.none() | st.integers(-(2**63), 2**63 - 1),
                      st.none() | st.floats(), st.none() | st.booleans()),
            max_size=9,
        ),
        st.integers(0, 3),
    )  # fmt: skip
    def test_the_same_bytes_as_arrow(self, rows, start):
        columns = list(zip(*rows, strict=True)) or [(), (), (), ()]
        types = (pa.large_string(), pa.int64(), pa.float64(), pa.bool_())
        arrays = [pa.array(column, kind) for column, kind in zip(columns, types, strict=True)]
        table = pa.table(arrays, names=["t", 'q"', "f", "b"]).slice(start)
        wanted = io.BytesIO()
        pa_csv.write_csv(table, wanted, pa_csv.WriteOptions(eol="\r\n", quoting_style="needed"))
        found = csv_header(table.schema.names) + b"".join(iter_csv_rows(table))
        self.assertEqual(found, wanted.getvalue())

    @MANY
    @given(
        st.lists(st.none() | st.datetimes(), max_size=9),
        st.sampled_from(["s", "ms", "us", "ns"]),
        st.sampled_from([None, "UTC", "+02:00"]),
        st.integers(0, 2),
    )
    def test_moments_are_the_same_bytes_as_arrow(self, moments, unit, zone, start):
        known = [each and each.replace(microsecond=0) for each in moments]
        if unit == "ns":
            known = [each if each is None or 1700 < each.year < 2200 else None for each in known]
        table = pa.table({"t": pa.array(known, pa.timestamp(unit, zone))}).slice(start)
        wanted = io.BytesIO()
        pa_csv.write_csv(table, wanted, pa_csv.WriteOptions(eol="\r\n", quoting_style="needed"))
        self.assertEqual(csv_header(["t"]) + b"".join(iter_csv_rows(table)), wanted.getvalue())

    def test_fractions_of_seconds_before_and_after_1970(self):
        for value in (-1, -86_400_000_001, 1, 951_782_400_123_456, -62_135_500_000_000_000):
            with self.subTest(value):
                table = pa.table({"t": pa.array([value], pa.int64()).cast(pa.timestamp("us"))})
                wanted = io.BytesIO()
                pa_csv.write_csv(table, wanted, pa_csv.WriteOptions(eol="\r\n", include_header=False))
                self.assertEqual(b"".join(iter_csv_rows(table)), wanted.getvalue())


class ParquetEncodingsTest(FolderTest):
    def test_each_column_is_written_as_suits_it(self):
        records = [
            {"n": n * 7919 % 50_021, "same": n % 5, "t": f"text {n}", "d": n * 1e250 / 7, "x": [1, 2]}
            for n in range(900)
        ]
        tessaron.export(records, self.folder / "o", name="r")
        cases = {
            "r": {"row_key": "DELTA_BINARY_PACKED", "n": "DELTA_BINARY_PACKED", "same": "RLE_DICTIONARY",
                  "t": "PLAIN", "d": "BYTE_STREAM_SPLIT"},
            "r_x": {"parent_key": "DELTA_BINARY_PACKED", "ordinal": "DELTA_BINARY_PACKED", "value": "RLE_DICTIONARY"},
        }  # fmt: skip
        for table, columns in cases.items():
            group = pq.ParquetFile(self.folder / "o" / f"{table}.parquet").metadata.row_group(0)
            found = {
                group.column(n).path_in_schema: group.column(n).encodings for n in range(group.num_columns)
            }
            for name, encoding in columns.items():
                with self.subTest(table=table, column=name):
                    self.assertIn(encoding, found[name])
                    self.assertEqual("RLE_DICTIONARY" in found[name], encoding == "RLE_DICTIONARY")


class ManyFilesTest(FolderTest):
    def test_many_small_files_are_the_tables_of_one(self):
        records = [
            {"id": n, "d": {f"2026-01-{d:02}": d * n for d in range(1, 5)}, "l": [n] * (n % 3)}
            for n in range(40)
        ]
        for number, record in enumerate(records):
            self.write(f"f{number:02}.json", json.dumps(record))
        one = tessaron.shred("\n".join(map(json.dumps, records)).encode(), name="r", records="$")
        many = tessaron.shred(self.folder, name="r", records="$", origin=True)
        for name, table in one.items():
            self.assertEqual(many[name].select(table.column_names).to_pylist(), table.to_pylist())
        self.assertEqual(many["r"].column("origin_record").to_pylist(), [1] * 40)
        self.assertEqual(len(set(many["r"].column("origin_file").to_pylist())), 40)


class RolesTest(unittest.TestCase):
    def test_a_level_that_no_value_came_to_is_not_there(self):
        tape = tape_of([{"a": []}, {"b": {}}])
        self.assertEqual([node.role for node in emit(tape).nodes].count(Role.ELEMENT), 1)
        settled = learnt(tape_of([{"a": [1], "z": [{"y": 1}]}]))
        settle(settled)
        found = contents(emit(tape, form_of(settled.record)))
        self.assertEqual([path for path in found if path], [("a",), ("a", ELEMENT), ("b",)])


if __name__ == "__main__":
    unittest.main()
