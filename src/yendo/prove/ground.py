"""The states that detection is judged in, made by carrying the package out on simulated machines."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from yendo.detect.derive import portable
from yendo.detect.states import Ground, in_order
from yendo.effects import Effect, File, Product, State, difference
from yendo.effects.things import key_of
from yendo.errors import NotCovered, YendoError
from yendo.facts.versions import Version
from yendo.formats.msi import Database
from yendo.installers import recognise
from yendo.installers.account import Identity
from yendo.installers.msi import fitting
from yendo.machines.protocol import BROUGHT, Machine, Session
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import carry
from yendo.package import manifest as form
from yendo.platforms.windows import exit_codes, paths
from yendo.platforms.windows.exit_codes import DONE
from yendo.platforms.windows.surroundings import Account
from yendo.prove.stage import Stage
from yendo.steps import KINDS
from yendo.terms.rules import Rule
from yendo.terms.settings import Setting, SettingValue, fill

OTHER = paths.join(BROUGHT, "another version")


class Made(msgspec.Struct, frozen=True):
    """States for a package as at a site, its manifest with that site's values, the environment to judge rules in, and
    what could not be made, in words.
    """

    ground: Ground
    environment: Mapping[str, str]
    manifest: form.Manifest
    site: str
    missing: tuple[str, ...] = ()
    machine: Any = None  # a Machine: each state was made on one of its kind


def silent(installer: Path) -> tuple[str, Identity]:
    """The command line that installs a vendor's other installer silently, and who it is.

    Raises Unreadable, NotCovered.
    """
    account = recognise.read(installer)
    if account.family == "msi":
        return f'msiexec /i "{paths.join(OTHER, installer.name)}" /qn /norestart', account.identity
    if account.silent.install is None:
        raise NotCovered(
            f"{installer.name}: no silent command line is known from the file alone; `yendo try` finds one"
        )
    return account.silent.install.command.replace(
        f'"{installer.name}"', f'"{paths.join(OTHER, installer.name)}"', 1
    ), account.identity


def place(session: Session, installer: Path) -> int | None:
    """Installs a vendor's other installer on a machine; its exit code."""
    command, _ = silent(installer)
    session.bring(installer.parent, OTHER)
    return session.run(command, timeout=3600, folder=OTHER).exit_code


def lines_of(package: Path) -> set[str]:
    """The upgrade codes of the databases in a package, in capitals; one that cannot be read has none."""
    found: set[str] = set()
    for path in sorted((package / "media").rglob("*.msi")) if (package / "media").is_dir() else ():
        with contextlib.suppress(YendoError), Database(path) as database:
            found.add(fitting.facts(database).get("UpgradeCode", "").upper())
    return found - {""}


def is_newer(identity: Identity, manifest: form.Manifest) -> bool:
    """Whether an installer is of a later version than the package."""
    try:
        return Version.parse(identity.version or "") > Version.parse(manifest.version)
    except ValueError:
        return False


def _alone(
    others: Sequence[Path], machine: Machine, account: Account, manifest: form.Manifest, updates: bool
) -> tuple[list[tuple[str, State, bool]], list[str]]:
    """The states with each other installer by itself, and those that could not be had, with the reason."""
    apart: list[tuple[str, State, bool]] = []
    missing: list[str] = []
    for installer in others:
        try:
            command, identity = silent(installer)
            with machine.fresh(account) as session:
                session.bring(installer.parent, OTHER)
                ran = session.run(command, timeout=3600, folder=OTHER)
                if ran.exit_code not in DONE:
                    missing.append(f"{installer.name}: ends with {ran.exit_code} on the simulated machine")
                    continue
                words = f"{identity.name or installer.name} {identity.version or ''}".strip()
                apart.append((f"{words} is there instead", session.state(), updates and is_newer(identity, manifest)))
        except YendoError as error:
            missing.append(f"{installer.name}: {error}")
    return apart, missing


