"""What rebuild and verify have to say, as lines."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from rich.table import Table

from tessaron.prove.verifying import Verification
from tessaron.views.palette import Meaning
from tessaron.views.terminal import count, grid

_LOST_SHOWN = 5


class _Rebuilt(Protocol):
    @property
    def target(self) -> str: ...
    @property
    def form(self) -> str: ...
    @property
    def records(self) -> int: ...
    @property
    def documents(self) -> int: ...
    @property
    def lost(self) -> Mapping[str, str]: ...


def rebuilt_view(made: _Rebuilt) -> list[str]:
    """Return what a rebuild has made, in lines."""
    what = count(made.records, "record")
    if made.form == "documents":
        what += f" in {count(made.documents, 'document')}"
    shown = {"lines": ", one a line", "array": " in one array", "files": ", a file for each"}.get(
        made.form, ""
    )
    lines = [f"{what}{shown}: {made.target}"]
    if made.lost:
        names = list(made.lost)[:_LOST_SHOWN]
        more = f" and {len(made.lost) - len(names)} more" if len(made.lost) > len(names) else ""
        listed = ", ".join(f"{name} ({made.lost[name]})" for name in names)
        lines.append(f"without a place of their own in the documents: {listed}{more}")
    return lines


def verification_view(found: Verification) -> list[Table | str]:
    """Return what verify has found: the verdict last, before it what led to it."""
    parts = [*_checks_view(found), ""]
    for part in (_differences_view(found), _asides(found)):
        parts += [*part, ""] if part else []
    return [*parts, *verdict_lines(found)]


def _checks_view(found: Verification) -> list[Table | str]:
    """Return the checks, one line a kind, and every one that failed."""
    kinds = list(dict.fromkeys(check.name for check in found.checks))
    rows = []
    for kind in kinds:
        checks = [check for check in found.checks if check.name == kind]
        failed = [check for check in checks if not check.passed]
        rows.append(
            (CHECK_NAMES.get(kind, kind), f"{len(checks):,}", f"{len(failed):,}" if failed else "none")
        )
    parts: list[Table | str] = (
        [grid(("check", "count", "failed"), rows, numeric=("count", "failed"), meaning=_meaning)]
        if rows
        else []
    )
    bad = [check for check in found.checks if not check.passed]
    parts += [""] * bool(bad)
    parts += [f"failed: {check.table}: {check.name}: {check.detail}" for check in bad[:_SHOWN]]
    if len(bad) > _SHOWN:
        parts.append(f"{len(bad) - _SHOWN:,} more checks failed; --json lists them")
    return parts


def _differences_view(found: Verification) -> list[str]:
    """Return the differences, two lines each: what and how often, then the first one's place."""
    lines = []
    for each in found.differences:
        times = "once" if each.count == 1 else f"{each.count:,} times"
        sides = f": {each.in_source or 'nothing'} in the source, {each.in_tables or 'nothing'} in the tables"
        lines.append(f"{each.kind} {times}: {each.path or 'the whole record'}{sides if each.place else ''}")
        place = f", at {each.place}" if each.place else ""
        lines.append(f"    first in {each.source}, record {each.record:,}{place}")
    if found.differences and found.looked_at < found.differing:
        lines.append(f"{found.looked_at:,} of the records that differ were looked at place by place")
    return lines


def _asides(found: Verification) -> list[str]:
    lines = []
    if found.left_out:
        values = sum(found.left_out.values())
        paths = ", ".join(list(found.left_out)[:_LOST_SHOWN])
        more = ", …" if len(found.left_out) > _LOST_SHOWN else ""
        lines.append(f"left out by the layout: {count(values, 'value')} at {paths}{more}")
    if found.worked_on:
        names = ", ".join(f"{name} ({why})" for name, why in list(found.worked_on.items())[:_LOST_SHOWN])
        more = ", …" if len(found.worked_on) > _LOST_SHOWN else ""
        lines.append(f"worked out again and compared: {names}{more}")
    if found.rejected:
        lines.append(
            f"{count(found.rejected, 'record')} of the source could not be read; they are in the rejects"
        )
    return lines


def verdict_lines(found: Verification) -> list[str]:
    """Return whether all is the same, in one line; and one on what counts as the same."""
    what = (
        f"the first {count(found.records, 'record')}" if found.is_sample else count(found.records, "record")
    )
    failed = sum(not check.passed for check in found.checks)
    if found.passed and found.is_remade:
        return [f"identical: the tables of {what} come out the same again, all checks passed"]
    if found.passed:
        small = "null, empty and absent count as the same; exact = true in the layout keeps them apart"
        return [
            f"identical: {what} compared, {count(len(found.checks), 'check')} passed",
            *[small] * (not found.exact),
        ]
    parts = [f"{found.differing:,} of {what} differ"] if found.differing else []
    parts += [f"{count(failed, 'check')} failed"] if failed else []
    return [f"not identical: {', '.join(parts) or 'what stands around the records differs'}"]


def _meaning(heading: str, cell: str) -> Meaning | None:
    return "trouble" if heading == "failed" and cell != "none" else None


_SHOWN = 10
CHECK_NAMES = {"sum": "sums of the receipt", "file": "files as written", "rows": "rows as in the receipt"}
