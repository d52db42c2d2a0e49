"""The program's own modules, parsed once for all tests that read them."""

from __future__ import annotations

import ast
from functools import cache
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src" / "yendo"


@cache
def parsed() -> dict[str, ast.Module]:
    """Every module by its path below the program's folder."""
    return {path.relative_to(SOURCE).as_posix(): ast.parse(path.read_text("utf-8")) for path in SOURCE.rglob("*.py")}
