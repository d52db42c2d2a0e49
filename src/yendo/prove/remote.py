"""A proof on another Windows over SSH: a kit is brought there, plays by itself as a task, and its result is fetched.

The session only starts, watches and reads: what runs does not hang on it, so a connection that is lost, or a restart of
the machine, is waited out. Nothing is installed there; the kit's folder is taken away.
"""

from __future__ import annotations

import asyncio
import secrets
import subprocess
import tempfile
import time
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.errors import NoMachine, Usage
from yendo.machines.addresses import Address
from yendo.package import manifest as form
from yendo.prove import kit
from yendo.terms.amounts import seconds

if TYPE_CHECKING:
    import asyncssh

LIMIT = 4 * 3600.0  # of a whole play
EVERY = 2.0  # seconds between two looks
REVERT_LIMIT = 1800.0
Heard = Callable[[str], object]


def play(package: Path, name: str, address: Address, site: str, heard: Heard, *, idle: int = kit.IDLE) -> kit.Result:
    """Proves a package there as the system account. Raises NoMachine, Usage, Unreadable."""
    try:
        import asyncssh
    except ImportError as error:
        raise NoMachine("machines over SSH need a library: pip install 'yendo[ssh]'") from error
    revert(name, address)
    with tempfile.TemporaryDirectory(prefix="yendo-ssh-") as place:
        folder = Path(place)
        made = kit.lay_out(package, folder / "kit", "system", site, idle=idle)
        target = folder / kit.result_of(form.read(package), "system", site)
        try:
            asyncio.run(_Visit(name, address, heard).whole(folder / "kit", target))
        except asyncssh.Error as error:
            raise NoMachine(f"ssh:{name}: {error}") from error
        result = kit.read(target, package, [made])
    result.machine.name = f"ssh-{name}"
    return result


def revert(name: str, address: Address) -> None:
    """Puts the computer back, by the commands that the office gave. Raises NoMachine."""
    for command in address.revert:
        try:
            ran = subprocess.run(
                command,
                stdin=subprocess.DEVNULL,
                capture_output=True,
                text=True,
                errors="replace",
                timeout=REVERT_LIMIT,
            )
        except (OSError, subprocess.TimeoutExpired) as error:
            raise NoMachine(f"ssh:{name} could not be put back: {error}") from error
        if ran.returncode:
            said = (ran.stderr or ran.stdout).strip()[-300:]
            raise NoMachine(f"ssh:{name} could not be put back: {' '.join(command)} left with {ran.returncode}: {said}")


