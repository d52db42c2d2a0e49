"""A Windows that is simulated: files, registry in both views, environment, services, shortcuts, users.

Its Windows Installer is the interpreter that also predicts effects, so an agreement of the two is
no evidence; what it proves is that the package's own logic fits together.
"""

from __future__ import annotations

import contextlib
import hashlib
import re
from collections.abc import Iterator
from pathlib import Path

from yendo.effects import File, Folder, State
from yendo.effects.things import Environment, RegistryValue, Thing, parent
from yendo.errors import NotCovered, Unreadable
from yendo.facts.surroundings import Account, Surroundings, expand, for_everyone, windows
from yendo.formats.msi import Database
from yendo.installers.msi import commandline, engine
from yendo.installers.msi.media import MissingMedia, payload
from yendo.installers.msi.session import Memory
from yendo.machines.protocol import Place, Ran

_FILES = ("msiexec.exe", "cmd.exe", "reg.exe")


def fresh_state(surroundings: Surroundings) -> State:
    """A Windows as it comes: its folders, a few of its programs, its environment, its version."""
    state = State()
    for path in (
        *surroundings.folders.values(),
        *for_everyone(surroundings).values(),
        surroundings.environment["TEMP"],
        r"C:\Windows\Temp",
        r"C:\Windows\Installer",
    ):
        state.add_folders(path)
    things: list[Thing] = [File(rf"C:\Windows\System32\{name}", 65536, None, surroundings.windows + ".1") for name in _FILES]
    things += [Environment(name, surroundings.environment[name]) for name in ("Path", "TEMP", "TMP")]
    things += [RegistryValue("HKLM", r"Software\Microsoft\Windows NT\CurrentVersion", "CurrentBuild", "sz", surroundings.windows.split(".")[2])]
    for thing in things:
        state.add(thing)
    return state


class SimulatedMachine:
    """Always here, and takes milliseconds."""

    name = "simulated"
    place: Place = "simulation"
    label = "simulated Windows 10, 64-bit"
    has_powershell = False

    def surroundings(self, account: Account = "user") -> Surroundings:
        return windows(account)

    def baseline(self, account: Account = "user") -> State:
        return fresh_state(windows(account))

    @contextlib.contextmanager
    def fresh(self, account: Account = "user") -> Iterator[SimulatedSession]:
        yield SimulatedSession(windows(account))


