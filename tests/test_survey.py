"""Surveys: figures against an independent walk, notes, what is shown; and distinct counts on their own."""

import json
import unittest
from collections import Counter, defaultdict

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.base.text_lane import TextLane
from tessaron.core.shape.suspects import count_suspects
from tessaron.core.tape.distinct import KEPT, Distinct, hash_integers, hash_texts
from tessaron.sources.demo.vessel_calls import write_calls
from tessaron.views.grid import text_width
from tests.harness import FolderTest, quick_command

SCALARS = (
    st.none()
    | st.booleans()
    | st.integers(-5, 5)
    | st.integers(10**20, 10**20 + 3)
    | st.text("aB /", max_size=2)
)
RECORDS = st.lists(
    st.dictionaries(
        st.sampled_from(["p", "q", "r"]),
        st.recursive(
            SCALARS,
            lambda inner: (
                st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from("xy"), inner, max_size=2)
            ),
            max_leaves=5,
        ),
        max_size=3,
    ),
    min_size=1,
    max_size=6,
)


def walk(records):
    """Return by path: rows of the level, values that are not null, kinds, distinct scalars; without Tessaron."""
    rows, filled, kinds, scalars = Counter(), Counter(), defaultdict(Counter), defaultdict(set)
    for record in records:
        rows["$"] += 1
        pending = [("$", record)]
        while pending:
            path, value = pending.pop()
            kind = {dict: "object", list: "array", str: "text", bool: "boolean", int: "integer"}.get(
                type(value), "null"
            )
            kinds[path][kind] += 1
            filled[path] += value is not None
            if isinstance(value, dict):
                pending.extend((f"{path}.{name}", item) for name, item in value.items())
            elif isinstance(value, list):
                rows[f"{path}[*]"] += len(value)
                pending.extend((f"{path}[*]", item) for item in value)
            elif value is not None:
                scalars[path].add(json.dumps(value))
    return rows, filled, kinds, scalars


class FiguresTest(FolderTest):
    def check(self, survey, records):
        rows, filled, kinds, scalars = walk(records)
        self.assertEqual({entry.path for entry in survey}, set(kinds))
        for entry in survey:
            level = entry.path[: entry.path.rindex("[*]") + 3] if "[*]" in entry.path else "$"
            self.assertEqual(entry.rows, rows[level], entry.path)
            self.assertEqual(entry.filled, filled[entry.path], entry.path)
            self.assertEqual(dict(entry.kinds), dict(kinds[entry.path]), entry.path)
            if entry.is_exact:
                self.assertEqual(entry.distinct or 0, len(scalars[entry.path]), entry.path)

    @settings(max_examples=72, deadline=None)
    @given(RECORDS, st.integers(5, 80))
    def test_any_records_in_any_chunks(self, records, chunk_bytes):
        survey = tessaron.survey(
            "\n".join(map(json.dumps, records)).encode(), records="$", chunk_bytes=chunk_bytes
        )
        if not any(note.code in ("one or many", "contains itself", "dictionary") for note in survey.notes):
            self.check(survey, records)
        whole = tessaron.survey("\n".join(map(json.dumps, records)).encode(), records="$")
        self.assertEqual(list(whole), list(survey))
        self.assertEqual(whole.notes, survey.notes)

    def test_the_vessel_calls(self):
        path = write_calls(self.folder, 1_000)
        records = [json.loads(line) for line in path.read_text("utf-8").splitlines()]
        survey = tessaron.survey(path, chunk_bytes=100_000)
        rows, filled, _, scalars = walk(records)
        for entry in survey:
            with self.subTest(entry.path):
                self.assertEqual(entry.filled, filled[entry.path])
                if entry.distinct is not None:
                    exact = len(scalars[entry.path])
                    self.assertAlmostEqual(entry.distinct, exact, delta=0 if entry.is_exact else 0.07 * exact)
        teu = survey["$.stays[*].moves[*].teu"]
        self.assertEqual(
            (teu.least, teu.most, teu.distinct, teu.rows), ("1", "2", 2, rows["$.stays[*].moves[*]"])
        )
        lengths = [len(call["stays"]) for call in records]
        self.assertEqual(
            survey["$.stays"].elements, (min(lengths), sum(lengths) / len(lengths), max(lengths))
        )
        statuses = Counter(call["status"] for call in records).most_common(3)
        self.assertEqual(survey["$.status"].frequent, tuple((json.dumps(text), n) for text, n in statuses))
        fees = [service["fee"] for call in records for service in call["services"]]
        fee = survey["$.services[*].fee"]
        self.assertEqual((float(fee.least), float(fee.most)), (min(fees), max(fees)))
        self.assertTrue(survey["$.call_id"].is_exact)
        with self.assertRaisesRegex(tessaron.UsageError, r"no path '\$\.zzz'"):
            survey["$.zzz"]

    def test_several_processes_find_the_same(self):
        path = write_calls(self.folder, 2_500)
        path.write_bytes(path.read_bytes() * 6)
        surveys = [tessaron.survey(path, workers=workers) for workers in (1, 2)]
        self.assertEqual(*(survey.entries for survey in surveys))
        self.assertEqual(*(survey.notes for survey in surveys))

    def test_only_the_first_records(self):
        lines = "\n".join(json.dumps({"n": n, "pad": "x" * 90}) for n in range(9_000)).encode()
        for first, chunk_bytes in ((1, 10**6), (700, 1_000), (5_000, 10**6)):
            with self.subTest(first):
                survey = tessaron.survey(lines, first=first, chunk_bytes=chunk_bytes)
                self.assertEqual((survey.records, survey.is_partial), (first, True))
                self.assertEqual(survey["$.n"].most, str(first - 1))
        self.assertFalse(tessaron.survey(lines, first=9_000).is_partial)
        self.assertTrue(tessaron.survey([{"a": 1}] * 3, first=2).is_partial)
        self.assertEqual(
            tessaron.survey(json.dumps({"c": [1, 2, 3]}).encode(), records="$.c[?@>1]", first=1).records, 1
        )


