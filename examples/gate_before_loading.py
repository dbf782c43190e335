"""A gate before loading: a delivery is loaded only if its structure breaks nothing that is there.

python examples/gate_before_loading.py
"""

import tempfile
from pathlib import Path

import tessaron
from tessaron.sources.demo.vessel_calls import call_line, iter_calls


def load_if_it_fits(delivery: Path, before: tessaron.Layout, url: str) -> list[str]:
    """Load a delivery unless it would break the tables; return what would, nothing where it was loaded."""
    found = tessaron.compare(before, delivery)
    if not found.passes("breaks"):
        return [
            f"{change.path}: {change.text}" for change in found.changes if change.judgement.name == "BREAKS"
        ]
    tessaron.load(delivery, url, layout=before, mode="append")
    return []


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as folder:
        calls, url = list(iter_calls(40)), f"sqlite:///{folder}/office.db"
        monday, tuesday, wednesday = (
            Path(folder, f"{day}.ndjson") for day in ("monday", "tuesday", "wednesday")
        )
        monday.write_text("".join(map(call_line, calls[:20])), "utf-8")
        tuesday.write_text("".join(map(call_line, calls[20:])), "utf-8")
        wednesday.write_text(
            "".join(call_line({**call, "agent": [call["agent"]]}) for call in calls), "utf-8"
        )
        layout = tessaron.draft(monday, name="calls")
        tessaron.load(monday, url, layout=layout)
        for delivery in (tuesday, wednesday):
            broken = load_if_it_fits(delivery, layout, url)
            print(f"{delivery.name}: {'loaded' if not broken else 'refused'}")
            for each in broken:
                print(f"  {each}")
