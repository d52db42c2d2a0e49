"""What modern app packages and bundles say in their manifest, and whether their contents are what their block map says.

Source: the schemas of the package manifest, of the bundle manifest and of the block map, which has the SHA-256 of every
64 KB of a file as it is unpacked.
"""

from __future__ import annotations

import base64
import hashlib
import io
import re
import struct
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import unquote

import defusedxml.ElementTree as ElementTree
import msgspec

from yendo.errors import Unreadable
from yendo.formats.app_package import DAMAGED, MANIFESTS, MAX_MANIFEST, AppIdentity, identity
from yendo.formats.slices import Slice

BLOCK = 65536
BLOCK_MAP, SIGNATURE, TYPES = "AppxBlockMap.xml", "AppxSignature.p7x", "[Content_Types].xml"
_TESTED = "MaxVersionTested"
MAX_ENTRIES, MAX_MAP, MAX_SIGNATURE = 200_000, 128 << 20, 4 << 20


class AppNeed(msgspec.Struct, frozen=True):
    """Another package that has to be there: its name, the oldest version, its publisher."""

    name: str
    version: str
    publisher: str = ""


class AppEntry(msgspec.Struct, frozen=True):
    """One application: what starts it, what people read, and what it adds to the system, as ``kind: value``."""

    id: str
    title: str
    executable: str
    extensions: tuple[str, ...] = ()


class InnerApp(msgspec.Struct, frozen=True):
    """A package of a bundle: its file, version, architecture and sort (application or resource)."""

    file: str
    version: str
    architecture: str
    sort: str
    size: int
    place: int = 0
    """Where in the bundle it begins; 0 where the manifest does not say."""


class AppManifest(msgspec.Struct, frozen=True, kw_only=True):
    """``windows``: the oldest version, by family of devices, ``tested`` the newest that it was tested with.
    ``capabilities`` are plain, ``restricted`` those that a store or an administrator has to grant. A framework is only
    there for others.
    """

    identity: AppIdentity
    title: str = ""
    publisher: str = ""
    framework: bool = False
    windows: dict[str, str] = {}
    tested: dict[str, str] = {}
    languages: tuple[str, ...] = ()
    needs: tuple[AppNeed, ...] = ()
    applications: tuple[AppEntry, ...] = ()
    capabilities: tuple[str, ...] = ()
    restricted: tuple[str, ...] = ()
    packages: tuple[InnerApp, ...] = ()
    files: int = 0
    size: int = 0


def opened(path: Path) -> zipfile.ZipFile:
    """The archive of a package. Raises Unreadable."""
    try:
        archive = zipfile.ZipFile(path)
    except (OSError, zipfile.BadZipFile, ValueError, NotImplementedError) as error:
        raise Unreadable(f"{path.name} is no modern app package: {error}") from error
    if len(archive.infolist()) > MAX_ENTRIES:
        archive.close()
        raise _too_many(path.name)
    return archive


def _too_many(shown: str) -> Unreadable:
    return Unreadable(f"{shown} has more than {MAX_ENTRIES} entries")


def read(path: Path) -> AppManifest:
    """Raises Unreadable."""
    who = identity(path)
    with opened(path) as archive:
        names = {info.filename: info.file_size for info in archive.infolist()}
        manifest = next(name for name in MANIFESTS if name in names)
        top = _xml(archive, manifest, MAX_MANIFEST, path.name)
        given = _bundle(top) if manifest == MANIFESTS[1] else _package(top)
        contents = [size for name, size in names.items() if name not in (BLOCK_MAP, SIGNATURE, TYPES)]
        return AppManifest(identity=who, files=len(contents), size=sum(contents), **given)


class OpenedManifest(NamedTuple):
    """A package's manifest as elements, the names of its files, and the prefixes that the manifest declares."""

    top: Any
    names: list[str]
    prefixes: set[str]


def opened_manifest(path: Path) -> OpenedManifest | None:
    """The manifest of a package; None of a bundle. Raises Unreadable."""
    with opened(path) as archive:
        return manifest_in(archive, path.name)


def manifest_in(archive: zipfile.ZipFile, shown: str) -> OpenedManifest | None:
    """The same of an archive that is open already."""
    names = [unquote(info.filename) for info in archive.infolist()]
    if MANIFESTS[0] not in names:
        return None
    data = member(archive, MANIFESTS[0], MAX_MANIFEST, shown)
    top = _xml(archive, MANIFESTS[0], MAX_MANIFEST, shown)
    found = ElementTree.iterparse(io.BytesIO(data), events=("start-ns",))
    return OpenedManifest(top, names, {prefix for _, (prefix, _) in found})


