"""The Windows API layer: which one is here, and how its commands are started."""

from __future__ import annotations

import contextlib
import hashlib
import itertools
import os
import shutil
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from yendo import host_os
from yendo.errors import NoMachine, NotCovered
from yendo.machines.protocol import Look, Ran

# Where Debian keeps the loader of 64-bit programs, and the server
_INSIDE = (
    ("/usr/lib/wine/wine64", "/usr/bin/wine64", "/usr/bin/wine"),
    ("/usr/bin/wineserver", "/usr/lib/wine/wineserver64", "/usr/lib/wine/wineserver"),
)
HOW_TO_GET = "apt-get install wine (and wine32 for 32-bit programs), or put another wine first on PATH"


class Layer(msgspec.Struct, frozen=True):
    """A wine: its version as it prints it, and the commands for 64-bit programs and for its server.

    ``root``: the root file system that its programs lie in, where that is another one than this system's (``DIR/root``
    beside ``DIR/bin``). ``inside`` are the two commands as they are called in there.
    """

    version: str
    wine: str
    server: str
    root: Path | None = None
    inside: tuple[str, str] | None = None

    @property
    def key(self) -> str:
        """A short name for the cache that changes when the layer does."""
        real = "|".join((self.version, os.path.realpath(self.wine)))
        return hashlib.sha256(real.encode()).hexdigest()[:12]


@cache
def find() -> Layer:
    """The wine on PATH. Raises NoMachine, saying how to get one."""
    wine, server = shutil.which("wine64") or shutil.which("wine"), shutil.which("wineserver")
    plain = shutil.which("wine")
    if plain and wine and Path(plain).parent != Path(wine).parent:
        wine = plain  # two layers on PATH: the first wins
    if not wine:
        raise NoMachine(f"no wine on PATH: {HOW_TO_GET}")
    server = server or next(
        (str(path) for path in (Path("/usr/lib/wine/wineserver"), Path("/usr/lib/wine/wineserver64")) if path.exists()),
        None,
    )
    if not server:
        raise NoMachine(f"wine is here, its server is not: {HOW_TO_GET}")
    try:
        done = subprocess.run([wine, "--version"], capture_output=True, text=True, timeout=30, check=False)
    except (OSError, subprocess.TimeoutExpired) as error:
        raise NoMachine(f"{wine} does not answer: {error}") from error
    version = done.stdout.strip().split(" ")[0]
    if not version:
        raise NoMachine(f"{wine} --version says nothing: {done.stderr.strip()[:200]}")
    root = Path(wine).resolve().parent.with_name("root")
    inside = tuple(next((name for name in names if (root / name[1:]).exists()), "") for names in _INSIDE)
    return Layer(version, wine, server, root, (inside[0], inside[1])) if all(inside) else Layer(version, wine, server)


Enter = Callable[[dict[str, str]], list[str]]
_PATH = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"


def printed(data: bytes) -> str:
    """What programs of the layer have printed. Each writes as it likes: what is no UTF-8 is in the shell's code page;
    both may stand in one output, line by line.
    """

    def line(piece: bytes) -> str:
        try:
            return piece.decode("utf-8")
        except UnicodeDecodeError:
            return piece.decode("cp437")

    return "\n".join(map(line, data.split(b"\n")))


