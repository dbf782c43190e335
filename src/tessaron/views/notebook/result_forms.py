"""Which results have which forms, and what makes them."""

from __future__ import annotations

from importlib import import_module
from typing import Any

from tessaron.core.base.shown_forms import Form

_HTML, _TEXT = "tessaron.views.notebook.html_forms", "tessaron.views.notebook.text_forms"
_FIGURES = "tessaron.views.figures.result_figures"
_NAMES = {
    "Survey": "survey", "Layout": "layout", "Tables": "tables", "Receipt": "receipt", "Loaded": "loaded",
    "Verification": "verification", "Comparison": "comparison", "History": "history",
}  # fmt: skip
"""The results by their class; what makes a form is a function of this name, and the form's."""
_MODULES: dict[Form, str] = {"html": _HTML, "text": _TEXT, "figure": _FIGURES}


def form_of(result: object, form: Form) -> Any:
    """Return a result in a form; None where it has no such form."""
    name = next((_NAMES[kind.__name__] for kind in type(result).__mro__ if kind.__name__ in _NAMES), None)
    return None if name is None else getattr(import_module(_MODULES[form]), f"{name}_{form}")(result)
