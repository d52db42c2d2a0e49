"""The real machine of this house: the Windows API layer, on a private copy of one template."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import secrets
import shutil
import socket
import tempfile
import zipfile
from collections.abc import Iterable, Iterator
from functools import cached_property
from importlib.resources import files
from pathlib import Path

from yendo import host_os
from yendo.effects import Effect, State
from yendo.errors import NoMachine, Unreadable, Usage
from yendo.evidence import Evidence
from yendo.machines.protocol import NOT_WINDOWS, Place
from yendo.machines.wine import layer as layers
from yendo.machines.wine import observe, quirks, sandbox
from yendo.machines.wine.copies import PrivateCopy
from yendo.machines.wine.session import SYSTEM_FOLDERS, SYSTEM_PROFILE, USER_FOLDERS, Guise, WineSession
from yendo.platforms.windows import surroundings as around
from yendo.platforms.windows.surroundings import Account, Surroundings

RECIPE = 14  # raise it when a template must be made anew
POWERSHELL_VARIABLE = "YENDO_POWERSHELL"
_SHELL_FOLDER = "windows/system32/WindowsPowerShell/v1.0"
_SETTINGS = (
    'REGEDIT4\r\n\r\n[HKEY_CURRENT_USER\\Software\\Wine\\WineDbg]\r\n"ShowCrashDialog"=dword:00000000\r\n\r\n'
    '[HKEY_CURRENT_USER\\Software\\Wine\\DllOverrides]\r\n"powershell.exe"="native,builtin"\r\n"pnputil.exe"="native"\r\n'
)


def powershell_source(given: Path | None = None) -> Path | None:
    """The PowerShell that was given by option or environment variable: a zip or a folder. Raises Usage."""
    text = str(given) if given else os.environ.get(POWERSHELL_VARIABLE, "")
    if not text:
        return None
    path = Path(text)
    if not path.exists():
        raise Usage(f"the PowerShell {path} does not exist (from {'the option' if given else POWERSHELL_VARIABLE})")
    return path.resolve()


OTHER = Guise("QUAYSIDE-07", "tide", "5eab1e07")


class WineMachine:
    """A machine of the Windows API layer. Raises NoMachine where there is none.

    ``powershell`` is a zip or a folder with a ``powershell.exe``, put into the template. Every run is isolated
    (see ``sandbox``), but with ``unconfined``, which is part of the machine's label and so of every record. ``guise``
    makes it another machine of the same kind. ``screen`` is a person's own (``:0``), in place of one that nobody sees.
    """

    name = "wine"
    place: Place = "API layer"

    def __init__(
        self,
        cache: Path,
        powershell: Path | None = None,
        *,
        unconfined: bool = False,
        guise: Guise | None = None,
        screen: str | None = None,
    ) -> None:
        self.layer = layers.find()
        self.screen = screen
        self.cache, self.powershell, self.unconfined, self.guise = cache, powershell, unconfined, guise
        if not unconfined and (reason := sandbox.lacking()):
            raise NoMachine(
                f"a stranger's installer is not run here, since nothing can be isolated ({reason}); --unconfined "
                "runs it all the same"
            )
        self._sessions: list[WineSession] = []
        self._baselines: dict[Account, tuple[State, observe.Blocks]] = {}

    unanswered = frozenset({"app", "capability", "feature", "system-package"})  # the servicing program does nothing

    evidence, not_windows, screens = True, NOT_WINDOWS, True
    without_powershell = "`yendo doctor` says how to add a PowerShell"

    @property
    def has_powershell(self) -> bool:
        return self.powershell is not None

    def on_screen(self, display: str) -> WineMachine:
        return WineMachine(self.cache, self.powershell, unconfined=self.unconfined, guise=self.guise, screen=display)

    def imitates(self, account: Account) -> str:
        how = "imitated by a redirected profile and hive, since the layer has no such account"
        return how if account == "system" else ""

    @property
    def label(self) -> str:
        ready = self.cache / "wine" / self._key / "ready.json"
        widths = f", {'- and '.join(self.widths)}-bit programs" if ready.exists() else ""
        widths += ", UNCONFINED" if self.unconfined else ""
        return f"{self.layer.version} (Windows API layer{widths})"

    @cached_property
    def _key(self) -> str:
        shell = ""
        if self.powershell:
            status = self.powershell.stat()
            shell = f"{self.powershell}|{status.st_size}|{status.st_mtime_ns}"
        return hashlib.sha256(f"{RECIPE}|{self.layer.key}|{shell}".encode()).hexdigest()[:16]

    @cached_property
    def template(self) -> Path:
        """The template's folder, made on first use; several processes may ask at once."""
        folder = self.cache / "wine" / self._key
        folder.parent.mkdir(parents=True, exist_ok=True)
        with host_os.locked(folder.parent / f"{self._key}.lock"):
            if not (folder / "ready.json").exists():
                self._make(folder)
        return folder

    def libraries(self, bits: int) -> set[str]:
        """The names of what lies in the layer's folder for programs of so many bits, in small letters."""
        system = self.template / "prefix/drive_c/windows" / ("syswow64" if bits == 32 else "system32")
        return {entry.name.lower() for entry in system.iterdir()}

    @cached_property
    def widths(self) -> list[str]:
        """The program widths this layer runs: ``["64"]`` or ``["64", "32"]``."""
        found = json.loads((self.template / "ready.json").read_text("utf-8"))
        return list(found["widths"])

    def _make(self, folder: Path) -> None:
        for stale in folder.parent.glob(f".making-{self._key}-*"):
            shutil.rmtree(stale, ignore_errors=True)  # the lock is ours, so whoever made it was ended
        work = Path(tempfile.mkdtemp(prefix=f".making-{self._key}-", dir=folder.parent))
        for name in ("home", "asked", "prefix"):
            (work / name).mkdir()
        try:
            with (
                layers.screen() as display,
                self._isolated([work / "prefix", work / "home"], work / "asked", display) as box,
            ):
                # without the two libraries the first boot offers to download them, and waits for an answer
                extra = {"WINEDLLOVERRIDES": "mscoree=;mshtml=", **({"DISPLAY": display} if display else {})}
                wine = layers.Prefix(self.layer, work / "prefix", work / "home", extra, box.entering if box else None)
                try:
                    narrow = self._furnish(wine, work)
                finally:
                    wine.stop()
            observe.save(work / "baseline.msgpack", work / "prefix")
            (work / "ready.json").write_text(
                json.dumps({"layer": self.layer.version, "widths": ["64", "32"] if narrow else ["64"]}), "utf-8"
            )
            work.rename(folder)
        except BaseException:
            shutil.rmtree(work, ignore_errors=True)
            raise

    def _furnish(self, wine: layers.Prefix, work: Path) -> bool:
        """Boots a new prefix for the first time and sets it up; says whether it runs 32-bit programs."""
        started = wine.start("wineboot", "-i", timeout=300)
        wine.settle(300)  # the command can return while the first boot still works
        if started is None or not (wine.root / ".update-timestamp").exists():
            raise NoMachine(f"{self.layer.version} does not make a machine; try `wine wineboot -i` by hand")
        wine.start("winecfg", "-v", "win10", timeout=60)
        settings = work / "asked" / "settings.reg"
        settings.write_text(_SETTINGS, "ascii", newline="")
        wine.start("regedit", "/S", "Z:" + str(settings).replace("/", "\\"), timeout=60)
        wine.flush()
        # its own does nothing: this one calls its store
        store = files("yendo.machines.wine.driver_store").joinpath("pnputil.exe")
        (wine.drive / "windows/system32/pnputil.exe").write_bytes(store.read_bytes())
        narrow = wine.start(r"C:\windows\syswow64\cmd.exe", "/c", "exit 7", timeout=60) == 7
        wine.flush()
        self._own_folders(wine.drive)
        if self.powershell:
            self._add_powershell(wine.drive / _SHELL_FOLDER)
        wine.start("cmd", "/c", "exit", timeout=60)  # settles what a first boot still writes
        wine.flush()
        return narrow

    @staticmethod
    def _own_folders(drive: Path) -> None:
        """Folders of its own in place of the links into a person's home, and those that Windows always has."""
        for user in (drive / "users").iterdir():
            for entry in list(user.rglob("*")):
                if entry.is_symlink():
                    entry.unlink()
                    entry.mkdir()
            if user.name != "Public":
                for name in USER_FOLDERS:
                    (user / name.replace("\\", "/")).mkdir(parents=True, exist_ok=True)
        (drive / "users/Public/Desktop").mkdir(parents=True, exist_ok=True)
        (drive / "ProgramData/Microsoft/Windows/Start Menu/Programs/Startup").mkdir(parents=True, exist_ok=True)

    def _add_powershell(self, target: Path) -> None:
        source = self.powershell
        assert source is not None
        target.mkdir(parents=True, exist_ok=True)
        if source.is_dir():
            shutil.copytree(source, target, dirs_exist_ok=True, symlinks=False)
        else:
            try:
                with zipfile.ZipFile(source) as archive:
                    for member in archive.namelist():
                        if member.startswith("/") or ".." in member.split("/"):
                            raise Unreadable(f"{source} holds {member!r}, which leads outside")
                    archive.extractall(target)
            except zipfile.BadZipFile as error:
                raise Unreadable(f"{source} is neither a folder nor a zip: {error}") from error
        found = list(target.rglob("powershell.exe")) + list(target.rglob("pwsh.exe"))
        if not found:
            raise Usage(f"{source} holds no powershell.exe and no pwsh.exe")
        if found[0].name.lower() == "pwsh.exe":
            shutil.copy2(found[0], found[0].with_name("powershell.exe"))

    # --- the machine protocol ------------------------------------------------------------------

    def surroundings(self, account: Account = "user") -> Surroundings:
        users = [
            path.name for path in (self.template / "prefix/drive_c/users").iterdir() if path.name.lower() != "public"
        ]
        user = self.guise.user if self.guise else users[0] if users else "root"
        usual = around.windows("user")
        profile = r"C:\users" + "\\" + user if account == "user" else SYSTEM_PROFILE
        old = usual.environment["USERPROFILE"]
        folders = {name: path.replace(old, profile) for name, path in usual.folders.items()}
        environment = {name: value.replace(old, profile) for name, value in usual.environment.items()}
        folders["TempFolder"] = environment["TEMP"]
        return Surroundings(
            "10.0.19045",
            "x64",
            account,
            user if account == "user" else "SYSTEM",
            folders,
            environment,
            computer=self.computer,
            per_user_menu=True,
        )

    @property
    def key(self) -> Path | None:
        """The file that lets programs onto the person's screen; None where there is none, or it needs none."""
        path = Path(os.environ.get("XAUTHORITY") or Path.home() / ".Xauthority")
        return path.absolute() if self.screen and path.is_file() else None

    @property
    def computer(self) -> str:
        """What the machine is called; one that is not isolated has the name of this computer."""
        if self.unconfined:
            return socket.gethostname().partition(".")[0][:15].upper()
        return self.guise.computer if self.guise else sandbox.COMPUTER

    def baseline(self, account: Account = "user") -> State:
        return self.known(account)[0].copy()

    def known(self, account: Account) -> tuple[State, observe.Blocks]:
        """A fresh machine's state, and the registry that it stands for."""
        if account not in self._baselines:
            if account == "system":
                known, blocks = self.known("user")
                state = known.copy()
                for name in SYSTEM_FOLDERS:
                    state.add_folders(name)
            else:
                things, blocks = observe.load(self.template / "baseline.msgpack")
                state = State(things)
            self._baselines[account] = state, blocks
        return self._baselines[account]

    def shown(self, effects: Iterable[Effect]) -> tuple[list[Effect], dict[str, int]]:
        return quirks.adapt(effects)

    def leaves(self, effect: Effect, because: Evidence | None, *, empty: bool) -> str:
        return quirks.leaves(effect, because, empty=empty)

    def unmended(self, *, patched: bool) -> str:
        return quirks.UNMENDED if patched else ""

    def interrupt(self) -> None:
        """Ends what runs on every machine of this kind that another thread has in use; its next command raises
        NoMachine.
        """
        for session in list(self._sessions):
            session.prefix.interrupted = True
            session.prefix.stop()

    @contextlib.contextmanager
    def fresh(self, account: Account = "user") -> Iterator[WineSession]:
        template = self.template
        runs = self.cache / "wine" / "runs"
        runs.mkdir(parents=True, exist_ok=True)
        _sweep(runs)
        name = f"run-{secrets.token_hex(6)}"
        work, copy = runs / name, None
        with host_os.locked(runs / f"{name}.lock"):
            try:
                for part in ("home", "asked"):
                    (work / part).mkdir(parents=True)
                with contextlib.nullcontext(self.screen) if self.screen else layers.screen() as display:
                    copy = PrivateCopy(template / "prefix", work / "copy")
                    with self._isolated([copy.root, work / "home"], work / "asked", display) as box:
                        session = WineSession(self, copy, work, account, display, box)
                        self._sessions.append(session)
                        try:
                            yield session
                        finally:
                            self._sessions.remove(session)
                            session.prefix.stop()
            finally:
                if copy:
                    copy.discard()
                shutil.rmtree(work, ignore_errors=True)
                (runs / f"{name}.lock").unlink(missing_ok=True)

    @contextlib.contextmanager
    def _isolated(self, writable: list[Path], asked: Path, display: str | None) -> Iterator[sandbox.Sandbox | None]:
        """A sandbox that sees these folders, and reads what it is asked to do; None where the person wants none."""
        if self.unconfined:
            yield None
            return
        readable = [asked, *([self.key] if self.key else [])]
        box = sandbox.Sandbox(self.layer, writable, readable, display, computer=self.computer)
        try:
            yield box
        finally:
            box.close()


def _sweep(runs: Path) -> None:
    """Takes away what runs that were killed have left: their mounts and folders. A run that goes on holds its lock."""
    for work in runs.glob("run-*"):
        if not work.is_dir():
            continue
        with contextlib.suppress(host_os.Busy, OSError), host_os.locked(runs / f"{work.name}.lock", timeout=0):
            root = work / "copy" / "prefix"
            if os.path.ismount(root) and not host_os.unmount(root, detach=True):
                continue
            shutil.rmtree(work, ignore_errors=True)
            (runs / f"{work.name}.lock").unlink(missing_ok=True)
