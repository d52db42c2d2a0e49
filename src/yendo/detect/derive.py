"""Detection rules from effects."""

from __future__ import annotations

from collections.abc import Iterable

from yendo.effects import Effect, File, Product, UninstallEntry
from yendo.facts.versions import VersionRange
from yendo.terms.rules import FileRule, MsiProductRule, Rule, UninstallEntryRule

_KEPT = "\\windows\\installer\\"  # what the Windows Installer keeps for itself is no program of the product


def for_effects(effects: Iterable[Effect], main: Iterable[str] = ()) -> list[Rule]:
    """The product (or its entry in the list of programs) in its version, and the largest versioned program.

    Neither half alone is enough. Without any version a program stands for it by its content.

    ``main`` are names of programs to prefer, best first.
    """
    added = [effect.thing for effect in effects if effect.change != "remove"]
    rules: list[Rule] = [
        MsiProductRule(code=thing.code, version=f"=={thing.version}" if thing.version else None) for thing in added if isinstance(thing, Product)
    ]
    if not rules:
        rules += [_entry(thing) for thing in added if isinstance(thing, UninstallEntry) and thing.name]
    versioned = [
        thing
        for thing in added
        if isinstance(thing, File) and thing.version and thing.path.lower().endswith((".exe", ".dll")) and _KEPT not in thing.path.lower()
    ]
    preferred = [name.lower() for name in main]

    def rank(file: File) -> tuple[int, int, str]:
        name = file.path.rpartition("\\")[2].lower()
        return preferred.index(name) if name in preferred else len(preferred), -(file.size or 0), file.path

    if versioned:
        best = min(versioned, key=rank)
        rules.append(FileRule(path=best.path, version=f">={best.version}"))
        return rules
    hashed = [thing for thing in added if isinstance(thing, File) and thing.sha256 and thing.size]
    if hashed and not any(isinstance(rule, MsiProductRule) for rule in rules):
        best = min(hashed, key=rank)  # nothing tells its version, so the content does
        rules.append(FileRule(path=best.path, sha256=best.sha256))
    return rules


def _entry(thing: UninstallEntry) -> Rule:
    try:
        VersionRange.parse(f"=={thing.version}")
        version = f"=={thing.version}"
    except ValueError:  # a version in words can only be compared by name
        version = None
    return UninstallEntryRule(name=thing.name or thing.key, version=version, view=thing.view)


def for_copies(copies: Iterable[tuple[str, str]]) -> list[Rule]:
    """``(path on the machine, sha256)`` of placed files: each by its content."""
    return [FileRule(path=path, sha256=digest) for path, digest in copies]
