"""The demo: export, load into SQLite, join by the keys, and compare with the documents themselves."""

from __future__ import annotations

import json
import os
import sqlite3
from collections import defaultdict
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from datetime import datetime
from itertools import islice
from pathlib import Path

from tessaron.core.survey.survey_entries import SurveyFacts
from tessaron.decide.layout_file import Layout
from tessaron.engine.path_reading import Found
from tessaron.look.finding import find
from tessaron.look.surveying import survey_source
from tessaron.sources.demo.harbour_log import CALLS_LAYOUT, LOG_LAYOUT
from tessaron.sources.demo.manifests import CARGO_QUESTION, CargoAnswer
from tessaron.write.books.receipt import Receipt
from tessaron.write.export import export
from tessaron.write.loading import Loaded, load

__all__ = ["BERTH_QUESTION", "export"]

BerthAnswer = list[tuple[str, float, int]]
"""Per berth: hours alongside, containers moved."""

LARGE_BOXES = "$.stays[*].moves[?@.teu == 2 && @.weight_t > 30].container"
"""A path to try: the heaviest of the large containers."""

MASK_KEY = "TESSARON_MASK_KEY"
BERTH_QUESTION = """\
SELECT s.berth,
       round(sum((julianday(s."to") - julianday(s."from")) * 24), 1) AS hours_alongside,
       sum((SELECT count(*) FROM calls_stays_moves AS m WHERE m.parent_key = s.row_key)) AS containers
FROM calls AS c JOIN calls_stays AS s ON s.parent_key = c.row_key
WHERE c.status <> 'cancelled'
GROUP BY s.berth ORDER BY s.berth"""


def look(calls: Path) -> SurveyFacts:
    """Return a survey of the calls."""
    return survey_source(calls)


def first_matches(calls: Path, count: int) -> list[str]:
    """Return the first matches of `LARGE_BOXES`, as `tessaron find --where-found` prints them."""
    found = islice(find(calls, LARGE_BOXES), count)
    return [
        f"{match.path}\t{match.source}\t{match.record}\t{match.json()}"
        for match in found
        if isinstance(match, Found)
    ]


def export_both(calls: Path, into: Path) -> dict[str, Receipt]:
    """Export the calls as Parquet and as CSV below `into`; return the receipts by format."""
    return {
        "parquet": export(calls, into / "parquet", format="parquet", name="calls", replace=True),
        "csv": export(calls, into / "csv", format="csv", name="calls", replace=True),
    }


def export_with_layouts(calls: Path, log: Path, into: Path) -> list[Receipt]:
    """Export the calls and the log below `into`, each with the layout that stands beside it."""
    receipts = []
    with masked_by("a secret only for the demo"):
        for source, layout in ((calls, CALLS_LAYOUT), (log, LOG_LAYOUT)):
            target = into / f"{source.stem}_by_layout"
            chosen = Layout.read(source.with_name(layout))
            receipts.append(export(source, target, layout=chosen, replace=True))
    return receipts


def masked_by(secret: str) -> AbstractContextManager[None]:
    """Set the secret of digest masks where it is not set."""
    return variable_set(MASK_KEY, secret)


@contextmanager
def variable_set(name: str, value: str) -> Iterator[None]:
    """Set a variable of the environment, where it is not set, while the context lasts."""
    is_new = name not in os.environ
    os.environ.setdefault(name, value)
    try:
        yield
    finally:
        if is_new:
            del os.environ[name]


def load_into_sqlite(source: Path, database: Path, name: str | None = None) -> Loaded:
    """Load a source, named, into a new SQLite database; or an export beside what is there."""
    if name is None:
        return load(source, f"sqlite:///{database}")
    database.unlink(missing_ok=True)
    return load(source, f"sqlite:///{database}", name=name)


def answer_from_tables(database: Path) -> BerthAnswer:
    """Return the answer that SQLite gives by joining parent and child tables on their keys."""
    connection = sqlite3.connect(database)
    try:
        return [(berth, hours, containers) for berth, hours, containers in connection.execute(BERTH_QUESTION)]
    finally:
        connection.close()


def cargo_from_tables(database: Path) -> CargoAnswer:
    """Return the answer that SQLite gives by joining tables from JSON and from XML on the call's id."""
    connection = sqlite3.connect(database)
    try:
        return [(port, count, tonnes) for port, count, tonnes in connection.execute(CARGO_QUESTION)]
    finally:
        connection.close()


def home_ports(calls: Path) -> dict[str, str]:
    """Return the home port of the vessel of each call, read without Tessaron."""
    with open(calls, encoding="utf-8") as file:
        found = map(json.loads, file)
        return {call["call_id"]: call["vessel"]["homePort"] for call in found}


def answer_from_documents(calls: Path) -> BerthAnswer:
    """Return the same answer, added up from the documents without Tessaron."""
    seconds: dict[str, float] = defaultdict(float)
    containers: dict[str, int] = defaultdict(int)
    with open(calls, encoding="utf-8") as file:
        for line in file:
            call = json.loads(line)
            for stay in call["stays"] if call["status"] != "cancelled" else ():
                end, begin = (datetime.fromisoformat(stay[name]) for name in ("to", "from"))
                seconds[stay["berth"]] += (end - begin).total_seconds()
                containers[stay["berth"]] += len(stay["moves"])
    return [(berth, round(seconds[berth] / 3600, 1), containers[berth]) for berth in sorted(seconds)]
