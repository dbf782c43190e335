"""Hours alongside per berth, from nested calls: tables in memory, joined by their keys with pyarrow.

python examples/berth_hours.py [CALLS.ndjson]
"""

import sys
import tempfile
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc

import tessaron
from tessaron.sources.demo.vessel_calls import write_calls


def hours_per_berth(source: Path) -> dict[str, float]:
    """Return the hours alongside at each berth, calls that were cancelled aside."""
    tables = tessaron.shred(source, name="calls")
    calls = tables["calls"].select(["row_key", "status"])
    stays = tables["calls_stays"].select(["parent_key", "berth", "from", "to"])
    joined = stays.join(calls, keys="parent_key", right_keys="row_key")
    joined = joined.filter(pc.not_equal(joined["status"], "cancelled"))
    seconds = pc.cast(pc.subtract(joined["to"], joined["from"]), pa.duration("s")).cast(pa.int64())
    sums = joined.append_column("seconds", seconds).group_by("berth").aggregate([("seconds", "sum")])
    return {row["berth"]: round(row["seconds_sum"] / 3600, 1) for row in sums.sort_by("berth").to_pylist()}


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as folder:
        source = Path(sys.argv[1]) if len(sys.argv) > 1 else write_calls(Path(folder))
        for berth, hours in hours_per_berth(source).items():
            print(f"{berth:>4} {hours:>10,.1f}")
