"""How scenarios are played: each function adds phases to its stage, on fresh machines of its kind.

What a machine cannot play becomes a phase that was executed nowhere, with the reason.
"""

from __future__ import annotations

import ntpath
import threading
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from yendo.detect.states import main_file
from yendo.effects import Effect, File, Product, Shortcut, State, UninstallEntry, difference
from yendo.effects.things import parent
from yendo.errors import NotCovered, Unreadable
from yendo.installers.account import Identity
from yendo.machines.protocol import Session
from yendo.package import manifest as form
from yendo.platforms.windows import folders, paths
from yendo.platforms.windows.exit_codes import DONE
from yendo.platforms.windows.surroundings import expand
from yendo.prove import ground
from yendo.prove.libraries import missing_libraries
from yendo.prove.stage import Stage
from yendo.steps import home as layout
from yendo.steps.action import MsiData

START_SECONDS = 4.0
OWN_DATA = b"a person's own"


# --- building blocks ----------------------------------------------------------------------------------


def installed(stage: Stage, session: Session, title: str = "install") -> State | None:
    """Brings and installs the package, with a phase of this title; None where that failed, with a phase
    that says why.
    """
    stage.bring(session)
    carried = stage.verb(session, "install")
    if carried.exit_code in DONE:
        if title:
            stage.phase("install", title, True, "exit code accepted", f"exit code {carried.exit_code}", by=stage.by)
        return session.state()
    details, cause = stage.failed_run(session, "install", carried)
    stage.phase(
        "install",
        "install",
        False,
        "exit code 0, 3010 or 1641",
        f"exit code {carried.exit_code}",
        by=stage.by,
        details=details,
        cause=cause,
    )
    return None


def changes(stage: Stage, session: Session, before: State) -> list[str]:
    """What the package changed on the machine since then, without what it keeps for itself."""
    return [str(effect) for effect in stage.without_own(difference(before, session.state()), session)]


def _programs(stage: Stage, session: Session, before: State, after: State) -> list[str]:
    """Programs that the package brought and that shortcuts point to, without those that remove it again."""
    effects = stage.without_own(difference(before, after), session)
    removers = " ".join(
        (thing.uninstall or "") + (thing.quiet_uninstall or "")
        for thing in after.of("uninstall-entry")
        if isinstance(thing, UninstallEntry)
    ).lower()
    found: list[str | None] = [
        thing.path
        for effect in effects
        if effect.change != "remove" and isinstance(thing := effect.thing, File) and thing.identity.endswith(".exe")
    ]
    found += [
        thing.target
        for effect in effects
        if isinstance(thing := effect.thing, Shortcut) and (thing.target or "").lower().endswith(".exe")
    ]
    return [
        path
        for path in dict.fromkeys(found)
        if path and ntpath.basename(path).lower() not in removers and paths.INSTALLERS_OWN not in path.lower()
    ]


def _gone(stage: Stage, session: Session, before: State) -> None:
    carried = stage.verb(session, "uninstall")
    stage.phase(
        "uninstall",
        "uninstall",
        carried.exit_code in DONE,
        "exit code 0, 3010 or 1641",
        f"exit code {carried.exit_code}",
        by=stage.by,
    )
    stage.detection(
        session, session.state(), "gone", "not detected after the uninstall", False, stage.script_says(session)
    )


# --- the scenarios ---------------------------------------------------------------------------------------


def life(stage: Stage) -> None:
    stage.life()


def odd_path(stage: Stage) -> None:
    stage.folder = paths.join(folders.DRIVE, "Lotsenbüro Ñandú (2)", stage.manifest.id)
    stage.life()


def _gave_way(stage: Stage, identity: Identity, after: State) -> None:
    """Whether the older version is gone, where it is another product than the package's own."""
    code = (identity.product_code or "").lower()
    old = after.get("product", code) if code else None
    mine = {(MsiData.of(action).product or "").lower() for action in stage.manifest.install if action.kind == "msi"}
    if code and code not in mine:
        found = "gone" if old is None else f"{identity.name} {identity.version} is still on record"
        stage.phase("gave-way", f"{identity.version} gave way", old is None, "no longer on record", found)


def first_folder(own: Iterable[Effect]) -> str | None:
    """Where a product has its files."""
    files = (effect.thing for effect in own if isinstance(effect.thing, File))
    return next((parent(file.path) for file in files if paths.INSTALLERS_OWN not in file.identity), None)