class NotesTest(FolderTest):
    def notes(self, records):
        path = self.write(
            "n.ndjson", "\n".join(item if isinstance(item, str) else json.dumps(item) for item in records)
        )
        return {(note.path, note.code): note for note in tessaron.survey(path, records="$").notes}

    def test_each_kind_of_note(self):
        dates = ["2026-01-01", "2026-01-02", "2026-01-03"]
        cases = (
            ("mixed kinds", [{"v": 1}, {"v": 2}, {"v": "x"}], 1, '"x"', "2 numbers, 1 texts"),
            ("value or object", [{"v": 1}, {"v": {"a": 1}}], 1, "{…}", "an object in 1"),
            ("value or array", [{"v": 1}, {"v": [1]}], 1, "[…]", "an array in 1"),
            ("one or many", [{"v": {"a": 1}}, {"v": [{"a": 1}, {"a": 2}]}, {"v": {"a": 3}}], 1, "[…]", "one object in 2 records"),
            ("dictionary", [{"v": dict.fromkeys(dates, 1)}], 1, None, "3 names are keys"),
            ("contains itself", [{"v": {"a": 1, "v": {"a": 2, "v": {"a": 3}}}}], 1, None, "rows refer to each other"),
            ("number", [{"v": "12"}, {"v": "007"}, {"v": "x"}], 1, '"12"', "1 of 3"),
            ("date", [{"v": "31/12/2026"}, {"v": "01/02/2026"}], 2, '"31/12/2026"', "all"),
            ("ambiguous date", [{"v": "01/02/2026"}, {"v": "03.04.2026"}], 2, '"01/02/2026"', "all"),
            ("JSON", [{"v": '{"a": 1}'}, {"v": "{a}"}], 1, '"{\\"a\\": 1}"', "1 of 2"),
            ("placeholder", [{"v": "N/A"}, {"v": "9999-12-31"}, {"v": "x"}], 2, '"N/A"', "2 of 3"),
            ("surrounding spaces", [{"v": " a"}, {"v": "a\t"}, {"v": "a"}], 2, '" a"', "2 of 3"),
            ("e-mail address", [{"v": "desk@agents.example"}, {"v": "at @ all"}], 1, '"desk@agents.example"', "1 of 2"),
            ("phone number", [{"v": "+00 5550 0100"}, {"v": "555"}], 1, '"+00 5550 0100"', "1 of 2"),
            ("card number", [{"v": "4000 0000 0000 0002"}, {"v": "4000 0000 0000 0003"}], 1, '"4000 0000 0000 0002"', "1 of 2"),
            ("not all alike", [{"v": "2026-01-01"}, {"v": "soon"}], 1, '"2026-01-01"', "1 texts look like date, 1 do not"),
            ("spellings", [{"v": "Load"}, {"v": "LOAD"}, {"v": "Load"}, {"v": "x"}], 1, None, '"Load" (2) / "LOAD" (1)'),
            ("never filled", [{"v": None}, {"v": None}], 2, "null", "null in all 2"),
            ("constant", [{"v": "k"}] * 20, 20, None, 'constant: "k" in every row'),
            ("unique", [{"v": n} for n in range(20)], 20, None, "never missing"),
            ("unique where filled", [{"v": f"k{n}"} for n in range(20)] + [{}], 20, None, "missing in 1 rows"),
            ("almost unique", [{"v": f"k{n}"} for n in range(300)] + [{"v": "k7"}], 2, '"k7"', '"k7" (2 times)'),
            ("duplicate names", ['{"v":1,"v":2}'], 1, None, "in line 1 of"),
            ("long integers", [{"v": 2**70}, {"v": 1}], 1, str(2**70), "beyond 64 bits: 1"),
            ("very long", [{"v": "ab" * 3_000}], 1, None, "the longest has 6,000"),
        )  # fmt: skip
        for code, records, count, example, part in cases:
            with self.subTest(code):
                note = self.notes(records).get(("$.v", code))
                self.assertIsNotNone(note)
                self.assertEqual(note.count, count)
                self.assertIn(part, note.text)
                self.assertTrue(note.advice)
                if example is not None:
                    self.assertEqual(note.example.value, example)
                    self.assertTrue(note.example.source.endswith("n.ndjson"))

    def test_paths_given_where_no_object_stands(self):
        facts = tessaron.survey([{"v": {"a": 1}}], dictionaries=["$.v", "$.w"], not_dictionaries=["$.v.a"])
        found = [note.path for note in facts.notes if note.code == "nothing there"]
        self.assertEqual(found, ["$.v.a", "$.w"])

    def test_examples_have_the_line_of_their_record(self):
        records = [{"s": [{"v": 1}, {"v": 2}]}] * 5 + [{"s": [{"v": 3}, {"v": {"w": ["N/A"]}}]}]
        notes = self.notes(records)
        self.assertEqual(notes["$.s[*].v", "value or object"].example.line, 6)
        self.assertEqual(notes["$.s[*].v.w[*]", "placeholder"].example.line, 6)

    def test_what_gives_no_note(self):
        plain = [
            {"id": n % 7, "name": f"n{n % 3}", "at": f"2026-01-0{n % 9 + 1}", "on": n % 2 == 0}
            for n in range(60)
        ]
        self.assertEqual(self.notes(plain), {})


