"""A release with its proof: tables, and a verification beside them; and what is said when a file is touched.

python examples/proof_for_the_auditor.py [FOLDER]
"""

import sys
import tempfile
from pathlib import Path

import pyarrow.parquet as pq

import tessaron
from tessaron.sources.demo.vessel_calls import write_calls


def release(source: Path, folder: Path) -> tessaron.Verification:
    """Export a feed so that it can be made again exactly, prove it, and keep the proof beside the tables."""
    tessaron.export(source, folder / "tables", name="calls", exact=True, replace=True)
    found = tessaron.verify(folder / "tables")
    (folder / "proof.json").write_text(found.to_json(), "utf-8")
    return found


def touch(table: Path) -> None:
    """Take the last row out of a table, as an accident would."""
    rows = pq.read_table(table)
    pq.write_table(rows.slice(0, rows.num_rows - 1), table)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as made:
        folder = Path(sys.argv[1] if len(sys.argv) > 1 else made)
        folder.mkdir(exist_ok=True)
        found = release(write_calls(folder), folder)
        print(f"identical: {found.passed}, {found.records:,} records, {len(found.checks)} checks")
        touch(folder / "tables" / "calls_services.parquet")
        again = tessaron.verify(folder / "tables")
        print(f"after an accident: {again.passed}, {again.differing:,} record differs")
        for check in again.checks:
            if not check.passed:
                print(f"  {check.table}: {check.name}: {check.detail}")
