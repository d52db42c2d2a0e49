"""Detection rules from effects."""

from __future__ import annotations

from collections.abc import Iterable

from yendo.effects import Effect, File, Product
from yendo.plan import FileRule, MsiProductRule, Rule


def for_effects(effects: Iterable[Effect], main: Iterable[str] = ()) -> list[Rule]:
    """The product in its version, and the largest versioned program, so that neither half alone is enough.

    ``main`` are names of programs to prefer, best first.
    """
    added = [effect.thing for effect in effects if effect.change != "remove"]
    rules: list[Rule] = [
        MsiProductRule(code=thing.code, version=f"=={thing.version}" if thing.version else None) for thing in added if isinstance(thing, Product)
    ]
    versioned = [thing for thing in added if isinstance(thing, File) and thing.version and thing.path.lower().endswith((".exe", ".dll"))]
    preferred = [name.lower() for name in main]

    def rank(file: File) -> tuple[int, int, str]:
        name = file.path.rpartition("\\")[2].lower()
        return preferred.index(name) if name in preferred else len(preferred), -(file.size or 0), file.path

    if versioned:
        best = min(versioned, key=rank)
        rules.append(FileRule(path=best.path, version=f">={best.version}"))
    return rules


def for_copies(copies: Iterable[tuple[str, str]]) -> list[Rule]:
    """``(path on the machine, sha256)`` of placed files: each by its content."""
    return [FileRule(path=path, sha256=digest) for path, digest in copies]
