"""The scenarios of a proof, as data: what each is about, when a package calls for it, and how it is played.

A scenario adds phases to its stage. One that a machine cannot play adds a phase that was executed nowhere, with the reason.
"""

from __future__ import annotations

import ntpath
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import msgspec

from yendo.effects import Effect, File, Product, Shortcut, State, UninstallEntry, difference
from yendo.effects.things import parent
from yendo.errors import Unreadable, YendoError
from yendo.facts.machine import USUAL, Facts
from yendo.facts.surroundings import Account, expand
from yendo.machines.protocol import Session
from yendo.package import manifest as form
from yendo.prove import ground
from yendo.prove.libraries import missing_libraries
from yendo.prove.stage import ACCEPTED, Stage, without_own
from yendo.steps.host import HOME
from yendo.terms.when import Node

START_SECONDS = 4.0
NOT_ON_LAYER = "only a simulated machine can be put into this state"


class Scenario(msgspec.Struct, frozen=True):
    """``calls_for`` tells why a package does not need it, in words; nothing where it does."""

    id: str
    title: str
    account: Account
    play: Callable[[Stage], None]
    calls_for: Callable[[form.Manifest], str] = lambda manifest: ""
    note: str = ""


# --- what packages claim --------------------------------------------------------------------------


def _facts_asked(nodes: tuple[Node, ...]) -> Iterator[str]:
    for node in nodes:
        yield node.fact
        yield from _facts_asked(node.nodes)


def _asks(fact: str) -> Callable[[form.Manifest], str]:
    def reason(manifest: form.Manifest) -> str:
        return "" if any(name.partition(" ")[0] == fact for name in _facts_asked(manifest.when)) else f"the plan asks for no {fact} in [when]"

    return reason


def _needs_outside(manifest: form.Manifest) -> str:
    return "" if any(not need.folder for need in manifest.needs) else "it needs nothing that it does not bring"


def _closes(manifest: form.Manifest) -> str:
    return "" if manifest.in_the_way.get("install", form.InTheWay()).programs else "the plan names no program that must be closed"


def _keeps(manifest: form.Manifest) -> str:
    return "" if manifest.keep != "nothing" and manifest.uninstall else "the package keeps nothing on the machine"


def _repairs(manifest: form.Manifest) -> str:
    return "" if manifest.repair else "the plan has no [[repair]]"


def _removes(manifest: form.Manifest) -> str:
    return "" if manifest.uninstall else "the plan has no uninstall steps"


# --- building blocks ----------------------------------------------------------------------------------


def _installed(stage: Stage, session: Session) -> State | None:
    """Brings and installs the package; None where that failed, with a phase that says why."""
    session.bring(stage.package, stage.folder)
    carried = stage.verb(session, "install")
    if carried.exit_code in ACCEPTED:
        return session.state()
    details, cause = stage.failed_run(session, "install", carried)
    stage.phase("install", "install", False, "exit code 0, 3010 or 1641", f"exit code {carried.exit_code}", by=stage.by, details=details, cause=cause)
    return None


def _own(stage: Stage, effects: list[Effect], session: Session) -> list[Effect]:
    return without_own(effects, stage.manifest, session.surroundings.environment)


def _unchanged(stage: Stage, session: Session, before: State) -> list[str]:
    return [str(effect) for effect in _own(stage, difference(before, session.state()), session)]


def _programs(stage: Stage, session: Session, before: State, after: State) -> list[str]:
    """Programs that the package brought and that shortcuts point to, without those that remove it again."""
    effects = _own(stage, difference(before, after), session)
    removers = " ".join(
        (thing.uninstall or "") + (thing.quiet_uninstall or "") for thing in after.of("uninstall-entry") if isinstance(thing, UninstallEntry)
    ).lower()
    found: list[str | None] = [
        thing.path for effect in effects if effect.change != "remove" and isinstance(thing := effect.thing, File) and thing.identity.endswith(".exe")
    ]
    found += [thing.target for effect in effects if isinstance(thing := effect.thing, Shortcut) and (thing.target or "").lower().endswith(".exe")]
    return [
        path
        for path in dict.fromkeys(found)
        if path and ntpath.basename(path).lower() not in removers and "\\windows\\installer\\" not in path.lower()
    ]


def _gone(stage: Stage, session: Session, before: State) -> None:
    carried = stage.verb(session, "uninstall")
    stage.phase("uninstall", "uninstall", carried.exit_code in ACCEPTED, "exit code 0, 3010 or 1641", f"exit code {carried.exit_code}", by=stage.by)
    stage.detection(session, session.state(), "gone", "not detected after the uninstall", False, stage.script_says(session))


