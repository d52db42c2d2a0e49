"""What a built package should do to a machine, from its own media and steps."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from yendo.effects import Effect, File, State
from yendo.effects.things import parent
from yendo.evidence import Evidence
from yendo.facts.surroundings import Surroundings, expand
from yendo.formats.msi import Database
from yendo.installers.msi import commandline, engine
from yendo.package.manifest import Action, Manifest


def install_effects(manifest: Manifest, package: Path, surroundings: Surroundings, state: State) -> tuple[list[Effect], list[str]]:
    """Effects of the install steps on ``state``, which is changed, and their blind spots in words."""
    effects: list[Effect] = []
    blind: list[str] = []
    for action in manifest.install:
        if action.kind == "copy":
            effects += _copy(action, surroundings, state, package)
        elif action.kind == "msi":
            more, spots = _msi(action, package, surroundings, state)
            effects += more
            blind += spots
    return effects, blind


def _msi(action: Action, package: Path, surroundings: Surroundings, state: State) -> tuple[list[Effect], list[str]]:
    try:
        command = commandline.parse(expand(action.command, surroundings.environment))
    except commandline.CommandError as error:
        return [], [f"{action.title}: the command line is refused ({error})"]
    path = package / command.package.replace("{package}\\", "").replace("\\", "/")
    if command.is_code or not path.is_file():
        return [], [f"{action.title}: its package is not at hand, so what it does is not predicted"]
    given = {"REBOOT": "ReallySuppress", **command.properties}
    with Database(path) as database:
        outcome = engine.run(database, surroundings, state, given)
    return list(outcome.effects), [f"{spot.what}: {spot.why}" for spot in outcome.blind_spots]


def _copy(action: Action, surroundings: Surroundings, state: State, package: Path) -> Iterable[Effect]:
    for item in action.items:
        target = expand(item.to, surroundings.environment)
        where = Evidence("person", f"plan: {action.title}")
        for folder in state.add_folders(parent(target)):
            yield Effect("add", folder, "authored", where)
        before = state.add(File(target, (package / item.source).stat().st_size, item.sha256))
        if before is None:
            yield Effect("add", File(target, (package / item.source).stat().st_size, item.sha256), "authored", where)
