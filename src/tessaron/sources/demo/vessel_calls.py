"""Vessel calls at Brackwater: as many as wanted, the same for the same seed."""

from __future__ import annotations

import json
import random
import re
from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from tessaron.core.base.parsed_values import Parsed

SEED = 1873
DEMO_RECORDS = 400
CALLS_FILE = "vessel_calls.ndjson"

_OPENING = datetime(2026, 1, 4, 6, 0)
_VESSEL_NAMES = ("Grey Heron", "Maid of Ostrey", "Saltmere Star", "Low Tide", "Kittiwake", "Ånd", "Old Bell")
_HOME_PORTS = ("Saltmere", "Ostrey", "Vellhaven", "Grimsound")
_AGENTS = ("Tollan & Pryce", "Marsh Lane Agencies", "Quill, Oakes & Daughters", "Nordlys Skipsmegling")
_PEOPLE = ("I. Tollan", "Ada Marsh", "R. Oakes", "S. Lys")
_BERTHS = ("N1", "N2", "S1", "S2", "S3", "007")
_CRANES = ("C1", "C2", "C3", "C4")
_SERVICES = ("pilotage", "towage", "mooring", "fresh water", "waste")
_REMARKS = (
    "Gangway moved at low water",
    'Master asked for the "quiet" berth, again',
    "Two lines:\nfirst the fog,\nthen the crane",
    "Лоцман ждал до рассвета",
    "船長は霧が晴れるのを待った",
    "Semi;colons, commas and a tab\there",
    "⚓ early",
)
_EXACT = re.compile(r'"\u00a4(-?[0-9.]+)"')


def iter_calls(count: int, seed: int = SEED) -> Iterator[dict[str, Parsed]]:
    """Yield `count` vessel calls. Amounts with a fixed number of digits are text that begins with `¤`."""
    chance = random.Random(seed)
    for number in range(1, count + 1):
        yield _call(chance, number, last=number == count)


def call_line(call: dict[str, Parsed]) -> str:
    """Return a call as one line of JSON, with the amounts as numbers that keep their digits."""
    return _EXACT.sub(r"\1", json.dumps(call, ensure_ascii=False))


def write_calls(folder: Path, count: int = DEMO_RECORDS, seed: int = SEED) -> Path:
    """Write `vessel_calls.ndjson` with `count` calls into `folder`; return its path."""
    path = folder / CALLS_FILE
    with open(path, "w", encoding="utf-8", newline="\n") as file:
        for call in iter_calls(count, seed):
            file.write(call_line(call) + "\n")
    return path


def _call(chance: random.Random, number: int, last: bool) -> dict[str, Parsed]:
    arrival = _OPENING + timedelta(minutes=97 * number + chance.randrange(60))
    call: dict[str, Any] = {
        "call_id": f"BRW-{number:07d}",
        "status": chance.choice(("departed", "departed", "departed", "alongside", "cancelled")),
        "vessel": _vessel(chance),
        "agent": _agent(chance),
        "eta": _time(arrival - timedelta(minutes=chance.randrange(90))),
        "customs_cleared": chance.random() < 0.9,
        "stays": _stays(chance, arrival),
        "services": [_service(chance) for _ in range(chance.randrange(4))],
    }
    _add_remarks(chance, call)
    if last:
        call["quarantine_flag"] = "Q"
    return call


def _vessel(chance: random.Random) -> dict[str, Parsed]:
    which = chance.randrange(60)
    return {
        "number": 7_000_000 + which * 137,
        "name": _VESSEL_NAMES[which % len(_VESSEL_NAMES)],
        "homePort": _HOME_PORTS[which % len(_HOME_PORTS)],
        "length_m": 80 + which * 2,
        "draught_m": _exact(5 + which % 50 / 10 + 0.05, 2),
        "built": f"{1980 + which % 40}-{1 + which % 12:02d}-{1 + which % 28:02d}",
    }


def _agent(chance: random.Random) -> dict[str, Parsed]:
    which = chance.randrange(len(_AGENTS))
    phones = [f"+00 5550 {which}{chance.randrange(100, 104)}" for _ in range(chance.randrange(3))]
    email = None if chance.random() < 0.1 else f"desk{which}@agents.example"
    return {"name": _AGENTS[which], "contact": {"person": _PEOPLE[which], "email": email, "phones": phones}}


def _stays(chance: random.Random, arrival: datetime) -> list[dict[str, Parsed]]:
    stays = []
    begin = arrival
    for _ in range(chance.choice((0, 1, 1, 1, 1, 2, 2, 3))):
        end = begin + timedelta(minutes=chance.randrange(240, 2400))
        moves = [_move(chance, begin, end) for _ in range(chance.randrange(9))]
        stays.append(
            {"berth": chance.choice(_BERTHS), "from": _time(begin), "to": _time(end), "moves": moves}
        )
        begin = end + timedelta(minutes=chance.randrange(30, 200))
    return stays


def _move(chance: random.Random, begin: datetime, end: datetime) -> dict[str, Parsed]:
    move: dict[str, Any] = {
        "crane": chance.choice(_CRANES),
        "container": f"BRWU{chance.randrange(10**6, 10**7)}",
        "at": _time(begin + (end - begin) * chance.random()),
        "kind": chance.choice(("load", "discharge", "restow")),
        "teu": chance.choice((1, 2, 2)),
        "weight_t": _exact(chance.uniform(2.5, 30.5), 3),
        "seals": [f"{chance.randrange(10**6):06d}" for _ in range(chance.randrange(3))],
    }
    if chance.random() < 0.15:
        move["reefer_c"] = [round(chance.uniform(-22, 4), 1) for _ in range(chance.randrange(1, 5))]
    return move


def _service(chance: random.Random) -> dict[str, Parsed]:
    return {
        "service": chance.choice(_SERVICES),
        "fee": _exact(chance.randrange(5_000, 900_000) / 100, 2),
        "invoiced": chance.choice((True, False, None)),
    }


def _add_remarks(chance: random.Random, call: dict[str, Parsed]) -> None:
    """Add remarks; they may also be missing, null, or empty."""
    draw = chance.random()
    if draw < 0.4:
        call["remarks"] = chance.choice(_REMARKS)
    elif draw < 0.6:
        call["remarks"] = None
    elif draw < 0.8:
        call["remarks"] = ""


def _exact(value: float, digits: int) -> str:
    return f"\u00a4{value:.{digits}f}"


def _time(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%dT%H:%M:00Z")