def own_data(session: Session, own: Iterable[Effect]) -> str | None:
    """A file of a person's own, put where a product has its files; its path."""
    folder = first_folder(own)
    if folder is None:
        return None
    session.write(paths.join(folder, "own-data.txt"), OWN_DATA)
    return paths.join(folder, "own-data.txt")


def data_stays(stage: Stage, session: Session, kept: str, cause: tuple[str, str] = ("", "")) -> None:
    """Whether it is there as it was; ``cause`` says what it means where it is not."""
    stays = session.read(kept) == OWN_DATA
    stage.phase(
        "data", "people's data kept", stays, kept, "unchanged" if stays else "gone or changed",
        cause=("", "") if stays else cause,
    )  # fmt: skip


def upgrade(installer: Path, *, newer: bool) -> Callable[[Stage], None]:
    """On a machine that has another version: an older one gives way and people's data stays; a newer
    one is left alone.
    """

    def play(stage: Stage) -> None:
        command, identity = ground.silent(installer)
        with stage.machine.fresh(stage.account) as session:
            before = session.state()
            session.bring(installer.parent, ground.OTHER)
            ran = session.run(command, timeout=3600, folder=ground.OTHER)
            if not stage.phase(
                "other",
                f"{installer.name} installed first",
                ran.exit_code in DONE,
                "exit code accepted",
                f"exit code {ran.exit_code}",
            ):
                return
            there = session.state()
            own = difference(before, there)
            if newer:
                _left_alone(stage, session, there, own, identity.version or "")
                return
            kept = own_data(session, own)
            stage.bring(session)
            if stage.script_says(session)[0] is not True:
                stage.detection(
                    session,
                    session.state(),
                    "older",
                    f"{identity.version} alone is not detected",
                    False,
                    stage.script_says(session),
                )
            after = installed(stage, session, f"installed over {identity.version}")
            if after is None:
                return
            stage.detection(session, after, "detected", "detected after the upgrade", True, stage.script_says(session))
            _gave_way(stage, identity, after)
            if kept:
                data_stays(stage, session, kept)
            if stage.manifest.uninstall:
                _gone(stage, session, before)

    return play


def _left_alone(stage: Stage, session: Session, there: State, own: list[Effect], version: str) -> None:
    stage.bring(session)
    carried = stage.verb(session, "install")
    now = session.state()
    changed = [
        effect for effect in difference(there, now) if any(effect.thing.identity == mine.thing.identity for mine in own)
    ]
    products = [effect.thing for effect in own if isinstance(effect.thing, Product)]
    still = all(now.get("product", thing.code) for thing in products)
    good = still and not changed
    stage.phase(
        "newer",
        f"{version} is left alone",
        good,
        "refused, or nothing to do; nothing of it changed",
        f"exit code {carried.exit_code}, {len(changed)} of its things changed"
        + ("" if still else ", it is no longer on record"),
        details=tuple(str(effect) for effect in changed[:8]) + carried.lines[-2:],
        cause=("", "")
        if good
        else ("the package replaces what is newer", "say in unless, or in [when], that a newer version is enough"),
    )
    stage.phase("install", "the run ended", True, "an exit code", f"exit code {carried.exit_code}", by=stage.by)


def need_missing(stage: Stage) -> None:
    with stage.machine.fresh(stage.account) as session:
        stage.bring(session)
        before = session.state()
        carried = stage.verb(session, "install")
        changed = changes(stage, session, before)
        good = carried.exit_code == form.NEED_MISSING and not changed
        stage.phase(
            "install",
            "refused without its prerequisite",
            good,
            f"exit code {form.NEED_MISSING}, nothing changed",
            f"exit code {carried.exit_code}, {len(changed)} effects",
            by=stage.by,
            details=tuple(changed[:8]) + carried.lines[-2:],
        )


def program_open(stage: Stage) -> None:
    names = stage.manifest.in_the_way["install"].programs
    with stage.machine.fresh(stage.account) as session:
        for name in names:
            session.open_program(name)
        opened = [name for name in names if session.is_running(name)]
        if not opened:
            stage.phase(
                "open", "a program open", None, "a program that runs", f"{', '.join(names)} could not be started here"
            )
            return
        after = installed(stage, session, "")
        if after is None:
            return
        still = [name for name in opened if session.is_running(name)]
        stage.phase(
            "install",
            f"installed while {', '.join(opened)} ran",
            not still,
            "done, and the program closed",
            f"still running: {', '.join(still)}" if still else "done, it was closed",
            by=stage.by,
        )
        stage.detection(session, after, "detected", "detected after the install", True, stage.script_says(session))


