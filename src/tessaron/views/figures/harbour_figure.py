"""The look that all figures share: a title, one sentence below, plain axes."""

from __future__ import annotations

import io

from tessaron.core.base.errors import UsageError

try:
    from matplotlib.figure import Figure
except ImportError as error:
    raise UsageError("a figure needs Matplotlib: pip install 'tessaron[figures]'") from error

INK, SEA, SHOAL, MARK = "#15303f", "#0f5a82", "#a9d3e6", "#8a1560"
NOTE = "✱"
_INCHES, _DOTS = (12.8, 8.0), 100
_FONT_SIZE = 10


class HarbourFigure(Figure):
    """A figure of 1280 x 800 pixels that notebooks show as it is, without pyplot's state.

    Args:
        title: What it shows.
    """

    def __init__(self, title: str):
        super().__init__(figsize=_INCHES, dpi=_DOTS, layout="constrained", facecolor="white")
        self.suptitle(title, x=0.01, ha="left", color=INK, fontsize=15, style="italic", family="serif")

    def say(self, text: str) -> None:
        """Set the sentence at the foot, and give all axes their look."""
        self.supxlabel(text, x=0.01, ha="left", color=INK, fontsize=_FONT_SIZE)
        for axes in self.axes:
            axes.tick_params(length=0, labelsize=_FONT_SIZE, labelcolor=INK)
            for side in axes.spines.values():
                side.set_visible(False)

    def _repr_png_(self) -> bytes:
        """Return it as PNG, for notebooks."""
        made = io.BytesIO()
        self.savefig(made, format="png")
        return made.getvalue()
