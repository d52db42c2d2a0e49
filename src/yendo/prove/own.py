"""What runners keep for themselves: logs, records, what is needed for repair and uninstall.

It is no effect of a package.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

from yendo.effects import Effect
from yendo.effects.things import kind_of, parent
from yendo.package import manifest as form
from yendo.platforms.windows import paths
from yendo.platforms.windows.surroundings import expand
from yendo.steps.include import IncludeData

MAX_DEPTH = 8


def folders(manifest: form.Manifest, package: Path, depth: int = 0) -> set[str]:
    """The folders that the runners of a package, and of those inside it, keep things in."""
    found = {manifest.home, manifest.logs}
    inner = [need.folder for need in manifest.needs] + [
        IncludeData.of(action).folder for action in manifest.install if action.kind == "include"
    ]
    for folder in inner:
        if folder and depth < MAX_DEPTH and (package / folder / "manifest.json").is_file():
            found |= folders(form.read(package / folder), package / folder, depth + 1)
    return found


def without(effects: Iterable[Effect], folders: Iterable[str], environment: Mapping[str, str]) -> list[Effect]:
    """The effects outside these folders, and without the folders above that were made for them."""
    heads = {expand(folder, environment).lower() for folder in folders}
    above = set(heads)
    for path in heads:
        while paths.SEPARATOR in (path := parent(path)):
            above.add(path)
    below = tuple(paths.into(head) for head in heads)

    def is_own(effect: Effect) -> bool:
        at, kind = effect.thing.identity, kind_of(effect.thing)
        return (kind == "folder" and at in above) or (kind in ("file", "folder", "ini") and at.startswith(below))

    return [effect for effect in effects if not is_own(effect)]
