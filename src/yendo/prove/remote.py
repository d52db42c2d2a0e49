"""A proof on another Windows over SSH: a kit is brought there, plays by itself as a task, and its result is fetched.

The session only starts, watches and reads: what runs does not hang on it, so a connection that is lost, or a restart of
the machine, is waited out. Nothing is installed there; the kit's folder is taken away.
"""

from __future__ import annotations

import asyncio
import secrets
import tempfile
import time
from pathlib import Path

from yendo.errors import NoMachine
from yendo.machines.addresses import Address
from yendo.machines.live import ssh
from yendo.machines.live.ssh import EVERY, Heard, SshLine
from yendo.machines.recorded.observed import WORK
from yendo.package import manifest as form
from yendo.platforms.windows import command_lines, folders, paths
from yendo.prove import kit
from yendo.prove.scenarios import SCENARIOS
from yendo.terms.amounts import seconds

LIMIT = 4 * 3600.0  # of a whole play
_PROGRESS = paths.join(WORK, "progress.txt")


def play(package: Path, name: str, address: Address, site: str, heard: Heard, *, idle: int = kit.IDLE) -> kit.KitResult:
    """Proves a package there as the system account. Raises NoMachine, Usage, Unreadable."""
    ssh.library()
    import asyncssh

    ssh.revert(name, address)
    with tempfile.TemporaryDirectory(prefix="yendo-ssh-") as place:
        folder = Path(place)
        made = kit.lay_out(package, folder / "kit", SCENARIOS["system"], site, idle=idle)
        target = folder / kit.result_of(form.read(package), "system", site)
        try:
            asyncio.run(_visit(SshLine(name, address, heard, LIMIT), folder / "kit", target))
        except asyncssh.Error as error:
            raise NoMachine(f"ssh:{name}: {error}") from error
        result = kit.read(target, package, [made])
    result.machine.name = f"ssh-{name}"
    return result


async def _visit(line: SshLine, local: Path, target: Path) -> None:
    there = paths.join(folders.DRIVE, f"Yendo-kit-{secrets.token_hex(4)}")
    try:
        await line.answering(seconds(line.address.wait))
        line.heard(f"bringing the package to {line.name}")
        await line.patiently(lambda: line.bring(local, there))
        # one that has started already goes on
        started = command_lines.batch(paths.join(there, "play.cmd"), f"-Yes -Start{line.although}")
        await line.patiently(lambda: line.begin(started))
        await _watch(line, paths.join(there, target.name), target)
        await line.take_away(there)
    finally:
        line.lose()


async def _watch(line: SshLine, result: str, target: Path) -> None:
    """Waits for the result, through lost connections and restarts, and fetches it. Raises NoMachine."""
    import asyncssh

    told = ""
    while time.monotonic() < line.until:
        await asyncio.sleep(EVERY)
        try:
            if await line.fetch(result, target):
                return
            said = (await line.read(_PROGRESS, 1 << 20) or b"").decode("utf-8", "replace")
        except (OSError, asyncssh.Error) as error:
            line.heard(f"{line.name} is away ({error}); waiting for it")
            line.lose()
            continue
        lines = [one.strip() for one in said.splitlines() if one.strip()]
        if lines and lines[-1] != told:
            told = lines[-1]
            line.heard(told)
        if any(one.startswith("stopped: ") for one in lines):
            raise NoMachine(f"ssh:{line.name}: {told}")
    raise NoMachine(f"ssh:{line.name} was not done after {LIMIT / 3600:g} hours; the last that it said: {told}")
