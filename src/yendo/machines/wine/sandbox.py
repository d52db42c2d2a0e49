"""What runs on the layer runs here: its own files, processes, users, network and messages, and nothing of it survives.

The layer is a set of Unix programs, so a Windows program on it reaches whatever Unix lets it reach, with or without a
drive for it. So the whole layer is put into namespaces of its own (by bubblewrap): it sees the layer's programs, read
only, and one prefix; a network of its own without a way out; no process, no message queue and no file of the host.
The programs keep no capability. Memory, processes and disk are watched, and everything ends when a limit is passed.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import subprocess
import threading
from collections.abc import Sequence
from functools import cache
from pathlib import Path

import msgspec

from yendo import host_os
from yendo.errors import NoMachine
from yendo.machines.wine.layer import Layer

HOW_TO_GET = "apt-get install bubblewrap (and util-linux, which Debian always has)"
_PARTS = ("bwrap", "nsenter", "setpriv", "prlimit", "env")
_SPACES = ("--user", "--mount", "--pid", "--net", "--ipc", "--uts")
COMPUTER = "MARROWBY-01"  # what every machine is called: the name of this computer is nobody's business
# What programs need of a system's settings: fonts, the list of libraries, names. Nothing that is a secret of the host.
_SETTINGS = (
    "alternatives",
    "fonts",
    "ld.so.cache",
    "ld.so.conf",
    "ld.so.conf.d",
    "localtime",
    "nsswitch.conf",
    "machine-id",
    "glvnd",
    "vulkan",
)
_SYSTEM = ("/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32")


class Limits(msgspec.Struct, frozen=True):
    """Memory and disk in bytes, processes and open files in number. ``disk`` is what a run may add."""

    memory: int = 6 << 30
    processes: int = 600
    files: int = 65536
    file: int = 16 << 30
    disk: int = 24 << 30


LIMITS = Limits()


@cache
def lacking() -> str:
    """Why nothing can be isolated here; empty where it can."""
    if not host_os.LINUX:
        return "only Linux has what it takes"
    missing = [name for name in _PARTS if not shutil.which(name)]
    if missing:
        return f"{', '.join(missing)} not found: {HOW_TO_GET}"
    tried = [
        "bwrap",
        "--unshare-user",
        "--unshare-pid",
        "--unshare-net",
        "--unshare-ipc",
        "--unshare-uts",
        "--ro-bind",
        "/",
        "/",
        "--proc",
        "/proc",
        "true",
    ]
    try:
        done = subprocess.run(tried, capture_output=True, text=True, timeout=20, check=False)
    except (OSError, subprocess.TimeoutExpired) as error:
        return f"bwrap does not run: {error}"
    return "" if done.returncode == 0 else f"this system does not let bwrap isolate: {done.stderr.strip()[:200]}"


def held() -> str:
    """What a run is kept from, and from what not, in one line."""
    limits = f"{LIMITS.memory >> 30} GB of memory, {LIMITS.processes} processes, {LIMITS.disk >> 30} GB of disk"
    return f"a run has files, processes, network and rights of its own, at most {limits}; not kept from: defects of the kernel, the clock"  # noqa: E501


class Sandbox:
    """One set of namespaces, from its start to the end of everything in it.

    Raises NoMachine where it cannot be made.
    """

    def __init__(
        self,
        layer: Layer,
        writable: Sequence[Path],
        readable: Sequence[Path],
        display: str | None,
        limits: Limits = LIMITS,
        *,
        computer: str = COMPUTER,
    ) -> None:
        self.layer, self.limits, self.computer = layer, limits, computer
        self.broken = ""  # why everything was ended
        # after bwrap has set everything up, and not before, its program says so
        self._process = subprocess.Popen(
            [*self._made(writable, readable, display), "/bin/sh", "-c", "echo ready; exec sleep infinity"],
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE, pass_fds=[self._told],
            **host_os.new_group(),
        )  # fmt: skip
        os.close(self._told)
        assert self._process.stdout is not None and self._process.stderr is not None
        if self._process.stdout.readline() != b"ready\n":
            said = self._process.stderr.read().decode("utf-8", "replace").strip()
            self.close()
            raise NoMachine(f"the run could not be isolated: {said[:300]}")
        with os.fdopen(self._info, "rb") as info:
            self.init = int(json.loads(info.read())["child-pid"])
        self._watched = writable[0] if writable else None
        self._free = shutil.disk_usage(self._watched).free if self._watched else 0
        self._over = threading.Event()
        self._watcher = threading.Thread(target=self._watch, daemon=True)
        self._watcher.start()

    def _made(self, writable: Sequence[Path], readable: Sequence[Path], display: str | None) -> list[str]:
        self._info, self._told = os.pipe()
        os.set_inheritable(self._told, True)
        line = [
            "bwrap",
            "--unshare-user",
            "--uid",
            str(os.getuid()),
            "--gid",
            str(os.getgid()),
            "--unshare-pid",
            "--unshare-net",
            "--unshare-ipc",
            "--unshare-uts",
            "--hostname",
            self.computer,
        ]
        line += ["--die-with-parent", "--new-session", "--clearenv", "--info-fd", str(self._told)]
        if self.layer.root:
            line += ["--ro-bind", str(self.layer.root), "/"]
            for name in ("shadow", "gshadow", "shadow-", "gshadow-"):
                if (self.layer.root / "etc" / name).exists():
                    line += ["--ro-bind", "/dev/null", f"/etc/{name}"]
        else:
            for name in _SYSTEM:
                line += (
                    ["--symlink", str(Path(name).readlink()), name]
                    if Path(name).is_symlink()
                    else ["--ro-bind-try", name, name]
                )
            for name in _SETTINGS:
                line += ["--ro-bind-try", f"/etc/{name}", f"/etc/{name}"]
            home = Path(self.layer.wine).resolve().parents[1]
            if not any(str(home) == top or str(home).startswith(top + "/") for top in _SYSTEM):
                line += ["--ro-bind", str(home), str(home)]
        line += [
            "--dev",
            "/dev",
            "--proc",
            "/proc",
            "--tmpfs",
            "/tmp",
            "--tmpfs",
            "/run",
            "--tmpfs",
            "/var/tmp",
            "--tmpfs",
            "/root",
            "--tmpfs",
            "/home",
        ]
        if display:
            socket = f"/tmp/.X11-unix/X{display.partition(':')[2].partition('.')[0]}"
            line += ["--ro-bind", socket, socket]
        for path in writable:
            line += ["--bind", str(path), str(path)]
        for path in readable:
            line += ["--ro-bind", str(path), str(path)]
        return [*line, "--"]

    def entering(self, environment: dict[str, str]) -> list[str]:
        """The command that starts another one in here, with these variables and no others.

        Raises NoMachine once it was ended.
        """
        if self.broken or self._process.poll() is not None:
            raise NoMachine(self.broken or "the machine of this run has ended")
        limits = [
            "prlimit",
            f"--nofile={host_os.open_files(self.limits.files)}",
            f"--fsize={self.limits.file}",
            "--core=0",
        ]
        rights = ["setpriv", "--bounding-set=-all", "--inh-caps=-all", "--no-new-privs"]
        variables = [f"{name}={value}" for name, value in environment.items()]
        return [
            "nsenter",
            f"--target={self.init}",
            *_SPACES,
            "--preserve-credentials",
            "--wd=/",
            *limits,
            *rights,
            "env",
            "-i",
            *variables,
        ]

    def _watch(self) -> None:
        while not self._over.wait(0.5):
            count, memory = host_os.below(self.init)
            added = self._free - shutil.disk_usage(self._watched).free if self._watched else 0
            limits = self.limits
            if count > limits.processes:
                self.broken = f"ended: {count} processes at once, the limit of a run is {limits.processes}"
            elif memory > limits.memory:
                self.broken = f"ended: {memory >> 20} MB of memory, the limit of a run is {limits.memory >> 20} MB"
            elif added > limits.disk:
                self.broken = f"ended: {added >> 20} MB written, the limit of a run is {limits.disk >> 20} MB"
            if self.broken:
                self._process.kill()
                return

    def close(self) -> None:
        """Ends everything in here, and waits until it is gone."""
        if hasattr(self, "_over"):
            self._over.set()
        self._process.kill()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(10)
        if hasattr(self, "init"):
            host_os.gone([self.init], 10)
        for pipe in (self._process.stdout, self._process.stderr):
            if pipe is not None:
                pipe.close()
