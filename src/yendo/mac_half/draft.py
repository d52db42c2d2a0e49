"""Starts the half for macOS: from a bundle, one for each sort of processor, an image, a package, or files."""

from __future__ import annotations

import re
import shutil
import tempfile
import tomllib
from collections.abc import Sequence
from pathlib import Path, PurePosixPath
from typing import Any, Literal

import msgspec
import tomlkit
from tomlkit.items import Table

from yendo import atomic
from yendo.draft import writing
from yendo.errors import Usage
from yendo.formats import mach_o, xar
from yendo.mac import bundles, images, older
from yendo.mac import reading as packages
from yendo.mac.app import MacApp
from yendo.mac.package import MacComponent, MacPackage
from yendo.mac_half import reading, sources
from yendo.mac_half.work import data_folders
from yendo.walk import files_below

MacSource = Literal["bundle", "image", "package"]
_HEAD = """The half for macOS of this package. Every value that was read says where it is from; DECIDE is yours.
Then: yendo check, yendo build, yendo prove. The steps and rules: docs/macos.md"""


class MacDrafted(msgspec.Struct, frozen=True):
    """The plan, what came along as media, and what is left to a person. ``facts`` are who signed it and what has to be
    allowed, in words.
    """

    plan: Path
    media: tuple[str, ...]
    decisions: tuple[str, ...]
    facts: dict[str, str] = {}


def kind_of(path: Path) -> MacSource | None:
    """What of macOS a path is, if it is that."""
    if path.is_dir():
        return "bundle" if (path / "Contents" / "Info.plist").is_file() else None
    if not path.is_file():
        return None
    if images.is_image(path):
        return "image"
    with path.open("rb") as file:
        return "package" if file.read(4) == xar.MAGIC else None


def draft(
    folder: Path, given: Sequence[Path], files: Sequence[Path] = (), to: str = "", inside: str = ""
) -> MacDrafted:
    """Starts a workspace, or the other half of one that is there. Raises Usage, Unreadable, NotCovered."""
    if reading.is_here(folder):
        raise Usage(f"{folder / reading.NAME} is there already: edit it, or move it away")
    found = MacDraft(folder)
    if bad := next((path for path in given if older.is_older(path)), None):
        how = f"yendo read {bad} --extract DIR takes its files out, and --files DIR --to / starts a package of them"
        raise Usage(f"{bad.name} is a package of the older form, a folder, and its scripts have other names: {how}")
    kinds = [kind_of(path) for path in given]
    if len(given) == 2 and kinds == ["bundle", "bundle"]:
        found.two(given[0], given[1])
    else:
        for path, kind in zip(given, kinds, strict=True):
            if kind is None:
                raise Usage(f"{path} is no bundle, image or package of macOS; files go with --files DIR --to PATH")
            {"bundle": found.bundle, "image": lambda path: found.image(path, inside), "package": found.package}[kind](
                path
            )
    for path in files:
        found.files(path, to)
    return found.finish()


