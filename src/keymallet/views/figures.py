"""The look that all figures share, and writing one to a file."""

from __future__ import annotations

import io
import warnings
from typing import Any

from keymallet.core.base.optional_packages import extra
from keymallet.core.base.problems import fail

INK, PALE, PAPER = "#22272e", "#8b929c", "#fbfaf7"
SERIES = ("#355c7d", "#c8553d", "#e0a458", "#6a8d73", "#8c6c9b", "#7fa7b8", "#b7b09c")
HATCHES = ("", "//", "..", "\\\\", "xx", "oo", "--")
FORMATS = ("png", "svg")


def format_of(file: str) -> str:
    """The format a figure's file name asks for. Raises KeymalletError if it is none."""
    ending = file.rpartition(".")[2].lower()
    if ending not in FORMATS:
        raise fail("a figure is a PNG or an SVG", file=file, hint="end its name with .png or .svg")
    return ending


def new_figure(title: str, subtitle: str) -> tuple[Any, Any]:
    """An empty figure of 1280x800 with one pair of axes. Raises KeymalletError without Matplotlib."""
    # What people called a rule or an organisation is text, dollar signs and all, and no formula.
    extra("matplotlib", "figures", "figures").rcParams["text.parse_math"] = False
    from matplotlib.figure import Figure
    from matplotlib.layout_engine import ConstrainedLayoutEngine

    spacing = ConstrainedLayoutEngine(w_pad=0.15, h_pad=0.15)
    figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor=PAPER, layout=spacing)
    axes = figure.add_subplot(facecolor=PAPER)
    figure.suptitle(title, x=0.02, ha="left", fontsize=17, fontweight="bold", color=INK)
    axes.set_title(subtitle, loc="left", fontsize=11, color=PALE, pad=14)
    _plain(axes)
    return figure, axes


def _plain(axes: Any) -> None:
    """Two thin sides, a pale grid behind what is drawn."""
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        axes.spines[side].set_color(PALE)
    axes.tick_params(colors=INK, labelsize=10)
    axes.yaxis.grid(visible=True, color="#e4e1d8", linewidth=0.8)
    axes.set_axisbelow(True)


def second_panel(figure: Any, above: Any, share: float = 0.6) -> Any:
    """Another pair of axes below those of a new figure, which keep this share of the height."""
    grid = figure.add_gridspec(2, 1, height_ratios=[share, 1 - share])
    above.set_subplotspec(grid[0])
    below = figure.add_subplot(grid[1], facecolor=PAPER)
    _plain(below)
    return below


def figure_bytes(figure: Any, form: str, *, small: bool = False) -> bytes:
    """The figure as PNG or SVG; the same figure gives the same bytes.

    A `small` SVG has its letters as letters, in whatever font there is where it is looked at.
    """
    import matplotlib as mpl

    target = io.BytesIO()
    fonts = "none" if small else "path"
    with mpl.rc_context({"svg.hashsalt": "keymallet", "svg.fonttype": fonts}), warnings.catch_warnings():
        warnings.simplefilter("ignore")  # a letter that the font does not have is drawn as a box
        metadata = {"Date": None} if form == "svg" else {"Software": "Keymallet"}
        figure.savefig(target, format=form, metadata=metadata)
    return target.getvalue()
