"""Python objects as sources: iterables of records and of texts, asynchronous ones, rows of Arrow."""

import asyncio
import collections
import unittest

import pyarrow as pa

import tessaron
from tests.harness import FolderTest

RECORDS = [{"call": 1}, {"call": 2}]
TEXTS = ['{"call":1}', '{"call":2}\n']


async def later(values):
    for value in values:
        await asyncio.sleep(0)
        yield value


class Only:
    """Gives its rows through the C stream interface and nothing else."""

    def __init__(self, table):
        self._table = table

    def __arrow_c_stream__(self, requested_schema=None):
        return self._table.__arrow_c_stream__(requested_schema)


TABLE = pa.table({"call": [1, 2], "payload": ['{"x":[1]}', '{"x":[]}']})


class ObjectsTest(FolderTest):
    def calls(self, source):
        return tessaron.shred(source)["records"].column("call").to_pylist()

    def test_every_iterable_is_a_source(self):
        cases = {
            "a list": RECORDS, "a tuple": tuple(RECORDS), "an iterator": iter(RECORDS), "a deque": collections.deque(RECORDS), "a view": dict(enumerate(RECORDS)).values(),
            "a generator": (record for record in RECORDS), "an asynchronous generator": later(RECORDS), "texts": iter(TEXTS), "a deque of texts": collections.deque(TEXTS),
            "bytes": (text.encode() for text in TEXTS), "asynchronous texts": later(TEXTS), "lines of several": iter(['{"call":1}\n{"call":2}']),
            "texts of several lines": iter(['{\n"call":1}', '{"call"\n:2}']),
        }  # fmt: skip
        for name, source in cases.items():
            with self.subTest(name):
                self.assertEqual(self.calls(source), [1, 2])

    def test_rows_of_arrow(self):
        for source in (TABLE, TABLE.to_reader(), TABLE.to_batches()[0], Only(TABLE)):
            with self.subTest(type(source).__name__):
                tables = tessaron.shred(source)
                self.assertEqual(
                    {name: table.num_rows for name, table in tables.items()},
                    {"records": 2, "records_payload_x": 1},
                )
        self.assertIn("payload", tables.notes[0][1])
        with self.assertRaisesRegex(tessaron.DataError, "empty"):
            tessaron.shred(TABLE.slice(0, 0))

    def test_tables_go_in_again(self):
        tables = tessaron.shred(RECORDS)
        self.assertEqual(self.calls(tables["records"].drop(["row_key"])), [1, 2])

    def test_streams_are_not_held(self):
        seen = []

        def records():
            for number in range(10_000):
                seen.append(number)
                yield {"call": number}

        self.assertEqual(tessaron.shred(records(), first=5)["records"].num_rows, 5)
        self.assertLess(len(seen), 5_000)

    def test_what_is_no_source(self):
        path = self.write("a.json", '{"call":1}')
        cases = (
            ([str(path), "nowhere"], tessaron.SourceError, "nowhere"), (5, tessaron.UsageError, "expected a path"),
            (iter(['{"call":1}', 5]), tessaron.UsageError, "expected texts or bytes only, as the first was one, got int"),
        )  # fmt: skip
        for source, kind, said in cases:
            with self.subTest(said), self.assertRaisesRegex(kind, said):
                tessaron.shred(source)

    def test_a_loop_that_runs_is_not_stopped(self):
        async def inside():
            with self.assertRaisesRegex(tessaron.UsageError, "to_thread"):
                tessaron.shred(later(RECORDS))
            return await asyncio.to_thread(self.calls, later(RECORDS))

        self.assertEqual(asyncio.run(inside()), [1, 2])


if __name__ == "__main__":
    unittest.main()
