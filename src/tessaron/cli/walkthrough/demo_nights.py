"""The step of the demo that is done again and again: three nights, each with a delivery of its own."""

from __future__ import annotations

import json
import shlex
import shutil
from pathlib import Path

from rich.table import Table

from tessaron.cli.walkthrough.telling import Telling
from tessaron.repeat.keeping_up import keep_up
from tessaron.repeat.run_history import history
from tessaron.repeat.tracing import trace
from tessaron.views.repeating.history_view import history_view
from tessaron.views.repeating.kept_view import kept_notes, kept_view
from tessaron.views.repeating.trace_view import trace_view

_FIRST, _SECOND, _CORRECTED = 250, 380, 5
_NIGHTS = ("1_monday.ndjson", "2_tuesday.ndjson", "3_wednesday.ndjson")


def show_nights(telling: Telling, folder: Path, calls: Path) -> bool:
    """Show how a database keeps up with deliveries; say whether all of them are there."""
    inbox, database = folder / "deliveries", folder / "nights.sqlite"
    shutil.rmtree(inbox, ignore_errors=True)
    inbox.mkdir()
    for leftover in (database, database.with_name(f"{database.name}.lock")):
        leftover.unlink(missing_ok=True)
    url = f"sqlite:///{database}"
    lines = calls.read_text("utf-8").splitlines(keepends=True)
    more = [*_corrected(lines[:_CORRECTED]), *lines[_FIRST:_SECOND]]
    nights = (
        ("Monday: the first calls.", lines[:_FIRST]),
        ("Tuesday: more calls, and five corrected ones.", more),
        ("Wednesday: a field that no call had before.", lines[_SECOND:]),
    )
    parts: list[Table | str] = []
    brief = []
    for (title, delivered), name in zip(nights, _NIGHTS, strict=True):
        (inbox / name).write_text("".join(delivered), "utf-8")
        kept = keep_up(
            inbox, url, ledger=url, name="calls", key=["call_id"], mode="merge", on_change="extend"
        )
        merged = ", ".join(f"{number:,} {what}" for what, number in kept.loads[-1].records.items() if number)
        said = [*kept_view(kept)[-1:], f"records: {merged}", *kept_notes(kept)]
        parts += [f"   {title}", *(f"     {line}" for line in said), ""]
        brief.append(f"{title} {merged}" + f"; {', '.join(kept.changes)}" * bool(kept.changes))
    traced = trace(url, "calls_stays", 300)
    told = [line[:100] + "…" * (len(line) > 100) for line in trace_view(traced)]
    quoted = shlex.quote(str(inbox))
    telling.step(
        16,
        "The second night: deliveries come into a folder, and the same command takes what is new.",
        ["The ledger stands in the database itself: what is done is true in the same transaction."],
        [
            f"load {quoted} --to {url} --ledger {url} --name calls --key call_id --mode merge "
            "--on-change extend",
            f"history {url}",
            f"trace {url} calls_stays 300",
        ],
        [*parts, *history_view(history(url), 10), "", *(f"   {line}" for line in told)],
        brief,
    )
    again = keep_up(inbox, url, ledger=url, name="calls", mode="merge")
    return traced.record is not None and again.new == 0 and again.known == len(_NIGHTS)


def _corrected(lines: list[str]) -> list[str]:
    """Return calls with another status."""
    calls = [json.loads(line, parse_float=str) for line in lines]
    return [
        line.replace(f'"status": "{call["status"]}"', '"status": "checked"', 1)
        for line, call in zip(lines, calls, strict=True)
    ]