class _Cut(Exception):
    """The power went."""


def interrupted(stage: Stage) -> None:
    """Cut off in the middle and started again: the same end as undisturbed."""
    with stage.machine.fresh(stage.account) as session:
        goal = installed(stage, session, "")
    if goal is None:
        return
    with stage.machine.fresh(stage.account) as session:
        stage.bring(session)
        if session.staging:
            cut = cut_simulated(stage, session)
        elif stage.machine.has_powershell:
            cut = _cut_real(stage, session)
        else:
            stage.phase(
                "cut", "cut off in the middle", None, "the package's own runner", "not executed on this machine"
            )
            return
        if not cut:
            stage.phase(
                "cut",
                "cut off in the middle",
                None,
                "a run that was unfinished",
                "the run was over before it could be cut off",
            )
            return
        carried = stage.verb(session, "install")
        differing = stage.without_own(difference(goal, session.state()), session)
        good = carried.exit_code in DONE and not differing
        stage.phase(
            "install",
            "went on after a cut, to the same end",
            good,
            "exit code accepted, the same state",
            f"exit code {carried.exit_code}, {len(differing)} differences",
            by=stage.by,
            details=tuple(map(str, differing[:8])),
        )
        stage.detection(session, session.state(), "detected", "detected in the end", True, stage.script_says(session))


def cut_simulated(stage: Stage, session: Any) -> bool:
    write, middle = session.write, (len(stage.manifest.install) + 1) // 2

    def writing(path: str, data: bytes, *, private: bool = False) -> None:
        write(path, data, private=private)
        if path.endswith(layout.JOURNAL) and data.count(b"\nstep\t") >= middle:
            raise _Cut

    session.write = writing
    try:
        stage.verb(session, "install")
    except _Cut:
        return stage.unfinished(session)
    finally:
        session.write = write
    return False


def _cut_real(stage: Stage, session: Any) -> bool:
    runner = threading.Thread(target=lambda: session.run(stage.runner_line("install"), timeout=600))
    runner.start()
    until = time.monotonic() + 120
    while runner.is_alive() and time.monotonic() < until and not stage.unfinished(session):
        time.sleep(0.05)
    time.sleep(0.2)
    session.end_programs("powershell")
    runner.join()
    return stage.unfinished(session)


def media_gone(stage: Stage) -> None:
    """The management system cleans its folder up; what the package kept on the machine has to do."""
    with stage.machine.fresh(stage.account) as session:
        if installed(stage, session) is None:
            return
        session.take_away(stage.folder)
        stage.folder = expand(layout.kept(stage.manifest.home, stage.manifest.id), session.surroundings.environment)
        if stage.manifest.repair:
            carried = stage.verb(session, "repair")
            stage.phase(
                "repair",
                "repaired without its folder",
                carried.exit_code in DONE,
                "exit code accepted",
                f"exit code {carried.exit_code}",
                by=stage.by,
                details=carried.lines[-2:],
            )
        carried = stage.verb(session, "uninstall")
        good = carried.exit_code in DONE
        stage.phase(
            "uninstall",
            "removed without its folder",
            good,
            "exit code accepted",
            f"exit code {carried.exit_code}",
            by=stage.by,
            details=() if good else carried.lines[-3:],
        )
        stage.detection(session, session.state(), "gone", "not detected after the uninstall", False, None)


def repair(stage: Stage) -> None:
    """A program of it is deleted: no longer detected, and there again after the repair."""
    with stage.machine.fresh(stage.account) as session:
        before = session.state()
        after = installed(stage, session)
        if after is None:
            return
        files = [
            effect.thing
            for effect in stage.without_own(difference(before, after), session)
            if isinstance(effect.thing, File)
            and effect.change == "add"
            and paths.INSTALLERS_OWN not in effect.thing.identity
        ]
        main = main_file(files)
        if main is None:
            stage.phase("damage", "a file to damage", None, "a file that the install placed", "there is none")
            return
        session.remove(main.path)
        stage.detection(
            session,
            session.state(),
            "damaged",
            f"not detected without {ntpath.basename(main.path)}",
            False,
            stage.script_says(session),
        )
        carried = stage.verb(session, "repair")
        back = session.state().get("file", main.path)
        patched = any(".msp" in (action.command or "").lower() for action in stage.manifest.install)
        reason = stage.machine.unmended(patched=patched)
        if carried.exit_code in DONE and back is None and reason:
            raise NotCovered(f"{main.path} is missing after the repair: {reason}")
        good = carried.exit_code in DONE and back is not None
        stage.phase(
            "repair",
            "repaired",
            good,
            f"exit code accepted, {main.path} is there again",
            f"exit code {carried.exit_code}, it is {'there' if back else 'missing'}",
            by=stage.by,
            details=() if good else carried.lines[-3:],
        )


