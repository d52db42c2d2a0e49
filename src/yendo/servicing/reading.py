"""What a package of the system is (``.cab``, ``.msu``), and an image file of it (``.wim``, ``.esd``, ``.swm``)."""

from __future__ import annotations

import re
import tempfile
from collections.abc import Callable, Iterable
from contextlib import AbstractContextManager
from pathlib import Path
from typing import BinaryIO, Literal

import msgspec

from yendo.errors import Unreadable
from yendo.formats import cab, plain_xml, wim
from yendo.formats.wim import WimFile
from yendo.platforms.windows.systems import base_of, sharing
from yendo.servicing import manifest as form
from yendo.servicing.manifest import ServicedIdentity, ServicedManifest
from yendo.texts import text_of
from yendo.walk import regular

MANIFEST = "update.mum"
MOST = 64 << 20  # bytes of what is read out of a cabinet
_PROPERTY = re.compile(r'^\s*([^="]{1,80}?)\s*=\s*"?([^"\r\n]{0,2000}?)"?\s*$', re.M)
_UNATTEND = "{urn:schemas-microsoft-com:unattend}"
ServicedSort = Literal["package", "update", "update as an image"]


class UpdatePart(msgspec.Struct, frozen=True):
    """A cabinet inside an update, and what the update says that it is; ``manifest`` where it could be read."""

    file: str
    identity: ServicedIdentity | None
    manifest: ServicedManifest | None = None


class SystemPackage(msgspec.Struct, frozen=True, kw_only=True):
    """A package of the system. ``says`` is what an update says of itself, by its own words."""

    file: str
    sort: ServicedSort
    manifest: ServicedManifest | None = None
    parts: tuple[UpdatePart, ...] = ()
    says: dict[str, str] = {}
    files: int = 0
    unread: tuple[str, ...] = ()

    @property
    def manifests(self) -> list[ServicedManifest]:
        found = [] if self.manifest is None else [self.manifest]
        return found + [one.manifest for one in self.parts if one.manifest]

    @property
    def builds(self) -> tuple[str, ...]:
        """The builds of Windows that it is for, by its parents; several where it fits several, none where it does not
        say.
        """
        found = {
            match[1]
            for one in self.manifests
            for parent in one.parents
            if (match := re.match(r"(?:\d+\.\d+\.)?(\d{4,6})\.\d+", parent.identity.version))
        }
        return tuple(sorted(found))


def read(path: Path) -> WimFile | SystemPackage | None:
    """An image file of Windows, an update, a package of the system; None where a file is none of these.

    Raises Unreadable where it is one, and damaged.
    """
    regular(path)
    with path.open("rb") as file:
        return read_open(file, path.name)


def read_open(file: BinaryIO, named: str) -> WimFile | SystemPackage | None:
    """The same of an open file, which may lie in a disc image; ``named`` is its name."""
    head = file.read(8)
    file.seek(0)
    update = named.lower().endswith(".msu")
    if wim.is_wim(head):
        found = wim.read(file)
        return _update_as_image(named) if update else found
    if head[:4] != b"MSCF":
        return None
    try:
        names = [one.name for one in cab.index(file).files]
    except Unreadable:
        return None  # whoever reads cabinets tells
    if own := _own_manifest(file, names):
        return SystemPackage(file=named, sort="package", manifest=own, files=len(names))
    return _of_update(file, named, names) if update and any(name.lower().endswith(".cab") for name in names) else None


class ListedPackage(msgspec.Struct, frozen=True):
    """A package of the system among others: its path with ``/``, what it is, or why it cannot be read."""

    path: str
    package: SystemPackage | None
    trouble: str = ""


def listed(files: Iterable[tuple[str, Callable[[], AbstractContextManager[BinaryIO]]]]) -> list[ListedPackage]:
    """The packages of the system and updates of a folder or a disc image, each opened where it lies."""
    found = []
    for path, opened in files:
        if not path.lower().endswith((".cab", ".msu")):
            continue
        try:
            with opened() as file:
                package = read_open(file, path.rpartition("/")[2])
                if package is None:
                    file.seek(0)
                    cab.index(file)  # a damaged one is told; a whole one is something else
        except (Unreadable, OSError) as error:
            found.append(ListedPackage(path, None, str(error)))
            continue
        if isinstance(package, SystemPackage):
            found.append(ListedPackage(path, package))
    return found


