"""A Mac over SSH as a machine: the probe is a script of its own, the installer is the system's.

No Mac was at hand: this was tried against an SSH server with the simulated machine's sandbox behind it.
"""

from __future__ import annotations

import asyncio
import re
import shlex
import tempfile
import threading
import uuid
from collections.abc import Callable, Coroutine, Iterator, Mapping, Sequence
from importlib.resources import files
from pathlib import Path
from typing import Any, Literal, TypeVar

import msgspec

from yendo.effects.things import File, Folder, Link
from yendo.errors import NoMachine
from yendo.formats import property_list
from yendo.mac_half.machine.machine import MacOutcome, Processor
from yendo.mac_half.work import choices_file
from yendo.machines.addresses import Address
from yendo.machines.live import ssh
from yendo.platforms.posix import PosixThing
from yendo.terms.amounts import seconds

# Where programs, settings and jobs lie.
FOLDERS = ("/Applications", "/Library", "/usr/local", "/opt", "/private/etc")
OF_PEOPLE = ("Library/Preferences", "Library/LaunchAgents", "Library/Application Support", "Applications")
LIMIT, MAX_SAID = 1800.0, 256 << 20
_TYPES: dict[int, Literal["file", "folder", "link"]] = {0o040000: "folder", 0o100000: "file", 0o120000: "link"}
_GUARDED = "/Library/Application Support/com.apple.TCC"
HOW_TO_ALLOW = (
    "full access to the disk is not given to the SSH server there: System Settings, General, Sharing, Remote Login, "
    "Allow full disk access for remote users"
)
T = TypeVar("T")