def twice(stage: Stage) -> None:
    """Removed, removed again, installed again."""
    with stage.machine.fresh(stage.account) as session:
        before = session.state()
        if installed(stage, session) is None:
            return
        _gone(stage, session, before)
        there = session.state()
        carried = stage.verb(session, "uninstall")
        changed = stage.without_own(difference(there, session.state()), session)
        good = carried.exit_code in DONE and not changed
        stage.phase(
            "again",
            "removed a second time, nothing changed",
            good,
            "exit code accepted, no effect",
            f"exit code {carried.exit_code}, {len(changed)} effects",
            by=stage.by,
            details=() if good else carried.lines[-3:],
        )
        carried = stage.verb(session, "install")
        stage.phase(
            "reinstall",
            "installed again after that",
            carried.exit_code in DONE,
            "exit code accepted",
            f"exit code {carried.exit_code}",
            by=stage.by,
        )
        stage.detection(session, session.state(), "detected", "detected after that", True, stage.script_says(session))


# Source: NTSTATUS values that a program which cannot start ends with.
_CANNOT = {
    0xC0000135: "a library is missing",
    0xC0000139: "a library is too old or another",
    0xC0000142: "a library failed as it was loaded",
    0xC000007B: "a library is for another architecture",
    0xC0000005: "it crashed",
}


def _lacking(data: bytes | None, path: str, after: State) -> tuple[str, ...]:
    """The libraries that a program imports and that are neither beside it nor the system's."""
    beside = {
        ntpath.basename(file.path).lower()
        for file in after.of("file")
        if isinstance(file, File) and parent(file.identity) == parent(path.lower())
    }
    try:
        if not data:
            return ()
        return missing_libraries(data, beside, lambda library: after.get("file", library) is not None)
    except Unreadable as error:
        return (f"its headers cannot be read: {error}",)


def starts(stage: Stage) -> None:
    """Every installed program and every target of a shortcut: started and watched for a few seconds, or read where it
    cannot run.
    """
    with stage.machine.fresh(stage.account) as session:
        before = session.state()
        after = installed(stage, session)
        if after is None:
            return
        programs = _programs(stage, session, before, after)
        if not programs:
            stage.phase("starts", "programs", None, "a program to start", "the package installs none")
        for path in programs[:20]:
            _starts(stage, session, after, path)


def _starts(stage: Stage, session: Session, after: State, path: str) -> None:
    """One program: started, or read where it cannot run."""
    thing = after.get("file", path)
    version = thing.version if isinstance(thing, File) else None
    words = f"version {version or 'not stated'}"
    name = ntpath.basename(path)
    if thing is None:
        stage.phase("starts", f"{name} starts", False, "a program", f"{path} is not there; a shortcut points to it")
        return
    data = session.read(path)
    lacking = _lacking(data, path, after)
    if session.staging:
        good = None if not data else not lacking
        stage.phase(
            "starts",
            f"{name}: what it needs is there",
            good,
            "every library it imports",
            (f"{words}, " + (f"missing: {', '.join(lacking)}" if lacking else "nothing missing"))
            if data
            else "its content is not known here",
        )
        return
    begun = time.monotonic()
    ran = session.run(f'"{path}"', timeout=START_SECONDS, folder=parent(path))
    code = None if ran.exit_code is None else ran.exit_code & 0xFFFFFFFF
    good = code is None or code not in _CANNOT
    told = (
        "ran until it was ended"
        if code is None
        else f"ended with {code} after {time.monotonic() - begun:.1f} s"
        if good
        else _CANNOT[code]
    )
    stage.phase(
        "starts",
        f"{name} starts",
        good,
        "runs, or ends by itself",
        f"{words}, {told}",
        details=tuple(f"imports {library}, which is not there" for library in lacking),
    )
