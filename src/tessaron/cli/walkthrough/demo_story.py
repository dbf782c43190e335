"""The demo as it is told on the terminal, step by step."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from pathlib import Path

from rich.table import Table

from tessaron.cli.walkthrough.demo_nights import show_nights
from tessaron.cli.walkthrough.demo_sources import show_other_sources
from tessaron.cli.walkthrough.demo_walkthrough import (
    BERTH_QUESTION,
    LARGE_BOXES,
    MASK_KEY,
    BerthAnswer,
    answer_from_documents,
    answer_from_tables,
    cargo_from_tables,
    export,
    export_both,
    export_with_layouts,
    first_matches,
    home_ports,
    load_into_sqlite,
    look,
)
from tessaron.cli.walkthrough.telling import Telling
from tessaron.decide.drafting_run import explained_draft
from tessaron.look.charting import chart_source
from tessaron.prove.verifying import verify
from tessaron.sources.demo.harbour_events import write_events
from tessaron.sources.demo.harbour_log import CALLS_LAYOUT, LOG_LAYOUT, write_log
from tessaron.sources.demo.inspections import write_inspections
from tessaron.sources.demo.manifests import (
    CARGO_QUESTION,
    HEAVY_GOODS,
    MANIFESTS_FILE,
    CargoAnswer,
    cargo_from_documents,
    write_manifests,
)
from tessaron.sources.demo.vessel_calls import DEMO_RECORDS, write_calls
from tessaron.views.load_view import load_view
from tessaron.views.page.command_pages import page_of_chart
from tessaron.views.page.page_writing import write_page
from tessaron.views.reasons_view import reasons_view
from tessaron.views.survey_outline import ShownPaths, outline_lines
from tessaron.views.terminal import count, grid, notes_view, receipt_view
from tessaron.views.verification_view import verification_view

_SURVEY_WIDTH = 120


def show_demo(folder: Path, telling: Telling) -> bool:
    """Run the demo in `folder` and tell each step; return whether tables and documents gave one answer."""
    calls = write_calls(folder)
    telling.step(
        1,
        f"The feed: {calls.name}, {count(DEMO_RECORDS, 'vessel call')}, one JSON object per line.",
        ["Each has stays at berths, each stay has crane moves, each move has seals."],
    )
    _show_looking(telling, calls, folder)
    _show_exports(telling, calls, folder)
    database = folder / "harbour.sqlite"
    same = _show_loading(telling, calls, database)
    _show_hard(telling, folder)
    _show_layouts(telling, folder, calls)
    same &= _show_manifests(telling, folder, calls, database)
    same &= _show_proof(telling, folder)
    _show_kinds(telling, folder)
    same &= show_other_sources(telling, folder, calls)
    same &= show_nights(telling, folder, calls)
    _show_page(telling, folder, calls)
    telling.end(_next_steps(folder, calls, telling))
    return same


def _show_looking(telling: Telling, calls: Path, folder: Path) -> None:
    """Show the first lines of a survey, and a path tried."""
    quoted, facts = shlex.quote(str(calls)), look(calls)
    outline = outline_lines(facts, ShownPaths(depth=1), _SURVEY_WIDTH)
    telling.step(
        2,
        "Look before anything is mapped.",
        ["--depth 1 shows the first level only."],
        [f"survey {quoted} --depth 1"],
        [f"   {line}" for line in outline],
        [f"{len(facts.entries)} paths with fill, type, distinct values, range; {len(facts.notes)} notes"],
    )
    matches = first_matches(calls, 3)
    telling.step(
        3,
        "Try a path (JSONPath, RFC 9535): where does a large container weigh more than 30 tonnes?",
        (),
        [f"find {quoted} {shlex.quote(LARGE_BOXES)} --where-found --first 3"],
        [f"   {line}" for line in matches],
        matches[:1],
    )


def _show_exports(telling: Telling, calls: Path, folder: Path) -> None:
    """Show the tables as files of two formats."""
    for step, receipt in zip((4, 5), export_both(calls, folder).values(), strict=True):
        words = {4: "Tables, a Parquet file each.", 5: "The same as CSV."}
        telling.step(
            step,
            words[step],
            (),
            [_export_typed(calls, Path(receipt.target), receipt.format)],
            receipt_view(receipt),
            _last_line(receipt_view(receipt)),
        )


def _show_loading(telling: Telling, calls: Path, database: Path) -> bool:
    """Show the tables in a database, and a question that they answer as the documents do."""
    loaded = load_into_sqlite(calls, database, name="calls")
    url = f"sqlite:///{database}"
    telling.step(
        6,
        "The same into a database, in one transaction; what stands there is checked and asked.",
        (),
        [f"load {shlex.quote(str(calls))} --name calls --to {shlex.quote(url)}"],
        load_view(loaded),
        [f"{count(loaded.receipt.rows, 'row')} into {count(len(loaded.tables), 'table')} of {url}"],
    )
    from_tables, from_documents = answer_from_tables(database), answer_from_documents(calls)
    same = from_tables == from_documents
    verdict = "The tables and the documents give the same answer." if same else "The two answers DIFFER."
    telling.step(
        7,
        "A question to the tables, by their keys: hours alongside and containers moved per berth.",
        (),
        (),
        [*_indented(BERTH_QUESTION), "", _answers(from_tables, from_documents), "", verdict],
        [verdict],
    )
    return same


def _show_hard(telling: Telling, folder: Path) -> None:
    """Show hard structures being recognised."""
    inspections, target = write_inspections(folder), folder / "inspections"
    receipt = export(inspections, target, replace=True)
    notes = notes_view(receipt)
    telling.step(
        8,
        f"Hard structures: {inspections.name}, one document with the records inside an envelope.",
        (),
        [f"export {shlex.quote(str(inspections))} -o {shlex.quote(str(target))}"],
        [*receipt_view(receipt), "", *notes],
        [
            each.removeprefix("note: ")
            for each in notes
            if "dictionary" in each or "itself" in each or "single" in each
        ],
    )


def _show_layouts(telling: Telling, folder: Path, calls: Path) -> None:
    """Show what a layout says, and what comes of it."""
    log = write_log(folder)
    by_calls, by_log = export_with_layouts(calls, log, folder)
    layout = folder / LOG_LAYOUT
    chosen = [line for line in layout.read_text("utf-8").splitlines() if line.startswith(_SHOWN_KEYS)]
    also = f"The same for the calls, with {CALLS_LAYOUT}: {count(by_calls.rows, 'row')} in "
    also += f"{count(len(by_calls.tables), 'table')}."
    telling.step(
        9,
        "What the documents do not say, a layout does.",
        [
            "Rows with their names elsewhere, arrays side by side, text that holds JSON, amounts as people",
            f"write them, checks, calculated columns. It masks names, and wants a secret: {MASK_KEY}.",
        ],
        [
            f"export {shlex.quote(str(log))} --layout {shlex.quote(str(layout))} "
            f"-o {shlex.quote(by_log.target)}"
        ],
        [*_indented("\n".join(chosen)), "", *receipt_view(by_log), "", *notes_view(by_log), "", f"   {also}"],
        [chosen[0], chosen[3], chosen[5]],
    )


def _show_manifests(telling: Telling, folder: Path, calls: Path, database: Path) -> bool:
    """Show XML becoming tables, and joined with those from JSON; say whether the documents agree."""
    manifests = write_manifests(folder)
    target = folder / "manifests"
    receipt = export(manifests, target, format="csv", replace=True)
    loaded = load_into_sqlite(target, database)
    from_tables = cargo_from_tables(database)
    same = from_tables == cargo_from_documents(manifests, home_ports(calls))
    telling.step(
        10,
        f"The cargo manifests come as XML: {manifests.name}.",
        [
            "With namespaces, attributes, wrappers, weights that are nil, remarks in CDATA, compartments in",
            "compartments.",
        ],
        [f"export {shlex.quote(str(manifests))} -o {shlex.quote(str(target))} --format csv"],
        [*receipt_view(receipt), "", *notes_view(receipt)],
        _last_line(receipt_view(receipt)),
    )
    verdict = "JSON, XML and the tables of both give the same answer." if same else "The two answers DIFFER."
    telling.step(
        11,
        f"Loaded beside the calls ({count(loaded.receipt.rows, 'row')}), and joined: tonnes by home port.",
        (),
        (),
        [*_indented(CARGO_QUESTION), "", _cargo(from_tables), "", verdict],
        [verdict],
    )
    return same


def _show_proof(telling: Telling, folder: Path) -> bool:
    """Show that the tables hold what the feed holds; say whether they do."""
    found = verify(folder / "parquet")
    telling.step(
        12,
        "The proof: documents are made again of the Parquet files, and compared with the feed.",
        ["Record by record; keys, references, ordinals, types and totals are checked."],
        [f"verify {shlex.quote(str(folder / 'parquet'))}"],
        verification_view(found),
        [line for line in verification_view(found) if isinstance(line, str) and "identical" in line],
    )
    return found.passed


def _show_kinds(telling: Telling, folder: Path) -> None:
    """Show a feed of several kinds of records becoming a table for each."""
    events = write_events(folder)
    target, quoted = folder / "events", shlex.quote(str(events))
    receipt = export(events, target, replace=True)
    _, reasons = explained_draft(events)
    why = [f"   {line}" for line in reasons_view(reasons, _SURVEY_WIDTH)]
    telling.step(
        13,
        f"Records of several kinds: {events.name}, in which `kind` says what else an event has.",
        ["What all share is one table, what only one kind has a table beside it."],
        [f"export {quoted} -o {shlex.quote(str(target))}", f"draft {quoted} --why"],
        [*receipt_view(receipt), "", *why],
        _last_line(receipt_view(receipt)),
    )


def _show_page(telling: Telling, folder: Path, calls: Path) -> None:
    """Write a page to look at in a browser."""
    page = folder / "calls.html"
    quoted = shlex.quote(str(calls))
    write_page(page_of_chart(chart_source(calls), "survey", quoted), page)
    telling.step(
        17,
        "To look rather than read: a page for the browser, with search, notes and the diagram of the tables.",
        ["The same page, live, is where a layout can be chosen:"],
        [f"survey {quoted} --page {shlex.quote(str(page))}", f"draft {quoted} --serve -o mine.layout.toml"],
        (),
        [f"open {page} in a browser"],
    )


def _last_line(parts: Sequence[Table | str]) -> list[str]:
    return [str(parts[-1])]


def _indented(text: str) -> list[str]:
    return [f"     {line}" for line in text.splitlines()]


def _cargo(answer: CargoAnswer) -> Table:
    rows = [(port, f"{manifests:,}", f"{tonnes:,.1f}") for port, manifests, tonnes in answer]
    headings = ("home port", "manifests", "tonnes")
    return grid(headings, rows, numeric=("manifests", "tonnes"))


_SHOWN_KEYS = ("named_rows", "embedded", "parallel", "dues", "signal ", "strongest", "rough", "master ")


def _answers(from_tables: BerthAnswer, from_documents: BerthAnswer) -> Table:
    documents = {berth: (hours, boxes) for berth, hours, boxes in from_documents}
    rows = [
        (
            berth,
            f"{hours:,.1f}",
            f"{boxes:,}",
            "the same" if documents.get(berth) == (hours, boxes) else f"{documents.get(berth)}",
        )
        for berth, hours, boxes in from_tables
    ]
    headings = ("berth", "hours alongside", "containers", "added up from the documents")
    return grid(headings, rows, numeric=("hours alongside", "containers"))


def _export_typed(source: Path, target: Path, form: str) -> str:
    return f"export {shlex.quote(str(source))} -o {shlex.quote(str(target))} --format {form} --name calls"


def _next_steps(folder: Path, calls: Path, telling: Telling) -> list[str]:
    quoted, large, command = shlex.quote(str(calls)), folder / "large", telling.command
    drafted = shlex.quote(str(folder / "mine.layout.toml"))
    first = [
        f"{command} demo --step 8 --into {shlex.quote(str(folder))}",
        f"{command} draft {quoted} --name calls -o {drafted} --replace",
        f"{command} preview {quoted} --layout {drafted} --rows 3",
        f"{command} compare {shlex.quote(str(folder / 'deliveries' / '1_monday.ndjson'))} {quoted}",
    ]
    if not telling.is_whole:
        said = (
            f"Each step with all that it prints: {command} demo --step N; all of them: {command} demo --all"
        )
        return [said, "", "What to try next:", *(f"  {line}" for line in first)]
    more = [
        f"{command} survey {quoted} --match moves",
        f"{command} preview {quoted} --table stays",
        f"{command} find {shlex.quote(str(folder / MANIFESTS_FILE))} {shlex.quote(HEAVY_GOODS)} --count",
        f"{command} rebuild {shlex.quote(str(folder / 'parquet'))} "
        f"-o {shlex.quote(str(folder / 'again.ndjson'))} --replace",
        f"{command} verify {shlex.quote(str(folder / 'manifests'))}",
        f"{command} sample {quoted} -o {shlex.quote(str(folder / 'sample.ndjson'))} --first 5 --mask",
        f"head -n 4 {shlex.quote(str(folder / 'csv' / 'calls_stays_moves.csv'))}",
        f"head -n 100 {quoted} | {command} {_export_typed(Path('-'), folder / 'first_100', 'csv')}",
        f"{command} demo --records 50000 --into {shlex.quote(str(large))}",
        f"{command} {_export_typed(large / calls.name, large / 'tables', 'parquet')}",
    ]
    return ["What to try next:", *(f"  {line}" for line in (*first, *more))]
