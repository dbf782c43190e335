"""The harbour's log: a day per record, written by many hands, so that a layout has to say what is what."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from importlib.resources import files
from pathlib import Path

from tessaron.core.base.parsed_values import Parsed
from tessaron.sources.demo.vessel_calls import SEED

LOG_FILE = "harbour_log.ndjson"
LOG_LAYOUT, CALLS_LAYOUT = "harbour_log.layout.toml", "vessel_calls.layout.toml"
DEMO_DAYS = 40

_FIRST_DAY = date(2026, 1, 4)
_MASTERS = ("Ada Marsh", "R. Oakes", "I. Tollan")
_FLAGS = ("fog", "gale", "ice")


def iter_days(count: int = DEMO_DAYS, seed: int = SEED) -> Iterator[dict[str, Parsed]]:
    """Yield the log of `count` days, the same on every run."""
    chance = random.Random(seed)
    for number in range(count):
        yield _day(chance, number)


def write_log(folder: Path, count: int = DEMO_DAYS) -> Path:
    """Write the log and the layouts of the demo into `folder`; return the path of the log."""
    path = folder / LOG_FILE
    lines = (json.dumps(day, ensure_ascii=False) + "\n" for day in iter_days(count))
    path.write_text("".join(lines), "utf-8")
    for name in (LOG_LAYOUT, CALLS_LAYOUT):
        (folder / name).write_text(files(__package__).joinpath(name).read_text("utf-8"), "utf-8")
    return path


def _day(chance: random.Random, number: int) -> dict[str, Parsed]:
    day = _FIRST_DAY + timedelta(days=number)
    return {
        "entry": {"written": {"no": number + 1, "day": day.strftime("%d/%m/%Y")}},
        # Pieces of one row, as objects of their own.
        "watch": [
            {"master": chance.choice(_MASTERS)},
            {"since": f"{chance.randrange(4, 9):02}00"},
            {"crew": number % 5},
        ],
        # A list inside a text; one value or several; a token for nothing.
        "signals": "|".join(chance.sample(_FLAGS, number % 3)),
        "phone": "+00 5550 0199" if number % 4 else ["+00 5550 0199", "+00 5550 0188", "+00 5550 0177"],
        "visibility": chance.choice(("good", "Good ", " poor", "n/a")),
        # Amounts and moments as people write them.
        "dues": f"{chance.randrange(1, 9)}.{chance.randrange(1000):03},{chance.randrange(100):02}",
        "closed_at": int((datetime(2026, 1, 4, 18) - datetime(1970, 1, 1)).total_seconds()) + number * 86400,
        "sealed": "J" if chance.random() < 0.8 else "N",
        # Bare rows with their names beside them; the order of the columns changes on the way.
        "wind": _wind(chance, number),
        # Arrays side by side.
        "tide": {
            "time": [f"{hour:02}:{chance.randrange(60):02}" for hour in (3, 9, 15, 21)],
            "level_m": [round(chance.uniform(0.4, 6.2), 2) for _ in range(4 if number % 9 else 3)],
        },
        # A document inside a text.
        "notice": _notice(number % 3) if number % 13 else "see the board",
        # Two objects of one kind.
        "relieved_by": {"name": chance.choice(_MASTERS), "badge": f"B{chance.randrange(100, 999)}"},
        "relieved": {"name": chance.choice(_MASTERS), "badge": f"B{chance.randrange(100, 999)}"},
    }  # fmt: skip


def _notice(count: int) -> str:
    items = [{"berth": f"N{number}", "hours": number} for number in range(1, count + 1)]
    return json.dumps({"to": "all", "items": items})


def _wind(chance: random.Random, number: int) -> dict[str, Parsed]:
    rows = [
        [f"{hour:02}:00", chance.randrange(0, 12), chance.choice(("SW", "W", "NE"))]
        for hour in (0, 6, 12, 18)
    ]
    names = ["at", "force", "from"]
    if number % 2:
        names, rows = ["force", "at", "from"], [[force, at, side] for at, force, side in rows]
    return {"columns": [{"name": name} for name in names], "rows": rows}