class MacAway:
    """One Mac. Its files are told by size and time; by their content where ``hashed`` names them.

    Raises NoMachine where it does not answer, lets nobody in, or where root's rights are not to be had.
    """

    volume, executes = "/", True
    asked: Sequence[str] = ()
    notes: Sequence[Sequence[str]] = ()

    def __init__(self, name: str, address: Address, heard: Callable[[str], object] = lambda line: None) -> None:
        ssh.library()
        self.name, self.address = name, address
        self.line = ssh.SshLine(name, address, heard, ssh.VISIT)
        self.loop = asyncio.new_event_loop()
        self.thread = threading.Thread(target=self.loop.run_forever, daemon=True, name=f"ssh:{name}")
        self.thread.start()
        self.unknown: set[str] = set()
        self.hashed: set[str] = set()
        self.said: list[str] = []
        self.folder = f"/private/tmp/yendo-{uuid.uuid4().hex[:12]}"
        self.people: dict[str, dict[str, Any]] = {}

    def __enter__(self) -> MacAway:
        if self.address.revert:
            ssh.revert(self.name, self.address)
        if problem := self.lacking():
            self.close()
            raise NoMachine(f"ssh:{self.name}: {problem}")
        self.system = self._told("/usr/bin/sw_vers", "-productVersion")
        self.processor: Processor = "arm64" if self._told("/usr/bin/uname", "-m") == "arm64" else "x86_64"
        who = self._told("/usr/bin/stat", "-f", "%Su", "/dev/console")
        self.person = "" if who == "root" else who
        self.people = dict(self._people())
        self.run("/bin/mkdir", "-m", "700", self.folder, root=False)
        return self

    def __exit__(self, *_: object) -> None:
        try:
            self.run("/bin/rm", "-rf", self.folder)
        finally:
            self.close()

    def close(self) -> None:
        """Ends the line."""
        asyncio.run_coroutine_threadsafe(self._lost(), self.loop).result(10)
        self.loop.call_soon_threadsafe(self.loop.stop)
        self.thread.join(10)

    async def _lost(self) -> None:
        self.line.lose()
        await asyncio.sleep(0.1)  # what waited for it ends first

    def lacking(self) -> str:
        """Why nothing can be proved there; empty where it can."""
        code, said = self.run("/usr/bin/true")
        if code:
            first = (said.decode("utf-8", "replace").splitlines() or [""])[0]
            return f"{self.address.user} is not root there without a password ({first}): sudo has to allow it"
        if b"not permitted" in self.run("/bin/ls", _GUARDED)[1]:
            return HOW_TO_ALLOW
        enrolled = self._told("/usr/bin/profiles", "status", "-type", "enrollment")
        if "MDM enrollment: Yes" in enrolled and not self.address.although:
            return 'it is managed, so it belongs to somebody; although = "why" in machines.toml says why it may'
        return ""

    # --- the line

    def _do(self, what: Coroutine[Any, Any, T]) -> T:
        import asyncssh

        try:
            return asyncio.run_coroutine_threadsafe(what, self.loop).result()
        except (OSError, TimeoutError, asyncssh.Error) as error:
            raise NoMachine(f"ssh:{self.name}: the line was lost in the middle: {error}") from error

    def run(self, *words: str, root: bool = True, given: bytes = b"") -> tuple[int, bytes]:
        """A command there, as a list of words, by root unless said otherwise: its exit code, and all that it said."""
        return self._do(self._run(words, root and self.address.user != "root", given))

    async def _run(self, words: Sequence[str], sudo: bool, given: bytes) -> tuple[int, bytes]:
        import asyncssh

        connection = await self.line.answering(seconds(self.address.wait))
        line = " ".join(shlex.quote(word) for word in (("/usr/bin/sudo", "-n", *words) if sudo else words))
        more: dict[str, Any] = {"input": given} if given else {"stdin": asyncssh.DEVNULL}
        ran = await asyncio.wait_for(connection.run(f"{line} 2>&1", encoding=None, check=False, **more), LIMIT)
        if ran.exit_status is None:
            raise ConnectionError("it ended without an exit code")
        said = ran.stdout or b""
        return ran.exit_status, (said if isinstance(said, bytes) else said.encode())[:MAX_SAID]

    def _told(self, *words: str) -> str:
        return self.run(*words)[1].decode("utf-8", "replace").strip()

    def _people(self) -> Iterator[tuple[str, dict[str, Any]]]:
        for line in self._told("/usr/bin/dscl", ".", "-list", "/Users", "UniqueID").splitlines():
            name, _, number = line.partition(" ")
            if number.strip().isdigit() and int(number) > 500 and not name.startswith("_"):
                home = self._told("/usr/bin/dscl", ".", "-read", f"/Users/{name}", "NFSHomeDirectory")
                yield name, {"number": int(number), "home": home.partition(" ")[2].strip()}

    # --- what a machine of a proof is asked for

    def bring(self, path: Path) -> str:
        """Puts a file there; where it lies then."""
        there = f"{self.folder}/{path.name}"

        async def put() -> None:
            files_there = await self.line.files(seconds(self.address.wait))
            await files_there.put(str(path), there)

        self._do(self.line.patiently(put))
        return there

    def fetch(self, above: str, names: Sequence[str], target: Path) -> None:
        """Brings what lies below a folder there, by its names, into a tar archive here. Raises NoMachine."""
        packed = f"{self.folder}/{uuid.uuid4().hex[:8]}.tar"
        given = "".join(f"./{name}\n" for name in names).encode("utf-8", "surrogateescape")
        code, said = self.run("/usr/bin/tar", "-cf", packed, "-C", above, "-T", "-", given=given)
        if code:
            raise NoMachine(f"ssh:{self.name}: nothing could be brought from {above}: {said[-300:]!r}")
        if not self._do(self.line.patiently(lambda: self.line.fetch(packed, target))):
            raise NoMachine(f"ssh:{self.name}: {packed} is not there")
        self.run("/bin/rm", "-f", packed)

    def picture(self) -> dict[str, PosixThing]:
        """Everything in the folders that are looked at, by path."""
        homes = [f"{one['home']}/{below}" for one in self.people.values() for below in OF_PEOPLE]
        probe = files("yendo.mac_half").joinpath("probe.sh").read_bytes()
        code, said = self.run("/bin/sh", "-s", *FOLDERS, *homes, given=probe)
        found: dict[str, PosixThing] = {}
        for line in said.decode("utf-8", "surrogateescape").split("\n"):
            parts = line.split("\t", 6)
            if len(parts) != 7 or not parts[0].isdigit():
                continue  # the rest of a name with a line break in it; what ``stat`` could not see
            kind = _TYPES.get(int(parts[0], 8) & 0o170000)
            if kind is not None:
                found[parts[6]] = _seen(kind, parts)
        if not found:
            raise NoMachine(f"ssh:{self.name}: nothing could be looked at: exit code {code}, {said[-300:]!r}")
        return found | self._hashes(found)

    def _hashes(self, found: Mapping[str, PosixThing]) -> dict[str, PosixThing]:
        wanted = sorted(path for path in self.hashed if isinstance(found.get(path), File))
        if not wanted:
            return {}
        names = "\0".join(wanted).encode("utf-8", "surrogateescape")
        _, said = self.run("/usr/bin/xargs", "-0", "/usr/bin/shasum", "-a", "256", given=names)
        told = re.findall(r"^([0-9a-f]{64})  (.+)$", said.decode("utf-8", "surrogateescape"), re.M)
        made = {}
        for hash_of, path in told:
            made[path] = msgspec.structs.replace(found[path], size=None, changed=None, sha256=hash_of)
        return made

    def looks_at(self, path: str) -> bool:
        """Whether a path is among what is looked at."""
        return path.startswith((*FOLDERS, "/Users/"))

    def install(self, package: Path, volume: str | None = None, wanted: Mapping[str, bool] = {}) -> MacOutcome:
        """What the system's installer makes of a package, with these choices."""
        words = ["/usr/sbin/installer", "-pkg", self.bring(package), "-target", volume or "/"]
        if wanted:
            with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
                path = Path(place) / "choices.xml"
                path.write_bytes(choices_file(wanted))
                words += ["-applyChoiceChangesXML", self.bring(path)]
        code, said = self.run(*words)
        lines = said.decode("utf-8", "replace").splitlines()
        why = "" if code == 0 else next((line for line in reversed(lines) if line.strip()), f"it ends with {code}")
        return MacOutcome(code, tuple(lines), why)

    def receipts(self) -> dict[str, str]:
        """Receipts that are not the system's own, with their versions."""
        found = {}
        for one in self._told("/usr/sbin/pkgutil", "--pkgs").splitlines():
            if not one.startswith("com.apple."):
                told = self._told("/usr/sbin/pkgutil", "--pkg-info", one)
                version = re.search(r"^version: *(.+)$", told, re.M)
                found[one] = version[1] if version else ""
        return found

    def script(self, text: bytes, *arguments: str) -> tuple[int, list[str]]:
        """A script there, by root; its exit code and what it said."""
        code, said = self.run("/bin/sh", "-s", *arguments, given=text)
        self.said = said.decode("utf-8", "replace").splitlines()
        return code, self.said

    def listed(self, path: str) -> Mapping[str, Any]:
        """A property list there; nothing where there is none."""
        code, said = self.run("/usr/bin/plutil", "-convert", "xml1", "-o", "-", path)
        return property_list.if_any(said) if code == 0 else {}

    def has_job(self, name: str) -> bool:
        """Whether launchd has loaded a job, by its domain and label."""
        return self.run("/bin/launchctl", "print", name)[0] == 0


def _seen(kind: str, parts: list[str]) -> PosixThing:
    """A line of the probe: type and mode, user, group, size, when it was changed, where it leads, path."""
    mode, user, group = int(parts[0], 8) & 0o7777, int(parts[1]), int(parts[2])
    if kind == "link":
        return Link(parts[6], parts[5], user, group)
    if kind == "folder":
        return Folder(parts[6], mode, user, group)
    return File(parts[6], int(parts[3] or 0), changed=parts[4], mode=mode, user=user, group=group)
