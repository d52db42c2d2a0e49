"""The older form of packages for macOS: a folder with a property list, an archive and a bill; several in one holder.

Source: the published description of ``Info.plist`` for packages (keys ``IFPkg...``) and of the operations that the
installer runs beside them. No such package of another maker is in the registries here: archives are by other writers.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec

from yendo.errors import Unreadable
from yendo.formats import bom, cpio, property_list
from yendo.mac import reading
from yendo.mac.findings import findings
from yendo.mac.package import MacComponent, MacItem, MacPackage, MacScript, MacSignature

ARCHIVES = ("Archive.pax.gz", "Archive.pax.bz2", "Archive.pax")
# What the installer runs, in its order; the first two decide whether it may.
SCRIPTS = (
    "InstallationCheck", "VolumeCheck", "preflight", "preinstall", "preupgrade", "postinstall", "postupgrade",
    "postflight",
)  # fmt: skip
MAX_LIST, MAX_INSIDE = 4 << 20, 256
_RESTARTS = {
    "RequiredRestart": "restart",
    "RecommendedRestart": "restart",
    "RequiredLogout": "logout",
    "Shutdown": "shutdown",
}


def is_older(path: Path) -> bool:
    """Whether a folder is a package, or holds several, of that form."""
    inside = path / "Contents"
    return path.suffix.lower() in (".pkg", ".mpkg") and (
        any((inside / name).is_file() for name in ARCHIVES) or (inside / "Packages").is_dir()
    )


def read(path: Path, *, listing: bool = False) -> MacPackage:
    """The whole of it; with ``listing`` its files by the bill alone. Raises Unreadable."""
    info = _info(path)
    inside = list(_packages(path))
    components = tuple(_component(one, listing) for one in inside)
    names = [_first(info, "CFBundleName", "IFPkgDescriptionTitle"), path.stem]
    found = MacPackage(
        path.name,
        "older",
        next(filter(None, names), ""),
        str(info.get("CFBundleIdentifier") or ""),
        _version(info),
        (),
        "",
        MacSignature("none"),
        components,
        checks=tuple(
            f"{one.when} of {each.identifier}" for each in components for one in each.scripts if "Check" in one.when
        ),
    )
    return msgspec.structs.replace(found, findings=tuple(findings(found, "")))


def payloads(path: Path) -> Iterator[tuple[str, Path, str]]:
    """Each package in it: its identifier, its archive, where that is laid. Raises Unreadable."""
    for one in _packages(path):
        archive = _archive(one)
        if archive is not None:
            info = _info(one)
            yield str(info.get("CFBundleIdentifier") or one.stem), archive, _location(info)


def _packages(path: Path) -> Iterator[Path]:
    """The package itself, or those in it. Only what really lies inside: a link leads out."""
    if _archive(path) is not None:
        yield path
    folder = path / "Contents" / "Packages"
    if folder.is_dir() and not folder.is_symlink():
        for count, one in enumerate(sorted(folder.iterdir())):
            if count >= MAX_INSIDE:
                raise Unreadable(f"{path.name} holds more than {MAX_INSIDE} packages")
            if one.is_dir() and not one.is_symlink() and is_older(one):
                yield from _packages(one)


def _archive(path: Path) -> Path | None:
    return next((found for name in ARCHIVES if _plain(found := path / "Contents" / name)), None)


def _plain(path: Path) -> bool:
    return path.is_file() and not path.is_symlink()


def _info(path: Path) -> Mapping[str, Any]:
    place = path / "Contents" / "Info.plist"
    if not _plain(place):
        raise Unreadable(f"{path.name} has no Contents/Info.plist")
    return property_list.read(place, f"Contents/Info.plist of {path.name}", MAX_LIST)


def _first(info: Mapping[str, Any], *keys: str) -> str:
    return next((str(info[key]) for key in keys if info.get(key)), "")


def _version(info: Mapping[str, Any]) -> str:
    major, minor = info.get("IFMajorVersion"), info.get("IFMinorVersion")
    numbers = f"{major}.{minor or 0}" if major is not None else ""
    return _first(info, "CFBundleShortVersionString", "CFBundleVersion") or numbers


def _location(info: Mapping[str, Any]) -> str:
    return "/" + str(info.get("IFPkgFlagDefaultLocation") or "/").strip("/")


def _component(path: Path, listing: bool) -> MacComponent:
    info = _info(path)
    location = _location(info)
    troubles: list[str] = []
    items: list[MacItem] = []
    billed: list[MacItem] | None = None
    bill = path / "Contents" / "Archive.bom"
    try:
        if _plain(bill):
            if bill.stat().st_size > bom.MAX_BILL:
                raise Unreadable(f"it is larger than {bom.MAX_BILL} bytes")
            billed = reading.billed(bom.read(bill.read_bytes()), location)
    except Unreadable as error:
        troubles.append(f"its bill of materials: {error}")
    archive = _archive(path)
    try:
        if listing and billed is not None:
            items = billed
        elif archive is not None:
            with archive.open("rb") as file:
                items = list(reading.laid(cpio.entries(file), location))
    except Unreadable as error:
        troubles.append(f"its archive: {error}")
    relocatable = bool(info.get("IFPkgFlagRelocatable"))
    identifier = str(info.get("CFBundleIdentifier") or "")
    return MacComponent(
        identifier,
        _version(info),
        location,
        str(info.get("IFPkgFlagAuthorizationAction") or "") in ("RootAuthorization", "AdminAuthorization"),
        _RESTARTS.get(str(info.get("IFPkgFlagRestartAction") or ""), ""),
        tuple(items),
        (),
        (identifier,) if relocatable else (),
        tuple(_scripts(path)),
        "; ".join(troubles),
        path.name,
        tuple(reading.unlike(items, billed)) if billed is not None else (),
    )


def _scripts(path: Path) -> Iterator[MacScript]:
    """Those beside it: in ``Resources``, also of one language."""
    for name in SCRIPTS:
        for place in (path / "Contents" / "Resources" / name, path / "Contents" / name):
            if not _plain(place) or place.stat().st_size > reading.MAX_SCRIPT:
                continue
            text = place.read_bytes().decode("utf-8", "replace")
            first = text.partition("\n")[0].rstrip("\r")
            yield MacScript(name, first[2:].strip() if first.startswith("#!") else "", text)
            break
