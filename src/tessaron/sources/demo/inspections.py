"""Hold inspections at Brackwater: one document with an envelope, and every hard structure in it."""

from __future__ import annotations

import json
import random
from datetime import date, timedelta
from pathlib import Path

from tessaron.core.base.parsed_values import Parsed
from tessaron.sources.demo.vessel_calls import SEED

INSPECTIONS_FILE = "inspections.json"
DEMO_INSPECTIONS = 60

_PILOTS = ("Ada Marsh", "R. Oakes", "S. Lys")
_WINDS = ("SW", "W", "NE")
_FIRST_DAY = date(2026, 1, 4)


def inspections_document(count: int = DEMO_INSPECTIONS, seed: int = SEED) -> str:
    """Return the report of `count` inspections as JSON text.

    One inspection has the name `inspector` twice, which `json` would not write.
    """
    chance = random.Random(seed)
    inspections = [_inspection(chance, number, number > count - 5) for number in range(1, count + 1)]
    report = {
        "office": "Brackwater",
        "report": 17,
        "period": {"from": str(_FIRST_DAY), "to": str(_FIRST_DAY + timedelta(days=count))},
        "inspections": inspections,
        "complete": True,
    }
    text = json.dumps(report, ensure_ascii=False, indent=1)
    return text.replace('"inspector": "A. Marsh"', '"inspector": "unknown",\n   "inspector": "A. Marsh"', 1)


def write_inspections(folder: Path, count: int = DEMO_INSPECTIONS) -> Path:
    """Write `inspections.json` into `folder`; return its path."""
    path = folder / INSPECTIONS_FILE
    path.write_text(inspections_document(count) + "\n", "utf-8")
    return path


def _inspection(chance: random.Random, number: int, is_late: bool) -> dict[str, Parsed]:
    return {
        "inspection_id": f"INS-{number:04d}",
        "inspector": "A. Marsh",
        # An object in some records, an array of them in others; the array comes late.
        "pilot": _pilots(chance, is_late),
        # A scalar in some, an object in others.
        "weather": "calm" if number % 3 else {"wind": chance.choice(_WINDS), "force": chance.randrange(3, 9)},
        # Scalars of several kinds.
        "pier_mark": (number, f"{number}a", number + 0.5, None)[number % 4],
        # Arrays in arrays, empty ones too.
        "soundings_m": [
            [round(chance.uniform(4, 12), 1) for _ in range(chance.randrange(3))] for _ in range(number % 3)
        ],
        # An object used as a dictionary: the names are days.
        "tide_by_day": {
            str(_FIRST_DAY + timedelta(days=number + day)): round(chance.uniform(2, 6), 2)
            for day in range(chance.randrange(4))
        },
        # A structure that contains itself.
        "holds": [
            {"hold": f"H{hold}", "compartments": _compartments(chance, f"H{hold}", 3)}
            for hold in range(1, chance.randrange(2, 4))
        ],
        # Nothing, in several spellings.
        "remarks": (None, {}, [], "")[number % 4],
        # More than 64 bits.
        "certificate_no": 10**29 + number * 10**14,
    }


def _pilots(chance: random.Random, several: bool) -> Parsed:
    pilots = [{"name": name, "fee": chance.randrange(100, 400)} for name in chance.sample(_PILOTS, 2)]
    return pilots if several else pilots[0]


def _compartments(chance: random.Random, above: str, levels: int) -> list[dict[str, Parsed]]:
    made = []
    for number in range(chance.randrange(0 if levels < 3 else 1, 3)):
        name = f"{above}.{number + 1}"
        made.append({"name": name, "volume_m3": chance.randrange(20, 900)})
        if levels > 1:
            made[-1]["compartments"] = _compartments(chance, name, levels - 1)
    return made
