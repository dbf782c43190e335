"""What a run would take: listed, sampled and measured, and the model behind it."""

import gzip
import json
import unittest
from itertools import pairwise

import tessaron
from tessaron.engine.options import Options
from tessaron.forecast.cost_model import Measured, cost_here, cost_on_cluster
from tessaron.forecast.sampled_files import sampled_files
from tessaron.sources.demo.manifests import write_manifests
from tessaron.sources.demo.vessel_calls import iter_calls, write_calls
from tessaron.sources.resolving import resolve_inputs
from tessaron.views.estimate_view import shown_bytes, shown_seconds
from tests.harness import FolderTest, quick_command

SAMPLE = Measured(
    bytes=10_000_000, packed_bytes=10_000_000, records=5_000, rows=90_000, tables=7, written_bytes=900_000, written_share=0.09,
    fixed_seconds=1.0, byte_seconds=1e-8, peak_bytes=200_000_000,
)  # fmt: skip


class CostTest(unittest.TestCase):
    def test_what_follows_from_a_sample(self):
        self.assertAlmostEqual(cost_here(SAMPLE, 1e9, 1).seconds, 11.0)
        two = cost_here(SAMPLE, 1e9, 2)
        self.assertTrue(6.0 < two.seconds < 7.0)
        self.assertGreater(two.peak_bytes, SAMPLE.peak_bytes)
        for byte_count, files, workers, least, most, words in (
            (1e12, 1_000, 16, 600, 900, "the workers' processors"),
            (1e12, 1_000, 1_000, 200, 300, "the process that hands out parts"),
            (1e12, 10_000_000, 64, 3_000, 3_600, "the process that hands out parts"),
            (3e8, 1, 64, 4, 9, "3 parts: other workers have nothing to do"),
        ):
            with self.subTest(byte_count=byte_count, workers=workers):
                cost = cost_on_cluster(SAMPLE, byte_count, files, workers)
                self.assertEqual(cost.bottleneck, words)
                self.assertTrue(least < cost.seconds < most, cost.seconds)

    def test_more_workers_never_take_longer(self):
        for byte_count in (1e6, 1e9, 1e12, 1e14):
            times = [cost_on_cluster(SAMPLE, byte_count, 100, 2**power).seconds for power in range(1, 9)]
            for fewer, more in pairwise(times):
                self.assertLess(more, 1.1 * fewer, byte_count)

    def test_numbers_in_units_that_fit(self):
        for number, text in ((12, "12 bytes"), (590_000, "590 kB"), (2.1e6, "2.1 MB"), (1.6e14, "160 TB")):
            self.assertEqual(shown_bytes(number), text)
        for seconds, text in (
            (0.8, "0.8 seconds"),
            (119, "119 seconds"),
            (600, "10 minutes"),
            (30_000, "8.3 hours"),
            (9e5, "10 days"),
        ):
            self.assertEqual(shown_seconds(seconds), text)


class EstimateTest(FolderTest):
    def sample_of(self, source, most_bytes, is_xml=False):
        files = sampled_files(
            resolve_inputs(str(source)), Options(), self.folder / "sample", most_bytes, is_xml
        )
        tables = tessaron.shred([each.path for each in files], name="calls", workers=1)
        return files, tables

    def test_samples_stand_as_the_source_does(self):
        records = list(iter_calls(1_200))
        lines = write_calls(self.folder, 1_200)
        for source, times in (
            (lines, 1), (self.write("c.ndjson.gz", gzip.compress(lines.read_bytes())), 5),
            (self.write("array.json", json.dumps(records)), 1),
            (self.write("pages.json", json.dumps({"page": 1, "more": {"calls": records}})), 1),
        ):  # fmt: skip
            with self.subTest(source=source.name):
                (self.folder / "sample").exists() and [
                    each.unlink() for each in (self.folder / "sample").iterdir()
                ]
                (self.folder / "sample").exists() and (self.folder / "sample").rmdir()
                files, tables = self.sample_of(source, 300_000)
                taken = sum(each.bytes for each in files)
                self.assertTrue(250_000 < taken < 600_000, taken)
                self.assertEqual(tables.rejects, ())
                expected = len(records) * taken / len(lines.read_bytes())
                self.assertTrue(0.8 * expected < tables.record_count < 1.2 * expected, tables.record_count)
                packed = sum(each.packed_bytes for each in files)
                self.assertTrue(0.8 * times < taken / packed < 3 * times, taken / packed)

    def test_what_the_command_says(self):
        source = write_calls(self.folder, 700)
        done = quick_command("estimate", source, "--on-workers", 2, "--sample-size", "700KB", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        found = json.loads(done.stdout)
        receipt = tessaron.export(source, self.folder / "tables")
        written = sum(each.stat().st_size for each in (self.folder / "tables").rglob("*.*"))
        self.assertEqual((found["files"], found["bytes"]), (1, source.stat().st_size))
        self.assertEqual(found["sample"]["tables"], len(receipt.tables))
        for said, was, most in (
            (found["records"], 700, 0.15),
            (found["rows"], receipt.rows, 0.15),
            (found["output_bytes"], written, 0.35),
        ):
            self.assertTrue(abs(said / was - 1) < most, (said, was))
        self.assertEqual([each["workers"] for each in found["costs"] if each["is_cluster"]], [2])
        shown = quick_command(
            "estimate", self.folder / "vessel_calls.ndjson", "--format", "csv"
        ).stdout.decode()
        self.assertRegex(
            shown,
            r"^source   1 file, [\d.]+ MB\nrecords  about \d+\ntables   7, about [\d,]+ rows\noutput   about ",
        )
        self.assertRegex(
            shown, r"a cluster +64 +[\d.]+ seconds +\d+ MB   1 part: other workers have nothing to do\n"
        )

    def test_xml_and_what_cannot_be_read(self):
        found = tessaron.estimate(write_manifests(self.folder, 60))
        self.assertEqual(found.tables, len(tessaron.shred(self.folder / "manifests.xml")))
        source = write_manifests(self.folder, 1_500)
        found = tessaron.estimate(source, sample_bytes=source.stat().st_size // 5, on_workers=(2,))
        self.assertLess(found.sample.bytes, source.stat().st_size / 2)
        records = tessaron.shred(source).record_count
        self.assertTrue(0.6 * records < found.records < 1.4 * records, (found.records, records))
        empty = self.write("empty.json", b"")
        for arguments, words in (
            (("-",), "which can be listed"), ((empty,), "which can be listed"),
            ((self.folder / "none.json",), "cannot be read"), ((self.write("no.json", "nothing here"),), "nothing"),
        ):  # fmt: skip
            with self.subTest(arguments=arguments):
                done = quick_command("estimate", *arguments, stdin=b"[]")
                self.assertEqual(done.returncode, 2)
                self.assertIn(words, done.stderr.decode())
