"""A Windows that is simulated: files, registry in both views, environment, services, shortcuts, users.

Its Windows Installer is the interpreter that also predicts effects, so an agreement of the two is
no evidence; what it proves is that the package's own logic fits together.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import re
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec

from yendo import digest
from yendo.effects import Effect, File, Folder, RegistryValue, Service, Shortcut, State, difference, net
from yendo.effects.things import Environment, Thing, parent
from yendo.errors import NotCovered, Unreadable
from yendo.evidence import Evidence
from yendo.facts.machine import USUAL
from yendo.formats import app_package, inf
from yendo.installers.msi import commandline, describe
from yendo.machines.protocol import Place, Ran, Value
from yendo.machines.simulated import programs, stock
from yendo.machines.simulated.devices import Devices
from yendo.machines.simulated.installer import InstallerService, absolute
from yendo.machines.simulated.registry import Registry
from yendo.machines.simulated.system_setup import SystemSetup
from yendo.platforms.windows import systems
from yendo.platforms.windows.recording import Recording
from yendo.platforms.windows.registry_keys import DRIVER_NAMES, value_of
from yendo.platforms.windows.surroundings import Account, Surroundings, expand, windows
from yendo.servicing import reading as servicing
from yendo.servicing.manifest import ServicedManifest
from yendo.servicing.reading import SystemPackage
from yendo.terms.rules import ProcessRule, Rule, Sight

_FILES = (
    "msiexec.exe",
    "cmd.exe",
    "reg.exe",
    "sc.exe",
    "schtasks.exe",
    "netsh.exe",
    "pnputil.exe",
    "dism.exe",
    "wusa.exe",
    "change.exe",
    "shutdown.exe",
)


def fresh_state(surroundings: Surroundings) -> State:
    """A Windows as it comes: its folders, a few of its programs, its environment, its version."""
    state = describe.baseline(surroundings)
    for path in (surroundings.environment["TEMP"], r"C:\Windows\Temp"):
        state.add_folders(path)
    things: list[Thing] = [
        File(rf"C:\Windows\System32\{name}", 65536, None, surroundings.windows + ".1") for name in _FILES
    ]
    things += [Environment(name, surroundings.environment[name]) for name in ("Path", "TEMP", "TMP")]
    for thing in things:
        state.add(thing)
    return state


_ACTIVE_SETUP = "software\\microsoft\\active setup\\installed components\\"
_PERSON = "S-1-5-21-1-2-3-1001"  # whose computer it is


class SimulatedMachine:
    """Always here, and takes milliseconds. It is a stated Windows, one of ``platforms/windows/systems.py``."""

    place: Place = "simulation"
    has_powershell = False
    screens = False
    evidence, not_windows, without_powershell = False, "it is simulated", ""
    unanswered: frozenset[str] = frozenset()

    def imitates(self, account: Account) -> str:
        return ""

    def __init__(self, release: str = systems.USUAL) -> None:
        self.system = systems.system(release)
        self.name = "simulated" if release == systems.USUAL else f"simulated-{release}"
        self.label = f"simulated {self.system.title}, 64-bit"

    def surroundings(self, account: Account = "user") -> Surroundings:
        return msgspec.structs.replace(windows(account), windows=self.system.version)

    def baseline(self, account: Account = "user") -> State:
        return fresh_state(self.surroundings(account))

    def shown(self, effects: Iterable[Effect]) -> tuple[list[Effect], dict[str, int]]:
        """As they were predicted: one interpreter does both."""
        return list(effects), {}

    def leaves(self, effect: Effect, because: Evidence | None, *, empty: bool) -> str:
        return ""

    def unmended(self, *, patched: bool) -> str:
        return ""

    def interrupt(self) -> None:
        """Nothing: what is simulated ends by itself in moments."""

    @contextlib.contextmanager
    def fresh(self, account: Account = "user") -> Iterator[SimulatedSession]:
        yield SimulatedSession(self.surroundings(account))


# What the driver store keeps: the folder is named after what the store calls the driver.
_STORED = re.compile(r"(?i)C:\\Windows\\System32\\DriverStore\\FileRepository\\[^\\]+_(oem\d+\.inf)\\[^\\]+\.inf")


def _in_store(path: Path) -> str:
    """A driver as the store lists it: the name of its file and the version that it states, which may be none."""
    try:
        version = inf.read(path).all("Version", "DriverVer")
    except Unreadable:
        version = []
    return f"{path.name}={version[0].value(1).strip() if version else ''}"


class SimulatedSession:
    """One simulated machine."""

    def __init__(self, surroundings: Surroundings, state: State | None = None) -> None:
        self.surroundings = surroundings
        self._state = fresh_state(surroundings) if state is None else state
        self._contents: dict[str, bytes | bytearray | Path] = {
            rf"c:\windows\{name}": text.encode() for name, text in systems.TEXTS.items()
        }
        self._stored: dict[str, bytes] = {}  # the text of each driver that the store keeps, by what it lists
        self._brought: dict[str, Path] = {}
        self.installer = InstallerService(self._state, self)
        self._uninstallers: dict[str, tuple[Path, str]] = {}  # path on the machine -> its installer, and where that ran
        self.running: list[str] = []  # programs that a person has open, by their names without .exe
        self.stubborn: set[str] = set()  # those of them that do not close when they are asked
        system = systems.of_build(surroundings.windows)
        self.facts = USUAL
        if system is not systems.system(systems.USUAL):
            self.facts = msgspec.structs.replace(USUAL, windows=f"{system.version}.1", edition=system.edition)
        self._retell()
        self.registry = Registry(self._state, _PERSON if surroundings.account == "user" else "")
        self.users = [_PERSON, "default"]  # hives of people, and of those who log on for the first time
        self.told: list[str] = []  # what the person was shown
        self.agrees: list[bool] = []  # what the person answers, first to last; without an answer, yes
        self._assumed: dict[str, list[Effect]] = {}  # a command line that takes it back -> what was assumed
        self.called: list[str] = []  # command lines of stock programs
        self.setup = SystemSetup()
        self.devices = Devices()
        self._infs: dict[str, Path] = {}  # where the file of each driver in the store is, by what it lists
        self.published: dict[str, str] = {}  # what the driver store calls its drivers -> as they are listed

    def _retell(self) -> None:
        """Facts that the registry tells as well are as it has them."""
        said = {
            name: value_of(self._state, "HKLM", "64", key, value)
            for name, (key, value) in {
                "edition": (systems.CURRENT_KEY, "EditionID"),
                "language": (systems.LANGUAGE_KEY, "InstallLanguage"),
                "build": (systems.CURRENT_KEY, "CurrentBuild"),
            }.items()
        }
        known: dict[str, str] = {}
        if said["edition"]:
            known["edition"] = str(said["edition"])
        with contextlib.suppress(ValueError):
            if tag := systems.language_tag(int(str(said["language"] or ""), 16)):
                known["language"] = tag
        build = str(said["build"] or "")
        if build and build != self.facts.windows.split(".")[2]:
            known["windows"] = f"10.0.{build}.1"
        self.facts = msgspec.structs.replace(self.facts, **known)

    @property
    def staging(self) -> SimulatedSession:
        return self

    def someone_new(self) -> str:
        """Somebody logs on who never did: the hive of such people is copied for them. Its name, a key of HKU."""
        name = f"{_PERSON}-later"
        for thing in list(self._state):
            if isinstance(thing, RegistryValue) and thing.hive == "HKU" and thing.key.lower().startswith("default\\"):
                self._state.add(msgspec.structs.replace(thing, key=name + thing.key[len("default") :]))
        self.users.append(name)
        return name

    def first_log_on(self, someone: str) -> None:
        """What Windows starts once for whoever logs on: the entries of Active Setup, as that person."""
        for thing in [one for one in self._state if isinstance(one, RegistryValue) and one.hive == "HKLM"]:
            listed = thing.key.lower().startswith(_ACTIVE_SETUP)
            if listed and thing.name.lower() == "stubpath" and isinstance(thing.data, str):
                self._as(someone, thing.data)

    def start_from_menu(self, someone: str) -> None:
        """Somebody starts everything that has an advertised shortcut: the installer mends the shortcut's feature, and
        those above it, for them. Source: the documentation of advertised shortcuts and of resiliency.
        """
        for line in self.installer.mending():
            self._as(someone, line)

    def _as(self, someone: str, line: str) -> None:
        """Runs the installer as a person who is not the one of this session: HKCU is theirs meanwhile."""
        whole = self._state
        own = [thing for thing in whole if isinstance(thing, RegistryValue) and thing.hive == "HKCU"]
        for one in own:
            whole.remove("registry", one.identity)
        try:
            self.installer.execute(commandline.parse(line), None)
            for thing in list(whole):
                if isinstance(thing, RegistryValue) and thing.hive == "HKCU":
                    whole.remove("registry", thing.identity)
                    whole.add(msgspec.structs.replace(thing, hive="HKU", key=rf"{someone}\{thing.key}"))
        except commandline.CommandError:  # what the installer would refuse, and other programs, do nothing here
            pass
        finally:
            for one in own:
                whole.add(one)

    # --- files -------------------------------------------------------------------------------------

    def bring(self, source: Path, target: str) -> None:
        self._brought[target.lower()] = source

    def take_away(self, target: str) -> None:
        self._brought.pop(target.lower(), None)

    def lend(self, source: Path, target: str) -> None:
        self._brought[target.lower()] = source

    def lookup(self, path: str) -> bytes | bytearray | Path | None:
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

    def _whole(self, path: str) -> bytes | Path | None:
        found = self.lookup(path)
        return bytes(found) if isinstance(found, bytearray) else found

    def read(self, path: str) -> bytes | None:
        found = self._whole(path)
        if found is None and (stored := _STORED.fullmatch(path)):
            listed = self.published.get(stored[1].lower(), "")
            if listed in self._stored:
                return self._stored[listed]
            version = listed.partition("=")[2]
            return f"[Version]\r\nDriverVer = 01/01/2000, {version}\r\n".encode() if version else None
        if found is None and isinstance(link := self._state.get("shortcut", path), Shortcut):
            return msgspec.json.encode(link)  # as `write` takes it again
        return found.read_bytes() if isinstance(found, Path) else found

    def write(self, path: str, data: bytes, *, private: bool = False) -> None:
        if self._state.get("folder", parent(path)) is None and parent(path).upper() != "C:":
            raise FileNotFoundError(f"the folder of {path} does not exist")
        self._contents[path.lower()] = data
        if path.lower().endswith(".lnk") and data[:1] == b"{":  # put back as it was kept
            self._state.add(msgspec.json.decode(data, type=Shortcut))
        else:
            self._state.add(File(path, len(data), hashlib.sha256(data).hexdigest()))

    def digest(self, path: str) -> str | None:
        found = self.lookup(path)
        if found is None:
            return None
        if isinstance(found, Path):
            known = self._state.get("file", path)
            return known.sha256 if isinstance(known, File) and known.sha256 else digest.of_file(found)
        return hashlib.sha256(found).hexdigest()

    def place(self, path: str, source: Path, sha256: str) -> None:
        if self._state.get("folder", parent(path)) is None and parent(path).upper() != "C:":
            raise FileNotFoundError(f"the folder of {path} does not exist")
        self._contents[path.lower()] = source
        self._state.add(File(path, source.stat().st_size, sha256))

    def append(self, path: str, data: bytes) -> None:
        held = self._contents.get(path.lower())
        if not isinstance(held, bytearray):
            whole = bytearray(self.read(path) or b"")
            self.write(path, bytes(whole + data))
            self._contents[path.lower()] = whole + data
            return
        held += data
        self._state.add(
            File(path, len(held))
        )  # its hash would have to be taken anew for every line; nobody asks for it

    def remove(self, path: str) -> bool:
        self._contents.pop(path.lower(), None)
        gone = [self._state.remove(kind, path) for kind in ("file", "shortcut")]
        for value in self._state.values_in(path):
            self._state.remove("ini", value.identity)
        return any(thing is not None for thing in gone)

    def make_folder(self, path: str) -> bool:
        if self._state.get("folder", path) is not None or path.endswith(":"):
            return False
        self._state.add(Folder(path))
        return True

    def remove_folder(self, path: str) -> bool:
        return self._state.is_empty(path) and self._state.remove("folder", path) is not None

    def has_folder(self, path: str) -> bool:
        lowered = path.lower() + "\\"
        return self._state.get("folder", path) is not None or any(
            lowered.startswith(f"{top}\\") for top in self._brought
        )

    def is_running(self, name: str) -> bool:
        return name.lower() in (program.lower() for program in self.running)

    def open_program(self, name: str) -> None:
        self.running.append(name)

    def end_programs(self, name: str) -> None:
        self.running = [program for program in self.running if not program.lower().startswith(name.lower())]

    def close_program(self, name: str) -> bool:
        there = [
            program for program in self.running if program.lower() == name.lower() and program not in self.stubborn
        ]
        self.running = [program for program in self.running if program not in there]
        return bool(there)

    def files_below(self, path: str) -> list[str]:
        head = path.lower().rstrip("\\") + "\\"
        return sorted(
            thing.path
            for thing in self._state.of("file", "shortcut")
            if isinstance(thing, File | Shortcut) and thing.identity.startswith(head)
        )

    def folders_below(self, path: str) -> list[str]:
        head = path.lower().rstrip("\\") + "\\"
        return sorted(
            thing.path
            for thing in self._state.of("folder")
            if isinstance(thing, Folder) and thing.identity.startswith(head)
        )

    # --- the registry, services, shortcuts, the person -------------------------------------------------

    def get_value(self, hive: str, view: str, key: str, name: str) -> Value | None:
        head, _, published = key.rpartition("\\")
        if (hive, head.lower()) == ("HKLM", DRIVER_NAMES.lower()) and published.lower() in self.published:
            listed = self.published[published.lower()].partition("=")[0]
            return "sz", f"{listed}_{published.lower()}"  # the folder of the store
        return self.registry.get(hive, view, key, name)

    def set_value(self, hive: str, view: str, key: str, name: str, value: Value | None) -> None:
        self.registry.set(hive, view, key, name, value)

    def has_key(self, hive: str, view: str, key: str) -> bool:
        return self.registry.has(hive, view, key)

    def make_key(self, hive: str, view: str, key: str) -> None:
        self.registry.make(hive, view, key)

    def drop_key(self, hive: str, view: str, key: str) -> bool:
        return self.registry.drop(hive, view, key)

    def keys_below(self, hive: str, view: str, key: str) -> list[str]:
        if (hive, key.lower()) == ("HKLM", DRIVER_NAMES.lower()):  # the store's list, which is told as parts
            return [key, *(f"{key}\\{name}" for name in self.published)] if self.published else []
        return self.registry.below(hive, view, key)

    def values_of(self, hive: str, view: str, key: str) -> list[str]:
        return self.registry.names(hive, view, key)

    def user_hives(self) -> list[str]:
        return self.users

    def service_state(self, name: str) -> str:
        found = self._state.get("service", name)
        return "" if not isinstance(found, Service) else "running" if found.running else "stopped"

    def related(self, upgrade_code: str) -> list[str]:
        return self.installer.related(upgrade_code)

    def put_shortcut(self, link: Shortcut) -> None:
        self._contents[link.identity] = msgspec.json.encode(link)
        self._state.add(link)

    def show(self, text: str) -> None:
        self.told.append(text)

    def answer(self, text: str) -> bool:
        self.told.append(text)
        return self.agrees.pop(0) if self.agrees else True

    def make_hold(self, rules: tuple[Rule, ...], reverse: str) -> None:
        before = self._state.copy()
        for rule in rules:
            if isinstance(rule, ProcessRule):
                self.running.append(rule.bare)
            else:
                rule.fulfil(Sight(self._state, self.surroundings.environment))
        self._retell()
        if reverse:
            self._assumed.setdefault(expand(reverse, self.surroundings.environment).lower(), []).extend(
                difference(before, self._state)
            )

    def restart(self) -> None:
        """Starts the machine anew: nothing runs any more, and pending work is done."""
        self.running = []
        facts = self.setup.restarted(self.facts, self._state, self._lay)
        if facts is not self.facts:
            self.facts = facts
            self.surroundings = msgspec.structs.replace(self.surroundings, windows=facts.windows.rpartition(".")[0])

    def _lay(self, path: str, data: bytes) -> None:
        """A file that a program of the system writes, with its folders."""
        self._state.add_folders(parent(path))
        self.write(path, data)

    def state(self) -> State:
        return self._state.copy()

    @property
    def own_state(self) -> State:
        """The state itself, which changes with the machine."""
        return self._state

    def net_effects(self, before: State) -> list[Effect]:
        """What the installer's runs did since ``before``, with their evidence; not what it keeps for itself."""
        return net(self.installer.done, before, self._state)

    # --- commands ------------------------------------------------------------------------------------

    def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
        """Carries out a Windows Installer command line, or a setup program that was recorded or can be read.

        Raises NotCovered for any other program.
        """
        line = expand(command, self.surroundings.environment)
        if line.lower() in self._assumed:
            for effect in self._assumed[line.lower()]:
                self._state.remove(effect.kind, effect.thing.identity)
            self._assumed[line.lower()] = []
            return Ran(0, "assumed, by the step's own probe", 0.0)
        known = stock.run(line, self._state, self)
        if known is not None:
            self.called.append(line)
            return known
        recording = programs.recorded(line, list(self._brought.items()))
        if recording is not None:
            return self._program(line, recording)
        named = re.match(r'"([^"]+)"', line)
        lays = self.setup.run(self.file(named[1], folder), line, self.facts, self._lay) if named else None
        if lays is not None:
            return lays
        try:
            parsed = commandline.parse(line)
        except commandline.OtherProgram as error:
            return self._program(line, None, error.part)
        except commandline.CommandError as error:
            return Ran(1639, str(error), 0.0)
        if parsed.stray:
            return Ran(1639, f"not an option: {parsed.stray[0]}", 0.0)
        return self.installer.execute(parsed, folder)

    def inside(self, folder: str) -> bool | None:
        head = folder.lower().rstrip("\\")
        for top, source in self._brought.items():
            if head == top or head.startswith(top + "\\"):
                below = source / folder[len(top) :].strip("\\").replace("\\", "/")
                return below.is_dir() and any(path.is_file() for path in below.rglob("*"))
        return None if not self.files_below(folder) else True

    def app(self, path: str) -> app_package.AppIdentity | None:
        found = self.lookup(path)
        if found is None:
            return None
        try:
            return app_package.identity(found if isinstance(found, Path) else io.BytesIO(found), path)
        except Unreadable:
            return None

    def serviced(self, path: str) -> tuple[list[ServicedManifest], bool] | None:
        found = self.lookup(path)
        if not isinstance(found, Path):
            return None
        try:
            read = servicing.read(found)
        except Unreadable:
            return None
        if not isinstance(read, SystemPackage) or not read.manifests:
            return None
        build = self.surroundings.windows.split(".")[2]
        return read.manifests, not read.builds or servicing.fits(read.builds, build)

    def settle_devices(self) -> None:
        there = {name: self._infs[listed] for name, listed in self.published.items() if listed in self._infs}
        self.devices.settle(self._state, there, self.surroundings)

    def drivers(self, folder: str) -> list[str] | None:
        for head, source in self._brought.items():
            if folder.lower() == head or folder.lower().startswith(head + "\\"):
                below = source / folder[len(head) :].strip("\\").replace("\\", "/")
                found = {path: _in_store(path) for path in sorted(below.rglob("*.inf"))} if below.is_dir() else {}
                self._stored |= {listed: path.read_bytes() for path, listed in found.items()}
                self._infs |= {listed: path for path, listed in found.items()}
                return list(found.values())
        return None

    def _program(self, line: str, recording: Recording | None, part: str = "") -> Ran:
        found = programs.find(line, recording, self._whole, self._uninstallers)
        if found is None:
            raise NotCovered(
                f"the simulated machine has no program {part!r}; prove this on a real machine (--machine wine)"
            )
        done, ran = found.carry_out(self.surroundings, self._state)
        self.installer.done += done
        self._uninstallers |= found.uninstallers
        self.installer.take_over(found.databases)
        return ran

    def file(self, name: str, folder: str | None) -> Path | None:
        found = self.lookup(absolute(name, folder))
        return found if isinstance(found, Path) else None

    def fill(self, path: str, content: bytes) -> None:
        """What is in a file that the installer has placed."""
        self._contents[path.lower()] = content
