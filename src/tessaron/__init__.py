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

from tessaron.core.base.errors import DataError, Place, SourceError, TargetError, TessaronError, UsageError
from tessaron.core.base.shown_forms import Form, show_with

if TYPE_CHECKING:
    from tessaron._version import __version__
    from tessaron.core.layout.layout_faults import LayoutError
    from tessaron.decide.drafting_run import draft, update
    from tessaron.decide.layout_file import Layout
    from tessaron.engine.parts.clusters import Cluster
    from tessaron.engine.path_reading import Found
    from tessaron.forecast.estimating import Estimate, estimate
    from tessaron.look.finding import find
    from tessaron.look.sampling import SampleTaken, sample
    from tessaron.look.xml_finding import XmlFound
    from tessaron.prove.rebuilding import Rebuilt, rebuild
    from tessaron.prove.verifying import Verification, verify
    from tessaron.repeat.comparing import Comparison, compare
    from tessaron.repeat.growing_export import Grown, grow
    from tessaron.repeat.keeping import KeptUp
    from tessaron.repeat.keeping_up import keep_up
    from tessaron.repeat.run_history import History, history
    from tessaron.repeat.tracing import Traced, trace
    from tessaron.sources.database.database_query import DatabaseQuery
    from tessaron.sources.tables.table_source import TableSource
    from tessaron.sources.web.api_feed import ApiFeed
    from tessaron.views.notebook.notebook_progress import NotebookProgress
    from tessaron.views.survey_view import Survey, survey
    from tessaron.write.books.receipt import Receipt
    from tessaron.write.export import export, shred
    from tessaron.write.fetching import Fetched, fetch
    from tessaron.write.loading import Loaded, load
    from tessaron.write.made_tables import Tables
    from tessaron.write.table_scripts import ddl

__all__ = [
    "ApiFeed",
    "Cluster",
    "Comparison",
    "DataError",
    "DatabaseQuery",
    "Estimate",
    "Fetched",
    "Found",
    "Grown",
    "History",
    "KeptUp",
    "Layout",
    "LayoutError",
    "Loaded",
    "NotebookProgress",
    "Place",
    "Rebuilt",
    "Receipt",
    "SampleTaken",
    "SourceError",
    "Survey",
    "TableSource",
    "Tables",
    "TargetError",
    "TessaronError",
    "Traced",
    "UsageError",
    "Verification",
    "XmlFound",
    "__version__",
    "compare",
    "ddl",
    "draft",
    "estimate",
    "export",
    "fetch",
    "find",
    "grow",
    "history",
    "keep_up",
    "load",
    "rebuild",
    "sample",
    "shred",
    "survey",
    "trace",
    "update",
    "verify",
]

_LOADED_ON_USE = {
    "ApiFeed": "tessaron.sources.web.api_feed",
    "Cluster": "tessaron.engine.parts.clusters",
    "Estimate": "tessaron.forecast.estimating",
    "estimate": "tessaron.forecast.estimating",
    "Fetched": "tessaron.write.fetching",
    "fetch": "tessaron.write.fetching",
    "DatabaseQuery": "tessaron.sources.database.database_query",
    "Found": "tessaron.engine.path_reading",
    "Verification": "tessaron.prove.verifying",
    "XmlFound": "tessaron.look.xml_finding",
    "KeptUp": "tessaron.repeat.keeping",
    "Comparison": "tessaron.repeat.comparing",
    "compare": "tessaron.repeat.comparing",
    "Traced": "tessaron.repeat.tracing",
    "trace": "tessaron.repeat.tracing",
    "Grown": "tessaron.repeat.growing_export",
    "grow": "tessaron.repeat.growing_export",
    "History": "tessaron.repeat.run_history",
    "history": "tessaron.repeat.run_history",
    "keep_up": "tessaron.repeat.keeping_up",
    "Layout": "tessaron.decide.layout_file",
    "LayoutError": "tessaron.core.layout.layout_faults",
    "Loaded": "tessaron.write.loading",
    "NotebookProgress": "tessaron.views.notebook.notebook_progress",
    "load": "tessaron.write.loading",
    "Rebuilt": "tessaron.prove.rebuilding",
    "Receipt": "tessaron.write.books.receipt",
    "SampleTaken": "tessaron.look.sampling",
    "Survey": "tessaron.views.survey_view",
    "TableSource": "tessaron.sources.tables.table_source",
    "Tables": "tessaron.write.made_tables",
    "__version__": "tessaron._version",
    "ddl": "tessaron.write.table_scripts",
    "draft": "tessaron.decide.drafting_run",
    "export": "tessaron.write.export",
    "find": "tessaron.look.finding",
    "rebuild": "tessaron.prove.rebuilding",
    "sample": "tessaron.look.sampling",
    "shred": "tessaron.write.export",
    "survey": "tessaron.views.survey_view",
    "update": "tessaron.decide.drafting_run",
    "verify": "tessaron.prove.verifying",
}


def _form_of(result: object, form: Form) -> Any:
    return import_module("tessaron.views.notebook.result_forms").form_of(result, form)


show_with(_form_of)


def __getattr__(name: str) -> Any:
    if name not in _LOADED_ON_USE:
        raise AttributeError(f"module 'tessaron' has no attribute {name!r}")
    return getattr(import_module(_LOADED_ON_USE[name]), name)


def __dir__() -> list[str]:
    return sorted(__all__)
