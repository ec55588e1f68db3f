"""Draws how data flows, for docs/architecture.md. Usage: tools/architecture.py FILE.png."""

from __future__ import annotations

import sys

from matplotlib.figure import Figure
from matplotlib.patches import FancyArrowPatch, FancyBboxPatch

INK, PALE, PAPER = "#1d2b2a", "#5c6f6d", "#fbfaf7"
WIDTH, HEIGHT = 2.35, 1.15

BOXES = {
    "files": (0.3, 5.6, "#e8e2d4", "systems", "exports · hosts\ndirectories · services"),
    "sources": (3.3, 5.6, "#cfe3df", "sources", "bytes to fact tables,\nwith notes of what was not read"),
    "linking": (6.3, 5.6, "#cfe3df", "core/linking", "all sources side by side:\nan ordered table of passes"),
    "store": (9.3, 5.6, "#e8e2d4", "store", "a snapshot:\nParquet and a manifest"),
    "book": (0.3, 3.1, "#e8e2d4", "rulebook, register", "TOML, and the instant\nto judge at"),
    "rulebook": (3.3, 3.1, "#cfe3df", "core/rulebook", "rules, parsed and typed\nby core/language"),
    "judging": (6.3, 3.1, "#cfe3df", "core/judging", "a verdict for each rule and row,\non core/evaluating"),
    "evidence": (9.3, 3.1, "#cfe3df", "core/facts", "the evidence: what is known,\nand who supplies it"),
    "people": (0.3, 0.95, "#e8e2d4", "people, programs", "terminal · figures\nCSV · JSON · calendar"),
    "views": (3.3, 0.95, "#cfe3df", "views, outputs", "what people read,\nand what programs take"),
    "explaining": (6.3, 0.95, "#cfe3df", "core/explaining", "because, missing, since,\nuntil, what mends"),
    "topics": (
        9.3,
        0.95,
        "#cfe3df",
        "core/topics, studies",
        "topics in depth · ahead\nrehearse · compare · cases",
    ),
}
ARROWS = [
    ("files", "sources"), ("sources", "linking"), ("linking", "store"), ("store", "evidence"),
    ("evidence", "judging"), ("book", "rulebook"), ("rulebook", "judging"), ("judging", "explaining"),
    ("judging", "topics"), ("explaining", "views"), ("views", "people"),
]  # fmt: skip


def main(file: str) -> None:
    """Draw the boxes row by row, and the arrows between them."""
    figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor=PAPER)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, 12)
    axes.set_ylim(0, 7.6)
    axes.set_axis_off()
    for left, bottom, colour, name, what in BOXES.values():
        axes.add_patch(
            FancyBboxPatch(
                (left, bottom), WIDTH, HEIGHT, boxstyle="round,pad=0.06", facecolor=colour, edgecolor=PALE
            )
        )
        middle = left + WIDTH / 2
        axes.text(middle, bottom + 0.86, name, ha="center", va="center", color=INK, size=12, weight="bold")
        axes.text(middle, bottom + 0.34, what, ha="center", va="center", color=INK, size=9.5)
    for start, end in ARROWS:
        axes.add_patch(_arrow(BOXES[start][:2], BOXES[end][:2]))
    (x, y), (to_x, _) = BOXES["topics"][:2], BOXES["views"][:2]
    below = [(left + WIDTH / 2, y - 0.08) for left in (x, to_x)]
    axes.add_patch(
        FancyArrowPatch(
            *below, connectionstyle="arc3,rad=-0.12", arrowstyle="-|>", mutation_scale=16, color=PALE,
            linewidth=1.4,
        )
    )  # fmt: skip
    axes.text(0.3, 7.15, "keymallet read", color=PALE, size=11, style="italic")
    axes.text(0.3, 4.65, "keymallet judge", color=PALE, size=11, style="italic")
    axes.text(0.3, 2.5, "what is shown", color=PALE, size=11, style="italic")
    figure.savefig(file)


def _arrow(start: tuple[float, float], end: tuple[float, float]) -> FancyArrowPatch:
    """From the edge of one box to the nearest edge of another."""
    (x, y), (to_x, to_y) = start, end
    if y == to_y:
        right = to_x > x
        ends = ((x + (WIDTH + 0.08 if right else -0.08), y + HEIGHT / 2),
                (to_x + (-0.08 if right else WIDTH + 0.08), to_y + HEIGHT / 2))  # fmt: skip
    else:
        ends = ((x + WIDTH / 2, y - 0.08), (to_x + WIDTH / 2, to_y + HEIGHT + 0.08))
    return FancyArrowPatch(*ends, arrowstyle="-|>", mutation_scale=16, color=PALE, linewidth=1.4)


if __name__ == "__main__":
    main(sys.argv[1])
