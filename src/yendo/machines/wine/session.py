"""One private copy of the Windows API layer, from fresh to thrown away."""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

import msgspec

from yendo import digest, host_os
from yendo.effects import Folder, State, Thing
from yendo.effects.things import key_of, parent
from yendo.machines.outside import RunnerOnly
from yendo.machines.protocol import Ran
from yendo.machines.watching import Watched
from yendo.machines.wine import layer as layers
from yendo.machines.wine import noise, observe, sandbox
from yendo.machines.wine.copies import PrivateCopy
from yendo.machines.wine.watch import watch
from yendo.platforms.windows import command_lines
from yendo.platforms.windows.registry_keys import add_lines, keeps_drivers, line_of
from yendo.platforms.windows.surroundings import Account, Surroundings

ENDING = 5.0  # seconds in which a program that was ended is gone
RESTART_LIMIT = 900.0  # seconds, for what goes on after a restart
SYSTEM_PROFILE = r"C:\windows\system32\config\systemprofile"
USER_FOLDERS = (
    "Contacts",
    "Desktop",
    "Documents",
    "Downloads",
    "Favorites",
    "Links",
    "Music",
    "Pictures",
    "Saved Games",
    "Searches",
    "Videos",
    r"AppData\Roaming\Microsoft\Windows\Start Menu\Programs",
    r"AppData\Local\Temp",
)
# wine 8 keeps temporary files in Temp; a 32-bit program finds its profile in the other half, which Windows always has
SYSTEM_FOLDERS = (
    *(rf"{SYSTEM_PROFILE}\{name}" for name in (*USER_FOLDERS, "Temp")),
    *(
        rf"C:\windows\syswow64\config\systemprofile\AppData\Local\{name}"
        for name in (
            "Temp",
            r"Microsoft\Windows\History",
            r"Microsoft\Windows\INetCache",
            r"Microsoft\Windows\INetCookies",
        )
    ),
)
# Source: the values of Control Panel\\International, as a person in another country chooses them.
_FORMS = {
    "sShortDate": "dd.MM.yyyy", "sDate": ".", "iDate": "1", "sShortTime": "HH:mm", "sTimeFormat": "HH:mm:ss",
    "iTime": "1", "sDecimal": ",", "sThousand": ".", "sList": ";",
}  # fmt: skip


class Guise(msgspec.Struct, frozen=True):
    """What another machine is called: its name, its person, and its volume's number in hexadecimal."""

    computer: str
    user: str
    volume: str


class _Kind(Protocol):
    """What a session asks of the machine that it is a copy of."""

    layer: layers.Layer
    screen: str | None
    guise: Guise | None

    @property
    def key(self) -> Path | None: ...

    @property
    def has_powershell(self) -> bool: ...

    def surroundings(self, account: Account = "user") -> Surroundings: ...

    def known(self, account: Account) -> tuple[State, observe.Blocks]: ...


