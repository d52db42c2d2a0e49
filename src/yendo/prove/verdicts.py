"""What a watched run of a setup program comes to: the verdict, who outlived it, and what may remove it again."""

from __future__ import annotations

import contextlib
import io
import re

from yendo.effects import Effect, UninstallEntry
from yendo.errors import YendoError
from yendo.evidence import Evidence
from yendo.formats.pe import Image
from yendo.installers import answers_exe, plain_exe
from yendo.installers.account import CommandLine, InstallerAccount
from yendo.machines.protocol import BROUGHT
from yendo.machines.watching import Watched, WatchedSession, Window
from yendo.platforms.windows import folders, paths
from yendo.platforms.windows.exit_codes import DONE
from yendo.platforms.windows.recording import is_temporary
from yendo.prove import causes

FOLDER = BROUGHT  # where a trial puts the installer on its machines
REMOVAL = "removal.iss"
EARLY = 0.2  # seconds that another process may outlive the first one before it counts
_OF_THE_LAYER = ("conhost.exe", "winedbg.exe", "explorer.exe", "services.exe")
COMPLETE, NOTHING, SHOWED, WAITS, FAILED, ENDLESS, NO_START = (
    "silent and complete",
    "silent, did nothing",
    "showed a window",
    "waits for a person",
    "failed",
    "did not end",
    "could not be started",
)


def placed(command: str, installer: str) -> str:
    """A command line with the installer's whole path on the machine."""
    return command.replace(f'"{installer}"', f'"{paths.join(FOLDER, installer)}"', 1)


def fleeting(effect: Effect, session: WatchedSession) -> bool:
    """What a run leaves among temporary files, and logs and answers beside the installer: no part of
    what it installs.
    """
    identity = effect.thing.identity
    if (
        effect.kind in ("file", "ini")
        and identity.startswith(FOLDER.lower())
        and re.search(r"\.(log|iss)(\||$)", identity)
    ):
        return True
    return (
        is_temporary(effect.thing, session.surroundings.environment)
        or identity == session.surroundings.environment["TEMP"].lower()
    )


def pending(effects: list[Effect], session: WatchedSession) -> bool:
    """Whether files wait for the next start to be replaced or removed, other than temporary ones."""
    values = (effect.thing for effect in effects if effect.thing.identity.endswith("!pendingfilerenameoperations"))
    return any(not is_temporary(thing, session.surroundings.environment) for thing in values)


def returned_early(watched: Watched) -> tuple[float, tuple[str, ...]]:
    """For how long others outlived the first process, and which."""
    if watched.first_ended is None:
        return 0.0, ()
    first = watched.first_ended
    others = [process for process in watched.processes if process.name and process.name.lower() not in _OF_THE_LAYER]
    left = [process for process in others if (process.ended or watched.seconds) - first > EARLY]
    last = max(((process.ended or watched.seconds) for process in left), default=first)
    return last - first, tuple(dict.fromkeys(process.name for process in left))


def tree(watched: Watched) -> tuple[str, ...]:
    """The processes, each indented below the one that started it."""
    known = {process.number for process in watched.processes}
    lines: list[str] = []

    def below(parent: int | None, depth: int) -> None:
        for process in watched.processes:
            root = process.parent not in known or process.parent == process.number
            if (parent is None and root) or (parent is not None and process.parent == parent and not root):
                ended = "still there" if process.ended is None else f"{process.ended:.1f} s"
                lines.append(f"{'  ' * depth}{process.name or '(no name)'}, {process.begun:.1f} to {ended}")
                if depth < 16:
                    below(process.number, depth + 1)

    below(None, 0)
    return tuple(lines[:100])


def engine_log(session: WatchedSession) -> int | None:
    """The result that an engine with answers writes to its log, wherever that is."""
    places = [
        paths.join(FOLDER, "removal.log"),
        paths.join(FOLDER, "answers.log"),
        answers_exe.LOG,
        paths.join(FOLDER, "setup.log"),
    ]
    for path in [*places, paths.join(folders.WINDOWS, "setup.log")]:
        if (data := session.read(path)) is not None:
            return answers_exe.result_of(data.decode("cp1252", "replace"))
    others = [path for path in session.files_below(folders.PROFILES) if paths.name(path).lower() == "setup.log"]
    told = (answers_exe.result_of((session.read(path) or b"").decode("cp1252", "replace")) for path in others[:20])
    return next((found for found in told if found is not None), None)