class MacDraft:
    """A half for macOS as it is put together."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.media: dict[str, tuple[Path, str]] = {}  # name -> where it is, what is said of it
        self.steps: list[tuple[dict[str, Any], dict[str, str]]] = []  # values, and remarks by key
        self.rules: list[tuple[dict[str, Any], str]] = []
        self.said: dict[str, str] = {}
        self.why: dict[str, str] = {}
        self.processors: list[str] | None = None
        self.decisions: list[str] = []
        self.facts: dict[str, str] = {}

    def _says(self, key: str, value: str, why: str) -> None:
        if value and key not in self.said:
            self.said[key], self.why[key] = value, why

    def _app(self, app: MacApp, name: str, values: dict[str, Any]) -> None:
        """A step for a bundle, and how it is detected."""
        self._says("name", app.name, f"{name}, its property list")
        self._says("version", _plain(app.version or app.build), f"{name}, CFBundleShortVersionString")
        self._says("oldest", _plain(app.oldest), f"{name}, LSMinimumSystemVersion")
        main = app.code[0] if app.code else None
        self.facts["signed"] = main.words if main else "no program in it"
        self.facts["has to be allowed"] = ", ".join(what for what, _ in app.asks) or "nothing"
        self.facts["seal"] = app.sealed
        if main and main.chain:
            self._says("publisher", main.chain[0].partition(": ")[2].rpartition(" (")[0], "who signed it")
        if main:
            known = [one for one in main.processors if one in ("arm64", "x86_64")]
            self.processors = known if self.processors is None else [one for one in self.processors if one in known]
        self.steps.append((values, {"source": main.words if main else "no program in it"}))
        path = f"{values.get('to', '/Applications')}/{PurePosixPath(name).name}"
        rule = {"kind": "bundle", "identifier": app.identifier, "path": path, "version": app.version}
        if main and main.held == "holds" and main.apple and app.sealed != "broken":
            rule["team"] = main.team  # else anybody's program of that name would count
        self.rules.append((rule, "this version or a later one, also where somebody moved it"))
        if app.sealed == "broken":
            self.decisions.append(f"{name}: it is not what its maker sealed; get it again, or say why")

    def bundle(self, path: Path) -> None:
        self.media[path.name] = (path, "a bundle")
        self._app(bundles.read(path), path.name, {"kind": "app", "source": path.name})

    def two(self, first: Path, second: Path) -> None:
        """One bundle for each sort of processor: the package picks."""
        apps = {one: bundles.read(one) for one in (first, second)}
        sorts = {one: set(app.code[0].processors) if app.code else set() for one, app in apps.items()}
        arm = next((one for one in apps if sorts[one] == {"arm64"}), None)
        intel = next((one for one in apps if sorts[one] == {"x86_64"}), None)
        if arm is None or intel is None or apps[arm].identifier != apps[intel].identifier:
            words = "; ".join(f"{one.name}: {', '.join(sorted(sorts[one])) or 'none'}" for one in apps)
            raise Usage(f"two bundles are one program for arm64 and the same for x86_64; here are {words}")
        if apps[arm].version != apps[intel].version:
            raise Usage(f"the two are of different versions: {apps[arm].version} and {apps[intel].version}")
        names = {one: f"{sort}/{one.name}" for one, sort in ((arm, "arm64"), (intel, "x86_64"))}
        for one, name in names.items():
            self.media[name] = (one, "a bundle for one sort of processor")
        self._app(apps[arm], arm.name, {"kind": "app", "source": names[arm], "intel": names[intel]})
        self.processors = ["arm64", "x86_64"]

    def image(self, path: Path, inside: str) -> None:
        """What a person would drag out of it, or the package on it."""
        self.media[path.name] = (path, "a disk image")
        with images.opened(path) as (volume, _), tempfile.TemporaryDirectory(prefix="yendo-image-") as place:
            items = volume.items()
            shown = list(images.near_the_top(items))
            names = [name for name, _ in shown]
            if inside and inside not in names:
                raise Usage(f"{path.name} holds no {inside}; it holds {', '.join(names) or 'neither'}")
            wanted = [one for one in shown if one[0] == inside] if inside else shown
            if len(wanted) != 1:
                words = ", ".join(names) or "no bundle and no package"
                raise Usage(f"{path.name} holds {words}; say which one with --inside")
            name, some = wanted[0]
            images.extract(volume, some, Path(place))
            if name.endswith(".pkg"):
                del self.media[path.name]
                kept = Path(place) / name
                self.media[PurePosixPath(name).name] = (self._kept(kept), f"out of {path.name}")
                self._package(packages.read(kept), PurePosixPath(name).name)
                return
            self._app(bundles.read(Path(place) / name), name, {"kind": "app", "source": path.name, "inside": name})

    def _kept(self, path: Path) -> Path:
        """A file out of an image, put where the media are before the image is closed."""
        target = self.folder / "media" / path.name
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(path, target)
        return target

    def package(self, path: Path) -> None:
        self.media[path.name] = (path, "the vendor's package")
        self._package(packages.read(path), path.name)

    def _choices(self, found: MacPackage) -> dict[str, Any]:
        """What a person could choose in the vendor's package: a question, and its own defaults."""
        shown = [one for one in found.choices if one.visible.strip() == "true" and one.packages]
        if found.form != "distribution" or len(shown) < 2:
            return {}
        self.decisions.append(f"choices: {', '.join(one.title or one.identifier for one in shown)}")
        return {"choices": {one.identifier: one.selected.strip() == "true" for one in shown}}

    def _package(self, found: MacPackage, name: str) -> None:
        self._says("name", found.title or PurePosixPath(name).stem, f"{name}, its title")
        self._says("version", _plain(found.version), f"{name}, its version")
        self._says("oldest", _plain(found.oldest), f"{name}, allowed-os-versions")
        if found.signature.chain:
            self._says("publisher", found.signature.chain[0].partition(": ")[2].rpartition(" (")[0], "who signed it")
        known = [one for one in found.architectures if one in ("arm64", "x86_64")]
        self.facts["signed"] = found.signature.words
        self.facts["components"] = ", ".join(one.identifier for one in found.components)
        self.facts["scripts"] = ", ".join(script.when for one in found.components for script in one.scripts) or "none"
        self.processors = known or self.processors
        values: dict[str, Any] = {"kind": "package", "source": name, **self._choices(found)}
        self.steps.append((values, {"source": found.signature.words}))
        if found.form == "distribution" and found.signature.state == "holds":
            self.decisions.append(
                "as_is: true hands it on untouched, with its signature, where no other step is needed"
            )
        for component in found.components:
            self._detected(component)

    def _detected(self, component: MacComponent) -> None:
        """By its bundles; where it brings none, by its receipt."""
        for bundle in component.bundles[:4]:
            named = {"identifier": bundle.identifier, "path": bundle.path, "version": bundle.version}
            self.rules.append(({"kind": "bundle", **named}, f"a bundle of {component.identifier}"))
        if not component.bundles and component.items:
            receipt = {"kind": "receipt", "identifier": component.identifier, "version": component.version}
            self.rules.append((receipt, "its receipt: it brings no bundle"))

    def files(self, path: Path, to: str) -> None:
        if not to.startswith("/"):
            raise Usage("--files for macOS goes with --to and a path from the root: --to /usr/local/tidewell")
        self.media[path.name] = (path, "files")
        self.steps.append(({"kind": "copy", "source": path.name, "to": to}, {}))
        self._says("name", path.name, "the folder's name")
        if to in data_folders():
            self.decisions.append(f"to: {to} is a folder of the system; what lies in it stays beside yours")
        first = next((below for below, _ in files_below(path)), None)
        if first:
            self.rules.append(({"kind": "file", "path": f"{to.rstrip('/')}/{first}"}, "the first of its files"))

    def finish(self) -> MacDrafted:
        document = tomlkit.document()
        for line in _HEAD.splitlines():
            document.add(tomlkit.comment(line))
        document.add(tomlkit.nl())
        document["package"] = self._package_table()
        place = self.folder / "media"
        media = []
        for name, (path, words) in self.media.items():
            _brought(path, place / name)
            media.append(({"file": name, "sha256": sources.digest_of(place / name)}, {"file": words}))
        document["media"] = writing.array(*(_table(values, why) for values, why in media))
        document["install"] = writing.array(*(_table(values, why) for values, why in self.steps))
        rules = [
            _table({key: value for key, value in rule.items() if value}, {"kind": why}) for rule, why in self.rules
        ]
        if rules:
            document["detect"] = writing.array(*rules)
        else:
            self.decisions.append("detect: how is it seen that it is there?")
        atomic.write(self.folder / reading.NAME, writing.spaced(tomlkit.dumps(document)).encode())
        reading.read(self.folder)  # what was drafted can be read
        return MacDrafted(self.folder / reading.NAME, tuple(self.media), tuple(self.decisions), self.facts)

    def _id(self) -> str:
        """That of the half for Windows, where there is one: both are one package."""
        path = self.folder / "plan.toml"
        if not path.is_file():
            return ""
        try:
            return str(tomllib.loads(path.read_text("utf-8"))["package"]["id"])
        except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, KeyError, TypeError):
            return ""  # its own check tells that

    def _package_table(self) -> Table:
        said = self.said
        name = said.get("name", self.folder.name)
        maker = (
            re.sub(r"[^a-z0-9]+", "-", (said.get("publisher", "") + " " + name).lower()).strip("-")[:60] or "package"
        )
        values: dict[str, Any] = {"id": self._id() or maker, "name": name, "version": said.get("version") or "1.0"}
        if "publisher" in said:
            values["publisher"] = said["publisher"]
        values["identifier"] = f"local.{maker}"
        self.decisions.insert(
            0, f"identifier: local.{maker} is nobody's; write your office's own, as no other package has it"
        )
        if "version" not in said:
            self.decisions.append("version: nothing says it")
            self.why["version"] = "DECIDE: nothing says it"
        if "oldest" in said:
            values["oldest"] = said["oldest"]
        if self.processors:
            values["processors"] = self.processors
        why = self.why | {
            "identifier": "DECIDE: the receipt's; your office's own",
            "processors": "what is in its programs",
        }
        return _table(values, {key: text for key, text in why.items() if key in values})


def _plain(version: str) -> str:
    """The numbers that a version begins with."""
    found = re.match(r"\d+(\.\d+)*", version)
    return found[0] if found else ""


def _table(values: dict[str, Any], why: dict[str, str]) -> Table:
    made = writing.table(values)
    for key, text in why.items():
        if text:
            writing.remarked(made, key, text)
    return made


def _brought(source: Path, target: Path) -> None:
    """A vendor's file or folder into a workspace; links stay links, marks of quarantine stay behind."""
    if target.exists() and source.resolve() == target.resolve():
        return
    if source.is_file():
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(source, target)
        return
    with atomic.folder(target) as work:
        shutil.copytree(source, work, symlinks=True, dirs_exist_ok=True, copy_function=_bare)


def _bare(source: str, target: str) -> None:
    """Without what a file system keeps beside a file; only whether it is a program."""
    shutil.copyfile(source, target, follow_symlinks=False)
    with Path(source).open("rb") as file:
        head = file.read(8)
    Path(target).chmod(0o755 if head.startswith(b"#!") or mach_o.is_program(head) else 0o644)