def _measurable(manifest: form.Manifest) -> None:
    """Raises NotCovered for a package whose work nobody predicts: what is not known is not broken on purpose."""
    if not all(KINDS[action.kind].predicted for action in manifest.install if action.kind in KINDS):
        raise NotCovered("what Windows does to itself is not predicted, so nothing of it can be broken on purpose")


def make(
    package: Path,
    others: Sequence[Path] = (),
    *,
    updates: bool = False,
    account: Account = "system",
    site: str | None = None,
    machine: Machine | None = None,
) -> Made:
    """Carries the package out, wholly and up to each of its steps, removes it, and installs every other installer
    alone. ``machine`` is a simulated one with what the plan says is there; without it a bare one is taken.

    Raises NotCovered where the simulated machine cannot carry the package out.
    """
    machine = machine or SimulatedMachine()
    before = machine.baseline(account)
    with machine.fresh(account) as session:
        stage = Stage(package, machine, account, lambda title: None, site=site)
        manifest = stage.manifest
        _measurable(manifest)
        environment = session.surroundings.environment
        stage.bring(session)
        found = stage.verb(session, "install")
        if found.exit_code not in (*DONE, form.NOT_DETECTED):
            raise NotCovered(
                f"the simulated machine does not install it: exit code {found.exit_code}; {'; '.join(found.lines[-2:])}"
            )
        after = session.state()
        own = stage.without_own(difference(before, after), session)
        shared = _shared(manifest, package, machine, account)
        effects = [_known(effect, after) for effect in in_order(own) if key_of(effect.thing) not in shared]
        removed = None
        if manifest.uninstall and stage.verb(session, "uninstall").exit_code in DONE:
            removed = session.state().copy()
    also: list[tuple[str, State]] = []
    always = tuple(action for action in manifest.install if not action.when)
    if 0 < len(always) < len(manifest.install):
        with machine.fresh(account) as session:
            stage.bring(session)
            if _carried(msgspec.structs.replace(manifest, install=always, detect=()), package, session, stage.folder):
                also.append(("this version, where no step's condition holds", session.state()))
    steps = []
    for count in range(1, len(manifest.install)):
        if all(action.standing for action in manifest.install[count:]):
            break  # what is missing is the office's, and every package of its would tell
        part = msgspec.structs.replace(manifest, install=manifest.install[:count], detect=(), needs=manifest.needs)
        with machine.fresh(account) as session:
            stage.bring(session)
            if _carried(part, package, session, stage.folder):
                state = session.state()
                if difference(state, after) and not any(not difference(state, there) for _, there in also):
                    steps.append((f"the install stopped after step {count} of {len(manifest.install)}", state))
    apart, missing = _alone(others, machine, account, manifest, updates)
    ground = Ground(before, after, tuple(effects), tuple(steps), removed, tuple(apart), tuple(also), updates)
    return Made(ground, environment, manifest, stage.site, tuple(missing), machine)


def everywhere(made: Made, package: Path, account: Account = "system") -> Made:
    """The same with the package as it is at every other site, and with other values, among the good states.

    Rules derived from it hold whatever is chosen at delivery; folders stay, since ``with_places`` puts them into rules.
    """
    machine, also, missing = made.machine, list(made.ground.also), list(made.missing)
    known = made.manifest.settings
    other = {
        name: _otherwise(one, made.manifest.chosen.get(name, ""))
        for name, one in known.items()
        if not one.secret and one.type != "folder"
    }
    ways: list[tuple[str, str, Mapping[str, SettingValue]]] = [
        (f"as at {site}", site, {}) for site in form.sites_of(form.read(package)) if site != made.site
    ]
    for name, site, values in [*ways, *([("with other values", made.site, other)] if other else [])]:
        with machine.fresh(account) as session:
            stage = Stage(package, machine, account, lambda title: None, site=site, values=values)
            stage.bring(session)
            code = stage.verb(session, "install").exit_code
            if code in (*DONE, form.NOT_DETECTED):
                also.append((f"this version, {name}", session.state()))
            else:
                missing.append(f"this version, {name}: ends with {code} on the simulated machine")
    return msgspec.structs.replace(
        made, ground=msgspec.structs.replace(made.ground, also=tuple(also)), missing=tuple(missing)
    )


