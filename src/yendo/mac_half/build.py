"""Builds the package for macOS: a distribution that installs, another that removes, a script that detects, profiles.

The same plan and media give the same bytes, whoever builds and on which system.
"""

from __future__ import annotations

import hashlib
import shutil
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from yendo import atomic, digest
from yendo.errors import Unreadable, Usage
from yendo.formats import xar_writer
from yendo.formats.xar import Xar
from yendo.formats.xar_writer import XarMember
from yendo.mac import reading
from yendo.mac_half import describe, detection, payload, profiles, removal, sources
from yendo.mac_half.describe import Described
from yendo.mac_half.model import MacPlan
from yendo.mac_half.shell import call, script
from yendo.mac_half.work import LaidItem, MacPart, MacWork, Workshop, choices_file

FOLDER, CHOICES = "package", "choices.xml"
MAX_INSIDE = 64 << 20


class MacBuilt(msgspec.Struct, frozen=True):
    """``package`` installs, ``removal`` removes; ``profiles`` have to be delivered first. ``digest`` is over all."""

    folder: Path
    package: Path
    removal: Path
    profiles: tuple[Path, ...]
    digest: str
    size: int
    count: int
    notes: tuple[str, ...] = ()


def built(base: Path, plan: MacPlan) -> Path:
    """The built folder. Raises Usage where there is none."""
    folder = base / FOLDER / name_of(plan)
    if not folder.is_dir():
        raise Usage(f"{folder.name} is not built: yendo build {base.name}")
    return folder


def as_planned(base: Path, plan: MacPlan) -> tuple[Path, str]:
    """The built folder and its digest, where it is what the plan gives now. Raises Usage, and what ``build`` raises."""
    folder = built(base, plan)
    told = digest_of(folder)
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
        if build(base, plan, Path(place) / folder.name).digest != told:
            raise Usage(f"the plan or its media have changed since {folder.name} was built: build it again")
    return folder, told


def name_of(plan: MacPlan) -> str:
    """The name of the built folder."""
    return f"{plan.package.id}-{plan.package.version}-r{plan.package.revision}-macos"


def build(base: Path, plan: MacPlan, output: Path | None = None) -> MacBuilt:
    """Raises Usage, Unreadable, NotCovered."""
    for name, problem in held(base, plan):
        if problem:
            raise Usage(f"media/{name} {problem}; get it again, draft again, or state its digest")
    target = output or base / FOLDER / name_of(plan)
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place, atomic.folder(target) as folder:
        work = Path(place)
        done = Workshop(base, plan, work).done
        title = f"{plan.package.name} {plan.package.version}"
        file = f"{plan.package.id}-{plan.package.version}-r{plan.package.revision}"
        if done.untouched:
            count = _untouched(done, folder, file)
        else:
            members, parts, count = _components(plan, done, work, title)
            described = describe.distribution(plan, title, plan.package.identifier, parts)
            with (folder / f"{file}.pkg").open("wb") as out:
                xar_writer.write(out, [XarMember("Distribution", described, pack=True), *members])
        taking = removal.script_of(plan, done, f"{title}: takes it away")
        with (folder / f"{file}-removal.pkg").open("wb") as out:
            xar_writer.write(out, _taking(plan, done, taking, work))
        _put(folder / "remove" / "remove.sh", taking)
        for name in done.undone:
            _put(folder / "remove" / name, _bytes(done.carried[name]))
        _put(folder / "detect.sh", detection.script_of(plan, done.items))
        made = profiles.write(plan, done, folder)
        size = sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())
        told = digest_of(folder)
        notes = _notes(done)
    return MacBuilt(
        target,
        target / f"{file}.pkg",
        target / f"{file}-removal.pkg",
        tuple(target / name for name in made),
        told,
        size,
        count,
        notes,
    )


def _untouched(done: MacWork, folder: Path, file: str) -> int:
    """The vendor's package as it is, its choices beside it; how many things it lays."""
    assert done.untouched is not None
    shutil.copyfile(done.untouched, folder / f"{file}.pkg")
    if done.wanted:
        (folder / CHOICES).write_bytes(choices_file(done.wanted))
    return sum(len(one.items) for one in reading.read(done.untouched, listing=True).components)


def held(base: Path, plan: MacPlan) -> Iterator[tuple[str, str]]:
    """Each medium, and what is wrong with it; empty where it is the one that the plan was made for."""
    for medium in plan.media:
        path = base / "media" / medium.file
        there = path.exists()
        same = there and sources.digest_of(path) == medium.sha256
        yield medium.file, "" if same else "is not what the plan was made for" if there else "is not there"


def _components(plan: MacPlan, done: MacWork, work: Path, title: str) -> tuple[list[XarMember], list[Described], int]:
    """The members of the archive, the components in their order, and how many things are laid."""
    package = plan.package
    before = _conditions(plan) + done.before
    first = [("preinstall", script(f"{title}: before it is laid", ["volume=${3:-/}", *before]).encode())]
    last = [("postinstall", script(f"{title}: when it is laid", ["volume=${3:-/}", *done.after]).encode())]
    alone = not done.parts
    own = [*(first if before else []), *(last if done.after and alone else [])]
    members, one, count = _component(
        plan, Described("main.pkg", package.identifier, package.receipt_version), done.items, done, own, work
    )
    described = [one]
    for part in done.parts:
        more, one, laid = _part(plan, part, done, work)
        members, described, count = members + more, [*described, one], count + laid
    if done.after and not alone:
        behind = Described("behind.pkg", f"{package.identifier}.behind", package.receipt_version)
        more, one, _ = _component(plan, behind, [], MacWork(carried=done.carried), last, work)
        members, described = members + more, [*described, one]
    return members, described, count


