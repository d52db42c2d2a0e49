"""A machine that is fresh but for what the plan says is there: what a package needs from outside.

``[proof]`` names rules that hold already, packages that are installed already, and whether a person is there who
agrees. Every scenario begins on such a machine; its label says so, and with it every record.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec

from yendo.effects import Effect, State
from yendo.errors import NotCovered, Usage
from yendo.evidence import Evidence
from yendo.machines.protocol import Machine, Place, Session
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.plan.model import Plan, Proving
from yendo.platforms.windows import paths, systems
from yendo.platforms.windows.exit_codes import DONE
from yendo.platforms.windows.surroundings import Account, Surroundings, expand
from yendo.prove.stage import Stage
from yendo.terms.rules import FileRule, FolderRule, RegistryKeyRule, RegistryRule, Rule

_LARGEST = 64 << 20


class Furnished:
    """A kind of machine, furnished. Raises NotCovered at ``fresh`` where a real machine cannot be given something."""

    def __init__(self, machine: Machine, proof: Proving, workspace: Path) -> None:
        self.machine, self.proof = machine, proof
        self.packages = [_package(workspace / name) for name in proof.packages]
        self.files = {path: _file(workspace / name) for path, name in proof.files.items()}
        self.name, self.place = machine.name, machine.place
        self._baselines: dict[Account, State] = {}

    name: str
    place: Place

    @property
    def label(self) -> str:
        things = [*(rule.title for rule in self.proof.there), *self.files, *(package.name for package in self.packages)]
        more = f"with {'; '.join(things)}" if things else ""
        return ", ".join(filter(None, (self.machine.label, more, "somebody there" if self.proof.person else "")))

    @property
    def has_powershell(self) -> bool:
        return self.machine.has_powershell

    @property
    def screens(self) -> bool:
        return self.machine.screens

    @property
    def evidence(self) -> bool:
        return self.machine.evidence

    @property
    def not_windows(self) -> str:
        return self.machine.not_windows

    @property
    def without_powershell(self) -> str:
        return self.machine.without_powershell

    def imitates(self, account: Account) -> str:
        return self.machine.imitates(account)

    @property
    def unanswered(self) -> frozenset[str]:
        return self.machine.unanswered

    def surroundings(self, account: Account = "user") -> Surroundings:
        return self.machine.surroundings(account)

    def shown(self, effects: Iterable[Effect]) -> tuple[list[Effect], dict[str, int]]:
        return self.machine.shown(effects)

    def leaves(self, effect: Effect, because: Evidence | None, *, empty: bool) -> str:
        return self.machine.leaves(effect, because, empty=empty)

    def unmended(self, *, patched: bool) -> str:
        return self.machine.unmended(patched=patched)

    def interrupt(self) -> None:
        self.machine.interrupt()

    def baseline(self, account: Account = "user") -> State:
        if account not in self._baselines:
            with self.fresh(account) as session:
                self._baselines[account] = session.state()
        return self._baselines[account].copy()

    @contextlib.contextmanager
    def fresh(self, account: Account = "user") -> Iterator[Session]:
        with self.machine.fresh(account) as session:
            staged = session.staging
            if staged:
                session.make_hold(self.proof.there, "")
            else:
                for rule in self.proof.there:
                    _really(rule, session)
            for path, data in self.files.items():
                _place(expand(path, session.surroundings.environment), data, session)
            for package in self.packages:
                self._install(package, session, account)
            if self.proof.person:
                if not staged:
                    raise NotCovered("a person who agrees is played on the simulated machine only")
                staged.facts = msgspec.structs.replace(staged.facts, people=1)
            yield session

    def _install(self, package: Path, session: Session, account: Account) -> None:
        stage = Stage(package, self.machine, account, lambda title: None)
        stage.bring(session)
        code = stage.verb(session, "install").exit_code
        if code not in DONE:
            raise NotCovered(
                f"{package.name}, which the plan says is there already, does not install: exit code {code}"
            )


def furnished(machine: Machine, proof: Proving, workspace: Path) -> Machine:
    """The machine as the plan wants it: itself where the plan says nothing. Raises Usage."""
    wanted = proof.there or proof.packages or proof.files or proof.person
    return Furnished(machine, proof, workspace) if wanted else machine


def simulated_for(plan: Plan, workspace: Path) -> Machine:
    """The simulated machine that stands for a plan's: a Windows that it admits, with what it says is there. Raises
    Usage.
    """
    return furnished(SimulatedMachine(systems.suiting(plan.when.os)), plan.proof, workspace)


def bare(machine: Machine) -> Machine:
    """The machine without what the plan says is there."""
    return machine.machine if isinstance(machine, Furnished) else machine


def _package(path: Path) -> Path:
    if not (path / "manifest.json").is_file():
        raise Usage(f"[proof] packages: {path} is no built package; name its folder, with manifest.json in it")
    return path


def _file(path: Path) -> bytes:
    if not path.is_file() or path.is_symlink() or path.stat().st_size > _LARGEST:
        raise Usage(f"[proof] files: {path} is no file of at most {_LARGEST >> 20} MB in the workspace")
    return path.read_bytes()


def _place(path: str, data: bytes, session: Session) -> None:
    """Writes a file, its folders first."""
    for folder in paths.parents(path)[1:]:
        session.make_folder(folder)
    session.write(path, data)


def _really(rule: Rule, session: Session) -> None:
    """Makes a rule hold on a real machine, by the system's own programs. Raises NotCovered."""
    environment = session.surroundings.environment
    match rule:
        case FileRule() if rule.sha256 is None and not rule.version:
            path = expand(rule.path, environment)
            session.run(f'cmd /c mkdir "{path.rpartition(chr(92))[0]}"', timeout=60)
            session.write(path, b"")
        case FolderRule():
            session.run(f'cmd /c mkdir "{expand(rule.path, environment)}"', timeout=60)
        case RegistryRule() if not rule.version and not rule.number:
            data = "" if rule.equals is None else str(rule.equals)
            kind = "REG_DWORD" if isinstance(rule.equals, int) else "REG_SZ"
            named = f'/v "{rule.name}"' if rule.name else "/ve"
            _reg(f'reg add "{rule.key}" {named} /t {kind} /d "{data}" /f /reg:{rule.view}', session)
        case RegistryKeyRule():
            _reg(f'reg add "{rule.key}" /f /reg:{rule.view}', session)
        case _:
            raise NotCovered(
                f"{rule.title}: only the simulated machine can be given that; a package that brings it can"
            )


def _reg(line: str, session: Session) -> None:
    if session.run(line, timeout=60).exit_code != 0:
        raise NotCovered(f"the machine refuses: {line}")