class _Visit:
    """One play on one computer. ``until`` is when nobody waits any longer."""

    def __init__(self, name: str, address: Address, heard: Heard) -> None:
        self.name, self.address, self.heard = name, address, heard
        self.there = f"/C:/Yendo-kit-{secrets.token_hex(4)}"
        self.until = time.monotonic() + LIMIT
        self.connection: asyncssh.SSHClientConnection | None = None

    async def whole(self, local: Path, target: Path) -> None:
        try:
            await self.answering(seconds(self.address.wait))
            self.heard(f"bringing the package to {self.name}")
            await self.patiently(lambda: self.bring(local))
            await self.patiently(self.start)
            await self.watch(target)
            await self.take_away()
        finally:
            if self.connection is not None:
                self.connection.abort()

    async def answering(self, patience: float) -> asyncssh.SSHClientConnection:
        """A connection that is open; made anew where it was lost. Raises NoMachine, at once for a wrong host key."""
        import asyncssh

        until = min(time.monotonic() + patience, self.until)
        while True:
            if self.connection is not None and not self.connection.is_closed():
                return self.connection
            try:
                own = {"client_keys": [str(Path(self.address.key).expanduser())]} if self.address.key else {}
                self.connection = await asyncssh.connect(
                    self.address.address,
                    self.address.port,
                    username=self.address.user,
                    **own,
                    known_hosts=([asyncssh.import_public_key(self.address.host_key)], [], []),
                    password_auth=False,
                    kbdint_auth=False,
                    config=None,
                    connect_timeout=20,
                    login_timeout=30,
                    keepalive_interval=15,
                )
                return self.connection
            except asyncssh.HostKeyNotVerifiable as error:
                raise NoMachine(
                    f"ssh:{self.name} shows another host key than machines.toml has: it was made anew, or somebody "
                    "stands in between. Look at the computer itself before you change host_key"
                ) from error
            except asyncssh.PermissionDenied as error:
                raise NoMachine(
                    f"ssh:{self.name} does not let {self.address.user} in with this key; for administrators the public "
                    "key belongs into C:\\ProgramData\\ssh\\administrators_authorized_keys"
                ) from error
            except (OSError, TimeoutError, asyncssh.Error) as error:
                if time.monotonic() > until:
                    raise NoMachine(f"ssh:{self.name} does not answer within {self.address.wait}: {error}") from error
                self.heard(f"{self.name} does not answer; waiting for it")
                await asyncio.sleep(EVERY)

    async def patiently(self, what: Callable[[], Awaitable[None]]) -> None:
        """Does something that may be done again, until no line is lost in it. Raises NoMachine, Usage."""
        import asyncssh

        until = min(time.monotonic() + seconds(self.address.wait), self.until)
        while True:
            try:
                return await what()
            except (OSError, TimeoutError, asyncssh.Error) as error:
                if time.monotonic() > until:
                    raise NoMachine(f"ssh:{self.name}: {error}") from error
                self.heard(f"{self.name} is away ({error}); trying again")
                self._lose()
                await asyncio.sleep(EVERY)

    async def bring(self, local: Path) -> None:
        connection = await self.answering(60)
        async with connection.start_sftp_client() as files:
            if await files.exists(self.there):
                await files.rmtree(self.there)
            await files.put(str(local), self.there, recurse=True)

    async def start(self) -> None:
        """Starts the play, which goes on by itself as a task; one that has started already goes on.

        Raises Usage where the kit refuses the computer.
        """
        connection = await self.answering(60)
        although = f' -Although "{self.address.although}"' if self.address.although else ""
        folder = self.there.removeprefix("/").replace("/", "\\")
        line = f'cmd /d /s /c ""{folder}\\play.cmd" -Yes -Start{although}"'
        ran = await asyncio.wait_for(connection.run(line, check=False), 600)
        said = str(ran.stdout or "").strip()
        if ran.exit_status is None or ran.exit_signal:
            raise ConnectionError("the line was lost while the play began")
        if ran.exit_status == 2:
            raise Usage(f"ssh:{self.name}: {' '.join(said.split())[-400:]}")
        if ran.exit_status != 0:
            raise NoMachine(f"ssh:{self.name} could not begin: exit code {ran.exit_status}, {said[-300:]}")

    async def watch(self, target: Path) -> None:
        """Waits for the result, through lost connections and restarts, and fetches it. Raises NoMachine."""
        import asyncssh

        told = ""
        while time.monotonic() < self.until:
            await asyncio.sleep(EVERY)
            try:
                connection = await self.answering(seconds(self.address.wait))
                async with connection.start_sftp_client() as files:
                    if await files.exists(f"{self.there}/{target.name}"):
                        await files.get(f"{self.there}/{target.name}", str(target))
                        return
                    told = await self._progress(files, told)
            except (OSError, asyncssh.Error) as error:
                self.heard(f"{self.name} is away ({error}); waiting for it")
                self._lose()
        raise NoMachine(f"ssh:{self.name} was not done after {LIMIT / 3600:g} hours; the last that it said: {told}")

    async def _progress(self, files: asyncssh.SFTPClient, told: str) -> str:
        """Says what the kit has said since, and gives its last line. Raises NoMachine where it has stopped."""
        import asyncssh

        try:
            async with files.open("/C:/Program Files/Yendo proof/progress.txt", "rb") as file:
                said = await file.read()
        except (asyncssh.SFTPError, OSError):
            return told
        text = said.decode("utf-8", "replace") if isinstance(said, bytes) else said
        lines = [line.strip() for line in text.splitlines() if line.strip()]
        if lines and lines[-1] != told:
            self.heard(lines[-1])
        if any(line.startswith("stopped: ") for line in lines):
            raise NoMachine(f"ssh:{self.name}: {lines[-1]}")
        return lines[-1] if lines else told

    def _lose(self) -> None:
        if self.connection is not None:
            self.connection.abort()
            self.connection = None

    async def take_away(self) -> None:
        """The kit's folder goes; where that fails, the computer is put back anyway."""
        import asyncssh

        try:
            connection = await self.answering(60)
            async with connection.start_sftp_client() as files:
                await files.rmtree(self.there, ignore_errors=True)
        except (OSError, asyncssh.Error, NoMachine):
            return
