"""Feeds whose structure is hard, in the harbour's world: each writes one file, or a folder of them, of its size."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

_WORDS = [
    "berth",
    "crane",
    "quay",
    "pilot",
    "tug",
    "anchor",
    "fender",
    "mooring",
    "ballast",
    "hatch",
    "draught",
    "tide",
    "current",
    "wind",
    "visibility",
    "reefer",
    "bulk",
    "parcel",
    "gauge",
    "sounding",
    "buoy",
    "light",
    "lock",
    "basin",
    "ramp",
    "lashing",
    "stowage",
    "tally",
    "seal",
    "permit",
    "customs",
    "agent",
    "master",
    "owner",
]
_COUNT_OF_KINDS = 60


def _words(chance: random.Random, count: int) -> str:
    return " ".join(chance.choices(_WORDS, k=count))


def _berth(chance: random.Random) -> dict[str, Any]:
    return {
        "code": f"B{chance.randint(1, 40):02}", "name": _words(chance, 2), "length_m": chance.randint(80, 400),
        "depth": {"chart_m": chance.randint(60, 180) / 10, "sounded_on": f"2026-0{chance.randint(1, 9)}-12"},
    }  # fmt: skip


def _agent(chance: random.Random) -> dict[str, Any]:
    return {
        "id": chance.randint(100, 999), "name": _words(chance, 2).title(),
        "desk": {"floor": chance.randint(1, 9), "phone": f"0{chance.randint(10**6, 10**7)}"},
    }  # fmt: skip


def _payload(chance: random.Random, kind: int) -> dict[str, Any]:
    """Return what an event of one kind tells: some thirty fields of its own, and structures that all share."""
    shape = random.Random(kind)
    made: dict[str, Any] = {
        f"{shape.choice(_WORDS)}_{n}": chance.choice((chance.randint(0, 9_999), _words(chance, 1)))
        if n % 7 == 0
        else chance.randint(0, 9_999) / 4
        if n % 3
        else _words(chance, 3)
        for n in range(34)
    }
    made |= {"berth": _berth(chance), "agent": _agent(chance)}
    made["steps"] = [
        {"at": f"2026-03-{day:02}T06:30:00Z", "by": _agent(chance), f"note_{kind % 5}": _words(chance, 12)}
        for day in range(1, chance.randint(8, 26))
    ]
    return made


def write_events(path: Path, megabytes: float) -> None:
    """Write events of sixty kinds: 3,000 paths and more, of which each record has a few."""
    chance = random.Random(60)
    with open(path, "w", encoding="utf-8") as file:
        number = 0
        while file.tell() < megabytes * 10**6:
            kind = number % _COUNT_OF_KINDS
            name = f"{_WORDS[kind % len(_WORDS)]}_{kind}"
            event = {
                "event": number,
                "kind": name,
                "at": "2026-03-01T05:00:00Z",
                name: _payload(chance, kind),
            }
            file.write(json.dumps(event) + "\n")
            number += 1


def write_tide_tables(path: Path, megabytes: float) -> None:
    """Write one document of tide tables: dictionaries by station, day, hour and quarter."""
    chance = random.Random(3)
    stations: dict[str, Any] = {}
    size, number = 0, 0
    while size < megabytes * 10**6:
        days = {
            f"2026-{1 + day // 28:02}-{1 + day % 28:02}": {
                f"{hour:02}": chance.randint(0, 900) / 100 for hour in range(24)
            }
            for day in range(60)
        }
        stations[f"BRW{number:03}"] = days
        size += len(json.dumps(days))
        number += 1
    path.write_text(json.dumps({"year": 2026, "tables": stations}), "utf-8")


def _station(chance: random.Random) -> dict[str, Any]:
    return {
        "identity": {"made": "2026-02-01", "version": 42, "names": {code: _words(chance, 2) for code in ("en", "cy", "x-port")}},
        "levels": {
            str(depth): {"mean": chance.randint(1, 999) / 10, "most": chance.randint(1, 999), "text": _words(chance, 4)}
            for depth in range(1, 29)
        },
        "tides": {
            f"{kind}-{size}": {f"{n}": _words(chance, 2) for n in range(1, 13)}
            for kind in ("spring", "neap", "mean")
            for size in ("wide", "short", "narrow")
        },
        "units": {
            f"{kind}-{unit}": {"one": _words(chance, 2), "other": _words(chance, 3), "per": "{0}/" + unit}
            for kind in ("depth", "flow", "wind")
            for unit in ("metre", "foot", "fathom", "knot", "hour", "day", "mile", "degree")
        },
    }  # fmt: skip


def write_stations(folder: Path, megabytes: float, count: int = 800) -> None:
    """Write many small files of one structure, whose keys are codes and numbers."""
    folder.mkdir(exist_ok=True)
    chance = random.Random(800)
    each = megabytes * 10**6 / count
    for number in range(count):
        station = _station(chance)
        text = json.dumps({"main": {f"st-{number:03}": station}}, indent=2)
        notes = max(0, int(each - len(text)) // 60)
        station["notes"] = [_words(chance, 6) for _ in range(notes)]
        (folder / f"st-{number:03}.json").write_text(
            json.dumps({"main": {f"st-{number:03}": station}}, indent=2), "utf-8"
        )


def _region(chance: random.Random, depth: int) -> dict[str, Any]:
    """Return a tree whose nodes are named by what they stand for; any of them may have a state of its own."""
    made: dict[str, Any] = {}
    if depth < 2 or chance.random() < 0.7:
        support = {
            f"{_WORDS[n]}_{part}": {"since": f"{chance.randint(1, 40)}", "partial": chance.random() < 0.2}
            for n in range(chance.randint(6, 16))
            for part in ("north",)
        }
        made["_state"] = {
            "text": _words(chance, 5),
            "support": support,
            "status": {"kept": True, "tried": False},
        }
    if depth:
        for _ in range(chance.randint(2, 9)):
            name = f"{chance.choice(_WORDS)}{chance.choice(_WORDS).title()}{chance.randint(0, 99)}"
            made[name] = _region(chance, depth - 1)
    return made


def write_named_tree(path: Path, megabytes: float) -> None:
    """Write one document in which names are data at every level."""
    chance = random.Random(21)
    with open(path, "w", encoding="utf-8") as file:
        file.write("{")
        number = 0
        while file.tell() < megabytes * 10**6:
            name = f"{chance.choice(_WORDS)}{number}"
            file.write(("," if number else "") + json.dumps(name) + ":" + json.dumps(_region(chance, 3)))
            number += 1
        file.write("}")


def _rule(chance: random.Random, depth: int) -> dict[str, Any]:
    """Return a rule that holds what it asks for as rules again, alone or in arrays."""
    made: dict[str, Any] = {
        "type": chance.choice(("object", "text", "number")),
        "text": _words(chance, chance.randint(4, 14)),
    }
    if chance.random() < 0.3:
        made["examples"] = chance.sample(_WORDS, 3)
    if depth and chance.random() < 0.8:
        names = [f"{chance.choice(_WORDS)}_{chance.randint(0, 9)}" for _ in range(chance.randint(1, 3))]
        made["properties"] = {name: _rule(chance, depth - 1) for name in names}
        made["required"] = names[:2]
    elif depth and chance.random() < 0.4:
        made["items"] = _rule(chance, depth - 1)
    elif depth and chance.random() < 0.3:
        made["anyOf"] = [_rule(chance, depth - 1) for _ in range(2)]
    return made


def write_regulation(path: Path, megabytes: float, rules: int = 50) -> None:
    """Write one document two dozen levels deep, with structures that contain themselves in many places.

    A few dozen rules are written out wherever they hold, as documents do that have been put together of parts.
    """
    chance = random.Random(29)
    known = [_rule(chance, 8 if number % 10 == 0 else 3) for number in range(rules)]
    with open(path, "w", encoding="utf-8") as file:
        file.write('{"title":"Harbour regulation","sections":{')
        number = 0
        while file.tell() < megabytes * 10**6:
            section = {
                way: {
                    "summary": _words(chance, 6), "tags": chance.sample(_WORDS, 2),
                    "parameters": [{"name": _words(chance, 1), "rule": chance.choice(known[1:5])} for _ in range(3)],
                    "answers": {str(code): {"text": _words(chance, 4), "rule": chance.choice(known)} for code in (200, 404, 422)},
                }
                for way in chance.sample(("ask", "tell", "change", "end"), 2)
            }  # fmt: skip
            name = f"/{chance.choice(_WORDS)}/{chance.choice(_WORDS)}/{number}"
            file.write(("," if number else "") + json.dumps(name) + ":" + json.dumps(section))
            number += 1
        file.write("}}")


def write_register(path: Path, megabytes: float, keys: int = 97_000) -> None:
    """Write registers of cargo codes, one a line: dictionaries of up to 97,000 keys."""
    chance = random.Random(97)
    with open(path, "w", encoding="utf-8") as file:
        number = 0
        while file.tell() < megabytes * 10**6:
            codes = {
                f"{chance.choice('ABCDEFGH')}{n:06}.{n % 97}": {
                    "rate": chance.randint(1, 10**6) / 100, "unit": chance.choice(("t", "m3", "TEU")), "of": f"{n % 500}",
                }
                for n in range(keys if number % 2 == 0 else keys // 10)
            }  # fmt: skip
            file.write(
                json.dumps(
                    {
                        "register": number,
                        "valid": "2026-01-01",
                        "codes": codes,
                        "terms": {"berths": {"day": 4}},
                    }
                )
                + "\n"
            )
            number += 1


HARD_FEEDS: dict[str, tuple[Callable[[Path, float], None], float, float]] = {
    "events of 60 kinds": (write_events, 7, 0),
    "events of 60 kinds, 100 MB": (write_events, 100, 2.5),
    "dictionaries of dictionaries": (write_tide_tables, 5, 5),
    "800 small files": (write_stations, 14, 8),
    "names as data at every level": (write_named_tree, 21, 8),
    "a document of great depth": (write_regulation, 73, 6),
    "dictionaries of 97,000 keys": (write_register, 91, 2.5),
}
"""By name: what writes the feed, its size in megabytes, and how many times `json.loads` its export may take."""
