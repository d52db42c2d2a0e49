"""What a built package should do to a machine, from its own media and steps."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

import msgspec

from yendo.detect.evaluate import judge, seen
from yendo.effects import Effect, State, apply, difference, net
from yendo.effects.things import kind_of
from yendo.errors import NotCovered
from yendo.evidence import Evidence
from yendo.facts.machine import Facts
from yendo.formats.msi.patch import Patch
from yendo.installers import programs
from yendo.installers.msi import commandline, engine, layers
from yendo.installers.msi.layers import Layers
from yendo.installers.msi.media import MissingMedia, payload
from yendo.installers.msi.session import Memory
from yendo.machines.simulated.machine import SimulatedSession
from yendo.machines.simulated.programs import recordings
from yendo.package import carry
from yendo.package import manifest as form
from yendo.package.manifest import Manifest, read
from yendo.platforms.windows import paths
from yendo.platforms.windows.recording import replay
from yendo.platforms.windows.surroundings import Surroundings, expand
from yendo.prove import own
from yendo.steps import KINDS, Action
from yendo.steps import home as layout
from yendo.steps.host import Host
from yendo.terms.settings import SettingError


def install_effects(
    manifest: Manifest, package: Path, surroundings: Surroundings, state: State, *, real: bool = False
) -> tuple[list[Effect], list[str]]:
    """Effects of the install steps on ``state``, which is changed, and their blind spots in words.

    ``real`` says that they are held against a run, and are not themselves what is replayed.
    """
    effects: list[Effect] = []
    blind: list[str] = []
    memories: dict[str, tuple[Memory, Layers]] = {}
    before = state.copy()
    brought = [form.needed_first(need) for need in manifest.needs if need.folder]
    for action in (*brought, *manifest.install):
        if any(judge(rule, seen(state, surroundings.environment)).holds for rule in action.unless):
            continue
        if action.when and not _host(manifest, package, surroundings, state, real)[0].condition(action.when).holds:
            continue
        if action.kind == "exe":
            home = expand(layout.kept(manifest.home, manifest.id), surroundings.environment)
            more, spots = _exe(action, package, home, surroundings, state, real)
        elif action.kind == "msi":
            more, spots = _msi(action, package, surroundings, state, memories)
        elif real and not KINDS[action.kind].predicted:
            more, spots = [], [f"{action.title}: {KINDS[action.kind].unseen}"]
        else:
            more, spots = _performed(action, *_host(manifest, package, surroundings, state, real))
            if KINDS[action.kind].unseen and (real or not KINDS[action.kind].predicted):
                spots = [*spots, f"{action.title}: {KINDS[action.kind].unseen}"]
        effects += more
        blind += spots
    found = own.without(net(effects, before, state), own.folders(manifest, package), surroundings.environment)
    return found, list(dict.fromkeys(blind))


def _msi(
    action: Action, package: Path, surroundings: Surroundings, state: State, memories: dict[str, tuple[Memory, Layers]]
) -> tuple[list[Effect], list[str]]:
    try:
        command = commandline.parse(expand(action.command, surroundings.environment))
    except commandline.CommandError as error:
        return [], [f"{action.title}: the command line is refused ({error})"]

    def find(name: str) -> Path | None:
        path = package / paths.portable(name.replace("{package}\\", ""))
        return path if path.is_file() else None

    path = find(command.package)
    if command.is_code or path is None:
        return [], [f"{action.title}: its package is not at hand, so what it does is not predicted"]
    given = {"REBOOT": "ReallySuppress", **command.properties}
    try:
        if command.action == "patch":
            with Patch(path) as patch:
                there = next((code for code in patch.targets if code in memories), None)
            if there is None:
                return [], [f"{action.title}: the product that the patch is for is not there"]
            held = memories[there][1]
            using = Layers(held.source, held.transforms, (*held.patches, path))
        else:
            transforms, patches = layers.named(given, find)
            using = Layers(path, tuple(transforms), tuple(patches))
        with using.opened() as database:
            known = {code: memory for code, (memory, _) in memories.items()}
            outcome = engine.run(
                database, surroundings, state, given, memories=known, contents=payload(database, using.source)
            )
    except MissingMedia as error:
        return [], [f"{action.title}: fails, a file of the installer is missing: {error}"]
    except layers.Refused as refused:
        return [], [f"{action.title}: ends with {refused.code}, {refused.message}"]
    if outcome.memory:
        memories[outcome.memory.code] = (outcome.memory, using)
    return list(outcome.effects), [f"{spot.what}: {spot.why}" for spot in outcome.blind_spots]


def _exe(
    action: Action, package: Path, home: str, surroundings: Surroundings, state: State, real: bool
) -> tuple[list[Effect], list[str]]:
    """Of a setup program: what a trial saw it do, else what can be read."""
    for recording in recordings(package) if action.observed else ():
        if recording.command == action.command:
            label = (
                f"expected is what a run of {recording.date[:10]} on {recording.machine} did"
                if real
                else recording.label
            )
            return replay(recording, state, surroundings.environment), [f"{action.title}: {label}"]
    match = re.match(r'"\{package\}\\([^"]+)"\s*(.*)$', action.command)
    path = package / paths.portable(match[1]) if match else None
    if match is None or path is None or not path.is_file():
        return [], [f"{action.title}: the program lies on the machine, so what it does is not predicted"]
    arguments = expand(match[2], surroundings.environment)  # as the runner does before it starts one
    with path.open("rb") as file:
        found = programs.Reading(file, path.name).predict(paths.join(home, match[1]), arguments, surroundings, state)
    apply(found.effects, state)
    return list(found.effects), [f"{spot.what}: {spot.why}" for spot in found.blind_spots]


def _host(
    manifest: Manifest, package: Path, surroundings: Surroundings, state: State, real: bool
) -> tuple[Host, SimulatedSession]:
    """A simulated machine with this state; of a real one, facts are known only as far as they are seen from outside."""
    folder = expand(
        layout.kept(manifest.home, manifest.id), surroundings.environment
    )  # where the runner carries its package out
    session = SimulatedSession(surroundings, state)
    if real:
        session.facts = Facts(
            windows=surroundings.windows, architecture=surroundings.architecture, computer=surroundings.computer
        )
    session.bring(package, folder)
    host = Host(session, manifest.id, package, folder, logs=manifest.logs, home=manifest.home)
    host.sleep = lambda _: None

    def other(inner: str, verb: str, settings: Mapping[str, str], site: str) -> int:
        whole = read(package / inner)
        layers = whole.sites.get(site, {}), settings
        settled = form.with_values(whole, surroundings.environment, *layers, verb=verb)
        return carry.carry(
            settled, package / inner, session, verb, folder=paths.join(folder, inner), sleep=host.sleep
        ).exit_code

    host.carry_other = other
    return host, session


def _performed(action: Action, host: Host, session: SimulatedSession) -> tuple[list[Effect], list[str]]:
    """Of every other kind: what it does when it is carried out on a simulated machine with this state."""
    state, surroundings = session.own_state, session.surroundings
    before = state.copy()
    home = expand(host.home, surroundings.environment).lower()
    try:
        KINDS[action.kind].perform(action, host)
        if session.setup.pending:  # what comes at the restart is its work
            session.restart()
    except NotCovered:
        return [], [f"{action.title}: what it does is known only from a run"]
    except SettingError as error:
        return [], [f"{action.title}: {problem}" for problem in error.problems]
    except (OSError, ValueError) as error:
        return [], [f"{action.title}: fails on a fresh machine: {error}"]
    for thing in [thing for thing in state if thing.identity.startswith(home)]:
        state.remove(kind_of(thing), thing.identity)
    evidence = Evidence("person", f"plan: {action.title}")
    found = [msgspec.structs.replace(effect, evidence=evidence) for effect in difference(before, state, "authored")]
    return found, [f"{action.title}: a script may do more than its probe says"] if action.kind == "script" else []
