"""Reading ``macos.toml``: TOML into types, every mistake with its line and the nearest known word."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec

from yendo.mac_half.model import AnyMacRule, AnyMacStep, MacPlan
from yendo.plan import places
from yendo.plan.mistakes import PlanProblem, explain, unknown
from yendo.plan.reading import PlanError, parsed

NAME = "macos.toml"
MAX_PLAN = 4 << 20
_KINDS: dict[str | int, tuple[str, Any]] = {"install": ("step", AnyMacStep), "detect": ("rule", AnyMacRule)}


def is_here(folder: Path) -> bool:
    """Whether a workspace has a half for macOS."""
    return (folder / NAME).is_file()


def read(folder: Path) -> tuple[MacPlan, dict[places.Path, int]]:
    """The plan of a workspace and the lines of its values. Raises PlanError."""
    path = folder / NAME
    try:
        if path.stat().st_size > MAX_PLAN:
            raise PlanError(str(path), [PlanProblem(1, f"larger than {MAX_PLAN} bytes, so not a plan")])
        return read_text(path.read_text("utf-8"), str(path))
    except FileNotFoundError as error:
        hint = "there is no plan for macOS here; start one with `yendo draft FOLDER Lantern.app`"
        raise PlanError(str(path), [PlanProblem(1, hint)]) from error
    except (OSError, UnicodeDecodeError) as error:
        raise PlanError(str(path), [PlanProblem(1, f"cannot be read as UTF-8 text: {error}")]) from error


def read_text(text: str, name: str = NAME) -> tuple[MacPlan, dict[places.Path, int]]:
    """The same for text that is at hand. Raises PlanError."""
    raw = parsed(text, name)
    found = places.lines(text)
    problems = list(unknown(raw, MacPlan, (), found))
    if not problems:
        try:
            return msgspec.convert(raw, MacPlan), found
        except msgspec.ValidationError as error:
            problems = [explain(error, raw, found, _KINDS)]
    raise PlanError(name, problems)