def verdict_of(watched: Watched, shown: list[Window], lasting: list[Effect], told: int | None) -> tuple[str, list[str]]:
    """The verdict in a word or two, and what else there is to say."""
    titles = ", ".join(
        dict.fromkeys(repr(window.title) if window.title else f"one of {window.program}" for window in shown)
    )
    if watched.error:
        return NO_START, [
            f"system error {watched.error}"
            + (" (the file is no program for this machine)" if watched.error in (193, 216) else "")
        ]
    if watched.stopped == "waits":
        return WAITS, [f"the window {titles} stands still"]
    if watched.stopped:
        return ENDLESS, [
            f"stopped: {'more than its limit of disk' if watched.stopped == 'disk' else f'not ended after {watched.seconds:.0f} s'}"  # noqa: E501
        ]
    if shown:
        return SHOWED, [titles]
    things = [effect for effect in lasting if effect.kind not in ("folder", "registry-key")]
    if told:
        return NOTHING if not things else FAILED, [
            f"exit code {watched.exit_code}, but its log says ResultCode {told}: "
            f"{answers_exe.RESULTS.get(told, 'unknown')}"
        ]
    if watched.exit_code not in DONE:
        code = watched.exit_code or 0
        cause = causes.of_code(code)[0]
        return FAILED, [f"exit code {code}" + (f": {cause}" if cause else "")]
    return (COMPLETE, []) if things else (NOTHING, [f"exit code {watched.exit_code} and nothing lasting changed"])


def removals(
    account: InstallerAccount, line: CommandLine, effects: list[Effect], session: WatchedSession
) -> list[CommandLine]:
    """Command lines that may remove it silently, likeliest first."""
    found: list[CommandLine] = []
    if account.silent.uninstall:
        found.append(account.silent.uninstall)
    switches = [
        word
        for word in line.command.rpartition('"')[2].split()
        if word.startswith(("/", "-")) and not word.lower().startswith(("/d=", "/f1", "/f2", "/v"))
    ]
    for effect in effects:
        entry = effect.thing
        if not isinstance(entry, UninstallEntry):
            continue
        where = Evidence("run", f"uninstall entry {entry.key}")
        if entry.quiet_uninstall:
            found.append(CommandLine(entry.quiet_uninstall, "likely", where))
        if entry.uninstall:
            found += _quiet(entry.uninstall, switches, where, session)
    return list({entry.command: entry for entry in found}.values())


def _quiet(command: str, switches: list[str], where: Evidence, session: WatchedSession) -> list[CommandLine]:
    """Quiet forms of an uninstall command: with the installer's own switches, those in its text, and common ones."""
    if match := re.match(r"(?i)\s*msiexec(?:\.exe)?\s+/[ix]\s*(\{[^}]+\})", command):
        return [CommandLine(f"msiexec /x {match[1]} /qn /norestart", "certain", where)]
    if match := re.search(
        r',LaunchSetup\s+"([^"]+)"\s*"?(.*)$', command
    ):  # an engine with answers, started through its library
        answers, log = paths.join(FOLDER, REMOVAL), paths.join(FOLDER, "removal.log")
        return [
            CommandLine(answers_exe.answered(match[1], answers, log, " ".join(match[2].split())), "to be tried", where)
        ]
    match = re.match(r'\s*(?:"([^"]+)"|(.+?\.exe))(.*)$', command, re.I)
    program, rest = ((match[1] or match[2]).strip(), match[3].strip()) if match else (command.strip(), "")
    lines = (
        [CommandLine(" ".join(filter(None, (f'"{program}"', rest, *switches))), "to be tried", where)]
        if switches
        else []
    )
    known: dict[str, int] = {}
    with contextlib.suppress(ValueError, OSError, YendoError), io.BytesIO(session.read(program) or b"") as file:
        known = plain_exe.texts(file, Image(file))
    for candidate in plain_exe.candidates("x", known):
        lines.append(
            CommandLine(
                " ".join(filter(None, (f'"{program}"', rest, candidate.command.partition(" ")[2]))),
                "to be tried",
                candidate.evidence,
            )
        )
    return lines