class SimulatedSession:
    """One simulated machine. ``busy`` counts how often the installer answers "another one is running"."""

    def __init__(self, surroundings: Surroundings) -> None:
        self.surroundings = surroundings
        self._state = fresh_state(surroundings)
        self._contents: dict[str, bytes | Path] = {}
        self._memories: dict[str, Memory] = {}
        self._packages: dict[str, Path] = {}
        self._brought: dict[str, Path] = {}
        self.busy = 0
        self.running: list[str] = []  # programs that a person has open, by their names without .exe

    # --- files -------------------------------------------------------------------------------------

    def bring(self, source: Path, target: str) -> None:
        self._brought[target.lower()] = source

    def _lookup(self, path: str) -> bytes | Path | None:
        lowered = path.lower()
        if lowered in self._contents:
            return self._contents[lowered]
        for head, source in self._brought.items():
            if lowered.startswith(head + "\\"):
                at = source
                for part in path[len(head) + 1 :].split("\\"):
                    if part in ("", ".", ".."):
                        return None
                    step = at / part
                    if not step.exists() and at.is_dir():
                        step = next((entry for entry in at.iterdir() if entry.name.lower() == part.lower()), step)
                    at = step
                return at if at.is_file() else None
        return None

    def read(self, path: str) -> bytes | None:
        found = self._lookup(path)
        return found.read_bytes() if isinstance(found, Path) else found

    def write(self, path: str, data: bytes) -> None:
        if self._state.get("folder", parent(path)) is None:
            raise FileNotFoundError(f"the folder of {path} does not exist")
        self._contents[path.lower()] = data
        self._state.add(File(path, len(data), hashlib.sha256(data).hexdigest()))

    def remove(self, path: str) -> bool:
        self._contents.pop(path.lower(), None)
        return self._state.remove("file", path) is not None

    def make_folder(self, path: str) -> bool:
        if self._state.get("folder", path) is not None or path.endswith(":"):
            return False
        self._state.add(Folder(path))
        return True

    def remove_folder(self, path: str) -> bool:
        return self._state.is_empty(path) and self._state.remove("folder", path) is not None

    def has_folder(self, path: str) -> bool:
        return self._state.get("folder", path) is not None or path.lower().startswith(tuple(self._brought))

    def close_program(self, name: str) -> bool:
        there = [program for program in self.running if program.lower() == name.lower()]
        self.running = [program for program in self.running if program not in there]
        return bool(there)

    def state(self) -> State:
        return self._state.copy()

    # --- commands ------------------------------------------------------------------------------------

    def run(self, command: str, *, timeout: float, folder: str | None = None) -> Ran:
        """Carries out a Windows Installer command line. Raises NotCovered for any other program."""
        line = expand(command, self.surroundings.environment)
        try:
            parsed = commandline.parse(line)
        except commandline.CommandError as error:
            if error.args[0].startswith("the command does not start"):
                raise NotCovered(f"the simulated machine has no program {error.part!r}; prove this on a real machine (--machine wine)") from error
            return Ran(1639, str(error), 0.0)
        if parsed.stray:
            return Ran(1639, f"not an option: {parsed.stray[0]}", 0.0)
        return self._msiexec(parsed, folder)

    def _msiexec(self, command: commandline.MsiCommand, folder: str | None) -> Ran:
        log = self._absolute(command.log, folder) if command.log else None
        if log and not self.has_folder(parent(log)):
            return Ran(1622, "the log's folder does not exist", 0.0)
        if self.busy:
            self.busy -= 1
            return self._ended(1618, ["Another installation is in progress."], log)
        if command.action == "patch":
            raise NotCovered("patches are not carried out yet")
        memory, source, package = self._find(command, folder)
        if source is None:
            unknown = command.is_code or command.action != "install"
            return self._ended(1605 if unknown else 1619, [f"{command.package} cannot be found."], log)
        given = dict(command.properties)
        if command.action == "uninstall":
            given["REMOVE"] = "ALL"
        if command.restart_suppressed:
            given.setdefault("REBOOT", "ReallySuppress")
        try:
            with Database(source) as database:
                code = next((row.text("Value").upper() for row in database["Property"].where(Property="ProductCode")), "")
                known = self._memories.get(code)
                if command.action == "uninstall" and known is None:
                    return self._ended(1605, ["This product is not installed."], log)
                if known and command.action == "install" and known.package_code != (database.summary.revision or ""):
                    return self._ended(1638, ["Another version of this product is installed already."], log)
                if known and command.action == "install" and not {"REMOVE", "ADDLOCAL", "REINSTALL"} & given.keys():
                    return self._ended(0, ["Already installed; nothing to do."], log)
                contents = {} if given.get("REMOVE") else payload(database, source)
                outcome = engine.run(
                    database, self.surroundings, self._state, given, memories=self._memories, package=package, open_package=self._open
                )
        except Unreadable as error:
            return self._ended(1620, [str(error)], log)
        except MissingMedia as error:
            return self._ended(
                1603, ["Action start: InstallFiles.", f"Source file not found: {error}", "Action ended: InstallFiles. Return value 3."], log
            )
        if outcome.exit_code in (0, 3010, 1641):
            for removed in outcome.removed:
                self._memories.pop(removed, None)
            if outcome.memory:
                self._memories[outcome.memory.code] = outcome.memory
                self._packages[outcome.memory.code] = source
            elif memory or known:
                self._memories.pop(code, None)
            self._fill(contents, outcome)
        return self._ended(outcome.exit_code, list(outcome.log), log)

    def _find(self, command: commandline.MsiCommand, folder: str | None) -> tuple[Memory | None, Path | None, str]:
        if command.is_code:
            memory = self._memories.get(command.package.upper())
            return memory, self._packages.get(memory.code) if memory else None, memory.package if memory else ""
        path = self._absolute(command.package, folder)
        found = self._lookup(path)
        return None, found if isinstance(found, Path) else None, path

    def _open(self, memory: Memory) -> Database | None:
        source = self._packages.get(memory.code)
        return Database(source) if source else None

    def _fill(self, contents: dict[str, bytes], outcome: engine.Outcome) -> None:
        """Gives files that the run placed their contents, so that hashes can be told."""
        for effect in outcome.effects:
            key = effect.evidence.where[5:-1] if effect.evidence and effect.evidence.where.startswith("File[") else ""
            if isinstance(effect.thing, File) and effect.change != "remove" and key in contents:
                data = contents[key]
                self._contents[effect.thing.path.lower()] = data
                self._state.add(File(effect.thing.path, len(data), hashlib.sha256(data).hexdigest(), effect.thing.version))

    def _absolute(self, path: str, folder: str | None) -> str:
        return path if re.match(r"[A-Za-z]:\\", path) else f"{folder or 'C:'}\\{path}"

    def _ended(self, code: int, lines: list[str], log: str | None) -> Ran:
        text = "\r\n".join([*lines, f"MainEngineThread is returning {code}", ""])
        if log:
            self.write(log, text.encode("utf-16"))
        return Ran(code, "", 0.0)