class DistinctTest(unittest.TestCase):
    def test_estimates(self):
        for count in (KEPT + 1, 3_000, 100_000):
            with self.subTest(count):
                found = Distinct()
                hashes = hash_texts(TextLane.of([f"BRW-{n:07}" for n in range(count)]))
                found.add(hashes, np.ones(count, np.int64), None)
                self.assertAlmostEqual(found.estimate(), count, delta=0.07 * count)

    @settings(max_examples=36, deadline=None)
    @given(st.lists(st.lists(st.integers(0, 400), max_size=150), max_size=5), st.randoms())
    def test_merging_does_not_depend_on_the_order(self, groups, chance):
        def merged(parts):
            total = Distinct()
            for part in parts:
                values, counts = np.unique(np.array(part, np.int64), return_counts=True)
                one = Distinct()
                one.add(hash_integers(values), counts, list(map(str, values.tolist())))
                total.merge(one)
            return total

        first = merged(groups)
        chance.shuffle(groups)
        second = merged(groups)
        self.assertEqual((first.estimate(), first.counts), (second.estimate(), second.counts))
        if first.is_exact:
            self.assertEqual(first.estimate(), len({n for group in groups for n in group}))

    def test_hashes_do_not_depend_on_neighbours(self):
        texts = ["", "a", "b", "é" * 50, "x" * 100_000, "\0"] * 30
        together = hash_texts(TextLane.of(texts)).tolist()
        self.assertEqual(together, [int(hash_texts(TextLane.of([text]))[0]) for text in texts])
        self.assertEqual(len(set(together)), 6)

    def test_suspects_are_weighed_by_their_counts(self):
        lane = TextLane.of(["12", "x", "n/a"])
        found = {name: count for name, count, _ in count_suspects(lane, np.array([5, 1, 3]))}
        self.assertEqual(found, {"number": 5, "placeholder": 3})


