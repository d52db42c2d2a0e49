"""A simulated macOS. Its files are a real tree in a folder; owners, jobs, people and programs that run are a state
beside it. Scripts are carried out for real in a sandbox over that tree, against stand-ins of the system's programs.

Source: Apple's "Distribution XML Reference", the manual pages ``installer(8)`` and ``pkgutil(1)``; the order of what an
installation does (first all scripts before, then all payloads, then all scripts behind) is from its logs, by memory.
"""

from __future__ import annotations

import contextlib
import json
import plistlib
import shutil
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Literal

import msgspec

from yendo import atomic, host_os
from yendo.effects.things import Link
from yendo.errors import NotCovered, Unreadable
from yendo.formats import cpio, property_list
from yendo.formats.xar import Xar
from yendo.mac import bundles, choices, reading
from yendo.mac.package import MacComponent, MacPackage
from yendo.mac_half.machine import sandbox
from yendo.mac_half.work import data_folders
from yendo.platforms.posix import PosixThing, listed

Processor = Literal["arm64", "x86_64"]
RECEIPTS = "private/var/db/receipts"
MAX_LINKS = 40
_LINKS = {"tmp": "private/tmp", "var": "private/var", "etc": "private/etc"}
_SEALED = ("/System", "/usr", "/bin", "/sbin")
_BUILDS = {"12": "21G", "13": "22G", "14": "23H", "15": "24G", "26": "25A"}
# What the sandbox puts there, and what is nobody's: never part of a picture.
_ASIDE = ("lib", "lib64", "dev", "proc", ".yendo", "usr/lib", "bin", "sbin", "usr/bin", "usr/sbin", "usr/libexec")
_PASSING = ("private/tmp", "private/var/folders", RECEIPTS)


class _Books(msgspec.Struct, forbid_unknown_fields=True):
    """The state as it lies beside the tree, where scripts can write it."""

    system: str
    build: str
    kernel: str
    processor: Processor
    people: dict[str, dict[str, int | str]]
    person: str
    open: dict[str, str]
    mains: bool
    jobs: dict[str, str]
    owners: dict[str, tuple[int, int]]
    notes: list[list[str]]
    asked: list[str]
    free: int
    profiles: list[str]
    marks: dict[str, dict[str, str]]  # what a file has beside its content, by path and name


class MacOutcome(msgspec.Struct, frozen=True):
    """What became of an installation: ``code`` as ``installer`` ends, what was said, why it failed."""

    code: int
    said: tuple[str, ...]
    why: str = ""


