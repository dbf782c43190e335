"""The demo as it is told on the terminal, step by step."""

from __future__ import annotations

import shlex
from pathlib import Path

from rich.console import Console
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
from tessaron.decide.drafting_run import explained_draft
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
from tessaron.views.reasons_view import reasons_view
from tessaron.views.survey_outline import ShownPaths, outline_lines
from tessaron.views.terminal import console, count, grid, notes_view, receipt_view, show
from tessaron.views.verification_view import verification_view
from tessaron.write.books.receipt import Receipt

_SURVEY_WIDTH = 120


def show_demo(folder: Path, command: str = "tessaron") -> bool:
    """Run the demo in `folder` and tell each step; return whether tables and documents gave one answer.

    `command` is how the user calls Tessaron, for the commands to paste.
    """
    screen = console()
    show(screen, f"The harbour office of Brackwater, in {folder}", "")

    calls = write_calls(folder)
    show(
        screen,
        f"1. The feed: {calls.name}, {count(DEMO_RECORDS, 'vessel call')}, one JSON object per line.",
        "   Each has stays at berths, each stay has crane moves, each move has seals.",
        "",
    )

    _show_looking(screen, calls, command)

    def say(receipt: Receipt) -> None:
        step = 4 if receipt.format == "parquet" else 5
        typed = _export_typed(command, calls, Path(receipt.target), receipt.format)
        show(screen, f"{step}. {typed}", "", *receipt_view(receipt), "")

    export_both(calls, folder, say)

    database = folder / "harbour.sqlite"
    loaded = load_into_sqlite(calls, database, name="calls")
    url = f"sqlite:///{database}"
    question = [f"     {line}" for line in BERTH_QUESTION.splitlines()]
    show(
        screen,
        "6. The same into a database, in one transaction; what stands there is checked and asked:",
        "",
        f"   {command} load {shlex.quote(str(calls))} --name calls --to {shlex.quote(url)}",
        "",
        *load_view(loaded),
        "",
        "7. A question to the tables, by their keys: hours alongside and containers moved per berth",
        "",
        *question,
        "",
    )
    from_tables, from_documents = answer_from_tables(database), answer_from_documents(calls)
    same = from_tables == from_documents
    verdict = "The tables and the documents give the same answer."
    show(
        screen, _answers(from_tables, from_documents), "", verdict if same else "The two answers DIFFER.", ""
    )
    inspections = write_inspections(folder)
    target = folder / "inspections"
    receipt = export(inspections, target, replace=True)
    show(
        screen,
        f"8. Hard structures: {inspections.name}, one document with the records inside an envelope",
        "",
        f"   {command} export {shlex.quote(str(inspections))} -o {shlex.quote(str(target))}",
        "",
        *receipt_view(receipt),
        "",
        *notes_view(receipt),
        "",
    )
    _show_layouts(screen, folder, calls, command)
    same &= _show_manifests(screen, folder, calls, database, command)
    same &= _show_proof(screen, folder, command)
    _show_kinds(screen, folder, command)
    same &= show_other_sources(screen, folder, calls, command)
    same &= show_nights(screen, folder, calls, command)
    show(screen, "What to try next:", *(f"  {line}" for line in _next_steps(folder, calls, command)))
    return same


def _show_looking(screen: Console, calls: Path, command: str) -> None:
    """Show the first lines of a survey, and a path tried."""
    quoted = shlex.quote(str(calls))
    outline = outline_lines(look(calls), ShownPaths(depth=1), _SURVEY_WIDTH)
    show(
        screen,
        "2. Look before anything is mapped (--depth 1 for the first level only):",
        "",
        f"   {command} survey {quoted} --depth 1",
        "",
        *(f"   {line}" for line in outline),
        "",
        "3. Try a path (JSONPath, RFC 9535): where does a large container weigh more than 30 tonnes?",
        "",
        f"   {command} find {quoted} {shlex.quote(LARGE_BOXES)} --where-found --first 3",
        "",
        *(f"   {line}" for line in first_matches(calls, 3)),
        "",
    )


def _show_layouts(screen: Console, folder: Path, calls: Path, command: str) -> None:
    """Show what a layout says, and what comes of it."""
    log = write_log(folder)
    by_calls, by_log = export_with_layouts(calls, log, folder)
    layout = folder / LOG_LAYOUT
    chosen = [line for line in layout.read_text("utf-8").splitlines() if line.startswith(_SHOWN_KEYS)]
    typed = f"{shlex.quote(str(log))} --layout {shlex.quote(str(layout))} -o {shlex.quote(by_log.target)}"
    show(
        screen,
        "9. What the documents do not say, a layout does: rows with their names elsewhere, arrays side",
        "   by side, text that holds JSON, amounts as people write them, checks, calculated columns.",
        "",
        f"   {MASK_KEY}=… {command} export {typed}",
        "",
        *(f"   {line}" for line in chosen),
        "",
        *receipt_view(by_log),
        "",
        *notes_view(by_log),
        "",
        f"   The same for the calls, with {CALLS_LAYOUT}: {count(by_calls.rows, 'row')} in "
        f"{count(len(by_calls.tables), 'table')}.",
        "",
    )


