"""The Windows Installer of the simulated machine: what it knows of products, and its command lines carried out.

It is the interpreter that also predicts effects, so an agreement of the two is no evidence.
"""

from __future__ import annotations

import contextlib
import io
import re
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Protocol

import msgspec

from yendo.effects import Effect, File, State
from yendo.effects.things import parent
from yendo.errors import Unreadable
from yendo.formats import pe
from yendo.formats.msi import Database
from yendo.formats.msi.overlay import Overlay
from yendo.formats.msi.patch import Patch
from yendo.installers.family import InstalledDatabase
from yendo.installers.msi import commandline, engine, fitting, layers
from yendo.installers.msi.layers import Layers
from yendo.installers.msi.media import MissingMedia, payload
from yendo.installers.msi.session import Memory
from yendo.machines.protocol import Ran
from yendo.platforms.windows import exit_codes
from yendo.platforms.windows.surroundings import Surroundings


class InstallerFiles(Protocol):
    """What the installer needs of the machine beside its state."""

    surroundings: Surroundings

    def lookup(self, path: str) -> bytes | bytearray | Path | None: ...

    def file(self, name: str, folder: str | None) -> Path | None: ...

    def has_folder(self, path: str) -> bool: ...

    def write(self, path: str, data: bytes, *, private: bool = False) -> None: ...

    def fill(self, path: str, content: bytes) -> None: ...


def absolute(path: str, folder: str | None) -> str:
    """A path as a program in a folder means it."""
    return path if re.match(r"[A-Za-z]:\\", path) else f"{folder or 'C:'}\\{path}"


