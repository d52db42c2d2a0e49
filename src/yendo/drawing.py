"""Pictures by Matplotlib: the same bytes for the same data."""

from __future__ import annotations

import io
from collections.abc import Callable
from typing import Any

from yendo.errors import Usage


def drawn(
    draw: Callable[[Any], None], size: tuple[float, float], *, missing: str, form: str = "svg", font: int = 10
) -> bytes:
    """What ``draw`` puts into a figure of ``size`` inches, as SVG or PNG.

    Raises Usage with the words of ``missing`` where the library is not here.
    """
    try:
        import matplotlib as mpl

        mpl.use("svg" if form == "svg" else "agg")
        from matplotlib.figure import Figure
    except ImportError as error:
        raise Usage(missing) from error
    with mpl.rc_context(
        {"svg.hashsalt": "yendo", "svg.fonttype": "none", "font.family": "sans-serif", "font.size": font}
    ):
        figure = Figure(figsize=size, layout="constrained")
        draw(figure)
        out = io.BytesIO()
        plain = {"Date": None, "Creator": None} if form == "svg" else None
        figure.savefig(out, format=form, dpi=128, metadata=plain)
    return out.getvalue()
