"""Looking at the package itself after a failure: what the logs do not say may stand in the installer."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from yendo.errors import YendoError
from yendo.formats.msi import Database
from yendo.formats.pe import Image
from yendo.installers.msi.actions import STANDARD
from yendo.installers.msi.media import payload
from yendo.installers.msi.session import InstallSession as Interpreter
from yendo.machines.protocol import Session
from yendo.package import manifest as form
from yendo.platforms.windows import paths
from yendo.platforms.windows.surroundings import expand
from yendo.prove.libraries import missing_libraries
from yendo.steps import Action
from yendo.terms import events


def failed_step(told: Sequence[events.Event]) -> int | None:
    """The step in which the runner ended badly, counted from 1; None where every step ended well."""
    if told and isinstance(told[-1], events.NotDetected):
        return None
    numbers = [event.number for event in told if isinstance(event, events.StepEndedBadly | events.StepBegan)]
    return numbers[-1] if numbers else None


def examine(
    manifest: form.Manifest,
    package: Path,
    session: Session,
    verb: str,
    told: Sequence[events.Event],
    action: str | None,
) -> list[tuple[str, str]]:
    """Pairs of a cause's id and what was found; nothing where an examination finds nothing."""
    number = failed_step(told)
    actions = manifest.actions(verb)
    if number is None or number > len(actions):
        return []
    step = actions[number - 1]
    try:
        if step.kind == "msi":
            return _database(step, package, session, action)
        if step.kind == "service" and (
            match := re.search(r"(?i)\bsc(?:\.exe)? (?:start|stop|config|delete) \"?([^\s\"]+)", step.command)
        ):
            there = session.state().get("service", match[1])
            return [] if there else [("no-service", f"there is no service {match[1]}")]
        if step.kind == "script":
            ended = next((event for event in reversed(told) if isinstance(event, events.CommandEnded)), None)
            return [("script-error", f"{step.title}: {ended.text}")] if ended else []
        if step.kind == "exe":
            return _program(step, package, session)
    except (YendoError, OSError, ValueError):
        return []  # what cannot be read explains nothing here; the exit code still may
    return []


def _inside(package: Path, command: str, ending: str) -> Path | None:
    """A file of the package that a command line names."""
    match = re.search(rf'([^"\s]*|[^"]*)\\((?:media|extras|made|transforms)\\[^"]*?\.{ending})', command, re.I)
    path = package / paths.portable(match[2]) if match else None
    return path if path is not None and path.is_file() else None


def _database(step: Action, package: Path, session: Session, action: str | None) -> list[tuple[str, str]]:
    path = _inside(package, step.command, "msi")
    if path is None:
        return []
    try:
        database = Database(path)
    except YendoError as error:
        return [("damaged-database", str(error))]
    found: list[tuple[str, str]] = []
    with database:
        given = dict(re.findall(r'\b([A-Z][A-Z0-9_]+)=(?:"([^"]*)"|\S*)', step.command))
        interpreter = Interpreter(database, session.surroundings, session.state().copy(), given)
        try:
            STANDARD["LaunchConditions"](interpreter)
        except Exception as failure:  # the interpreter's own, with the condition's message
            holds_not = next(
                (
                    entry.text("Condition")
                    for entry in database["LaunchCondition"]
                    if not _holds(interpreter, entry.text("Condition"))
                ),
                "",
            )
            found.append(("launch-condition", f"{holds_not}: {getattr(failure, 'message', failure)}"))
        if action in (None, "InstallFiles"):
            target = given.get("INSTALLDIR") or given.get("TARGETDIR") or given.get("INSTALLFOLDER")
            if target and not re.match(r"(?i)c:", expand(target, session.surroundings.environment)):
                found.append(("no-target", f"the command line installs to {target}"))
            for row in database["Media"]:
                cabinet = row.text("Cabinet")
                if cabinet and not cabinet.startswith("#") and not (path.parent / cabinet).is_file():
                    found.append(("source-missing", f"{cabinet} is not beside {path.name}"))
        if action in (None, "InstallFinalize", "StartServices", "InstallServices"):
            contents = payload(database, path.parent)
            keys = {row.text("Component"): row.text("KeyPath") for row in database["Component"]}
            for row in database["ServiceInstall"]:
                data = contents.get(keys.get(row.text("Component_"), ""), b"MZ")
                if data[:2] != b"MZ":
                    found.append(("service-start", f"the program of the service {row.text('Name')} is no program"))
        if action and action not in STANDARD:
            for custom in database["CustomAction"].where(Action=action):
                words = interpreter.format(custom.text("Target")) or custom.text("Source")
                found.append(("custom-action", f"custom action {action} (type {custom.number('Type')}): {words}"))
    return found


def _holds(interpreter: Interpreter, condition: str) -> bool:
    from yendo.evidence import row

    return interpreter.holds(condition, row("LaunchCondition", condition))


def _program(step: Action, package: Path, session: Session) -> list[tuple[str, str]]:
    path = _inside(package, step.command, "exe")
    if path is None:
        return []
    if path.stat().st_size < 64 or path.read_bytes()[:2] != b"MZ":
        return [("architecture", f"{path.name} is no program")]
    with path.open("rb") as file:
        image = Image(file, path.name)
    if image.architecture not in ("x64", "x86"):
        return [
            (
                "architecture",
                f"{path.name} is for {image.architecture}, this machine is {session.surroundings.architecture}",
            )
        ]
    beside = {entry.name.lower() for entry in path.parent.iterdir()}
    state = session.state()
    lacking = missing_libraries(path.read_bytes(), beside, lambda library: state.get("file", library) is not None)
    return [("missing-library", f"{path.name} imports {', '.join(lacking)}, which is not there")] if lacking else []
