"""What each kind of step comes to: what is laid, and the lines of shell before, behind and in the way back."""

from __future__ import annotations

import plistlib
import re
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from pathlib import Path, PurePosixPath
from typing import Any, Literal

import msgspec

from yendo.errors import Unreadable, Usage
from yendo.formats import mach_o, property_list
from yendo.mac_half import model, sources
from yendo.mac_half.model import MacPlan
from yendo.mac_half.shell import call, plist_words
from yendo.terms.amounts import seconds


class LaidItem(msgspec.Struct, frozen=True):
    """Something that the payload lays at ``path``, from the root of the volume. ``watched``: a file that people may
    change, which then stays when the package is removed.
    """

    path: str
    kind: Literal["file", "folder", "link"]
    mode: int
    user: int = 0
    group: int = 0
    content: bytes | Path = b""
    target: str = ""
    watched: bool = False


class LaidBundle(msgspec.Struct, frozen=True):
    """A bundle among what is laid. ``team`` signed its program; ``extensions`` of the system it brings, by identifier;
    ``filters`` are those of them that look at the network; ``background``: it brings items that start by themselves.
    """

    path: str
    identifier: str
    version: str
    build: str
    team: str = ""
    extensions: tuple[str, ...] = ()
    filters: tuple[str, ...] = ()
    background: bool = False


class MacPart(msgspec.Struct):
    """What becomes a component of its own: a bundle for one sort of processor, or the vendor's component."""

    name: str
    items: list[LaidItem] = []
    bundles: list[LaidBundle] = []
    processor: Literal["arm64", "x86_64", ""] = ""
    vendor: Path | None = None


class MacWork(msgspec.Struct):
    """All that a plan comes to. Lines are of shell; ``carried`` are files that lie beside the scripts, by name.

    ``ending`` are lines that end what runs, before anything is taken away; ``undone`` the names of what ``undo`` needs.
    """

    items: list[LaidItem] = []
    bundles: list[LaidBundle] = []
    parts: list[MacPart] = []
    before: list[str] = []
    after: list[str] = []
    ending: list[str] = []
    undo: list[str] = []
    undone: list[str] = []
    carried: dict[str, bytes | Path] = {}
    receipts: list[str] = []  # of others that this package brings
    managed: list[model.SettingsStep] = []
    privacy: list[model.PrivacyStep] = []
    staying: list[Path] = []  # packages that are carried along and stay
    untouched: Path | None = None  # the vendor's package that is handed on as it is
    wanted: dict[str, bool] = {}  # its choices


def choices_file(choices: Mapping[str, bool]) -> bytes:
    """What the installer takes as ``-applyChoiceChangesXML``."""
    chosen = [
        {"choiceIdentifier": name, "choiceAttribute": "selected", "attributeSetting": int(on)}
        for name, on in choices.items()
    ]
    return plistlib.dumps(chosen)


