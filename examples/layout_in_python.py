"""A layout made in Python: drafted, changed step by step, written beside the data, and run.

python examples/layout_in_python.py [CALLS.ndjson]
"""

import sys
import tempfile
from pathlib import Path

import tessaron
from tessaron.sources.demo.vessel_calls import write_calls


def harbour_layout(source: Path) -> tessaron.Layout:
    """Return the layout of calls that were not cancelled, with what their moves add up to."""
    return (
        tessaron.draft(source, name="calls", names="leaf")
        .rename_table("calls_stays", "stays")
        .rename_table("calls_stays_moves", "moves")
        .remove_columns("calls", "quarantine_flag", "email", "person")
        .set_table("calls", key=["call_id"], keep="status != 'cancelled'")
        .set_column("calls", "teu", value="sum(moves.teu)", type="integer")
        .set_column("stays", "hours", value="hours_from(from, to)", type="decimal(9,2)")
        .set_table("moves", carry=["calls.call_id", "stays.berth"])
        .order_columns("calls", ["call_id", "teu"])
    )


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as folder:
        calls = Path(sys.argv[1]) if len(sys.argv) > 1 else write_calls(Path(folder))
        layout = harbour_layout(calls)
        layout.write(Path(folder, "harbour.layout.toml"))
        tables = tessaron.shred(calls, layout=layout)
        for row in tables["calls"].slice(0, 5).select(["call_id", "teu", "status"]).to_pylist():
            print(row)
        print(f"{tables['moves'].num_rows:,} moves; filtered: {tables.filtered}")