class Prefix:
    """One prefix and the processes that were started in it.

    ``home`` is a private home folder: the layer writes menus into it. ``enter`` gives the command that starts others
    where the prefix is isolated, with these variables; without it they run like any program of this system.
    """

    def __init__(
        self,
        layer: Layer,
        root: Path,
        home: Path,
        environment: dict[str, str] | None = None,
        enter: Enter | None = None,
    ) -> None:
        self._numbers = itertools.count()
        self.layer, self.root, self.home, self._enter = layer, root, home, enter
        kept = {
            name: os.environ[name] for name in ("PATH", "DISPLAY", "LANG", "LC_ALL", "XAUTHORITY") if name in os.environ
        }
        if not any("utf" in kept.get(name, "").lower() for name in ("LC_ALL", "LANG")):
            kept["LC_ALL"] = "C.UTF-8"  # in any other the layer cannot tell names beyond ASCII on the disk
        self.environment = {
            **kept,
            "WINEPREFIX": str(root),
            "HOME": str(home),
            "WINEDEBUG": "-all",
            "WINEARCH": "win64",
            "WINEDLLOVERRIDES": "winemenubuilder.exe=",
            "DOTNET_EnableWriteXorExecute": "0",
            "DOTNET_CLI_TELEMETRY_OPTOUT": "1",
            "POWERSHELL_TELEMETRY_OPTOUT": "1",
            **(environment or {}),
        }
        self.running = False  # whether anything was started since the last flush
        self.interrupted = False  # nothing is started any more

    @property
    def drive(self) -> Path:
        return self.root / "drive_c"

    def _line(self, which: int, *arguments: str) -> list[str]:
        """The command of the layer (0: its loader, 1: its server), as it is called where the prefix is."""
        plain = (self.layer.wine, self.layer.server)[which]
        if self._enter is None:
            return [plain, *arguments]
        program = self.layer.inside[which] if self.layer.inside else str(Path(plain).resolve())
        variables = {**self.environment, "PATH": _PATH}
        if self.layer.inside and which == 0 and "/lib/" in program:
            variables["WINELOADER"] = program  # else it looks for the other loader beside itself
        return [*self._enter(variables), program, *arguments]

    def launch(self, *arguments: str, output: Any = subprocess.DEVNULL) -> subprocess.Popen[bytes]:
        """Starts a program of the layer."""
        if self.interrupted:
            raise NoMachine("interrupted")
        self.running = True
        return subprocess.Popen(
            self._line(0, *arguments),
            env=self.environment,
            stdin=subprocess.DEVNULL,
            stdout=output,
            stderr=subprocess.DEVNULL,
            **host_os.new_group(),
        )

    def start(
        self, *arguments: str, timeout: float, output: Any = subprocess.DEVNULL, looks: list[Look] | None = None
    ) -> int | None:
        """Runs a program of the layer to its end; None when it took too long and everything was ended.

        With ``looks`` it is looked at when its time is over, and gets as long again while it is busy; what was seen is
        put there.
        """
        process = self.launch(*arguments, output=output)
        try:
            with contextlib.suppress(subprocess.TimeoutExpired):
                return process.wait(timeout)
            if looks is not None:
                last = time.monotonic() + timeout
                before = self._work()
                while not looks or (looks[-1].busy and time.monotonic() <= last):
                    with contextlib.suppress(subprocess.TimeoutExpired):
                        return process.wait(min(5, timeout / 3))
                    now = self._work()
                    looks.append(_look(before, now))
                    before = now
            self.stop()
            return None
        finally:
            host_os.end_group(process)

    def _work(self) -> dict[int, tuple[float, int]]:
        """Processor seconds and bytes read and written of each process in this prefix, but those of the
        layer itself.
        """
        return {
            process: (host_os.cpu_seconds(process), host_os.bytes_moved(process))
            for process, name in self.processes()
            if not name.startswith(_OF_THE_LAYER)
        }

    def batch(self, line: str, work: Path, folder: str | None = None) -> tuple[str, Path]:
        """Writes a Windows command line as a batch file; returns its Windows path, and the file for what it says."""
        number = next(self._numbers)  # several may run at once
        batch, said = work / f"run-{number}.bat", work / f"run-{number}.txt"
        escaped = line.replace("%", "%%")
        enter = f'cd /d "{folder}"\r\n' if folder else ""
        # what it says of errors as well: the layer's own stream for them has the layer's own words in it
        text = f"@echo off\r\necho {_BEGUN}\r\n{enter}{escaped} 2>&1\r\necho yendo-rc=%errorlevel%\r\n"
        try:
            batch.write_bytes(
                text.encode("cp437")
            )  # the layer's shell reads batch files in this code page, whatever `chcp` says
        except UnicodeEncodeError as error:
            raise NotCovered(
                f"the layer's command shell cannot be given {error.object[error.start : error.end]!r} in a command line"
            ) from error
        return "Z:" + str(batch).replace("/", "\\"), said

    def command(
        self, line: str, *, work: Path, timeout: float, folder: str | None = None, patient: bool = False
    ) -> Ran:
        """Runs a Windows command line through a batch file, which alone gives the full exit code."""
        batch, said = self.batch(line, work, folder)
        looks: list[Look] = []
        for _ in range(_STARTS):
            begun = time.monotonic()
            with said.open("wb") as output:
                ended = self.start("cmd", "/c", batch, timeout=timeout, output=output, looks=looks if patient else None)
            seconds = time.monotonic() - begun
            if ended is None or said.stat().st_size:
                break
            time.sleep(0.2)
        text = printed(said.read_bytes()[-1_000_000:]).replace("\r\n", "\n")
        text = text.removeprefix(_BEGUN + "\n")
        before, mark, after = text.rpartition("yendo-rc=")
        number_text = after.strip().split("\n")[0].strip() if mark else ""
        if ended is None or not number_text.lstrip("-").isdigit():
            return Ran(None, before or text, seconds, tuple(looks))
        return Ran(int(number_text) & 0xFFFFFFFF, before, seconds, tuple(looks))

    def flush(self) -> None:
        """Ends the layer's processes in this prefix, which writes the registry to disk."""
        if not self.running:
            return
        servers = [process for process, name in self.processes() if name.startswith("wineserver")]
        if servers:
            # the server's own "-k" asks in a slower way; on a termination signal it saves and leaves at once
            host_os.end(servers)
            if not host_os.gone(servers, 20):
                self._server("-k", 60)
        else:
            self._server("-k", 60)
            self._server("-w", 60)
        left = [process for process, _ in self.processes()]
        host_os.end(left, at_once=True)  # without their server they only wait for ever
        host_os.gone(left, 5)
        self.running = False

    def processes(self) -> list[tuple[int, str]]:
        """Id and name of every process that runs in this prefix, by the prefix in its environment."""
        return list(host_os.environment_of("WINEPREFIX", str(self.root)))

    def settle(self, timeout: float) -> None:
        """Waits until everything in this prefix has ended by itself. Raises TimeoutExpired."""
        self._server("-w", timeout)

    def _server(self, option: str, timeout: float) -> None:
        silent = subprocess.DEVNULL
        subprocess.run(
            self._line(1, option),
            env=self.environment,
            stdin=silent,
            stdout=silent,
            stderr=silent,
            timeout=timeout,
            check=False,
        )

    def stop(self) -> None:
        """Ends everything in this prefix at once, and never raises."""
        with contextlib.suppress(OSError, subprocess.TimeoutExpired, NoMachine):
            self.flush()


