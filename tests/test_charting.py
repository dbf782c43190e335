"""A source looked at once: the same as a survey, a draft and a preview of it, each by itself."""

import json
import unittest
from collections import Counter

import pyarrow as pa

import tessaron
from tessaron.cli.walkthrough.demo_walkthrough import masked_by
from tessaron.decide.drafting_run import explained_draft
from tessaron.look.charting import chart_source
from tessaron.sources.demo.harbour_events import write_events
from tessaron.sources.demo.harbour_log import CALLS_LAYOUT, LOG_LAYOUT, write_log
from tessaron.sources.demo.inspections import write_inspections
from tessaron.sources.demo.manifests import write_manifests
from tessaron.sources.demo.vessel_calls import iter_calls, write_calls
from tests.harness import FolderTest

# what writes a feed, and options under which it is looked at
FEEDS = (
    (write_calls, {}), (write_calls, {"name": "calls", "keys": "digest", "key": ["call_id"]}), (write_calls, {"records": "$.stays[*]"}),
    (write_calls, {"lookups": True}), (write_calls, {"only": ["call_id", "$.stays[*].berth"]}), (write_calls, {"first": 40}), (write_calls, {"exact": True}),
    (write_inspections, {}), (write_inspections, {"envelope": False}), (write_inspections, {"not_dictionaries": ["$.tide_by_day"]}),
    (write_manifests, {}), (write_events, {}), (write_events, {"undivided": True}), (write_log, {}),
)  # fmt: skip


def entries_of(facts):
    """Return what a survey tells of each path, but for what is of one run only."""
    return [
        (
            entry.path,
            entry.rows,
            entry.filled,
            entry.kinds,
            entry.type,
            entry.distinct,
            entry.frequent,
            entry.elements,
        )
        for entry in facts.entries
    ]


class ChartedTest(FolderTest):
    def test_it_is_what_a_survey_and_a_draft_find(self):
        for write, options in FEEDS:
            source = write(self.folder)
            with self.subTest(source.name, **options):
                chart = chart_source(source, **options)
                layout, reasons = explained_draft(source, **options)
                self.assertEqual(chart.layout.text, layout.text)
                self.assertEqual(chart.reasons, reasons)
                if not options.keys() & {"only", "lookups", "exact", "undivided", "keys", "envelope"}:
                    facts = tessaron.survey(
                        source, **{name: options[name] for name in options if name != "key"}
                    ).facts
                    self.assertEqual(entries_of(chart.facts), entries_of(facts))
                    self.assertEqual(
                        [note.text for note in chart.facts.notes], [note.text for note in facts.notes]
                    )

    def test_its_rows_are_those_that_the_layout_makes(self):
        for write, options in FEEDS:
            source = write(self.folder)
            with self.subTest(source.name, **options):
                chart = chart_source(source, **options)
                own = {name: options[name] for name in options if name == "first"}
                tables = tessaron.shred(source, layout=chart.layout, **own)
                self.assertEqual(set(chart.rows), set(tables))
                for name, rows in chart.rows.items():
                    self.assertEqual(
                        pa.Table.from_batches([rows]).to_pylist(), tables[name].slice(0, 8).to_pylist(), name
                    )
                counts = chart.sample.seen_by(chart.layout).counts
                self.assertEqual(
                    {name: counts[name] for name in tables},
                    {name: table.num_rows for name, table in tables.items()},
                )

    def test_every_column_is_at_a_path_of_the_survey(self):
        for write, options in FEEDS:
            source = write(self.folder)
            with self.subTest(source.name, **options):
                chart = chart_source(source, **options)
                known = {entry.path for entry in chart.facts.entries}
                strange = [
                    path
                    for path in chart.taken
                    if path not in known
                    and not path.startswith(("document_key of", "row_rest of", "depth of"))
                ]
                self.assertEqual([path for path in strange if " of " not in path], [])

    def test_another_layout_sees_the_same_sample(self):
        for write, name in ((write_calls, CALLS_LAYOUT), (write_log, LOG_LAYOUT)):
            source = write(self.folder)
            write_log(self.folder)
            layout = tessaron.Layout.read(self.folder / name)
            with self.subTest(name), masked_by("only a test"):
                seen = chart_source(source, seen_by=layout).sample.seen_by(layout)
                tables = tessaron.shred(source, layout=layout)
                self.assertEqual(
                    {each: seen.counts[each] for each in tables},
                    {each: table.num_rows for each, table in tables.items()},
                )
                told = {finding.code for finding in tables.findings}
                self.assertEqual(bool(seen.problems), bool(told))

    def test_nothing_to_chart(self):
        source = self.write("empty.json", "[]")
        chart = chart_source(source)
        self.assertEqual((chart.layout, chart.sample, chart.facts.records), (None, None, 0))

    def test_options_that_a_layout_speaks_of_are_refused_beside_one(self):
        layout = tessaron.draft(list(iter_calls(5)))
        with self.assertRaisesRegex(tessaron.UsageError, "records does not go with a layout"):
            chart_source(list(iter_calls(5)), seen_by=layout, records="$.stays[*]")