def member(archive: zipfile.ZipFile, name: str, most: int, shown: str) -> bytes:
    """A member whole. Raises Unreadable where it is damaged, or larger than ``most``."""
    try:
        if archive.getinfo(name).file_size > most:
            raise Unreadable(f"{shown}: {name} is larger than {most >> 20} MB")
        with archive.open(name) as member:
            return member.read(most + 1)[:most]
    except DAMAGED as error:
        raise Unreadable(f"{shown}: {name} cannot be read: {str(error)[:200]}") from error


def _xml(archive: zipfile.ZipFile, name: str, most: int, shown: str) -> Any:
    data = member(archive, name, most, shown)
    try:
        return ElementTree.fromstring(data)
    except (ElementTree.ParseError, ValueError) as error:
        raise Unreadable(f"{shown}: {name} is no XML: {error}") from error


def _text(top: Any, name: str) -> str:
    found = top.find(f"{{*}}Properties/{{*}}{name}")
    return (found.text or "").strip() if found is not None else ""


def _local(node: Any) -> str:
    return str(node.tag).rpartition("}")[2]


def _package(top: Any) -> dict[str, Any]:
    applications = []
    for node in top.iterfind("{*}Applications/{*}Application"):
        shown = node.find("{*}VisualElements")
        title = shown.get("DisplayName", "") if shown is not None else ""
        applications.append(
            AppEntry(
                node.get("Id", ""),
                title,
                node.get("Executable") or node.get("StartPage") or "",
                tuple(
                    text for extension in node.iterfind("{*}Extensions/{*}Extension") for text in _extension(extension)
                ),
            )
        )
    families = top.findall("{*}Dependencies/{*}TargetDeviceFamily")
    plain: list[str] = []
    restricted: list[str] = []
    for node in top.iterfind("{*}Capabilities/*"):
        name = node.get("Name", "")
        held = "restrictedcapabilities" in str(node.tag) or _local(node) == "CustomCapability"
        (restricted if held else plain).append(name)
    return {
        "title": _text(top, "DisplayName"),
        "publisher": _text(top, "PublisherDisplayName"),
        "framework": _text(top, "Framework").lower() == "true",
        "windows": {node.get("Name", ""): node.get("MinVersion", "") for node in families},
        "tested": {name: text for node in families if (name := node.get("Name")) and (text := node.get(_TESTED))},
        "languages": tuple(text for node in top.iterfind("{*}Resources/{*}Resource") if (text := node.get("Language"))),
        "needs": tuple(
            AppNeed(node.get("Name", ""), node.get("MinVersion", ""), node.get("Publisher", ""))
            for node in top.iterfind("{*}Dependencies/{*}PackageDependency")
        ),
        "applications": tuple(applications),
        "capabilities": tuple(plain),
        "restricted": tuple(restricted),
    }


def _extension(node: Any) -> Iterator[str]:
    """What an extension adds: its kind and the names in it."""
    kind = str(node.get("Category", "")).removeprefix("windows.") or _local(node)
    names = [
        value
        for inner in node.iter()
        if inner is not node
        for attribute in ("Name", "TaskId", "Alias")
        if (value := inner.get(attribute))
    ]
    types = [(inner.text or "").strip() for inner in node.iter() if _local(inner) == "FileType"]
    found = [*names, *types]
    yield f"{kind}: {', '.join(dict.fromkeys(found))}" if found else kind


def _bundle(top: Any) -> dict[str, Any]:
    packages = []
    for node in top.iterfind("{*}Packages/{*}Package"):
        size, place = node.get("Size", "0"), node.get("Offset", "0")
        packages.append(
            InnerApp(
                node.get("FileName", ""),
                node.get("Version", ""),
                node.get("Architecture", "neutral").lower(),
                node.get("Type", "resource").lower(),
                int(size) if re.fullmatch(r"\d{1,15}", size) else 0,
                int(place) if re.fullmatch(r"\d{1,15}", place) else 0,
            )
        )
    return {"packages": tuple(packages)}


