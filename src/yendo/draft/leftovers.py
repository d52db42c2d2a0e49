"""What an installer would leave behind, found out before anybody has to: what stays on the machines of a rehearsal
becomes steps of the plan.
"""

from __future__ import annotations

import ntpath
from collections.abc import Iterable, Mapping, Sequence

from tomlkit.items import Table

from yendo.draft import writing
from yendo.draft.rehearsal import Remains
from yendo.effects import Effect, Environment, File, Folder, RegistryKey, RegistryValue, Service, Shortcut, State
from yendo.effects.things import View
from yendo.platforms.windows import paths
from yendo.platforms.windows.surroundings import contract

_KINDS = ("file", "shortcut", "folder", "registry", "registry-key", "environment", "service")


def steps(left: Iterable[Remains]) -> list[Table] | None:
    """The steps that take away what is left, on each of some machines; empty where nothing is.

    None where steps cannot: it is neither in files nor in the registry, a variable or a service, or it was changed.
    """
    found: dict[tuple[str, ...], Table] = {}
    for one in left:
        more = _undoing(one.effects, one.before, one.environment)
        if more is None:
            return None
        found |= more
    return list(found.values())


def _undoing(
    left: Sequence[Effect], before: State, environment: Mapping[str, str]
) -> dict[tuple[str, ...], Table] | None:
    """The steps that take away what is left on a machine that was ``before``; None where steps cannot."""
    left = [effect for effect in left if effect.kind != "ini"]  # the file that holds it is among them
    if any(effect.kind not in _KINDS or effect.change != "add" for effect in left):
        return None
    found: dict[tuple[str, ...], Table] = {}
    for effect in left:
        if isinstance(effect.thing, Service):
            step = {"kind": "service", "name": effect.thing.name, "change": "delete"}
            found[effect.kind, effect.thing.name] = writing.table(step)
    for path in _owned(left):
        shown = contract(path, environment)
        found[(shown,)] = writing.table({"kind": "delete", "path": shown, "keep": False, "empty_parents": True})
    for path in _emptied(left):
        shown = contract(path, environment)
        more = {"kind": "delete", "path": shown, "keep": False, "only_empty": True, "empty_parents": True}
        found.setdefault((shown,), writing.table(more))
    return found | _keys(left, before) | _variables(left)


def _owned(left: Sequence[Effect]) -> list[str]:
    """The new folders that hold a left file themselves, the topmost of each, and files in folders that were there.

    A folder that only leads to them is named nowhere: on another machine it may hold what is somebody else's.
    """
    made = {effect.thing.identity for effect in left if effect.kind == "folder"}
    found: dict[str, str] = {}
    for path in sorted((effect.thing.path for effect in left if isinstance(effect.thing, File | Shortcut)), key=_depth):
        folder = ntpath.dirname(path)
        owned = folder if folder.lower() in made else path
        if not any(paths.into(owned.lower()).startswith(paths.into(known)) for known in found):
            found[owned.lower()] = owned
    return list(found.values())


def _emptied(left: Sequence[Effect]) -> list[str]:
    """The new folders that hold nothing of what is left, the innermost of each."""
    held = [effect.thing.identity for effect in left if effect.kind != "folder"]
    folders = [effect.thing for effect in left if isinstance(effect.thing, Folder)]
    empty = [one for one in folders if not any(name.startswith(paths.into(one.identity)) for name in held)]
    return [
        one.path for one in empty if not any(other.identity.startswith(paths.into(one.identity)) for other in empty)
    ]


def _variables(left: Sequence[Effect]) -> dict[tuple[str, ...], Table]:
    """A step for each variable of the machine's; a person's own is not the package's to take away."""
    return {
        (variable.identity,): writing.table({"kind": "environment", "name": variable.name, "change": "delete"})
        for variable in (effect.thing for effect in left)
        if isinstance(variable, Environment) and variable.scope == "machine"
    }


def _depth(path: str) -> tuple[int, str]:
    return paths.depth(path), path


def _keys(left: Sequence[Effect], before: State) -> dict[tuple[str, ...], Table]:
    """A step for each key that holds something left, and for those above that are new; the inner ones first."""
    names: dict[tuple[str, View, str], list[str]] = {}
    for effect in left:
        if isinstance(effect.thing, RegistryValue):
            names.setdefault((effect.thing.hive, effect.thing.view, effect.thing.key), []).append(effect.thing.name)
        elif isinstance(effect.thing, RegistryKey):
            names.setdefault((effect.thing.hive, effect.thing.view, effect.thing.key), [])
    known = [thing.identity for thing in before.of("registry", "registry-key")]
    for hive, view, key in list(names):
        above = ntpath.dirname(key)
        while paths.depth(above) >= 1:
            head = RegistryKey(hive, above, view).identity
            if any(identity.startswith((paths.into(head), head + "!")) or identity == head for identity in known):
                break
            names.setdefault((hive, view, above), [])
            above = ntpath.dirname(above)
    found: dict[tuple[str, ...], Table] = {}
    for (hive, view, key), inside in sorted(names.items(), key=lambda one: (-paths.depth(one[0][2]), one[0])):
        step: dict[str, object] = {"kind": "registry", "key": paths.join(hive, key)}
        step |= ({"view": view} if view == "32" else {}) | ({"delete": sorted(inside)} if inside else {})
        found[(hive, view, key)] = writing.table({**step, "empty_key": True})
    return found
