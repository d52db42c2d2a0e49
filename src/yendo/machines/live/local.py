"""The Windows computer that Yendo runs on, as the way to a machine: files, and a script that is started."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
from pathlib import Path

from yendo import host_os
from yendo.errors import NoMachine, Unreadable, Usage
from yendo.machines.live.session import SCRIPT
from yendo.platforms.windows import command_lines


class LocalLink:
    """This computer; it can be changed once. ``although`` says why it may be one that belongs to somebody."""

    name = "here"
    restarts = False

    def __init__(self, although: str = "") -> None:
        if not host_os.WINDOWS:
            raise NoMachine("`here` is the Windows computer that Yendo runs on, and this is none")
        self.although, self.changed = although, False

    def put_back(self) -> None:
        if self.changed:
            raise NoMachine("this computer was changed by the first run; put it back before the next")

    def bring(self, local: Path, there: str) -> None:
        shutil.rmtree(there, ignore_errors=True)
        shutil.copytree(local, there)

    def begin(self, folder: str) -> None:
        shell = Path(os.environ.get("SYSTEMROOT", r"C:\Windows")) / r"System32\WindowsPowerShell\v1.0\powershell.exe"
        line = [str(shell), *command_lines.SHELL_OPTIONS, str(Path(folder) / SCRIPT)]
        line += ["-Although", self.although] if self.although else []
        ran = subprocess.run(
            line, stdin=subprocess.DEVNULL, capture_output=True, text=True, errors="replace", timeout=600
        )
        said = " ".join(f"{ran.stdout} {ran.stderr}".split())[-400:]
        if ran.returncode == 2:
            raise Usage(said)
        if ran.returncode:
            raise NoMachine(f"the script on this computer could not begin: exit code {ran.returncode}, {said}")

    def write(self, there: str, data: bytes) -> None:
        Path(there + ".new").write_bytes(data)
        Path(there + ".new").replace(there)

    def read(self, there: str, most: int) -> bytes | None:
        try:
            with Path(there).open("rb") as file:
                data = file.read(most + 1)
        except FileNotFoundError:
            return None
        if len(data) > most:
            raise Unreadable(f"{there} has more than {most} bytes")
        return data

    def fetch(self, there: str, target: Path) -> bool:
        with contextlib.suppress(FileNotFoundError):
            shutil.copyfile(there, target)
            return True
        return False

    def take_away(self, there: str) -> None:
        shutil.rmtree(there, ignore_errors=True)

    def close(self) -> None:
        """Nothing is held open."""