class InstallerService:
    """``done`` is what its runs did. ``unpacked`` may be another session's too, whose files are the same."""

    def __init__(self, state: State, files: InstallerFiles) -> None:
        self.state, self.files = state, files
        self.memories: dict[str, Memory] = {}
        self.packages: dict[str, Layers] = {}
        self.done: list[Effect] = []
        self.unpacked: dict[Layers, dict[str, bytes]] = {}
        self._made: set[str] = set()  # folders of products that are gone, which were not empty then
        self._cache: tempfile.TemporaryDirectory[str] | None = None  # databases from inside setup programs

    def take_over(self, databases: Iterable[InstalledDatabase]) -> None:
        """Knows products from now on that a setup program has installed out of itself."""
        for database in databases:
            memory = database.memory
            known = self.memories.get(memory.code)  # of an earlier run: the folders that it made stay the product's
            created = memory.created | (known.created if known else frozenset())
            self.memories[memory.code] = msgspec.structs.replace(memory, created=created)
            self.packages[database.memory.code] = Layers(self._kept(database))

    def related(self, upgrade_code: str) -> list[str]:
        """The codes of the products of a line that are there."""
        found = []
        for code, known in self.packages.items():
            with known.opened() as database:
                if fitting.facts(database).get("UpgradeCode", "").upper() == upgrade_code:
                    found.append(code)
        return found

    def mending(self) -> Iterator[str]:
        """The command lines by which starting everything from the menu mends each product for somebody."""
        for code, layered in list(self.packages.items()):
            with layered.opened() as database:
                wanted = {row.text("Target") for row in database["Shortcut"] if "[" not in row.text("Target")}
                above = {row.text("Feature"): row.text("Feature_Parent") for row in database["Feature"]}
            for name in list(wanted):
                while (name := above.get(name, "")) and name not in wanted:
                    wanted.add(name)
            if wanted:
                yield f"msiexec.exe /i {code} REINSTALL={','.join(sorted(wanted))} REINSTALLMODE=u /qn"

    def _kept(self, database: InstalledDatabase) -> Path:
        """The system's own copy of a database that was inside a setup program; it goes with the session."""
        if self._cache is None:
            self._cache = tempfile.TemporaryDirectory(prefix="yendo-databases-")
        path = Path(self._cache.name) / f"{database.memory.code}.msi"
        path.write_bytes(database.content)
        return path

    def execute(self, command: commandline.MsiCommand, folder: str | None) -> Ran:
        """Carries a command line of the installer out."""
        log = absolute(command.log, folder) if command.log else None
        if log and not self.files.has_folder(parent(log)):
            return Ran(1622, "the log's folder does not exist", 0.0)
        given = dict(command.properties)
        if command.action == "uninstall":
            given["REMOVE"] = "ALL"
        if command.action == "repair":
            given = {"REINSTALL": "ALL", "REINSTALLMODE": command.mode, **given}
        if command.restart_suppressed:
            given.setdefault("REBOOT", "ReallySuppress")
        try:
            if command.action == "patch":
                return self._patch(command, given, folder, log)
            memory, found, package = self._find(command, given, folder)
            if found is None:
                unknown = command.is_code or command.action != "install"
                return self._ended(1605 if unknown else 1619, [f"{command.package} cannot be found."], log)
            return self._carry_out(command.action, found, given, package, log, by_code=memory is not None)
        except layers.Refused as refused:
            return self._ended(refused.code, [refused.message], log)
        except Unreadable as error:
            return self._ended(1620, [str(error)], log)
        except MissingMedia as error:
            return self._ended(
                1603,
                [
                    "Action start: InstallFiles.",
                    f"Source file not found: {error}",
                    "Action ended: InstallFiles. Return value 3.",
                ],
                log,
            )

    def _patch(
        self, command: commandline.MsiCommand, given: dict[str, str], folder: str | None, log: str | None
    ) -> Ran:
        """Applies a patch to every product here that it is for."""
        path = self.files.lookup(absolute(command.package, folder))
        if not isinstance(path, Path):
            return self._ended(layers.NO_SUCH_PATCH, [f"{command.package} cannot be found."], log)
        with Patch(path) as patch:
            there = [code for code in patch.targets if code in self.memories]
        if not there:
            return self._ended(layers.PATCH_REFUSED, ["The product that the patch is for is not installed."], log)
        ran = Ran(0, "", 0.0)
        for code in there:
            known = self.packages[code]
            if path in known.patches:
                ran = self._ended(0, ["The patch is there already."], log)
                continue
            layered = msgspec.structs.replace(known, patches=(*known.patches, path))
            given.setdefault("REINSTALL", "ALL")
            given.setdefault("REINSTALLMODE", "omus")
            ran = self._carry_out("patch", layered, given, self.memories[code].package, log, by_code=True)
            if ran.exit_code not in exit_codes.DONE:
                return ran
        return ran

    def _carry_out(
        self, action: str, found: Layers, given: dict[str, str], package: str, log: str | None, *, by_code: bool
    ) -> Ran:
        with found.opened() as database:
            code = fitting.facts(database).get("ProductCode", "").upper()
            known = self.memories.get(code)
            if action == "uninstall" and known is None:
                return self._ended(1605, ["This product is not installed."], log)
            if (
                known
                and action == "install"
                and not by_code
                and known.package_code != (database.summary.revision or "")
            ):
                if "V" not in given.get("REINSTALLMODE", "").upper():
                    return self._ended(1638, ["Another version of this product is installed already."], log)
            elif known and action == "install" and not {"REMOVE", "ADDLOCAL", "REINSTALL"} & given.keys():
                return self._ended(0, ["Already installed; nothing to do."], log)
            contents = {} if given.get("REMOVE", "").upper() == "ALL" else self._payload(database, found)
            outcome = engine.run(
                database,
                self.files.surroundings,
                self.state,
                given,
                memories=self.memories,
                package=package,
                open_package=self._open,
                contents=contents,
                made=self._made,
            )
        if outcome.done:
            self.done += outcome.effects
            for removed in outcome.removed:
                self.memories.pop(removed, None)
            if outcome.memory:
                self.memories[outcome.memory.code] = outcome.memory
                self.packages[outcome.memory.code] = found
            elif known:
                self.memories.pop(code, None)
                self._made |= known.created
            self._fill(contents, outcome)
        return self._ended(outcome.exit_code, list(outcome.log), log)

    def _find(
        self, command: commandline.MsiCommand, given: dict[str, str], folder: str | None
    ) -> tuple[Memory | None, Layers | None, str]:
        if command.is_code:
            memory = self.memories.get(command.package.upper())
            return memory, self.packages.get(memory.code) if memory else None, memory.package if memory else ""
        path = absolute(command.package, folder)
        found = self.files.lookup(path)
        if not isinstance(found, Path):
            return None, None, path
        if command.action != "install":  # what was installed is what is kept, transforms and all
            with Database(found) as database:
                code = fitting.facts(database).get("ProductCode", "").upper()
            if code in self.packages:
                return None, self.packages[code], path
        return None, Layers(found, *map(tuple, layers.named(given, lambda name: self.files.file(name, folder)))), path  # type: ignore[arg-type]

    def _open(self, memory: Memory) -> Database | None:
        known = self.packages.get(memory.code)
        if known is None:
            return None
        stack = contextlib.ExitStack()
        database = Overlay(stack.enter_context(known.opened()), [])
        database.when_closed = stack.close
        return database

    def _payload(self, database: Database, found: Layers) -> dict[str, bytes]:
        """The files of an installer, unpacked once for all sessions that share them."""
        if found not in self.unpacked:
            self.unpacked[found] = payload(database, found.source)
        return self.unpacked[found]

    def _fill(self, contents: dict[str, bytes], outcome: engine.EngineOutcome) -> None:
        """Keeps the contents of files that the run placed."""
        for effect in outcome.effects:
            key = effect.evidence.key if effect.evidence and effect.evidence.table == "File" else ""
            if isinstance(effect.thing, File) and effect.change != "remove" and key in contents:
                content = contents[key]
                self.files.fill(effect.thing.path, content)
                with contextlib.suppress(Unreadable):
                    image = pe.Image(io.BytesIO(content), effect.thing.path)
                    self.state.add(msgspec.structs.replace(effect.thing, architecture=image.architecture))

    def _ended(self, code: int, lines: list[str], log: str | None) -> Ran:
        text = "\r\n".join([*lines, f"MainEngineThread is returning {code}", ""])
        if log:
            self.files.write(log, text.encode("utf-16"))
        return Ran(code, "", 0.0)
