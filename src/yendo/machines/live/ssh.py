"""A line to a Windows over SSH that is lost and found again: keys only, the host's key is pinned, nothing is installed.

What is asked for here can be asked again: a connection that goes away in the middle, or a restart of the machine, is
waited out.
"""

from __future__ import annotations

import asyncio
import contextlib
import subprocess
import threading
import time
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from yendo.errors import NoMachine, Unreadable, Usage
from yendo.machines.addresses import Address
from yendo.machines.live.session import SCRIPT
from yendo.platforms.windows import command_lines
from yendo.terms.amounts import seconds

if TYPE_CHECKING:
    import asyncssh

EVERY = 2.0  # seconds between two tries
PIECE = 256 << 10  # bytes that are sent at once
REFUSALS = 3  # of the file transfer, until it is believed
REVERT_LIMIT = 1800.0
VISIT = 6 * 3600.0  # seconds from one time that the machine is put back to the next
Heard = Callable[[str], object]
T = TypeVar("T")


class NotLetIn(NoMachine):
    """Another key than the pinned one, or nobody lets us in: trying again would not help."""


def started(script: str, words: str = "") -> str:
    """The line that starts a script of ours there, with its options."""
    return command_lines.interpreted(command_lines.script(script, words))


def library() -> None:
    """Raises NoMachine where what it needs is not here."""
    try:
        import asyncssh  # noqa: F401
    except ImportError as error:
        raise NoMachine("machines over SSH need a library: pip install 'yendo[ssh]'") from error


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


def slashed(path: str) -> str:
    """A Windows path as the file transfer names it: ``C:\\x`` is ``/C:/x``."""
    return "/" + path.replace("\\", "/")