def _show_manifests(screen: Console, folder: Path, calls: Path, database: Path, command: str) -> bool:
    """Show XML becoming tables, and joined with those from JSON; say whether the documents agree."""
    manifests = write_manifests(folder)
    target = folder / "manifests"
    receipt = export(manifests, target, format="csv", replace=True)
    loaded = load_into_sqlite(target, database)
    typed = f"{shlex.quote(str(manifests))} -o {shlex.quote(str(target))} --format csv"
    from_tables = cargo_from_tables(database)
    same = from_tables == cargo_from_documents(manifests, home_ports(calls))
    show(
        screen,
        f"10. The cargo manifests come as XML: {manifests.name}, with namespaces, attributes, wrappers,",
        "   weights that are nil, remarks in CDATA, compartments inside compartments.",
        "",
        f"   {command} export {typed}",
        "",
        *receipt_view(receipt),
        "",
        *notes_view(receipt),
        "",
        f"11. Loaded beside the calls ({count(loaded.receipt.rows, 'row')}), and joined with them: tonnes by",
        "   home port.",
        "",
        *(f"     {line}" for line in CARGO_QUESTION.splitlines()),
        "",
    )
    verdict = "JSON, XML and the tables of both give the same answer."
    show(screen, _cargo(from_tables), "", verdict if same else "The two answers DIFFER.", "")
    return same


def _show_proof(screen: Console, folder: Path, command: str) -> bool:
    """Show that the tables hold what the feed holds; say whether they do."""
    parquet = folder / "parquet"
    found = verify(parquet)
    show(
        screen,
        "12. The proof: documents are made again of the Parquet files of step 4, and compared with the feed",
        "   record by record; keys, references, ordinals, types and totals are checked.",
        "",
        f"   {command} verify {shlex.quote(str(parquet))}",
        "",
        *verification_view(found),
        "",
    )
    return found.passed


def _show_kinds(screen: Console, folder: Path, command: str) -> None:
    """Show a feed of several kinds of records becoming a table for each."""
    events = write_events(folder)
    target = folder / "events"
    receipt = export(events, target, replace=True)
    _, reasons = explained_draft(events)
    show(
        screen,
        f"13. Records of several kinds: {events.name}, in which `kind` says what else an event has. What all",
        "   share is one table, what only one kind has a table beside it.",
        "",
        f"   {command} export {shlex.quote(str(events))} -o {shlex.quote(str(target))}",
        "",
        *receipt_view(receipt),
        "",
        f"   {command} draft {shlex.quote(str(events))} --why",
        "",
        *(f"   {line}" for line in reasons_view(reasons, _SURVEY_WIDTH)),
        "",
    )


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


def _export_typed(command: str, source: Path, target: Path, form: str) -> str:
    paths = f"{shlex.quote(str(source))} -o {shlex.quote(str(target))}"
    return f"{command} export {paths} --format {form} --name calls"


def _next_steps(folder: Path, calls: Path, command: str) -> list[str]:
    quoted, large = shlex.quote(str(calls)), folder / "large"
    drafted = shlex.quote(str(folder / "mine.layout.toml"))
    return [
        f"{command} survey {quoted} --match moves",
        f"{command} draft {quoted} --name calls -o {drafted} --replace",
        f"{command} preview {quoted} --layout {drafted} --rows 3",
        f"{command} preview {quoted} --table stays",
        f"{command} find {shlex.quote(str(folder / MANIFESTS_FILE))} {shlex.quote(HEAVY_GOODS)} --count",
        f"{command} rebuild {shlex.quote(str(folder / 'parquet'))} "
        f"-o {shlex.quote(str(folder / 'again.ndjson'))} --replace",
        f"{command} verify {shlex.quote(str(folder / 'manifests'))}",
        f"{command} compare {shlex.quote(str(folder / 'deliveries' / '1_monday.ndjson'))} {quoted}",
        f"{command} sample {quoted} -o {shlex.quote(str(folder / 'sample.ndjson'))} --first 5 --mask",
        f"head -n 4 {shlex.quote(str(folder / 'csv' / 'calls_stays_moves.csv'))}",
        f"head -n 100 {quoted} | {_export_typed(command, Path('-'), folder / 'first_100', 'csv')}",
        f"{command} demo --records 50000 --into {shlex.quote(str(large))}",
        _export_typed(command, large / calls.name, large / "tables", "parquet"),
    ]