# --- the scenarios ---------------------------------------------------------------------------------------


def life(stage: Stage) -> None:
    stage.life()


def odd_path(stage: Stage) -> None:
    stage.folder = rf"C:\Lotsenbüro Ñandú (2)\{stage.manifest.id}"
    stage.life()


def upgrade(installer: Path, *, newer: bool) -> Callable[[Stage], None]:
    """On a machine that has another version: an older one gives way and people's data stays; a newer one is left alone."""

    def play(stage: Stage) -> None:
        command, identity = ground.silent(installer)
        with stage.machine.fresh(stage.account) as session:
            before = session.state()
            session.bring(installer.parent, ground.OTHER)
            ran = session.run(command, timeout=3600, folder=ground.OTHER)
            if not stage.phase(
                "other", f"{installer.name} installed first", ran.exit_code in ACCEPTED, "exit code accepted", f"exit code {ran.exit_code}"
            ):
                return
            there = session.state()
            own = difference(before, there)
            if newer:
                _left_alone(stage, session, there, own, identity.version or "")
                return
            folder = next(
                (parent(effect.thing.path) for effect in own if isinstance(effect.thing, File) and "\\installer\\" not in effect.thing.identity), None
            )
            kept = rf"{folder}\own-data.txt" if folder else None
            if kept:
                session.write(kept, b"a person's own")
            session.bring(stage.package, stage.folder)
            if stage.script_says(session)[0] is not True:
                stage.detection(session, session.state(), "older", f"{identity.version} alone is not detected", False, stage.script_says(session))
            after = _installed(stage, session)
            if after is None:
                return
            stage.phase("install", f"installed over {identity.version}", True, "exit code accepted", "done", by=stage.by)
            stage.detection(session, after, "detected", "detected after the upgrade", True, stage.script_says(session))
            code = (identity.product_code or "").lower()
            old = after.get("product", code) if code else None
            mine = {str(action.data.get("product", "")).lower() for action in stage.manifest.install if action.kind == "msi"}
            if code and code not in mine:
                stage.phase(
                    "gave-way",
                    f"{identity.version} gave way",
                    old is None,
                    "no longer on record",
                    "gone" if old is None else f"{identity.name} {identity.version} is still on record",
                )
            if kept:
                stays = session.read(kept) == b"a person's own"
                stage.phase("data", "people's data kept", stays, kept, "unchanged" if stays else "gone or changed")
            if stage.manifest.uninstall:
                _gone(stage, session, before)

    return play


def _left_alone(stage: Stage, session: Session, there: State, own: list[Effect], version: str) -> None:
    session.bring(stage.package, stage.folder)
    carried = stage.verb(session, "install")
    now = session.state()
    changed = [effect for effect in difference(there, now) if any(effect.thing.identity == mine.thing.identity for mine in own)]
    products = [effect.thing for effect in own if isinstance(effect.thing, Product)]
    still = all(now.get("product", thing.code) for thing in products)
    good = still and not changed
    stage.phase(
        "newer",
        f"{version} is left alone",
        good,
        "refused, or nothing to do; nothing of it changed",
        f"exit code {carried.exit_code}, {len(changed)} of its things changed" + ("" if still else ", it is no longer on record"),
        details=tuple(str(effect) for effect in changed[:8]) + carried.lines[-2:],
        cause=("", "") if good else ("the package replaces what is newer", "say in unless, or in [when], that a newer version is enough"),
    )
    stage.phase("install", "the run ended", True, "an exit code", f"exit code {carried.exit_code}", by=stage.by)


def need_missing(stage: Stage) -> None:
    with stage.machine.fresh(stage.account) as session:
        session.bring(stage.package, stage.folder)
        before = session.state()
        carried = stage.verb(session, "install")
        changed = _unchanged(stage, session, before)
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
        running: Any = getattr(session, "running", None)
        if running is not None:
            running += names
        else:
            for name in names:
                session.run(f'cmd /c copy C:\\windows\\notepad.exe "C:\\{name}.exe" & start "" "C:\\{name}.exe"', timeout=30)
        opened = [name for name in names if session.is_running(name)]
        if not opened:
            stage.phase("open", "a program open", None, "a program that runs", f"{', '.join(names)} could not be started here")
            return
        after = _installed(stage, session)
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