class SshLine:
    """The line to one computer. ``until`` is when nobody waits any longer."""

    def __init__(self, name: str, address: Address, heard: Heard, limit: float) -> None:
        self.name, self.address, self.heard = name, address, heard
        self.until = time.monotonic() + limit
        self.connection: asyncssh.SSHClientConnection | None = None
        self._files: asyncssh.SFTPClient | None = None

    async def answering(self, patience: float) -> asyncssh.SSHClientConnection:
        """A connection that is open; made anew where it was lost. Raises NoMachine, at once for a wrong host key."""
        import asyncssh

        until = min(time.monotonic() + patience, self.until)
        while True:
            if self.connection is not None and not self.connection.is_closed():
                return self.connection
            try:
                own = {"client_keys": [str(Path(self.address.key).expanduser())]} if self.address.key else {}
                self._files = None
                self.connection = await asyncssh.connect(
                    self.address.address,
                    self.address.port,
                    username=self.address.user,
                    **own,
                    known_hosts=str(Path(self.address.known).expanduser())
                    if self.address.known
                    else ([asyncssh.import_public_key(self.address.host_key)], [], []),
                    password_auth=False,
                    kbdint_auth=False,
                    config=None,
                    connect_timeout=20,
                    login_timeout=30,
                    keepalive_interval=15,
                )
                return self.connection
            except asyncssh.KeyImportError as error:
                raise NoMachine(f"ssh:{self.name}: a key of machines.toml cannot be read: {error}") from error
            except asyncssh.HostKeyNotVerifiable as error:
                raise NotLetIn(
                    f"ssh:{self.name} shows another host key than machines.toml has: it was made anew, or somebody "
                    "stands in between. Look at the computer itself before you change host_key"
                ) from error
            except asyncssh.PermissionDenied as error:
                raise NotLetIn(
                    f"ssh:{self.name} does not let {self.address.user} in with this key; for administrators the public "
                    "key belongs into C:\\ProgramData\\ssh\\administrators_authorized_keys"
                ) from error
            except (OSError, TimeoutError, asyncssh.Error) as error:
                if time.monotonic() > until:
                    raise NoMachine(f"ssh:{self.name} does not answer within {self.address.wait}: {error}") from error
                self.heard(f"{self.name} does not answer; waiting for it")
                await asyncio.sleep(EVERY)

    async def patiently(self, what: Callable[[], Awaitable[T]]) -> T:
        """Does something that may be done again, until no line is lost in it. Raises NoMachine, Usage."""
        import asyncssh

        until, refused = min(time.monotonic() + seconds(self.address.wait), self.until), 0
        while True:
            try:
                return await what()
            except (OSError, TimeoutError, asyncssh.Error) as error:
                # the file transfer itself refuses: that is no line that was lost, and hardly gets better
                refused += isinstance(error, asyncssh.SFTPError) and not isinstance(error, asyncssh.SFTPConnectionLost)
                if time.monotonic() > until or refused >= REFUSALS:
                    hint = "; is its disk full?" if refused else ""
                    raise NoMachine(f"ssh:{self.name}: {error}{hint}") from error
                self.heard(f"{self.name} is away ({error}); trying again")
                self.lose()
                await asyncio.sleep(EVERY)

    @property
    def although(self) -> str:
        """The option that tells a script there why it may begin, where the office has said so."""
        return f'-Although "{self.address.although}"' if self.address.although else ""

    def lose(self) -> None:
        if self.connection is not None:
            self.connection.abort()
            self.connection = self._files = None

    async def files(self, patience: float = 60) -> asyncssh.SFTPClient:
        """The file transfer over this line, begun once for each connection."""
        connection = await self.answering(patience)
        if self._files is None:
            self._files = await connection.start_sftp_client()
        return self._files

    # --- what is done over it; each may be done again ------------------------------------------------

    async def bring(self, local: Path, there: str) -> None:
        """Puts a folder there, anew. ``there`` is a Windows path, as everywhere here."""
        files = await self.files()
        if await files.exists(slashed(there)):
            await files.rmtree(slashed(there))
        await files.put(str(local), slashed(there), recurse=True)

    async def write(self, there: str, data: bytes) -> None:
        """Writes a file that is not there yet; it is there whole or not at all."""
        files, place = await self.files(), slashed(there)
        if await files.exists(place):
            return  # it was written, and the line was lost behind it
        async with files.open(place + ".new", "wb") as file:
            await file.write(data)
        await files.rename(place + ".new", place)

    async def send(self, local: Path, there: str) -> None:
        """Puts a file there, whole or not at all; what came over a line that was lost is not sent again."""
        size = local.stat().st_size
        if await self.size(there) == size:
            return
        files, place = await self.files(), slashed(there)
        await files.makedirs(place.rpartition("/")[0], exist_ok=True)
        part = place + ".part"
        have = await self.size(there + ".part") or 0
        mode = "ab" if 0 < have <= size else "wb"
        with local.open("rb") as source:
            source.seek(have if mode == "ab" else 0)
            async with files.open(part, mode) as target:
                while piece := source.read(PIECE):
                    await target.write(piece)
        await self._in_place(part, place)

    async def size(self, there: str) -> int | None:
        """How long a file is; None where there is none."""
        import asyncssh

        try:
            return (await (await self.files()).stat(slashed(there))).size
        except (asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath):
            return None

    async def replace(self, there: str, data: bytes) -> None:
        """Writes a file in the place of an older one."""
        files, place = await self.files(), slashed(there)
        async with files.open(place + ".new", "wb") as target:
            await target.write(data)
        await self._in_place(place + ".new", place)

    async def _in_place(self, new: str, place: str) -> None:
        files = await self.files()
        if await files.exists(place):
            await files.remove(place)
        await files.rename(new, place)

    async def folder(self, there: str) -> None:
        await (await self.files()).makedirs(slashed(there), exist_ok=True)

    async def names(self, there: str) -> list[str]:
        """What lies in a folder, in order."""
        return sorted(str(name) for name in await (await self.files()).listdir(slashed(there)))

    async def remove(self, there: str) -> None:
        """A file goes, where it is there."""
        import asyncssh

        with contextlib.suppress(asyncssh.SFTPNoSuchFile):
            await (await self.files()).remove(slashed(there))

    async def read(self, there: str, most: int) -> bytes | None:
        """A file's bytes, or None where there is none. Raises Unreadable where it has more than ``most``."""
        import asyncssh

        files = await self.files(seconds(self.address.wait))
        try:
            async with files.open(slashed(there), "rb") as file:
                data = await file.read(most + 1)
        except (asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath):
            return None
        if len(data) > most:
            raise Unreadable(f"{there} has more than {most} bytes")
        return data.encode() if isinstance(data, str) else data

    async def fetch(self, there: str, target: Path) -> bool:
        """Copies a file to here; False where there is none."""
        files = await self.files(seconds(self.address.wait))
        if not await files.exists(slashed(there)):
            return False
        await files.get(slashed(there), str(target))
        return True

    async def begin(self, line: str) -> None:
        """Runs a command that begins something that goes on by itself. Raises Usage with its words where it refuses."""
        connection = await self.answering(60)
        ran = await asyncio.wait_for(connection.run(line, check=False), 600)
        said = str(ran.stdout or "").strip()
        if ran.exit_status is None or ran.exit_signal:
            raise ConnectionError("the line was lost while it began")
        if ran.exit_status == 2:
            raise Usage(f"ssh:{self.name}: {' '.join(said.split())[-400:]}")
        if ran.exit_status != 0:
            raise NoMachine(f"ssh:{self.name} could not begin: exit code {ran.exit_status}, {said[-300:]}")

    async def take_away(self, there: str) -> None:
        """A folder goes; where that fails, the computer is put back anyway."""
        import asyncssh

        with contextlib.suppress(OSError, asyncssh.Error, NoMachine):
            files = await self.files()
            await files.rmtree(slashed(there), ignore_errors=True)