# Once in some hundred starts the layer's server resets the connection, and the shell never begins: it says when it has,
# and what has not begun can be started again.
_BEGUN, _STARTS = "yendo-begun", 3
_OF_THE_LAYER = (
    "wineserver",
    "services",
    "explorer",
    "winedevice",
    "plugplay",
    "rpcss",
    "svchost",
    "conhost",
    "wine64-pre",
    "wine-pre",
)


def _look(before: dict[int, tuple[float, int]], now: dict[int, tuple[float, int]]) -> Look:
    """Whether anything was done between two moments; what has begun or ended counts as work, as it does
    for the runner.
    """
    processor = sum(now[process][0] - before[process][0] for process in now.keys() & before.keys())
    moved = sum(now[process][1] - before[process][1] for process in now.keys() & before.keys())
    activity = f"{round(processor * 1000)} ms of processor time, {moved} bytes read and written, {len(now)} processes"
    return Look(processor > 0.1 or moved != 0 or now.keys() != before.keys(), activity)


def _dies_with_us() -> list[str]:
    """What a helper is started by so that it ends when we are killed."""
    program = shutil.which("setpriv")
    return [program, "--pdeathsig", "KILL"] if program else []


@contextlib.contextmanager
def screen() -> Iterator[str | None]:
    """A screen without a monitor for the time of the block, where Xvfb is here; else None.

    Without any screen a message box returns at once and goes unnoticed.
    """
    program = shutil.which("Xvfb")
    if not program:
        yield None
        return
    read, write = os.pipe()
    process = subprocess.Popen(
        [*_dies_with_us(), program, "-displayfd", str(write), "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
        pass_fds=[write],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        **host_os.new_group(),
    )
    os.close(write)
    try:
        timer = threading.Timer(10, process.kill)
        timer.start()
        number = os.read(read, 16).decode().strip()
        timer.cancel()
        yield f":{number}" if number else None
    finally:
        os.close(read)
        process.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(5)
        if process.poll() is None:
            process.kill()