def lodged(exceptions=0, ships=30, calls=5, flags=("N", "S", "E", "W")):
    """Return calls of ships with a name and a flag each; in some a flag is another one."""
    made = []
    for number in range(ships * calls):
        ship = number % ships
        flag = flags[ship % len(flags)] if number >= exceptions else "other"
        made.append(
            {
                "call": number,
                "ship": {"no": 700 + ship, "name": f"Tide {ship}", "flag": flag},
                "teu": number * 7 % 31,
            }
        )
    return made


class FollowsTest(unittest.TestCase):
    def test_what_follows_from_what(self):
        decided = "its 30 values decide $.ship.name, $.ship.flag, in 150 rows"
        for title, records, wanted in (
            ("no exception", lodged(), [("$.ship.no", decided)]),
            ("an exception", lodged(1), [("$.ship.no", decided.replace("flag", "flag (but for 1 row)"))]),
            ("many exceptions", lodged(20), [("$.ship.no", "its 30 values decide $.ship.name, in 150 rows")]),
            ("nearly always the same", lodged(flags="N"), [("$.ship.no", "its 30 values decide $.ship.name, in 150 rows")]),
            ("few values", lodged(ships=12), []),
            ("hardly any twice", lodged(calls=2), []),
            ("in arrays", [{"list": lodged()[n : n + 10]} for n in range(0, 150, 10)],
             [("$.list[*].ship.no", decided.replace("$", "$.list[*]"))]),
        ):  # fmt: skip
            for chunk_bytes, kernel in ((10**6, "auto"), (700, "auto"), (10**6, "python")):
                with self.subTest(title, chunk_bytes=chunk_bytes, kernel=kernel):
                    found = tessaron.survey(records, chunk_bytes=chunk_bytes, kernel=kernel).notes
                    self.assertEqual(
                        [(note.path, note.text) for note in found if note.code == "follows"], wanted
                    )


class ShownTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.calls = write_calls(self.folder, 200)

    def test_the_outline(self):
        done = quick_command("survey", self.calls, COLUMNS="140")
        lines = done.stdout.decode().splitlines()
        self.assertEqual(lines[0], f"200 records in {self.calls}")
        self.assertRegex(lines[4], r"^\$ +200 +object$")
        status = next(line for line in lines if line.startswith("  status"))
        self.assertRegex(status, r'100% █████  text +3  "\w+" \d+\.\d%, "\w+" \d')
        self.assertRegex(
            done.stdout.decode(),
            r"  unique, 2 paths: a candidate key: --key\n(.*\n)?    \$\.call_id: unique and never missing\n",
        )
        self.assertLessEqual(max(map(len, lines[:40])), 140)
        narrow = quick_command("survey", self.calls, COLUMNS="80").stdout.decode().splitlines()
        self.assertLessEqual(max(map(text_width, narrow)), 80)
        self.assertNotIn("█", "".join(narrow))

    def test_a_feed_of_three_thousand_paths_takes_two_screens(self):
        agent = {"id": 1, "name": "Quill", "desk": {"floor": 2, "phone": "55"}}
        records = [
            {"n": n, f"event_{n % 60}": {f"f{k}_{n % 60}": k for k in range(45)} | {"agent": agent, "mixed": [n, "x"][n % 2]}}
            for n in range(240)
        ]  # fmt: skip
        source = self.write("events.ndjson", "\n".join(map(json.dumps, records)))
        brief = quick_command("survey", source, COLUMNS="140").stdout.decode().splitlines()
        self.assertLessEqual(len(brief), 100)
        said = next(line for line in brief if " paths; --match" in line)
        self.assertRegex(said, r"^\d+ of 3,\d{3} paths; ")
        self.assertIn("  agent, 3 fields, in 60 places: $.event_0.agent, ", "\n".join(brief))
        self.assertTrue(any(line.strip().startswith("… ") and " more " in line for line in brief))
        whole = quick_command("survey", source, "--all", "--notes", "all", COLUMNS="140").stdout.decode()
        survey = tessaron.survey(source)
        for entry in survey.entries[:: len(survey.entries) // 50]:
            self.assertTrue(f"{entry.name} " in whole, entry.path)
        for note in survey.notes:
            self.assertTrue(f"{note.path}: " in whole, note)
        self.assertEqual(json.loads(survey.to_json())["structures"][0]["name"], "agent")

    def test_what_hurts_most_comes_first(self):
        records = [{"id": n, "mixed": [n, "x"][n % 2], "same": 5, "when": "n/a"} for n in range(30)]
        source = self.write("notes.ndjson", "\n".join(map(json.dumps, records)))
        lines = quick_command("survey", source).stdout.decode().splitlines()
        sorts = [
            line.partition(",")[0].strip() for line in lines if line[:3].strip() and ", 1 path: " in line
        ]
        self.assertEqual(sorts, sorted(sorts, key=["mixed kinds", "placeholder", "unique", "constant"].index))
        self.assertGreater(len(sorts), 2, lines[-12:])

    def test_parts_of_it(self):
        cases = (
            (["--match", "teu"], ["$", "stays", "[*]", "moves", "[*]", "teu"]),
            (["--match", "$.vessel.n*"], ["$", "vessel", "number", "name"]),
            (["--depth", "0"], ["$"]),
            (["--match", "vessel", "--sort", "name"], ["$", "vessel", "built", "draught_m", "homePort", "length_m", "name", "number"]),
        )  # fmt: skip
        for options, names in cases:
            with self.subTest(options):
                lines = quick_command("survey", self.calls, *options).stdout.decode().splitlines()[4:]
                self.assertEqual([line.split()[0] for line in lines[: lines.index("")]], names)
        done = quick_command("survey", self.calls, "--match", "zzz")
        self.assertEqual(done.returncode, 1)
        self.assertIn(b"no path has 'zzz' in it", done.stderr)
        done = quick_command("survey", self.calls, "--first", "7")
        self.assertIn(b"7 records in", done.stdout)
        self.assertIn(b"(a sample: there are more records", done.stdout)

    def test_for_programs_and_notebooks(self):
        made = json.loads(quick_command("survey", self.calls, "--json").stdout)
        by_path = {entry["path"]: entry for entry in made["paths"]}
        self.assertEqual(made["records"], 200)
        self.assertEqual(by_path["$.call_id"]["distinct"], 200)
        self.assertIn("unique", [note["code"] for note in made["notes"]])
        survey = tessaron.survey(self.calls)
        table = survey.to_arrow()
        self.assertEqual(table.column("path").to_pylist(), [entry.path for entry in survey])
        self.assertEqual(table.column("fill_rate").to_pylist()[1], 1.0)
        html = tessaron.survey([{"<b>": "<i>"}])._repr_html_()
        self.assertIn("&lt;b&gt;", html)
        self.assertNotIn("<i>", html)
        self.assertIn("200 records", str(survey))
        self.assertIn("200 records, ", repr(survey))