class SshLink:
    """The same for whoever waits: a thread of its own keeps the line."""

    restarts = True

    def __init__(self, name: str, address: Address, heard: Heard) -> None:
        library()
        if address.system != "windows":
            raise Usage(f"ssh:{name} is a Mac: only halves for macOS are proved and captured there")
        self.name = f"ssh:{name}"
        self.short, self.address = name, address
        self.line = SshLine(name, address, heard, VISIT)
        self.changed, self.known = True, False
        self.loop = asyncio.new_event_loop()
        self.thread = threading.Thread(target=self.loop.run_forever, daemon=True, name=self.name)
        self.thread.start()

    def _do(self, what: Callable[[], Awaitable[T]]) -> T:
        import asyncssh

        try:
            return asyncio.run_coroutine_threadsafe(self.line.patiently(what), self.loop).result()
        except asyncssh.Error as error:
            raise NoMachine(f"{self.name}: {error}") from error

    def put_back(self) -> None:
        if self.changed and self.known and not self.address.revert:
            raise NoMachine(
                f"{self.name} was changed by the first run, and machines.toml does not say how it is put back: revert"
            )
        if self.changed:
            revert(self.short, self.address)
        self.changed, self.known = False, True
        self.line.until = time.monotonic() + VISIT
        self.loop.call_soon_threadsafe(self.line.lose)  # a machine that was put back knows nothing of it
        self._do(lambda: self.line.answering(seconds(self.address.wait)))

    def bring(self, local: Path, there: str) -> None:
        self._do(lambda: self.line.bring(local, there))

    def begin(self, folder: str) -> None:
        line = started(rf"{folder}\{SCRIPT}", self.line.although)
        self._do(lambda: self.line.begin(line))

    def write(self, there: str, data: bytes) -> None:
        self._do(lambda: self.line.write(there, data))

    def read(self, there: str, most: int) -> bytes | None:
        return self._do(lambda: self.line.read(there, most))

    def fetch(self, there: str, target: Path) -> bool:
        return self._do(lambda: self.line.fetch(there, target))

    def take_away(self, there: str) -> None:
        with contextlib.suppress(NoMachine):
            self._do(lambda: self.line.take_away(there))

    def close(self) -> None:
        if self.loop.is_running():
            with contextlib.suppress(TimeoutError):
                asyncio.run_coroutine_threadsafe(self._end(), self.loop).result(10)
            self.loop.call_soon_threadsafe(self.loop.stop)
            self.thread.join(10)

    async def _end(self) -> None:
        """Lets go of the line, and waits for what the library still has under way."""
        self.line.lose()
        left = [task for task in asyncio.all_tasks() if task is not asyncio.current_task()]
        for task in left:
            task.cancel()
        await asyncio.gather(*left, return_exceptions=True)
