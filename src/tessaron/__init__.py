"""Tessaron turns deeply nested JSON into keyed relational tables: exact, fast, obvious.

    >>> import tessaron
    >>> tables = tessaron.shred({"call": 7, "stays": [{"berth": "N1"}, {"berth": "N2"}]}, name="calls")
    >>> list(tables)
    ['calls', 'calls_stays']
    >>> tables["calls_stays"].column("berth").to_pylist()
    ['N1', 'N2']

Heavy libraries are loaded on first use, not by the import.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from tessaron.core.errors import DataError, Place, SourceError, TargetError, TessaronError, UsageError

if TYPE_CHECKING:
    from tessaron._version import __version__
    from tessaron.core.layouts.faults import LayoutError
    from tessaron.core.result import Tables
    from tessaron.finding import find
    from tessaron.layout_drafting import draft, update
    from tessaron.layouts import Layout
    from tessaron.matching import Found
    from tessaron.proof.rebuilding import Rebuilt, rebuild
    from tessaron.proof.verifying import Verification, verify
    from tessaron.receipt import Receipt
    from tessaron.run import export, shred
    from tessaron.sampling import SampleTaken, sample
    from tessaron.views.survey import Survey, survey
    from tessaron.xml_matching import XmlFound

__all__ = [
    "DataError",
    "Found",
    "Layout",
    "LayoutError",
    "Place",
    "Rebuilt",
    "Receipt",
    "SampleTaken",
    "SourceError",
    "Survey",
    "Tables",
    "TargetError",
    "TessaronError",
    "UsageError",
    "Verification",
    "XmlFound",
    "__version__",
    "draft",
    "export",
    "find",
    "rebuild",
    "sample",
    "shred",
    "survey",
    "update",
    "verify",
]

_LOADED_ON_USE = {
    "Found": "tessaron.matching",
    "Verification": "tessaron.proof.verifying",
    "XmlFound": "tessaron.xml_matching",
    "Layout": "tessaron.layouts",
    "LayoutError": "tessaron.core.layouts.faults",
    "Rebuilt": "tessaron.proof.rebuilding",
    "Receipt": "tessaron.receipt",
    "SampleTaken": "tessaron.sampling",
    "Survey": "tessaron.views.survey",
    "Tables": "tessaron.core.result",
    "__version__": "tessaron._version",
    "draft": "tessaron.layout_drafting",
    "export": "tessaron.run",
    "find": "tessaron.finding",
    "rebuild": "tessaron.proof.rebuilding",
    "sample": "tessaron.sampling",
    "shred": "tessaron.run",
    "survey": "tessaron.views.survey",
    "update": "tessaron.layout_drafting",
    "verify": "tessaron.proof.verifying",
}


def __getattr__(name: str) -> Any:
    if name not in _LOADED_ON_USE:
        raise AttributeError(f"module 'tessaron' has no attribute {name!r}")
    return getattr(import_module(_LOADED_ON_USE[name]), name)


def __dir__() -> list[str]:
    return sorted(__all__)
