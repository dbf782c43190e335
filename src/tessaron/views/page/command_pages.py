"""The page of each command, put together of its parts."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.visible import visible
from tessaron.core.survey.survey_entries import SurveyFacts
from tessaron.decide.layout_file import Layout
from tessaron.look.charting import Chart
from tessaron.prove.verifying import Verification
from tessaron.repeat.comparing import Comparison
from tessaron.repeat.run_history import History
from tessaron.views.page.finding_sheets import comparison_sheets, history_sheets, verification_sheets
from tessaron.views.page.page_model import NextCommand, Page, ShownStructure, Tone, names_of
from tessaron.views.page.run_sheets import account_sheets, other_sheets, run_facts
from tessaron.views.page.structure_part import ShownTables, structure_of_survey, structure_of_tables
from tessaron.views.terminal import count
from tessaron.views.verification_view import verdict_lines
from tessaron.write.books.balance import balances_of, gaps


def page_of_chart(chart: Chart, command: str, typed: str, layout_file: str | None = None) -> Page:
    """Return the page of `survey` or `draft`: the structure, and the tables it leads to.

    Args:
        chart: What was seen.
        command: `survey` or `draft`.
        typed: The source as it was typed, for the commands that the page offers.
        layout_file: The layout file that was written.
    """
    facts = chart.facts
    tables = None if chart.layout is None else tables_of_layout(chart.layout, chart.rows)
    if tables is not None:
        tables = ShownTables(tables.tables, tables.part, chart.reasons, {}, chart.rows)
    structure = structure_of_survey(facts, tables, chart.taken)
    return _of_facts(facts, structure, command, _first_advice(typed, layout_file))


def page_of_survey(facts: SurveyFacts, layout: Layout, typed: str) -> Page:
    """Return the page of a survey through a layout: which column takes which path, and what is left out."""
    structure = structure_of_survey(facts, tables_of_layout(layout), facts.taken or {})
    return _of_facts(facts, structure, "survey", _first_advice(typed, layout.source))


def _of_facts(
    facts: SurveyFacts, structure: ShownStructure, command: str, advice: Sequence[NextCommand]
) -> Page:
    told = f"{count(facts.records, 'record')}" + (", a sample: there are more" if facts.is_partial else "")
    tables, notes = structure.data["tables"], len(facts.notes)
    columns = sum(sum(column[2] != "key" for column in table["columns"]) for table in tables)
    told += f"; {count(len(facts.entries), 'path')}, {count(notes, 'note')}"
    told += (
        f"; {count(len(tables), 'table')} with {count(columns, 'column')} would come out" if tables else ""
    )
    named = [("records at", visible(facts.records_path))] if facts.records_path != "$" else []
    return Page(command, names_of(facts.sources), told, facts=named, structure=structure, advice=advice)


def _first_advice(typed: str, layout_file: str | None) -> list[NextCommand]:
    if layout_file is not None:
        layout = shlex.quote(layout_file)
        return [
            NextCommand("see what comes out", f"tessaron preview {typed} --layout {layout}"),
            NextCommand("write the tables", f"tessaron export {typed} --layout {layout} -o tables"),
        ]
    return [
        NextCommand("choose on a page", f"tessaron draft {typed} --serve -o my.layout.toml"),
        NextCommand("keep the proposed layout, to be edited", f"tessaron draft {typed} -o my.layout.toml"),
        NextCommand("write the tables", f"tessaron export {typed} -o tables"),
    ]


def tables_of_layout(
    layout: Layout, first: Mapping[str, ArrowRows] | None = None, receipt: Mapping[str, Any] | None = None
) -> ShownTables:
    """Return the tables that a layout makes, with what a receipt has counted of them."""
    counts = {} if receipt is None else {each["name"]: each["rows"] for each in receipt["tables"]}
    balance = () if receipt is None else receipt["balance"]
    filled = {each["name"]: each["written"] for each in balance if each["what"] == "values"}
    notes = {
        f"{table['name']}.{column['name']}": str(column["note"])
        for table in (() if receipt is None else receipt["tables"])
        for column in table["columns"]
        if column["note"]
    }
    tables = layout.compiled(secret=b"any").written().tables
    return ShownTables(tables, layout.part, {}, counts, first or {}, filled, notes)


def page_of_run(
    command: str,
    receipt: Mapping[str, Any],
    layout: Layout,
    first: Mapping[str, ArrowRows],
    rejects: Iterable[Mapping[str, Any]],
    advice: Sequence[NextCommand],
) -> Page:
    """Return the page of an export or a load: what was done, and the tables.

    Args:
        command: `export` or `load`.
        receipt: As it stands in `receipt.json`.
        layout: The layout by which it was done.
        first: The first rows of each table.
        rejects: The first rejects.
        advice: What to type next.
    """
    tables = tables_of_layout(layout, first, receipt)
    rows = sum(int(table["rows"]) for table in receipt["tables"])
    text = f"{count(receipt['records'], 'record')} in, {count(rows, 'row')} out, "
    text += count(len(receipt["tables"]), "table")
    verdict, tone = _verdict_of_run(receipt)
    return Page(
        command, names_of([str(each["name"]) for each in receipt["sources"]]), text, verdict, tone,
        run_facts(receipt), structure_of_tables(tables), list(account_sheets(receipt, rejects)),
        list(other_sheets(receipt)), advice,
    )  # fmt: skip


def _verdict_of_run(receipt: Mapping[str, Any]) -> tuple[str, Tone]:
    sums = balances_of(receipt)
    if wrong := gaps(sums):
        return f"{count(len(wrong), 'sum')} of {len(sums):,} do not add up; please report this", "bad"
    rejected, values = receipt["rejected"], receipt["rejected_values"]
    checks = [each for each in (receipt["key_check"], *receipt["key_checks"]) if each is not None]
    failed = sum(bool(each["duplicates"] or each["nulls"]) for each in checks)
    bad = [f"{count(rejected, 'record')} rejected"] * bool(rejected)
    bad += [f"{count(values, 'value')} rejected"] * bool(values)
    bad += [f"{count(failed, 'key')} not unique"] * bool(failed)
    if bad:
        return "; ".join(bad), "bad"
    left = sum(int(each["values"]) for each in receipt["left_out"])
    rest = f"; {count(left, 'value')} left out by the layout" if left else ""
    return f"nothing rejected, all {len(sums):,} sums add up{rest}", "good"


def page_of_verification(
    found: Verification, tables: ShownTables | None, advice: Sequence[NextCommand] = ()
) -> Page:
    """Return the page of `verify`; `tables` are those that were looked at, where their layout is known."""
    structure = ShownStructure() if tables is None else structure_of_tables(tables)
    verdict, *told = verdict_lines(found)
    facts = [("tables", visible(str(found.folder))), ("compared with", names_of(found.sources))]
    facts += [("rejected or unreadable records", f"{found.rejected:,}")] * bool(found.rejected)
    tone: Tone = "good" if found.passed else "bad"
    return Page(
        "verify", visible(str(found.folder)), "; ".join(told), verdict, tone, facts, structure,
        list(verification_sheets(found)), advice=advice,
    )  # fmt: skip


def page_of_comparison(found: Comparison) -> Page:
    """Return the page of `compare`."""
    counts = found.counts()
    told = ", ".join(f"{name}: {number:,}" for name, number in counts.items())
    verdict = "no change: what comes fits what is there"
    tone: Tone = "good"
    if counts["breaks"]:
        verdict, tone = f"{count(counts['breaks'], 'change')} would break the tables that are there", "bad"
    elif counts["widens"]:
        verdict, tone = (
            f"{count(counts['widens'], 'change')}: columns, tables or wider types are needed",
            "note",
        )
    elif found.changes:
        verdict = "only harmless changes: what comes fits what is there"
    facts = [
        ("before", f"{visible(found.old)} ({found.old_kind})"),
        ("now", f"{visible(found.new)} ({found.new_kind})"),
    ]
    sheets = list(comparison_sheets(found)) if found.changes else []
    return Page(
        "compare", f"{visible(found.old)} and {visible(found.new)}", told, verdict, tone, facts, first=sheets
    )


def page_of_history(history: History) -> Page:
    """Return the page of `history`."""
    records = sum(each.records for each in history.runs)
    rejected = sum(each.rejected for each in history.runs)
    told = f"{count(len(history.runs), 'run')}, {count(records, 'record')} in all, {rejected:,} rejected"
    advice = [
        NextCommand("find where a row is from", f"tessaron trace {shlex.quote(history.target)} TABLE KEY")
    ]
    return Page("history", visible(history.target), told, first=list(history_sheets(history)), advice=advice)