def _component(
    plan: MacPlan, one: Described, items: Sequence[LaidItem], done: MacWork, own: list[tuple[str, bytes]], work: Path
) -> tuple[list[XarMember], Described, int]:
    """A component with what it lays, and its scripts with all that is carried beside them."""
    members: list[XarMember] = []
    count = 0
    if items:
        laid = payload.written(payload.ordered(items), work / f"{one.folder}.payload")
        count = laid.count
        one = msgspec.structs.replace(one, files=laid.count, kilobytes=-(-laid.size // 1024))
        members = [XarMember(f"{one.folder}/Bom", laid.bill, pack=True), XarMember(f"{one.folder}/Payload", laid.file)]
    if own:
        carried = [(name, content) for name, content in done.carried.items() if name not in done.undone]
        packed = payload.scripts([*own, *carried], work / f"{one.folder}.scripts")
        members.append(XarMember(f"{one.folder}/Scripts", packed))
    info = describe.package_info(one, done.bundles, [name for name, _ in own], restart=plan.package.restart)
    return [*members, XarMember(f"{one.folder}/PackageInfo", info, pack=True)], one, count


def _part(plan: MacPlan, part: MacPart, done: MacWork, work: Path) -> tuple[list[XarMember], Described, int]:
    if part.vendor is not None:
        return _vendor(part, work)
    folder = f"{part.name}.pkg"
    identifier = f"{plan.package.identifier}.{part.processor.replace('_', '-')}"
    one = Described(folder, identifier, plan.package.receipt_version, processor=part.processor)
    return _component(plan, one, part.items, MacWork(bundles=part.bundles), [], work)


def _vendor(part: MacPart, work: Path) -> tuple[list[XarMember], Described, int]:
    """The vendor's component, byte for byte."""

    assert part.vendor is not None
    found = reading.read(part.vendor).components[0]
    if found.trouble:
        raise Unreadable(f"{part.vendor.name}: {found.trouble}")
    folder = f"{part.vendor.stem}.pkg"
    members = []
    with part.vendor.open("rb") as file:
        archive = Xar(file, part.vendor.name)
        for number, entry in enumerate(archive.entries):
            if entry.kind != "file":
                continue
            place = work / f"{folder}-{number}"
            with place.open("wb") as out:
                if entry.encoding == "none":
                    shutil.copyfileobj(archive.packed(entry), out, 1 << 20)
                else:
                    out.write(archive.read(entry, MAX_INSIDE))
            members.append(XarMember(f"{folder}/{entry.path}", place))
    size = sum(item.size for item in found.items) // 1024
    return members, Described(folder, found.identifier, found.version, len(found.items), size), len(found.items)


def _taking(plan: MacPlan, done: MacWork, text: str, work: Path) -> list[XarMember]:
    """The package that removes: it lays nothing, so it leaves no receipt of its own."""
    one = Described("removal.pkg", f"{plan.package.identifier}.removal", plan.package.receipt_version)
    carried = [(name, done.carried[name]) for name in done.undone]
    packed = payload.scripts([("postinstall", text.encode()), *carried], work / "removal.scripts")
    title = f"{plan.package.name} {plan.package.version}: removal"
    whole = msgspec.structs.replace(plan, package=msgspec.structs.replace(plan.package, restart=False))
    return [
        XarMember("Distribution", describe.distribution(whole, title, one.identifier, [one]), pack=True),
        XarMember("removal.pkg/Scripts", packed),
        XarMember("removal.pkg/PackageInfo", describe.package_info(one, [], ["postinstall"]), pack=True),
    ]


def _conditions(plan: MacPlan) -> list[str]:
    """What no description can say, asked by the first script."""
    from yendo.terms.amounts import size

    when = plan.when
    lines = ["need_running_volume"] if when.volume else []
    lines += [call("need_receipt", one) for one in when.receipts]
    lines += [call("need_bundle", *one.split(" ")) for one in when.bundles]
    lines += [call("need_profile", one) for one in when.profiles]
    if when.disk:
        lines.append(call("need_disk", str(-(-size(when.disk) // 1024))))
    if when.person:
        lines.append({"there": "need_person", "nobody": "need_nobody"}[when.person])
    return [*lines, *(["need_mains"] if when.mains else [])]


def _notes(done: MacWork) -> tuple[str, ...]:
    if done.untouched:
        return ("the vendor's package as it is, with its signature",)
    vendor = [step for step in done.after if step.startswith("install_package")]
    return (
        ("a package of the vendor is installed from a script: its own receipts are removed with ours",)
        if vendor
        else ()
    )


def _put(path: Path, content: str | bytes) -> None:
    path.parent.mkdir(exist_ok=True)
    path.write_bytes(content.encode() if isinstance(content, str) else content)
    path.chmod(0o755)


def _bytes(content: bytes | Path) -> bytes:
    return content if isinstance(content, bytes) else content.read_bytes()


def digest_of(folder: Path) -> str:
    """Over the names and contents of all files; of packages over what is in them, so that it is the same once they are
    signed. Raises Unreadable.
    """
    state = hashlib.sha256()
    for path in sorted(folder.rglob("*")):
        if path.is_file():
            told = _digest_inside(path) if path.suffix == ".pkg" else digest.of_file(path)
            state.update(f"{path.relative_to(folder).as_posix()}\0{told}\0".encode())
    return state.hexdigest()


def _digest_inside(path: Path) -> str:
    state = hashlib.sha256()
    with path.open("rb") as file:
        archive = Xar(file, path.name)
        for one in sorted(archive.entries, key=lambda one: one.path):
            told = digest.of_stream(archive.packed(one)) if one.kind == "file" else one.target
            state.update(f"{one.path}\0{one.kind}\0{one.encoding}\0{told}\0".encode())
    return state.hexdigest()