def with_facts(change: Callable[[Facts], Facts], *, refused: bool) -> Callable[[Stage], None]:
    """On a machine whose facts are as said: refused without a trace, or installed all the same."""

    def play(stage: Stage) -> None:
        with stage.machine.fresh(stage.account) as session:
            if stage.machine.place != "simulation":
                stage.phase("facts", "the machine's facts", None, "a machine in this state", NOT_ON_LAYER)
                return
            session.facts = change(USUAL)  # type: ignore[misc]
            session.bring(stage.package, stage.folder)
            before = session.state()
            carried = stage.verb(session, "install")
            if refused or carried.exit_code in (form.LATER, form.NOT_APPLICABLE, form.NEED_MISSING, form.POSTPONED):
                changed = _unchanged(stage, session, before)
                good = carried.exit_code in (form.LATER, form.NOT_APPLICABLE, form.NEED_MISSING, form.POSTPONED) and not changed
                stage.phase(
                    "install",
                    "refused cleanly",
                    good,
                    "not now or not applicable, nothing changed",
                    f"exit code {carried.exit_code}, {len(changed)} effects",
                    by=stage.by,
                    details=carried.lines[-2:],
                )
                return
            good = carried.exit_code in ACCEPTED
            details, cause = ((), ("", "")) if good else stage.failed_run(session, "install", carried)
            stage.phase(
                "install", "installed", good, "exit code accepted", f"exit code {carried.exit_code}", by=stage.by, details=details, cause=cause
            )
            if good:
                stage.detection(session, session.state(), "detected", "detected after the install", True, None)

    return play


class _Cut(Exception):
    """The power went."""


def interrupted(stage: Stage) -> None:
    """Cut off in the middle and started again: the same end as undisturbed."""
    with stage.machine.fresh(stage.account) as session:
        goal = _installed(stage, session)
    if goal is None:
        return
    with stage.machine.fresh(stage.account) as session:
        session.bring(stage.package, stage.folder)
        if stage.machine.place == "simulation":
            cut = _cut_simulated(stage, session)
        elif stage.machine.has_powershell:
            cut = _cut_real(stage, session)
        else:
            stage.phase("cut", "cut off in the middle", None, "the package's own runner", "not executed on this machine")
            return
        if not cut:
            stage.phase("cut", "cut off in the middle", None, "a run that was unfinished", "the run was over before it could be cut off")
            return
        carried = stage.verb(session, "install")
        differing = _own(stage, difference(goal, session.state()), session)
        good = carried.exit_code in ACCEPTED and not differing
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


def _cut_simulated(stage: Stage, session: Any) -> bool:
    write, middle = session.write, (len(stage.manifest.install) + 1) // 2

    def writing(path: str, data: bytes) -> None:
        write(path, data)
        if path.endswith("journal.txt") and data.count(b"\nstep\t") >= middle:
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
    runner = threading.Thread(target=lambda: session.run(f'cmd /s /c ""{stage.folder}\\apply.cmd" install"', timeout=600))
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
        if _installed(stage, session) is None:
            return
        stage.phase("install", "install", True, "exit code accepted", "done", by=stage.by)
        session.take_away(stage.folder)
        stage.folder = expand(rf"{HOME}\packages\{stage.manifest.id}", session.surroundings.environment)
        if stage.manifest.repair:
            carried = stage.verb(session, "repair")
            stage.phase(
                "repair",
                "repaired without its folder",
                carried.exit_code in ACCEPTED,
                "exit code accepted",
                f"exit code {carried.exit_code}",
                by=stage.by,
                details=carried.lines[-2:],
            )
        carried = stage.verb(session, "uninstall")
        good = carried.exit_code in ACCEPTED
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
        after = _installed(stage, session)
        if after is None:
            return
        stage.phase("install", "install", True, "exit code accepted", "done", by=stage.by)
        files = [
            effect.thing
            for effect in _own(stage, difference(before, after), session)
            if isinstance(effect.thing, File) and effect.change == "add" and "\\installer\\" not in effect.thing.identity
        ]
        if not files:
            stage.phase("damage", "a file to damage", None, "a file that the install placed", "there is none")
            return
        main = max(files, key=lambda file: (file.identity.endswith(".exe"), file.version is not None, file.size or 0, file.identity))
        session.remove(main.path)
        stage.detection(session, session.state(), "damaged", f"not detected without {ntpath.basename(main.path)}", False, stage.script_says(session))
        carried = stage.verb(session, "repair")
        back = session.state().get("file", main.path)
        good = carried.exit_code in ACCEPTED and back is not None
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
        if _installed(stage, session) is None:
            return
        stage.phase("install", "install", True, "exit code accepted", "done", by=stage.by)
        _gone(stage, session, before)
        there = session.state()
        carried = stage.verb(session, "uninstall")
        changed = _own(stage, difference(there, session.state()), session)
        good = carried.exit_code in ACCEPTED and not changed
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
            carried.exit_code in ACCEPTED,
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


