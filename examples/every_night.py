"""Every night: take what is new in a folder of deliveries into a database, once, and tell what has changed.

python examples/every_night.py [FOLDER URL]
"""

import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import tessaron
from tessaron.sources.demo.vessel_calls import call_line, iter_calls


def take_in(inbox: Path, url: str) -> str:
    """Load what is new into the database, with the ledger in it; return what was done, in words."""
    kept = tessaron.keep_up(
        inbox, url, ledger=url, name="calls", key=["call_id"], mode="merge", on_change="extend"
    )
    merged = [f"{count:,} {what}" for load in kept.loads for what, count in load.records.items() if count]
    return f"{kept.new} new, {kept.known} known: {', '.join((*merged, *kept.changes)) or 'nothing to do'}"


def deliveries(inbox: Path) -> Iterator[str]:
    """Write three nights' deliveries into a folder, one after another."""
    calls = list(iter_calls(60))
    for night, (first, last) in enumerate(((0, 40), (35, 55), (55, 60)), 1):
        delivered = [
            {**call, "status": "checked"} if first and call in calls[:40] else call
            for call in calls[first:last]
        ]
        if night == 3:
            delivered = [{**call, "pilot": "Ada Marsh"} for call in delivered]
        Path(inbox, f"night_{night}.ndjson").write_text("".join(map(call_line, delivered)), "utf-8")
        yield f"night {night}"


if __name__ == "__main__":
    if len(sys.argv) > 2:
        print(take_in(Path(sys.argv[1]), sys.argv[2]))
        sys.exit()
    with tempfile.TemporaryDirectory() as folder:
        inbox = Path(folder, "inbox")
        inbox.mkdir()
        for night in deliveries(inbox):
            print(f"{night}: {take_in(inbox, f'sqlite:///{folder}/office.db')}")
        print(f"again: {take_in(inbox, f'sqlite:///{folder}/office.db')}")
