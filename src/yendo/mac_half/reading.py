"""Reading ``macos.toml``: TOML into types, every mistake with its line and the nearest known word."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from yendo.mac_half.model import AnyMacRule, AnyMacStep, MacPlan
from yendo.plan import places
from yendo.plan.reading import read_as, text_of

NAME = "macos.toml"
MAX_PLAN = 4 << 20
_KINDS: dict[str | int, tuple[str, Any]] = {"install": ("step", AnyMacStep), "detect": ("rule", AnyMacRule)}


def is_here(folder: Path) -> bool:
    """Whether a workspace has a half for macOS."""
    return (folder / NAME).is_file()


def read(folder: Path) -> tuple[MacPlan, dict[places.Path, int]]:
    """The plan of a workspace and the lines of its values. Raises PlanError."""
    path = folder / NAME
    missing = "there is no plan for macOS here; start one with `yendo draft FOLDER Lantern.app`"
    return read_text(text_of(path, missing, MAX_PLAN), str(path))


def read_text(text: str, name: str = NAME) -> tuple[MacPlan, dict[places.Path, int]]:
    """The same for text that is at hand. Raises PlanError."""
    return read_as(text, name, MacPlan, _KINDS)