def signature(path: Path) -> bytes | None:
    """The PKCS #7 message of a package's signature; None where it is unsigned. Raises Unreadable."""
    with opened(path) as archive:
        if SIGNATURE not in archive.namelist():
            return None
        data = member(archive, SIGNATURE, MAX_SIGNATURE, path.name)
    if data[:4] != b"PKCX":
        raise Unreadable(f"{path.name}: its signature does not begin with PKCX")
    return data[4:]


def stated(digest: bytes) -> dict[str, bytes]:
    """The digests that a signature states, by their marks: AXBM of the block map, AXCT of the list of types, ..."""
    if digest[:4] != b"APPX":
        return {}
    rest = digest[4:]
    return {rest[at : at + 4].decode("latin-1"): rest[at + 4 : at + 36] for at in range(0, len(rest) - 35, 36)}


def differing(path: Path) -> list[str]:
    """Names of files that are not what the block map says, or that it does not name; of a bundle those of its packages
    too, which each have a block map of their own. Raises Unreadable.
    """
    with opened(path) as archive:
        wrong = _differing(archive, path.name)
        for one in inner(archive, path.name):
            with inside(path, archive, one) as package:
                wrong += [f"{one.file}: {name}" for name in _differing(package, one.file)]
    return wrong


def inner(archive: zipfile.ZipFile, shown: str) -> tuple[InnerApp, ...]:
    """The packages of a bundle; none of a package. Raises Unreadable."""
    if MANIFESTS[1] not in archive.namelist():
        return ()
    packages: tuple[InnerApp, ...] = _bundle(_xml(archive, MANIFESTS[1], MAX_MANIFEST, shown))["packages"]
    return packages


@contextmanager
def inside(path: Path, archive: zipfile.ZipFile, one: InnerApp) -> Iterator[zipfile.ZipFile]:
    """A package of a bundle as an archive, read where it lies. Raises Unreadable where it is not stored as it is."""
    try:
        info = archive.getinfo(one.file)
    except KeyError as error:
        raise Unreadable(f"{path.name} names {one.file}, which is not in it") from error
    if info.compress_type != zipfile.ZIP_STORED:
        raise Unreadable(f"{path.name}: {one.file} is packed, and Windows reads a bundle's packages in place")
    with path.open("rb") as file:
        file.seek(info.header_offset + 26)
        name, extra = struct.unpack("<HH", file.read(4).ljust(4, b"\0"))
        begin = info.header_offset + 30 + name + extra
        if one.place not in (0, begin) or one.size != info.file_size:
            raise Unreadable(f"{path.name}: {one.file} does not lie where the bundle's manifest says")
        try:
            with zipfile.ZipFile(io.BufferedReader(Slice(file, begin, info.file_size))) as package:
                if len(package.infolist()) > MAX_ENTRIES:
                    raise _too_many(one.file)
                yield package
        except DAMAGED as error:
            raise Unreadable(f"{path.name}: {one.file} cannot be read: {str(error)[:200]}") from error


def _differing(archive: zipfile.ZipFile, shown: str) -> list[str]:
    wrong = []
    packages = {one.file for one in inner(archive, shown)}
    top = _xml(archive, BLOCK_MAP, MAX_MAP, shown)
    known = {node.get("Name", "").replace("\\", "/"): node for node in top.iterfind("{*}File")}
    for info in archive.infolist():
        name = unquote(info.filename)
        if info.filename in (BLOCK_MAP, SIGNATURE, TYPES) or info.filename.endswith("/"):
            continue
        node = known.pop(name, None)
        if (node is None or not _same(archive, info, node)) and name not in packages:
            wrong.append(name)
    return wrong + sorted(known)


def _same(archive: zipfile.ZipFile, info: zipfile.ZipInfo, node: Any) -> bool:
    try:
        blocks = [base64.b64decode(block.get("Hash", "")) for block in node.iterfind("{*}Block")]
        with archive.open(info) as member:
            for block in blocks:
                if hashlib.sha256(member.read(BLOCK)).digest() != block:
                    return False
            return not member.read(1) and str(info.file_size) == node.get("Size")
    except DAMAGED:
        return False


def digest_of(path: Path, name: str) -> bytes | None:
    """SHA-256 of a member as it is unpacked; None where there is none, or it is damaged."""
    with opened(path) as archive:
        try:
            return hashlib.sha256(member(archive, name, MAX_MAP, path.name)).digest()
        except Unreadable:
            return None