class Workshop:
    """Turns a plan into work. ``base`` is the workspace, ``work`` a folder for what is taken out of images.

    Raises Usage, Unreadable, NotCovered.
    """

    def __init__(self, base: Path, plan: MacPlan, work: Path) -> None:
        self.base, self.plan, self.work, self.done = base, plan, work, MacWork()
        ways: dict[type, Callable[[Any], None]] = {
            model.AppStep: self._app,
            model.FilesStep: self._files,
            model.LinkStep: self._link,
            model.VendorPackageStep: self._package,
            model.SettingsStep: self._settings,
            model.JobStep: self._job,
            model.ShellStep: self._script,
            model.RemoveStep: lambda step: self.done.before.append(call("take_away", step.path)),
            model.QuitStep: lambda step: self._quit(step.identifier, step.wait),
            model.MessageStep: lambda step: self.done.after.append(call("tell_person", plan.package.name, step.text)),
            model.PathWaitStep: self._wait,
            model.CarryStep: self._carry,
            model.PrivacyStep: lambda step: self.done.privacy.append(step),
        }
        for step in plan.install:
            ways[type(step)](step)
        self._alone()

    def _alone(self) -> None:
        """That nothing is laid twice: the second would win, and nobody would see it."""
        seen: dict[str, LaidItem] = {}
        for item in [*self.done.items, *(one for part in self.done.parts for one in part.items if not part.processor)]:
            other = seen.setdefault(item.path, item)
            if other is not item and (item.kind != "folder" or other.kind != "folder"):
                raise Usage(f"two steps lay {item.path}")

    def _found(self, name: str) -> Path:
        """A file or folder below ``media/`` or ``extras/``."""
        for place in ("media", "extras"):
            path = self.base / place / name
            if path.exists() and not path.is_symlink():
                return path
        raise Usage(f"{name} lies neither below media/ nor below extras/")

    def _app(self, step: model.AppStep) -> None:
        if not step.intel:
            items, bundle = self._bundle(step.source, step.inside, step.to)
            self.done.items += items
            self.done.bundles.append(bundle)
        else:
            for source, processor in ((step.source, "arm64"), (step.intel, "x86_64")):
                items, bundle = self._bundle(source, step.inside, step.to)
                name = f"{bundle.identifier.rpartition('.')[2]}-{processor}"
                kind: Literal["arm64", "x86_64"] = "arm64" if processor == "arm64" else "x86_64"
                self.done.parts.append(MacPart(name, items, [bundle], kind))
        if bundle.identifier and bundle.version and not step.downgrade:
            self.done.before.append(call("not_newer", bundle.path, bundle.identifier, bundle.version))
        if step.close and bundle.identifier:
            self._quit(bundle.identifier, "60 s")
        # a file that only an older copy has would stay in the bundle, and break its seal
        self.done.before.append(call("make_room", bundle.path, bundle.identifier))
        self.done.undo.append(call("take_bundle", bundle.path))

    def _bundle(self, source: str, inside: str, to: str) -> tuple[list[LaidItem], LaidBundle]:
        path = self._found(source)
        name = PurePosixPath(inside or source).name
        top = f"{to.rstrip('/')}/{name}"
        items: list[LaidItem] = []
        info: dict[str, Any] = {}
        with sources.taken(path, inside, self.work) as tree:
            for one in tree:
                place = f"{top}/{one.below}" if one.below else top
                items.append(_laid(place, one))
                if one.below == "Contents/Info.plist" and one.file:
                    info = property_list.read(one.file, f"{name}/Contents/Info.plist")
            asks = _asks(tree, str(info.get("CFBundleExecutable") or ""))
        if not info:
            raise Usage(f"{name} is no bundle: it has no Contents/Info.plist")
        version = str(info.get("CFBundleShortVersionString") or info.get("CFBundleVersion") or "")
        identifier = str(info.get("CFBundleIdentifier") or "")
        build = str(info.get("CFBundleVersion") or version)
        return items, LaidBundle(top, identifier, version, build, *asks)

    def _files(self, step: model.FilesStep) -> None:
        mode = int(step.mode, 8) if step.mode else None
        with sources.taken(self._found(step.source), "", self.work) as tree:
            for one in tree:
                place = f"{step.to.rstrip('/')}/{one.below}" if one.below else step.to
                item = _laid(place, one, step.owner, step.group, mode)
                if place not in data_folders():  # the system's own stays as it is
                    self.done.items.append(msgspec.structs.replace(item, watched=item.kind == "file"))

    def _link(self, step: model.LinkStep) -> None:
        self.done.items.append(LaidItem(step.path, "link", 0o755, target=step.target))

    def _package(self, step: model.VendorPackageStep) -> None:
        from yendo.mac import reading

        path = self._found(step.source)
        found = reading.read(path)
        self.done.receipts += [one.identifier for one in found.components if one.identifier and one.items]
        self.done.receipts += [one for one in step.identifiers if one not in self.done.receipts]
        if found.form == "component":
            if step.as_is:
                raise Usage(
                    f"{step.source} is a component, and services take distributions: without as_is it becomes one"
                )
            if step.choices:
                raise Usage(f"{step.source} is a component, and has no choices")
            self.done.parts.append(MacPart(found.components[0].identifier or path.stem, vendor=path))
            return
        unknown = set(step.choices) - {one.identifier for one in found.choices}
        if unknown:
            known = ", ".join(one.identifier for one in found.choices) or "none"
            raise Usage(f"{step.source} has no choice {', '.join(sorted(unknown))}; it has {known}")
        if step.as_is:
            self.done.untouched, self.done.wanted = path, dict(step.choices)
            return
        name = f"{path.name.removesuffix('.pkg')}.pkg"  # the installer knows them by that
        self.done.carried[name] = path
        words = ['"${0%/*}"/' + call(name)]
        if step.choices:
            self.done.carried[f"{path.stem}.choices"] = choices_file(step.choices)
            words += ["-applyChoiceChangesXML", '"${0%/*}"/' + call(f"{path.stem}.choices")]
        self.done.after.append(" ".join(["install_package", *words]))

    def _wait(self, step: model.PathWaitStep) -> None:
        words = (step.path, "gone" if step.gone else "there", str(int(seconds(step.limit))))
        self.done.after.append(call("wait_for", *words))

    def _carry(self, step: model.CarryStep) -> None:
        place = self.base.parent / step.package / "package"
        found = [one for one in place.glob("*-macos/*.pkg") if not one.name.endswith("-removal.pkg")]
        if not found:
            raise Usage(f"{step.package} has no built package for macOS: yendo build {step.package}")
        path = max(found, key=lambda one: (one.stat().st_mtime_ns, one.name))
        self.done.staying.append(path)
        self.done.carried[path.name] = path
        self.done.after.append(f'install_package "${{0%/*}}"/{call(path.name)}')

    def _settings(self, step: model.SettingsStep) -> None:
        if step.whose == "managed":
            self.done.managed.append(step)
            return
        for key, value in step.values.items():
            words = (step.domain, key, *plist_words(value))
            self.done.after.append(call(f"set_for_{step.whose}", *words))
            self.done.undo.append(call(f"unset_for_{step.whose}", step.domain, key))

    def _job(self, step: model.JobStep) -> None:
        listed: dict[str, object] = {"Label": step.label, "ProgramArguments": list(step.program)}
        if step.at_load:
            listed["RunAtLoad"] = True
        if step.keep_alive:
            listed["KeepAlive"] = True
        if step.interval:
            listed["StartInterval"] = int(seconds(step.interval))
        kind, folder = ("agent", "LaunchAgents") if step.agent else ("daemon", "LaunchDaemons")
        content = plistlib.dumps(listed, sort_keys=False)
        self.done.items.append(LaidItem(f"/Library/{folder}/{step.label}.plist", "file", 0o644, content=content))
        self.done.before.append(call(f"unload_{kind}", step.label))
        self.done.after.append(call(f"load_{kind}", step.label))
        self.done.ending.append(call(f"unload_{kind}", step.label))

    def _script(self, step: model.ShellStep) -> None:
        lines = self.done.before if step.before else self.done.after
        for name, there in ((step.file, lines), (step.undo, self.done.undo)):
            if name:
                own = name.replace("/", "-")
                self.done.carried[own] = self.base / "extras" / name
                if not (self.base / "extras" / name).is_file():
                    raise Usage(f"extras/{name} is not there")
                there.append('"${0%/*}"/' + call(own) + f' "$volume" || stop {call("", own + " failed").strip()}')
        if step.undo:
            self.done.undone.append(step.undo.replace("/", "-"))

    def _quit(self, identifier: str, wait: str) -> None:
        line = call("quit_program", identifier, str(int(seconds(wait))))
        if line not in self.done.before:
            self.done.before.append(line)
            self.done.ending.append(line)


