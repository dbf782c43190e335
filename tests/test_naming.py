"""Names of tables and columns."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

import tessaron
from tessaron.core.base.naming import Names, name_of_sources, shorten, snake_case


class NamingTest(unittest.TestCase):
    def test_snake_case(self):
        cases = {
            "berthName": "berth_name",
            "IMONumber": "imo_number",
            "Berth name (old)": "berth_name_old",
            "a.b-c": "a_b_c",
            "teu20": "teu20",
            "ÄrztlicheMeldung": "ärztliche_meldung",
            "лоцманСтатус": "лоцман_статус",
            "⚓": "",
            "__x__": "x",
        }
        for text, expected in cases.items():
            with self.subTest(text):
                self.assertEqual(snake_case(text), expected)

    def test_name_of_source(self):
        cases = {
            "vessel_calls.ndjson": "vessel_calls",
            "/feeds/Vessel Calls_2026-03-04.json.gz": "vessel_calls",
            "calls-20260304.json": "calls",
            "calls20260304.json": "calls",
            "part-2.json": "part",
            "2026-03.json": "records",
            "s3.json": "s3",
            "⚓.json": "records",
        }
        for path, expected in cases.items():
            with self.subTest(path):
                self.assertEqual(name_of_sources([path]), expected)

    def test_names_that_are_too_long_keep_their_first_and_last_words(self):
        names = Names()
        deep = [
            "calls",
            "stays",
            "moves",
            "inspection",
            "certificates",
            "surveyors",
            "temperature",
            "readings",
        ]
        for words, expected in (
            (deep, "calls_inspection_certificates_surveyors_temperature_readings"),
            (["calls", "old", *deep[1:]], "calls_old_certificates_surveyors_temperature_readings"),
            (["calls", "x" * 70], shorten("calls_" + "x" * 70)),
        ):
            with self.subTest(words):
                name = names.claim(*words, otherwise="x")
                self.assertEqual(name, expected)
                self.assertLessEqual(len(name.encode()), 63)

    def test_names_of_several_files(self):
        for files, expected in (
            (["port/aa.json", "port/ab.json"], "port"),
            (["calls-1.json", "calls-2.json.gz"], "calls"),
            (["d/stays_n1.json", "d/stays_s2.json"], "stays"),
            (["d/stays_n1.json", "e/moves.json"], "records"),
            (["2026/a.json", "2026/b.json"], "records"),
            (["a.json", "a_b.json"], "a"),
            ([*(f"d/stays_{n}.json" for n in "abcd"), "d/moves.json"], "stays"),
            (["d/stays_a.json", "d/stays_b.json", "d/moves.json"], "d"),
        ):
            with self.subTest(files):
                self.assertEqual(name_of_sources(files), expected)

    def test_clashes_and_left_overs(self):
        names = Names()
        claimed = [names.claim(text, otherwise="field") for text in ("A b", "a_b", "a-B", "⚓", "", "select")]
        self.assertEqual(claimed, ["a_b", "a_b_2", "a_b_3", "field", "field_2", "select"])

    def test_columns_of_awkward_fields(self):
        record = {"a b": 1, "a.b": 2, "A_B": 3, "": 4, "🚢": 5, "x" * 80: 6, "x" * 81: 7}
        columns = tessaron.shred(record)["records"].column_names[1:]
        self.assertEqual(columns[:5], ["a_b", "a_b_2", "a_b_3", "field", "field_2"])
        self.assertTrue(all(name.startswith("x" * 54 + "_") and len(name) == 63 for name in columns[5:]))

    @given(st.lists(st.text(max_size=90), max_size=8))
    def test_names_are_short_unique_and_never_empty(self, texts):
        names = Names()
        claimed = [names.claim(text, otherwise="field") for text in texts]
        self.assertEqual(len({name.casefold() for name in claimed}), len(texts))
        for name in claimed:
            self.assertTrue(name)
            self.assertLessEqual(len(name.encode()), 63)
            self.assertEqual(shorten(name), name)
