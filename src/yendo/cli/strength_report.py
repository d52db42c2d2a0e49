"""How strong detection is, for people; both halves of a package say it alike."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yendo.cli import show

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.detect.strength import Strength


def catching(rules: int) -> str:
    """``1 rule catches``, ``2 rules catch``."""
    return f"{show.counted(rules, 'rule')} catch{'es' if rules == 1 else ''}"


def score_of(strength: Strength) -> str:
    percent = f"{100 * strength.score:.0f} % with every class weighted equally"
    return f"{strength.caught} of {strength.broken} broken states ({percent})"


def rows(out: Console, found: Strength) -> None:
    """The table of classes."""
    lines = []
    for row in found.rows:
        what = f"{row.sort}, which counts as installed" if row.wanted and row.sort != "installed" else row.sort
        lines.append((what, f"{row.right} of {row.total}", show.some_of(row.wrong, 3)))
    show.grid(
        out,
        lines,
        heads=("kind of state", "right", "judged wrongly" if found.false_absent else "not caught"),
        styles=(None, None, "dim"),
    )