def _laid(path: str, one: sources.TreeItem, user: int = 0, group: int = 0, mode: int | None = None) -> LaidItem:
    if one.kind == "link":
        return LaidItem(path, "link", 0o755, user, group, target=one.target)
    if one.kind == "folder":
        return LaidItem(path, "folder", (mode | (mode & 0o444) >> 2) if mode is not None else 0o755, user, group)
    assert one.file is not None
    own = mode if mode is not None else 0o755 if one.runs else 0o644
    return LaidItem(path, "file", own, user, group, one.file)


def _asks(tree: Sequence[sources.TreeItem], program: str) -> tuple[str, tuple[str, ...], tuple[str, ...], bool]:
    """What a person would have to allow, as far as a profile can: the team that signed it, its extensions of the
    system, those of them that filter the network, whether something of it starts by itself.
    """
    team, background = "", False
    extensions: list[str] = []
    filters: list[str] = []
    files = {one.below: one.file for one in tree if one.file}
    for below, file in files.items():
        if below == f"Contents/MacOS/{program}":
            team = _signature(file)[0]
        if found := re.fullmatch(r"(Contents/Library/SystemExtensions/[^/]+/Contents)/Info\.plist", below):
            info = property_list.read(file, below)
            identifier = str(info.get("CFBundleIdentifier") or "")
            extensions.append(identifier)
            own = files.get(f"{found[1]}/MacOS/{info.get('CFBundleExecutable')}")
            may = _signature(own)[1].get(_NETWORK) if own else ()
            if any(str(one).startswith("content-filter-provider") for one in may or ()):
                filters.append(identifier)
        background |= bool(re.match(r"Contents/Library/(LaunchDaemons|LaunchAgents|LoginItems)/.", below))
    return team, tuple(filter(None, extensions)), tuple(filter(None, filters)), background


_NETWORK = "com.apple.developer.networking.networkextension"


def _signature(program: Path) -> tuple[str, dict[str, Any]]:
    """The team that signed a program, and what it may."""
    try:
        with program.open("rb") as file:
            found = [one.signature for one in mach_o.read(file, program.name) if one.signature]
    except Unreadable:
        return "", {}  # its own reader tells that
    return (found[0].team, found[0].entitlements) if found else ("", {})


@cache
def data_folders() -> Mapping[str, tuple[int, int, int]]:
    """The system's own folders: mode, owner, group. Source: ``folders.toml``."""
    import tomllib
    from importlib.resources import files

    raw = tomllib.loads(files("yendo.mac_half").joinpath("folders.toml").read_text("utf-8"))
    return {path: (int(mode, 8), user, group) for path, (mode, user, group) in raw.items()}
