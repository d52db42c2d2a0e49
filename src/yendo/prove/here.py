"""The Windows computer that Yendo runs on: a proof kit that is played on the spot."""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Callable
from pathlib import Path

from yendo import host_os
from yendo.errors import NoMachine, Usage
from yendo.package import manifest as form
from yendo.prove import kit
from yendo.prove.scenarios import Scenario


def play(
    package: Path,
    scenario: Scenario,
    site: str,
    *,
    although: str = "",
    idle: int = kit.IDLE,
    heard: Callable[[str], object],
) -> kit.KitResult:
    """Changes this computer: installs the package and removes it again, and reads what was seen. ``heard`` gets each
    line that is said meanwhile.

    Raises NoMachine where this is no Windows, or nothing could be begun; Usage where the computer belongs to somebody.
    """
    if not host_os.WINDOWS:
        raise NoMachine(
            "`here` is the Windows computer that Yendo runs on, and this is none; `yendo prove PACKAGE --kit FILE` "
            "makes a kit that plays on one"
        )
    with tempfile.TemporaryDirectory(prefix="yendo-here-") as place:
        folder = Path(place)
        made = kit.lay_out(package, folder / "kit", scenario, site, idle=idle)
        line = ["cmd.exe", "/d", "/c", str(folder / "kit" / "play.cmd"), "-Yes"]
        said: list[str] = []
        with subprocess.Popen(
            line + (["-Although", although] if although else []),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            errors="replace",
        ) as process:
            for text in process.stdout or ():
                if text.strip():
                    said.append(text.strip())
                    heard(said[-1])
            code = process.wait()
        if code == 2:
            raise Usage("; ".join(said[-6:]))
        found = folder / "kit" / kit.result_of(form.read(package), scenario.id, site)
        if not found.is_file():
            raise NoMachine(f"the run on this computer left no result: {'; '.join(said[-3:])}")
        result = kit.read(found, package, [made])
        result.machine.name = "here"
        return result