def starts(stage: Stage) -> None:
    """Every installed program and every target of a shortcut: started and watched for a few seconds, or read where it cannot run."""
    with stage.machine.fresh(stage.account) as session:
        before = session.state()
        after = _installed(stage, session)
        if after is None:
            return
        stage.phase("install", "install", True, "exit code accepted", "done", by=stage.by)
        programs = _programs(stage, session, before, after)
        if not programs:
            stage.phase("starts", "programs", None, "a program to start", "the package installs none")
        for path in programs[:20]:
            thing = after.get("file", path)
            version = thing.version if isinstance(thing, File) else None
            words = f"version {version or 'not stated'}"
            name = ntpath.basename(path)
            if thing is None:
                stage.phase("starts", f"{name} starts", False, "a program", f"{path} is not there; a shortcut points to it")
                continue
            data = session.read(path)
            beside = {
                ntpath.basename(file.path).lower()
                for file in after.of("file")
                if isinstance(file, File) and parent(file.identity) == parent(path.lower())
            }
            try:
                lacking = (
                    missing_libraries(data, beside, lambda library: after.get("file", rf"C:\windows\system32\{library}") is not None) if data else ()
                )
            except Unreadable as error:
                lacking = (f"its headers cannot be read: {error}",)
            if stage.machine.place == "simulation":
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
                continue
            begun = time.monotonic()
            ran = session.run(f'"{path}"', timeout=START_SECONDS, folder=parent(path))
            code = None if ran.exit_code is None else ran.exit_code & 0xFFFFFFFF
            good = code is None or code not in _CANNOT
            told = (
                "ran until it was ended" if code is None else f"ended with {code} after {time.monotonic() - begun:.1f} s" if good else _CANNOT[code]
            )
            stage.phase(
                "starts",
                f"{name} starts",
                good,
                "runs, or ends by itself",
                f"{words}, {told}",
                details=tuple(f"imports {library}, which is not there" for library in lacking),
            )


SCENARIOS: dict[str, Scenario] = {
    scenario.id: scenario
    for scenario in (
        Scenario("desk", "a fresh machine, from first to last", "user", life, note="an elevated user at a desk"),
        Scenario(
            "system", "as the system account", "system", life, note="the system account: its own profile, no user's hive, no mapped drive, no session"
        ),
        Scenario("odd-path", "from a path with spaces and other letters", "user", odd_path),
        Scenario("nobody", "nobody is logged on", "system", with_facts(lambda facts: msgspec.structs.replace(facts, people=0), refused=False)),
        Scenario("no-network", "no network", "system", with_facts(lambda facts: msgspec.structs.replace(facts, network="none"), refused=False)),
        Scenario(
            "no-disk",
            "the disk is full",
            "system",
            with_facts(lambda facts: msgspec.structs.replace(facts, disks={"C": 1}), refused=True),
            _asks("disk"),
        ),
        Scenario("need-missing", "a prerequisite is missing", "system", need_missing, _needs_outside),
        Scenario("program-open", "a program is open", "user", program_open, _closes),
        Scenario("interrupted", "cut off and gone on with", "system", interrupted),
        Scenario("media-gone", "the package's folder is deleted", "system", media_gone, _keeps),
        Scenario("repair", "repaired after damage", "system", repair, _repairs),
        Scenario("twice", "removed twice, installed again", "system", twice, _removes),
        Scenario("starts", "every program started", "user", starts),
    )
}
QUICK = ("system", "twice")


def with_others(others: tuple[Path, ...], manifest: form.Manifest) -> dict[str, Scenario]:
    """All scenarios, and one for each of the vendor's other installers that is another version of the same product."""
    found = dict(SCENARIOS)
    for installer in others:
        try:
            _, identity = ground.silent(installer)
        except YendoError as error:
            found[f"other:{installer.name}"] = Scenario(f"other:{installer.name}", f"{installer.name} is there", "system", _not_silent(str(error)))
            continue
        newer = ground.is_newer(identity, manifest)
        name = f"{'newer' if newer else 'upgrade'}:{identity.version}"
        title = f"{identity.version} is there, which is newer" if newer else f"{identity.version} is there"
        found[name] = Scenario(name, title, "system", upgrade(installer, newer=newer))
    return found


def _not_silent(reason: str) -> Callable[[Stage], None]:
    def play(stage: Stage) -> None:
        stage.phase("other", "another version installed first", None, "a silent command line", reason)

    return play