class MacMachine:
    """One machine in a folder of its own.

    ``person`` is who is at the screen, if anybody; ``open`` are identifiers of programs that run, each with ``ends`` or
    ``stays`` for how it answers when it is asked to end. ``volume`` is where another system lies, for packages that go
    there. ``executes`` is whether scripts can be carried out here.
    """

    def __init__(
        self,
        folder: Path,
        *,
        system: str = "15.3",
        processor: Processor = "arm64",
        people: Mapping[str, int] = {"hannah": 501},
        person: str = "hannah",
        running: Mapping[str, str] = {},
        mains: bool = True,
        profiles: Sequence[str] = (),
        volume: str = "/",
    ) -> None:
        self.folder, self.tree, self.volume = folder, folder / "tree", volume
        self.system, self.processor = system, processor
        self.executes = not sandbox.lacking()
        self.said: list[str] = []
        self.unknown: set[str] = set()  # programs without a stand-in that scripts called
        # what a computer without modes and links cannot keep in its files: mode, and where a link leads
        self._aside: dict[str, tuple[int, str]] = {}
        (folder / "own").mkdir(parents=True)
        self._make(people)
        homes = {name: {"number": number, "home": f"/Users/{name}"} for name, number in people.items()}
        major = system.split(".")[0]
        self._write(
            {
                "system": system, "build": _BUILDS.get(major, "20A") + "100", "kernel": f"{int(major) + 9}.0.0",
                "processor": processor, "people": homes, "person": person, "open": dict(running), "mains": mains,
                "jobs": {}, "owners": self._owners(), "notes": [], "asked": [], "free": 50 << 20,
                "profiles": list(profiles),
                "marks": {},
            }
        )  # fmt: skip

    # --- its files

    def _make(self, people: Mapping[str, int]) -> None:
        for base in {"", self.volume.strip("/")}:
            top = self.tree / base
            for path, (mode, _, _) in data_folders().items():
                place = top / path.strip("/")
                place.mkdir(parents=True, exist_ok=True)
                place.chmod(mode)
            for name in ("private/tmp", RECEIPTS, "private/var/root", "System/Library/CoreServices", "Volumes"):
                (top / name).mkdir(parents=True, exist_ok=True)
            for name, target in _LINKS.items():
                if not host_os.WINDOWS and not (top / name).exists():
                    (top / name).symlink_to(target)
        for name in people:
            (self.tree / "Users" / name / "Library" / "Preferences").mkdir(parents=True)

    def _owners(self) -> dict[str, list[int]]:
        found: dict[str, list[int]] = {}
        for base in {"", self.volume.rstrip("/")}:
            found |= {f"{base}{path}": [user, group] for path, (_, user, group) in data_folders().items()}
        return found

    @property
    def state(self) -> dict[str, Any]:
        """What the machine knows beside its files. Raises Unreadable where a script wrote something else there."""
        try:
            known = msgspec.json.decode(sandbox.read_plain(self.folder / "own" / "state.json"), type=_Books)
        except (OSError, msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
            raise Unreadable(f"a script wrote into the books of the simulated machine: {error}") from error
        return msgspec.structs.asdict(known)

    def _write(self, state: dict[str, Any]) -> None:
        atomic.write(self.folder / "own" / "state.json", json.dumps(state).encode())

    def change(self, **values: Any) -> None:
        """Sets parts of the state: who is at the screen, what runs."""
        self._write({**self.state, **values})

    def add_person(self, name: str, number: int) -> None:
        """Somebody who logs on for the first time: the template becomes the new folder."""
        home = self.at(f"/Users/{name}")
        template = self.at("/Library/User Template/Non_localized", followed=True)
        home.mkdir()
        if template.is_dir():
            shutil.copytree(template, home, symlinks=True, dirs_exist_ok=True)
        (home / "Library" / "Preferences").mkdir(parents=True, exist_ok=True)
        people = self.state["people"] | {name: {"number": number, "home": f"/Users/{name}"}}
        self.change(people=people, person=name)

    def at(self, path: str, *, followed: bool = False) -> Path:
        """Where something of the machine lies here, links read as the machine reads them: none leads out of its tree.

        The last part is not followed unless that is asked for. Raises Unreadable where links lead nowhere.
        """
        left = [part for part in reversed(path.split("/")) if part]
        place, hops = self.tree, 0
        while left:
            part = left.pop()
            if part in (".", ".."):
                place = place.parent if part == ".." and place != self.tree else place
                continue
            place /= part
            if place.is_symlink() and (left or followed):
                target = place.readlink().as_posix()
                place, hops = (self.tree if target.startswith("/") else place.parent), hops + 1
                if hops > MAX_LINKS:
                    raise Unreadable(f"{path}: its links lead nowhere")
                left += [one for one in reversed(target.split("/")) if one]
        return place

    def put(self, path: str, content: bytes, mode: int = 0o644, user: int = 0, group: int = 0) -> None:
        """A file that was there before."""
        place = self.at(path)
        place.parent.mkdir(parents=True, exist_ok=True)
        place.unlink(missing_ok=True)
        place.write_bytes(content)
        place.chmod(mode)
        self.change(owners=self.state["owners"] | {path: [user, group]})

    def bundle(self, path: str, identifier: str, version: str) -> None:
        """A bundle that was there before."""
        info = {"CFBundleIdentifier": identifier, "CFBundleShortVersionString": version}
        self.put(f"{path}/Contents/Info.plist", plistlib.dumps(info))

    def receipt(self, identifier: str, paths: Sequence[str] = ()) -> None:
        """A receipt that was there before, over these files."""
        rows = [["file", path.strip("/")] for path in paths]
        self._book(self.volume, identifier, "1.0", "", rows)

    def picture(self) -> dict[str, PosixThing]:
        """Everything on it, by path; not what is only there for a while, and not the books of the installer."""
        owners, found = self.state["owners"], {}
        for thing in listed(self.tree, left=self._passed_over):
            path = thing.path
            user, group = owners.get(path) or self._owner(path)
            mode, target = self._aside.get(path, (None, ""))
            if target:
                thing = Link(path, target)
            elif mode is not None and not isinstance(thing, Link):
                thing = msgspec.structs.replace(thing, mode=mode)
            found[path] = msgspec.structs.replace(thing, user=user, group=group)
        return found

    def _owner(self, path: str) -> tuple[int, int]:
        for person in self.state["people"].values():
            if path.startswith(person["home"] + "/") or path == person["home"]:
                return person["number"], 20
        return 0, 0

    def _passed_over(self, path: str) -> bool:
        bare = path.removeprefix(self.volume.rstrip("/")).strip("/")
        return bare in _ASIDE or path.strip("/") in _ASIDE or bare in _PASSING

    @property
    def people(self) -> dict[str, dict[str, Any]]:
        """Who has a folder there: number and home, by name."""
        found: dict[str, dict[str, Any]] = self.state["people"]
        return found

    @property
    def person(self) -> str:
        """Who is at the screen; empty where nobody is."""
        return str(self.state["person"])

    @property
    def notes(self) -> Sequence[Sequence[str]]:
        """What scripts did that no package should, each with its kind first."""
        found: list[list[str]] = self.state["notes"]
        return found

    def looks_at(self, path: str) -> bool:
        """Whether a path is among what is looked at: all of them are."""
        return True

    def has_job(self, name: str) -> bool:
        """Whether launchd has loaded a job, by its domain and label."""
        return name in self.state["jobs"]

    def listed(self, path: str) -> Mapping[str, Any]:
        """A property list there; nothing where there is none."""
        place = self.at(path, followed=True)
        return property_list.if_any(place.read_bytes()) if place.is_file() else {}

    # --- its installer

    def receipts(self) -> dict[str, str]:
        """The receipts on the volume, with their versions."""
        found = {}
        for path in sorted(self._on(RECEIPTS).glob("*.plist")):
            found[path.stem] = str(plistlib.loads(path.read_bytes())["PackageVersion"])
        return found

    def _on(self, path: str) -> Path:
        return self.at(f"{self.volume}/{path}", followed=True)

    def install(
        self, package: Path, volume: str | None = None, wanted: Mapping[str, bool] = {}, *, until: str = ""
    ) -> MacOutcome:
        """What ``installer -pkg PACKAGE -target VOLUME`` does; cut off after one of its parts where ``until`` says so.

        Raises Unreadable, NotCovered.
        """
        volume = volume or self.volume
        found = reading.read(package, listing=True)  # a receipt goes by the bill, where there is one
        begun = len(self.said)
        refused = self._refusal(found)
        if refused:
            return MacOutcome(1, (), refused)
        chosen = self._chosen(found, wanted)
        why = ""
        with package.open("rb") as file:
            archive = Xar(file, package.name)
            parts = [one for one in found.components if chosen is None or one.identifier in chosen]
            if chosen is not None:
                parts.sort(key=lambda one: chosen.index(one.identifier))
            for when in ("preinstall", "payload", "postinstall"):
                for one in parts:
                    if why:
                        break
                    if when == "payload":
                        self._lay(archive, found, one, volume)
                    else:
                        why = self._script(archive, found, one, when, package, volume)
                if when == until:
                    return MacOutcome(137, tuple(self.said[begun:]), "cut off")
        if not why:
            for one in parts:
                if one.items:
                    self._receipt(one, volume)
        return MacOutcome(1 if why else 0, tuple(self.said[begun:]), why)

    def _refusal(self, found: MacPackage) -> str:
        if found.oldest and _order(self.system) < _order(found.oldest):
            return f"it needs macOS {found.oldest}, and this is {self.system}"
        if found.newest and _order(self.system) >= _order(found.newest):
            return f"it is for macOS before {found.newest}, and this is {self.system}"
        theirs = found.architectures
        if self.processor == "arm64" and theirs and "arm64" not in theirs:
            return "it asks for Rosetta, which is not there"
        if self.processor == "x86_64" and theirs and "x86_64" not in theirs:
            return "it is not for this processor"
        return ""

    def _chosen(self, found: MacPackage, wanted: Mapping[str, bool]) -> list[str] | None:
        """The components that are installed, in their order; None for a component by itself."""
        if found.form == "component" or not found.choices:
            return None
        answers = choices.evaluated(found, self.system, self.processor, wanted)
        names = [name for one in found.choices if answers[one.identifier] for name in one.packages]
        return list(dict.fromkeys(names))

    def _place(self, archive: Xar, found: MacPackage, one: MacComponent) -> str:
        """The folder of a component inside the archive."""
        if found.form == "component":
            return ""
        return f"{one.folder}/" if one.folder else ""

    def _lay(self, archive: Xar, found: MacPackage, one: MacComponent, volume: str) -> None:
        name = f"{self._place(archive, found, one)}Payload"
        entry = next((each for each in archive.entries if each.path == name), None)
        if entry is None:
            return
        state = self.state
        top = f"{volume.rstrip('/')}/{one.location.strip('/')}".rstrip("/")
        moved = dict(self._moved(one, volume))
        for item, content in cpio.contents(reading.stream(archive, entry)):
            below = item.path.removeprefix("./").strip("/")
            path = f"{top}/{below}" if below not in ("", ".") else top or "/"
            for place, elsewhere in moved.items():
                if path == place or path.startswith(f"{place}/"):
                    path = elsewhere + path.removeprefix(place)
            if (
                path.removeprefix(volume.rstrip("/")).startswith(tuple(f"{one}/" for one in _SEALED))
                and "/usr/local" not in path
            ):
                raise Unreadable(f"{path}: the system's volume is sealed, and the installer refuses it")
            self._put(self.at(path), item, content)
            if host_os.WINDOWS:
                self._aside[path] = (item.mode & 0o7777, item.target)
            state["owners"][path] = [item.user, item.group]
        self._write(state)
        self.said.append(f"laid {one.identifier}")

    def _moved(self, one: MacComponent, volume: str) -> Iterator[tuple[str, str]]:
        """Bundles that follow a copy that somebody moved: where they belong, and where that copy lies.

        Source: the description of ``relocate`` in PackageInfo; how the system finds the copy is not written down.
        """
        for bundle in one.bundles:
            place = volume.rstrip("/") + bundle.path
            if bundle.identifier in one.relocatable and not self.at(place).exists():
                elsewhere = next(self._with_identifier(bundle.identifier, volume), "")
                if elsewhere:
                    self.said.append(f"{bundle.identifier} is updated where it lies: {elsewhere}")
                    yield place, elsewhere

    def _with_identifier(self, identifier: str, volume: str) -> Iterator[str]:
        """Bundles of an identifier on a volume, the bin left out."""
        base = volume.rstrip("/")
        for top in ("/Applications", "/Users", "/opt"):
            start = self.at(base + top)
            for info in sorted(start.glob("**/Contents/Info.plist")) if start.is_dir() else ():
                path = info.relative_to(self.tree).as_posix().removesuffix("/Contents/Info.plist")
                if (
                    "/." not in f"/{path}"
                    and self.listed(f"/{path}/Contents/Info.plist").get("CFBundleIdentifier") == identifier
                ):
                    yield f"/{path}"

    def _put(self, place: Path, item: cpio.CpioEntry, content: Iterator[bytes]) -> None:
        place.parent.mkdir(parents=True, exist_ok=True)
        if item.kind == "folder":
            if place.is_symlink() or place.is_file():
                place.unlink()
            place.mkdir(exist_ok=True)
            place.chmod(item.mode & 0o7777)
            return
        if place.is_dir() and not place.is_symlink():
            shutil.rmtree(place)
        place.unlink(missing_ok=True)
        if item.kind == "link" and host_os.WINDOWS:
            place.write_text(item.target, "utf-8")
        elif item.kind == "link":
            place.symlink_to(item.target)
        else:
            with place.open("xb") as file:
                for piece in content:
                    file.write(piece)
            place.chmod(item.mode & 0o7777)

    def _receipt(self, one: MacComponent, volume: str) -> None:
        prefix = one.location.rstrip("/")
        rows = [
            ["folder" if item.kind == "folder" else "file", item.path.removeprefix(prefix).strip("/")]
            for item in one.items
        ]
        self._book(volume, one.identifier, one.version, one.location.strip("/"), rows)

    def _book(self, volume: str, identifier: str, version: str, prefix: str, rows: list[list[str]]) -> None:
        info = {
            "PackageIdentifier": identifier,
            "PackageVersion": version,
            "InstallPrefixPath": prefix,
            "YendoPaths": rows,
        }
        place = self.at(f"{volume}/{RECEIPTS}/{identifier}.plist")
        place.unlink(missing_ok=True)
        place.write_bytes(plistlib.dumps(info))

    # --- its scripts

    def _script(self, archive: Xar, found: MacPackage, one: MacComponent, when: str, package: Path, volume: str) -> str:
        """Runs a component's script; why it failed, empty where it did not."""
        if not any(script.when == when for script in one.scripts):
            return ""
        if not self.executes:
            self.said.append(f"{when} of {one.identifier} was not run: {sandbox.lacking()}")
            return ""
        name = f"{self._place(archive, found, one)}Scripts"
        entry = next(each for each in archive.entries if each.path == name)
        top = f"/private/tmp/PKInstallSandbox.{len(self.said)}/Scripts/{one.identifier}"
        place = self.at(top)
        shutil.rmtree(place, ignore_errors=True)
        place.mkdir(parents=True)
        for item, content in cpio.contents(reading.stream(archive, entry)):
            below = item.path.removeprefix("./").strip("/")
            if below not in ("", "."):
                self._put(self.at(f"{top}/{below}"), item, content)
        code, said = self.run([f"{top}/{when}", f"/{package.name}", volume, volume, "/"])
        shutil.rmtree(place.parents[1], ignore_errors=True)
        words = "; ".join(said[-2:]) or "it said nothing"
        return "" if code == 0 else f"{when} of {one.identifier} ended with {code}: {words}"

    def run(self, command: list[str]) -> tuple[int, list[str]]:
        """A command on it as root; its exit code and what it said. Raises NotCovered where nothing is carried out."""
        if not self.executes:
            raise NotCovered(f"scripts for macOS are not carried out here: {sandbox.lacking()}")
        code, said = sandbox.run(self.folder, command, self._asked)
        self.said += said
        for line in said:
            if line.endswith(("not found", "No such file or directory")) and (name := sandbox.missing(line)):
                self.unknown.add(name)
        return code, said

    def script(self, text: bytes, *arguments: str) -> tuple[int, list[str]]:
        """A script from outside, as a management service runs it."""
        place = self.at("/private/tmp/given.sh")
        place.unlink(missing_ok=True)
        place.write_bytes(text)
        place.chmod(0o755)
        try:
            return self.run(["/private/tmp/given.sh", *arguments])
        finally:
            place.unlink(missing_ok=True)

    def _asked(self, asked: dict[str, str]) -> dict[str, object]:
        """An installation that a script asks for."""
        if asked["what"] == "verify":
            return self._verified(asked["package"])
        given: dict[str, bool] = {}
        with contextlib.suppress(OSError, ValueError):
            if asked["choices"]:
                for one in plistlib.loads(self.at(asked["choices"], followed=True).read_bytes()):
                    given[one["choiceIdentifier"]] = bool(one["attributeSetting"])
        try:
            done = self.install(self.at(asked["package"], followed=True), asked["target"], given)
        except (Unreadable, NotCovered, OSError) as error:
            return {"code": 1, "said": [], "why": str(error)}
        return {"code": done.code, "said": list(done.said), "why": done.why}

    def _verified(self, path: str) -> dict[str, object]:
        """Whether the signature of a bundle or program holds; its team, and whether Apple's root is at its end."""
        place = self.at(path, followed=True)
        try:
            found = bundles.read(place) if place.is_dir() else bundles.program(place)
        except (Unreadable, OSError) as error:
            return {"code": 1, "said": [], "why": str(error)}
        main = found.code[0] if found.code else None
        if main is None or main.held == "none":
            return {"code": 1, "said": [], "why": "code object is not signed at all"}
        wrong = found.sealed == "broken" or any(one.held == "broken" for one in found.code)
        why = "a sealed resource is missing or invalid" if wrong else ""
        return {"code": int(wrong), "said": [main.team, main.apple], "why": why}


def _order(version: str) -> tuple[int, ...]:
    return tuple(int(part) if part.isdigit() else 0 for part in (version.split(".") + ["0", "0"])[:3])