def _of_update(file: BinaryIO, named: str, names: list[str]) -> SystemPackage:
    """An update as a cabinet: packages in it, what it says of them, and of itself."""
    texts = {name for name in names if name.lower().endswith((".xml", "pkgproperties.txt"))}
    cabinets = [name for name in names if name.lower().endswith(".cab") and name.lower() != "wsusscan.cab"]
    if not cabinets:
        raise Unreadable(f"{named} is no update: there is no package in it")
    found = dict(cab.extract(file, texts, limit=MOST))
    said: dict[str, str] = {}
    stated: dict[str, ServicedIdentity] = {}
    for name, data in found.items():
        if name.lower().endswith(".xml"):
            stated |= _stated(data, name)
        else:
            said |= {key.strip(): value.strip() for key, value in _PROPERTY.findall(text_of(data))}
    parts, unread = [], []
    for name in cabinets:
        inner = _manifest_of(file, name)
        if isinstance(inner, str):
            unread.append(inner)
        parts.append(UpdatePart(name, stated.get(name.lower()), None if isinstance(inner, str) else inner))
    return SystemPackage(
        file=named, sort="update", parts=tuple(parts), says=said, files=len(names), unread=tuple(unread)
    )


def _own_manifest(cabinet: BinaryIO, names: Iterable[str]) -> ServicedManifest | None:
    """The manifest of a cabinet that is a package of the system. Raises Unreadable."""
    own = next((name for name in names if name.lower() == MANIFEST), "")
    return form.read(dict(cab.extract(cabinet, {own}, limit=MOST))[own], own) if own else None


def _manifest_of(file: BinaryIO, name: str) -> ServicedManifest | str:
    """The manifest of a cabinet within a cabinet, or why there is none."""
    try:
        with tempfile.TemporaryFile(prefix="yendo-update-") as inner:
            for _, pieces in cab.pieces(file, {name}, limit=8 << 30):
                for piece in pieces:
                    inner.write(piece)
            inner.seek(0)
            own = _own_manifest(inner, [one.name for one in cab.index(inner).files])
            return own or f"{name} has no {MANIFEST}"
    except Unreadable as error:
        return f"{name}: {error}"


def _stated(data: bytes, name: str) -> dict[str, ServicedIdentity]:
    """What an update's document says of each of its cabinets, by their names in small letters."""
    root = plain_xml.parsed(data, name)
    found = {}
    for package in root.iter(f"{_UNATTEND}package"):
        own, source = package.find(f"{_UNATTEND}assemblyIdentity"), package.find(f"{_UNATTEND}source")
        if own is not None and source is not None:
            place = source.get("location", "").replace("/", "\\").rpartition("\\")[2]
            found[place.lower()] = form.identity(own)
    return found


def _update_as_image(named: str) -> SystemPackage:
    """A later update is an image file: only that it is one is known."""
    return SystemPackage(
        file=named, sort="update as an image",
        unread=("it is an image file with differences: its packages are not read, and it may need others beside it",),
    )  # fmt: skip


def fits(builds: Iterable[str], build: str) -> bool:
    """Whether a package for these builds fits a machine's build; one base may be several builds, by a switch."""
    wanted = set(builds)
    return not wanted or build in wanted or str(base_of(int(build))) in wanted


def condition(package: SystemPackage) -> str:
    """The run condition that the machine's build fits, as a plan's ``[when]`` has it; empty where it does not say."""
    ranges = []
    for build in package.builds:
        last = max(sharing().get(int(build), (int(build),)))
        ranges.append(f'os = ">=10.0.{build}, <10.0.{last + 1}"')
    if len(ranges) == 1:
        return ranges[0]
    return f"any = [{', '.join(f'{{ {one} }}' for one in ranges)}]" if ranges else ""