class OnRowsTest(FolderTest):
    """A program is shown the rows that are written, all of them, once."""

    def seen(self, run, **options):
        counts, batches = Counter(), {}

        def look(rows):
            for name, batch in rows.items():
                counts[name] += batch.num_rows
                batches.setdefault(name, []).append(batch)

        made = run(on_rows=look, **options)
        return made, counts, {name: pa.Table.from_batches(each) for name, each in batches.items()}

    def test_whatever_is_made_of_a_feed(self):
        feed = write_calls(self.folder, 120)
        layout = tessaron.draft(feed, name="calls").set_table("calls", keep="status != 'cancelled'")
        for number, options in enumerate(
            (
                {},
                {"chunk_bytes": 4_000, "workers": 2},
                {"keys": "digest"},
                {"layout": layout},
                {"flat": "$.stays[*]"},
                {"first": 7},
            )
        ):
            with self.subTest(**options):
                tables, counts, rows = self.seen(lambda **given: tessaron.shred(feed, **given), **options)
                self.assertEqual(counts, {name: table.num_rows for name, table in tables.items()})
                self.assertEqual(
                    {name: table.to_pylist() for name, table in rows.items()},
                    {name: table.to_pylist() for name, table in tables.items()},
                )
                target = self.folder / f"t{number}"
                receipt, counts, _ = self.seen(
                    lambda target=target, **given: tessaron.export(feed, target, **given), **options
                )
                self.assertEqual(counts, {table.name: table.rows for table in receipt.tables})

    def test_what_is_loaded_and_merged(self):
        feed = write_calls(self.folder, 60)
        url, merge = (
            f"sqlite:///{self.folder / 'c.db'}",
            {"mode": "merge", "key": ["call_id"], "name": "calls"},
        )
        loaded, counts, _ = self.seen(lambda **given: tessaron.load(feed, url, **given), **merge)
        self.assertEqual(counts["calls"], 60)
        lines = feed.read_text("utf-8").splitlines()
        changed = json.loads(lines[0]) | {"status": "checked"}
        feed.write_text("\n".join([json.dumps(changed), *lines[1:]]), "utf-8")
        loaded, counts, rows = self.seen(lambda **given: tessaron.load(feed, url, **given), **merge)
        self.assertEqual((loaded.records["changed"], counts["calls"]), (1, 1), "what stays is not written")
        self.assertEqual(rows["calls"].column("status").to_pylist(), ["checked"])

    def test_an_export_that_is_loaded_has_none_to_show(self):
        tessaron.export(list(iter_calls(3)), self.folder / "t")
        with self.assertRaisesRegex(tessaron.UsageError, "loaded as they are"):
            tessaron.load(str(self.folder / "t"), f"sqlite:///{self.folder / 'c.db'}", on_rows=print)


if __name__ == "__main__":
    unittest.main()
