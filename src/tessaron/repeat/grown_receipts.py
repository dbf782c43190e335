"""The receipt of a folder that grows: all runs together, and each run by itself."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from tessaron.sinks.target_folder import sha256_of
from tessaron.write.books.receipt_sums import summed

_SUMS = ("records", "rejected", "repeated_names", "rejected_values")
_OF_RUN = ("version", "started", "seconds", "sources", "records", "rejected", "rejected_values")
_LISTED = ("findings", "left_out")


def parts_of(folder: Path) -> dict[str, str]:
    """Return the digest of each part file below a folder, by its name there."""
    files = sorted(each for each in folder.rglob("part-*") if each.is_file())
    return {each.relative_to(folder).as_posix(): sha256_of(each) for each in files}


def grown_receipt(
    before: Mapping[str, Any] | None,
    own: Mapping[str, Any],
    top: str,
    about: Mapping[str, Any],
    parts: Mapping[str, str],
) -> dict[str, Any]:
    """Return the receipt of a folder after one more run.

    Args:
        before: The receipt so far; None for the first run.
        own: That of the run alone.
        top: The records' table.
        about: What else is told of the run.
        parts: The digests of its part files, by their names in the folder.
    """
    runs = [] if before is None else list(before["runs"])
    runs.append({"run": len(runs) + 1, **{name: own[name] for name in (*_OF_RUN, *_LISTED)}, **about})
    every = {**({} if before is None else before["parts"]), **parts}
    made = dict(own) if before is None else _joined(before, own)
    made["tables"] = [{**each, "sha256": _digest(each["file"], every)} for each in made["tables"]]
    first = [each["path"] for each in own["left_out"]] if before is None else before["left_out_first"]
    # What comes later stands behind, whatever its name is.
    made["is_ordered"] = bool(own["is_ordered"]) and len(runs) == 1
    return {**made, "top": top, "left_out_first": first, "runs": runs, "parts": every}


def _digest(folder: str, parts: Mapping[str, str]) -> str:
    """Return the digest of a table's folder, as `sha256_of` has it."""
    start = f"{folder}/"
    names = sorted((name[len(start) :], digest) for name, digest in parts.items() if name.startswith(start))
    listed = "".join(f"{name} {digest}\n" for name, digest in sorted(names, key=lambda each: Path(each[0])))
    return hashlib.sha256(listed.encode()).hexdigest()


def _joined(before: Mapping[str, Any], own: Mapping[str, Any]) -> dict[str, Any]:
    """Return the receipts of two runs as one."""
    made = {**own, **{name: before[name] + own[name] for name in _SUMS}}
    made["sources"] = [*before["sources"], *own["sources"]]
    made["filtered"] = dict(Counter(before["filtered"]) + Counter(own["filtered"]))
    made["reasons"] = dict(Counter(before["reasons"]) + Counter(own["reasons"]))
    made["left_out"] = summed(before["left_out"], own["left_out"], ("path",), ("values",))
    made["findings"] = summed(before["findings"], own["findings"], ("code", "name"), ("count",))
    counts = ("read", "written", "filtered", "rejected")
    made["balance"] = summed(before["balance"], own["balance"], ("what", "name"), counts)
    rows = {each["name"]: each["rows"] for each in before["tables"]}
    made["tables"] = [{**each, "rows": each["rows"] + rows.get(each["name"], 0)} for each in own["tables"]]
    made["is_whole"] = before["is_whole"] and own["is_whole"]
    made["candidate_keys"], made["unmet"] = [], []
    made["key_checks"] = summed(
        before["key_checks"], own["key_checks"], ("table", "columns"), ("duplicates", "nulls")
    )
    return made