class WineSession(RunnerOnly):
    """One private copy, from fresh to thrown away."""

    def __init__(
        self,
        machine: _Kind,
        copy: PrivateCopy,
        work: Path,
        account: Account,
        display: str | None,
        box: sandbox.Sandbox | None,
    ) -> None:
        self.box = box
        self.machine, self.copy, self.work, self.account, self.display = machine, copy, work, account, display
        self.surroundings = machine.surroundings(account)
        home = work / "home"
        self.asked = work / "asked"  # what programs in the sandbox read, and nobody there writes
        self._brought: list[str] = []
        extra = {"DISPLAY": display} if display else {}
        if machine.key:
            extra["XAUTHORITY"] = str(machine.key)
        if machine.guise:
            extra |= self._disguise(machine.guise)
        if account == "system":
            extra |= self._redirect()
        self.prefix = layers.Prefix(machine.layer, copy.root, home, extra, box.entering if box else None)

    def _disguise(self, guise: Guise) -> dict[str, str]:
        """Another person, whose profile is there, and another volume: what the layer takes from its environment."""
        drive = self.copy.root / "drive_c"
        (drive / ".windows-serial").write_text(guise.volume + "\n", "ascii")
        self._brought.append(r"c:\.windows-serial")
        for name in USER_FOLDERS:
            (drive / "users" / guise.user / name.replace("\\", "/")).mkdir(parents=True, exist_ok=True)
        self._write_otherwise()
        return {"USER": guise.user, "LOGNAME": guise.user}

    def _write_otherwise(self) -> None:
        """Dates, times and numbers as somebody else has them: what a setup writes down in the person's own form then
        differs. The language stays: the layer takes it from its environment.
        """
        hive = self.copy.root / "user.reg"
        text = hive.read_text("utf-8", "replace")
        for name, form in _FORMS.items():
            text = re.sub(rf'(?m)^"{name}"="[^"\n]*"$', f'"{name}"="{form}"', text, count=1)
        hive.write_text(text, "utf-8")

    def _redirect(self) -> dict[str, str]:
        """Another profile and hive in place of the person's: the nearest the layer comes to the system account."""
        drive = self.copy.root / "drive_c"
        for name in SYSTEM_FOLDERS:
            (drive / name[3:].replace("\\", "/")).mkdir(parents=True, exist_ok=True)
        hive = self.copy.root / "user.reg"
        text = hive.read_text("utf-8", "replace")
        user = self.machine.surroundings("user").user
        escaped = SYSTEM_PROFILE.replace("\\", "\\\\")
        text = text.replace(f"C:\\\\users\\\\{user}", escaped).replace("%USERPROFILE%", escaped)
        hive.write_text(text, "utf-8")
        profile = SYSTEM_PROFILE
        return {
            "USERPROFILE": profile,
            "APPDATA": profile + r"\AppData\Roaming",
            "LOCALAPPDATA": profile + r"\AppData\Local",
            "WINEUSERNAME": "SYSTEM",
        }

    # --- files -----------------------------------------------------------------------------------

    def host(self, path: str) -> Path:
        """Where a Windows path lies on this system, found without regard to case. Raises ValueError off drive C."""
        if path[:2].lower() != "c:" or ".." in path.split("\\"):
            raise ValueError(f"{path} is not on drive C of the machine")
        at = self.copy.root / "drive_c"
        for part in [part for part in path[2:].split("\\") if part]:
            step = at / part
            if not step.exists() and at.is_dir():
                step = next((entry for entry in at.iterdir() if entry.name.lower() == part.lower()), step)
            at = step
        return at

    def bring(self, source: Path, target: str, *, counts: bool = False) -> None:
        """``counts``: what changes there later is part of what ``state`` reports."""
        top = target
        while not counts and not self.has_folder(top):
            new, top = top, parent(top)
            self._brought.append(new.lower())
        shutil.copytree(source, self.host(target), dirs_exist_ok=True)

    def lend(self, source: Path, target: str) -> None:
        self.bring(source, target)

    def take_away(self, target: str) -> None:
        shutil.rmtree(self.host(target), ignore_errors=True)

    def end_programs(self, name: str) -> None:
        """Ends programs of this machine at once, as a power cut would, by the beginning of their name."""
        meant = [process for process, known in self.prefix.processes() if known.lower().startswith(name.lower())]
        host_os.end(meant, at_once=True)
        host_os.gone(meant, ENDING)  # one that was ended is there for a moment more

    def read(self, path: str) -> bytes | None:
        try:
            return self.host(path).read_bytes()
        except (FileNotFoundError, IsADirectoryError, NotADirectoryError):
            return None

    def write(self, path: str, data: bytes, *, private: bool = False) -> None:
        target = self.host(path)
        beside = target.with_name(target.name + ".new")
        if private:
            beside.touch(0o600)
        beside.write_bytes(data)
        beside.replace(target)

    def fetch(self, path: str, target: Path) -> bool:
        source = self.host(path)
        if not source.is_file():
            return False
        shutil.copyfile(source, target)
        return True

    def digest(self, path: str) -> str | None:
        try:
            return digest.of_file(self.host(path))
        except (FileNotFoundError, IsADirectoryError, NotADirectoryError):
            return None

    def place(self, path: str, source: Path, sha256: str) -> None:
        target = self.host(path)
        beside = target.with_name(target.name + ".new")
        shutil.copyfile(source, beside)
        beside.replace(target)

    def append(self, path: str, data: bytes) -> None:
        with self.host(path).open("ab") as file:
            file.write(data)

    def remove(self, path: str) -> bool:
        try:
            self.host(path).unlink()
        except FileNotFoundError:
            return False
        return True

    def files_below(self, path: str) -> list[str]:
        top = self.host(path)
        inner = (
            [entry.relative_to(top).as_posix() for entry in top.rglob("*") if entry.is_file()] if top.is_dir() else []
        )
        return sorted(path.rstrip("\\") + "\\" + name.replace("/", "\\") for name in inner)

    def make_folder(self, path: str) -> bool:
        try:
            self.host(path).mkdir()
        except FileExistsError:
            return False
        return True

    def remove_folder(self, path: str) -> bool:
        try:
            self.host(path).rmdir()
        except OSError:
            return False
        return True

    def has_folder(self, path: str) -> bool:
        return self.host(path).is_dir()

    def is_running(self, name: str) -> bool:
        wanted = f"{name}.exe"[:15].lower()
        return any(found[:15].lower() == wanted for _, found in self.prefix.processes())

    def close_program(self, name: str) -> bool:
        return self.run(f'taskkill /im "{name}.exe"', timeout=60).exit_code == 0

    def restart(self) -> None:
        self.prefix.flush()
        self.run("wineboot -r", timeout=300)
        self.prefix.settle(RESTART_LIMIT)

    # --- commands and state -------------------------------------------------------------------------

    def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
        return self.prefix.command(command, work=self.asked, timeout=timeout, folder=folder, patient=patient)

    def rewritten(self) -> frozenset[str] | None:
        """From the layer of the copy that holds what was opened for writing; None where files were copied instead."""
        if not self.copy.overlaid:
            return None
        drive = self.copy.root / "drive_c"
        return frozenset(
            observe.windows_path(drive, place)
            for place, what in self.copy.changed()
            if what == "file" and (self.copy.template / place.relative_to(self.copy.root)).is_file()
        )

    def watch(
        self, command: str, *, timeout: float, press: bool = False, folder: str | None = None, hand: bool = False
    ) -> Watched:
        """Runs a command line and follows all its processes and windows.

        ``press`` agrees to every dialog, ``hand`` leaves them to the person at the screen. Raises NoMachine.
        """
        return watch(self, command, timeout=timeout, press=press, folder=folder, hand=hand)

    @property
    def script(self) -> Callable[[str], bool] | None:
        """Runs a text by the shell and tells whether its last output is true; None without a shell."""
        return self._script if self.machine.has_powershell else None

    def _script(self, text: str) -> bool:
        path = r"C:\windows\temp\question.ps1"
        self.write(
            path,
            b"\xef\xbb\xbf$said = @(& {\r\n"
            + text.encode()
            + b"\r\n})\r\nif ($said.Length -and $said[-1] -is [bool] -and $said[-1]) { exit 0 }\r\nexit 1\r\n",
        )
        try:
            return self.run(command_lines.script(path), timeout=120).exit_code == 0
        finally:
            self.remove(path)

    def state(self) -> State:
        self.prefix.flush()
        known, old = self.machine.known(self.account)
        state = known.copy()
        new = observe.read_blocks(self.copy.root)
        parents = {(hive, path.rpartition("\\\\")[0]) for hive, path in new}
        lines: dict[str, str] = {}  # product -> its line
        for key in old.keys() | new.keys():
            before, after = old.get(key), new.get(key)
            if before == after:
                continue
            was = _things(key, before, has_children=True)
            now = _things(key, after, has_children=key in parents or before is not None)
            for gone in was.keys() - now.keys():
                if not noise.reason(was[gone]):
                    state.remove(*gone)
            for thing in now.values():
                lines.update(line_of(thing))
                if known.get(*key_of(thing)) != thing and not self._ours(thing) and not noise.reason(thing):
                    state.add(thing)
        add_lines(state, lines)
        drive = self.copy.root / "drive_c"
        observe.put_drivers(state, drive)
        self._put_files(state, drive)
        return state

    def _put_files(self, state: State, drive: Path) -> None:
        """What has changed among the files."""
        for place, what in sorted(self.copy.changed()):
            where = observe.windows_path(drive, place)
            if any(where.lower() == head or where.lower().startswith(head + "\\") for head in self._brought):
                continue
            if keeps_drivers(where):
                continue
            if what == "gone":
                for kind in ("file", "folder", "shortcut"):
                    state.remove(kind, where)
                continue
            if not place.exists():
                continue
            for thing in [Folder(where)] if what == "folder" else observe.file_things(drive, place):
                if not noise.reason(thing):
                    state.add(thing)

    def _ours(self, thing: object) -> bool:
        """The redirected hive differs from the template's by our own hand."""
        return (
            self.account == "system"
            and "systemprofile" in str(getattr(thing, "data", "") or "").lower()
            and str(getattr(thing, "hive", "")) == "HKCU"
        )


def _things(key: tuple[str, str], block: str | None, *, has_children: bool) -> dict[tuple[str, str], Thing]:
    """The things of a key of the registry by what they are known by; none where it is not there."""
    if block is None:
        return {}
    return {key_of(thing): thing for thing in observe.registry_things(*key, block, has_children=has_children)}
