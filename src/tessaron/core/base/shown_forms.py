"""Results that people look at: each has a text form, a form for notebooks, some a figure.

What shows them stands above what they are, so the package says at its top who does (`show_with`); until then
they show themselves as plain objects.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

Form = Literal["text", "html", "figure"]
_SHOWS: list[Callable[[object, Form], Any]] = []


def show_with(shows: Callable[[object, Form], Any]) -> None:
    """Say what makes the forms of results."""
    _SHOWS[:] = [shows]


def _form_of(result: object, form: Form) -> Any:
    return _SHOWS[0](result, form) if _SHOWS else None


class Shown:
    """A result with a text form, and one for notebooks."""

    __slots__ = ()

    def __init_subclass__(cls) -> None:
        super().__init_subclass__()
        # IPython takes the first of these that it finds in a class itself, and a `__repr__` counts as one.
        cls._repr_pretty_ = Shown._repr_pretty_  # type: ignore[method-assign]

    def __str__(self) -> str:
        return _form_of(self, "text") or repr(self)

    def _repr_html_(self) -> str | None:
        """Return it as HTML, for notebooks."""
        made: str | None = _form_of(self, "html")
        return made

    def _repr_pretty_(self, printer: Any, is_cycle: bool) -> None:
        """Print it, in the terminal of IPython."""
        printer.text(repr(self) if is_cycle else str(self))


class Figured(Shown):
    """A result that has a figure, too."""

    __slots__ = ()

    def figure(self) -> Any:
        """Return a `matplotlib.figure.Figure` of it, 12.8 x 8 inches: 1280 x 800 pixels at 100 dots an inch.

        Raises:
            UsageError: When Matplotlib, the extra `figures`, is not installed.
        """
        return _form_of(self, "figure")
