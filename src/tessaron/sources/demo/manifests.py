"""Cargo manifests of Brackwater as XML: what each call brings, down to the packages, and where it goes."""

from __future__ import annotations

import random
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree
from xml.sax.saxutils import escape, quoteattr

MANIFESTS_FILE = "manifests.xml"
MANIFEST_NAMESPACE, GOODS_NAMESPACE = "urn:brackwater:manifest", "urn:brackwater:goods"
DEMO_MANIFESTS = 240
_SEED = 1874
_CONSIGNEES = ("Holm Timber", "Ostrey Mills", "Salt & Sons", "Vell Foundry", "The Lantern Co.", "Ånd Fisk")
_GOODS = (
    ("4407", "sawn timber", "m3"), ("0305", "dried fish", "kg"), ("7308", "steel frames", "kg"),
    ("1001", "wheat", "t"), ("8407", "boat engines", "kg"), ("0070", "salt", "t"),
)  # fmt: skip
_KINDS = ("crate", "pallet", "drum", "bag")
_REMARKS = (
    "keep < 5 °C & dry",
    "two seals\n  broken on arrival",
    'marked "THIS SIDE UP", was not',
    "<not> to be stowed above steel",
)
MANIFESTS_HEAD = f"""<?xml version="1.0" encoding="UTF-8"?>
<!-- Lodged with the harbour office; one manifest for a call. -->
<manifests xmlns="{MANIFEST_NAMESPACE}" xmlns:g="{GOODS_NAMESPACE}"
    xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" port="Brackwater" year="2026">
  <office>Customs desk, North Mole</office>
"""

HEAVY_GOODS = "//g:item[g:weight > 50000]/g:name"
"""An expression to try: goods of more than 50 tonnes."""

CargoAnswer = list[tuple[str, int, float]]
"""Per home port: manifests, and tonnes of goods whose weight is known."""
CARGO_QUESTION = """\
SELECT c.vessel_home_port AS home_port, count(DISTINCT m.row_key) AS manifests,
       round(sum(i.weight) / 1000, 1) AS tonnes
FROM calls AS c JOIN manifest AS m ON m.call = c.call_id
     JOIN manifest_consignment AS k ON k.parent_key = m.row_key
     JOIN manifest_consignment_item AS i ON i.parent_key = k.row_key
GROUP BY home_port ORDER BY home_port"""


def iter_manifests(count: int, seed: int = _SEED) -> Iterator[str]:
    """Yield `count` manifests as XML, of the calls from the first on."""
    chance = random.Random(seed)
    for number in range(1, count + 1):
        yield _manifest(chance, number)


def write_manifests(folder: Path, count: int = DEMO_MANIFESTS, seed: int = _SEED) -> Path:
    """Write `manifests.xml` with `count` manifests into `folder`; return its path."""
    path = folder / MANIFESTS_FILE
    with open(path, "w", encoding="utf-8", newline="\n") as file:
        file.write(MANIFESTS_HEAD)
        file.writelines(iter_manifests(count, seed))
        file.write("</manifests>\n")
    return path


def _manifest(chance: random.Random, number: int) -> str:
    consignments = "".join(_consignment(chance, number, each) for each in range(1, chance.randrange(2, 5)))
    lodged = f"2026-{1 + number % 12:02d}-{1 + number % 28:02d}T{chance.randrange(24):02d}:30:00Z"
    return f"""  <manifest call="BRW-{number:07d}" no="M{number:05d}">
    <lodged>{lodged}</lodged>
    <complete>{chance.choice(("true", "true", "false"))}</complete>
    <consignments>{consignments}
    </consignments>
    <hold>{_compartment(chance, f"H{chance.randrange(1, 4)}", 0)}
    </hold>
  </manifest>
"""


def _consignment(chance: random.Random, manifest: int, number: int) -> str:
    consignee = chance.choice(_CONSIGNEES)
    items = "".join(_item(chance, each) for each in range(1, chance.randrange(2, 5)))
    remark = (
        f"\n        <remark><![CDATA[{chance.choice(_REMARKS)}]]></remark>" if chance.random() < 0.4 else ""
    )
    empty = "\n        <remark/>" if not remark and chance.random() < 0.2 else ""
    return f"""
      <consignment id={quoteattr(f"{manifest:05d}/{number}")}>
        <consignee>{escape(consignee)}</consignee>{items}{remark}{empty}
      </consignment>"""


def _item(chance: random.Random, number: int) -> str:
    code, name, unit = chance.choice(_GOODS)
    weight = f"{chance.randrange(4_000, 900_000) / 10:.1f}"
    shown = f'<g:weight unit="kg">{weight}</g:weight>'
    if chance.random() < 0.08:
        shown = '<g:weight xsi:nil="true"/>'
    packages = "".join(
        f'\n            <g:package kind="{chance.choice(_KINDS)}" count="{chance.randrange(1, 40)}">'
        f"BW/{chance.randrange(10_000):04d}</g:package>"
        for _ in range(chance.randrange(1, 4))
    )
    return f"""
        <g:item no="{number}" hs="{code}">
          <g:name>{name}</g:name>
          {shown}
          <g:measure unit="{unit}"/>
          <g:packages>{packages}
          </g:packages>
        </g:item>"""


def _compartment(chance: random.Random, code: str, depth: int) -> str:
    inner = (
        ""
        if depth == 2
        else "".join(
            _compartment(chance, f"{code}{letter}", depth + 1) for letter in "AB"[: chance.randrange(3)]
        )
    )
    pad = "  " * (depth + 3)
    if not inner:
        return f'\n{pad}<compartment code="{code}"/>'
    return f'\n{pad}<compartment code="{code}">{inner}\n{pad}</compartment>'


def cargo_from_documents(manifests: Path, home_ports: dict[str, str]) -> CargoAnswer:
    """Return the answer to `CARGO_QUESTION`, added up from the documents without Tessaron.

    Args:
        manifests: The file.
        home_ports: The home port of the vessel of each call, by the call's id.
    """
    counts: dict[str, int] = defaultdict(int)
    kilograms: dict[str, float] = defaultdict(float)
    for manifest in ElementTree.parse(manifests).getroot().iter(f"{{{MANIFEST_NAMESPACE}}}manifest"):
        port = home_ports[manifest.get("call", "")]
        counts[port] += 1
        for weight in manifest.iter(f"{{{GOODS_NAMESPACE}}}weight"):
            kilograms[port] += float(weight.text or 0)
    return [(port, counts[port], round(kilograms[port] / 1000, 1)) for port in sorted(counts)]