def idle_settings(made: Made, package: Path, account: Account = "system") -> list[str]:
    """The settings of which another value leaves the simulated machine as it is: used by nothing that can be seen, or
    lost on the way.
    """
    machine, found = made.machine, []
    for name, one in made.manifest.settings.items():
        if one.secret:
            continue
        now = made.manifest.chosen.get(name, "")
        other = r"%SystemDrive%\Elsewhere" if one.type == "folder" else _otherwise(one, now)
        with machine.fresh(account) as session:
            stage = Stage(package, machine, account, lambda title: None, site=made.site, values={name: other})
            if stage.manifest.chosen.get(name) == now:
                continue  # there is no other value
            stage.bring(session)
            ended = stage.verb(session, "install").exit_code in (*DONE, form.NOT_DETECTED)
            if ended and not stage.without_own(difference(made.ground.after, session.state()), session):
                found.append(name)
    return found


def with_places(rule: Rule, made: Made) -> Rule:
    """A rule that holds below a folder chosen at delivery, with the setting in that folder's place."""
    folders: dict[str, str] = {}
    for name, one in made.manifest.settings.items():
        if one.type == "folder" and made.manifest.chosen.get(name):
            chosen = paths.bare(made.manifest.chosen[name])
            folders |= {text.lower(): f"{{setting.{name}}}" for text in (chosen, portable(chosen, made.environment))}

    def placed(text: str) -> str:
        head = next(
            (
                head
                for head in sorted(folders, key=len, reverse=True)
                if text.lower() == head or paths.is_below(text, head)
            ),
            None,
        )
        return text if head is None else folders[head] + text[len(head) :]

    return msgspec.convert(fill(msgspec.to_builtins(rule), placed), type(rule)) if folders else rule


def _otherwise(setting: Setting, value: str) -> SettingValue:
    """Another value that a setting may have; the same where there is no other."""
    match setting.type:
        case "yes-no":
            return setting.text_said(value) == "no"
        case "number":
            given = int(value or 0)
            return next((number for number in (given + 1, given - 1) if setting.fits(number)), given)
        case "choice" | "choices":
            return next((item for item in setting.allowed if item != value), value)
    return f"{value} otherwise".strip()


def _shared(manifest: form.Manifest, package: Path, machine: Machine, account: Account) -> set[tuple[str, str]]:
    """What is another package's, which this one brings along, or the office's, by key: detection never asks for it."""
    standing = tuple(action for action in manifest.install if action.standing)
    if not standing and not any(need.folder for need in manifest.needs):
        return set()
    with machine.fresh(account) as session:
        stage = Stage(package, machine, account, lambda title: None)
        stage.bring(session)
        before = session.state()
        _carried(msgspec.structs.replace(manifest, install=standing, detect=()), package, session, stage.folder)
        return {key_of(effect.thing) for effect in difference(before, session.state())}


def _carried(manifest: form.Manifest, package: Path, session: Session, folder: str) -> bool:
    """Carries steps out, through restarts; False where they end badly."""
    for _ in range(5):
        code = carry.carry(manifest, package, session, "install", folder=folder, sleep=lambda seconds: None).exit_code
        if code != exit_codes.RESTARTING:
            return code in DONE
        session.restart()
    return False


def _known(effect: Effect, after: State) -> Effect:
    """An effect with everything that is known of its thing in the end."""
    there = after.get(effect.kind, effect.thing.identity)
    return (
        msgspec.structs.replace(effect, thing=there)
        if isinstance(there, File | Product) and effect.change != "remove"
        else effect
    )
