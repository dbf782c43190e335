"""What the harbour's systems report: events of several kinds in one feed, each with fields of its own."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from tessaron.core.base.parsed_values import Parsed
from tessaron.sources.demo.vessel_calls import SEED

EVENTS_FILE = "harbour_events.ndjson"
DEMO_EVENTS = 500
_FIRST = datetime(2026, 1, 4, 5, 30)
_DESKS = {"Quill": "N-11", "Tollan": "S-2", "Nordlys": "S-7", "Saltmere": "N-4"}
_BERTHS = ("N1", "N2", "S1", "S3")
_WINDS = ("SW", "W", "NE")


def write_events(folder: Path, count: int = DEMO_EVENTS, seed: int = SEED) -> Path:
    """Write `harbour_events.ndjson` into `folder`; return its path."""
    chance = random.Random(seed)
    path = folder / EVENTS_FILE
    lines = [json.dumps(_event(chance, number)) for number in range(1, count + 1)]
    path.write_text("\n".join(lines) + "\n", "utf-8")
    return path


def _event(chance: random.Random, number: int) -> dict[str, Parsed]:
    kind = chance.choice(list(_BODIES))
    agent = chance.choice(list(_DESKS))
    at = _FIRST + timedelta(minutes=17 * number)
    made = {"event": number, "kind": kind, "at": f"{at.isoformat()}Z"}
    return made | {"agent": {"name": agent, "desk": _DESKS[agent]}} | _BODIES[kind](chance)


def _arrival(chance: random.Random) -> dict[str, Parsed]:
    made = {"draught_m": round(chance.uniform(5, 12), 1), "pilot_needed": chance.random() < 0.6}
    return made | ({"tugs": chance.randint(1, 3)} if chance.random() < 0.5 else {})


def _berthing(chance: random.Random) -> dict[str, Parsed]:
    lines = [{"line": n, "tonnes": chance.randint(2, 30)} for n in range(1, chance.randint(2, 5))]
    return {"berthing": {"berth": chance.choice(_BERTHS), "side": chance.choice("PS"), "lines": lines}}


def _crane_fault(chance: random.Random) -> dict[str, Parsed]:
    return {
        "crane": f"C{chance.randint(1, 4)}",
        "fault": chance.randint(100, 140),
        "stopped_min": chance.randint(1, 90),
    }


def _weather(chance: random.Random) -> dict[str, Parsed]:
    return {
        "wind": chance.choice(_WINDS),
        "force": chance.randint(2, 9),
        "visibility_nm": round(chance.uniform(0, 9), 1),
    }


def _bunkering(chance: random.Random) -> dict[str, Parsed]:
    return {
        "fuel": {
            "grade": chance.choice(("MGO", "VLSFO")),
            "tonnes": chance.randint(20, 400),
            "barge": "Low Tide",
        }
    }


_BODIES: dict[str, Callable[[random.Random], dict[str, Any]]] = {
    "arrival": _arrival,
    "berthing": _berthing,
    "crane_fault": _crane_fault,
    "weather": _weather,
    "bunkering": _bunkering,
}
