"""Which family a file belongs to, by its structure."""

from __future__ import annotations

from pathlib import Path
from typing import BinaryIO

from yendo.errors import NotCovered, Unreadable, Usage
from yendo.installers.account import InstallerAccount
from yendo.installers.compound import MSI_KINDS, compound_family
from yendo.installers.msi import describe
from yendo.walk import regular

_MAC = {"flat-pkg": "a package", "disk-image": "a disk image"}
COMPOUND = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
_OTHERS = (
    (b"MSCF", "cabinet"),
    (b"xar!", "flat-pkg"),
    (b"7z\xbc\xaf\x27\x1c", "7z archive"),
    (b"Rar!\x1a\x07", "rar archive"),
)


def read(path: Path, *, verify: bool = False) -> InstallerAccount:
    """The account of an installer. Raises Unreadable, NotCovered for what is no installer of its own, or Usage."""
    family = recognise(path)
    if family in MSI_KINDS.values():
        kind = family.partition("-")[2]
        raise NotCovered(f"{path.name} is a {kind}, no installer of its own; see `yendo {kind} show {path} BASE.msi`")
    if family == "msi":
        return describe.account(path, verify=verify)
    if family == "msix":
        from yendo.installers import modern_app

        return modern_app.account(path, verify=verify)
    if family.endswith("-exe"):
        from yendo.installers import programs

        return programs.account(path, verify=verify)
    if family in _MAC:
        raise NotCovered(
            f"{path.name} is {_MAC[family]} for macOS: yendo read looks it over, and yendo draft FOLDER {path.name} "
            "starts the half for macOS"
        )
    if family.endswith(" archive"):
        raise NotCovered(
            f"{path.name} is a {family}: yendo read lists the installers in it, and yendo draft FOLDER {path.name} "
            "takes one out with what lies beside it"
        )
    raise NotCovered(
        f"{path.name} is of family {family}, which this version recognises and does not read; it reads installer "
        "databases, setup programs and modern app packages"
    )


def recognise(path: Path) -> str:
    """The family's id. Raises Unreadable where it is none that is known, Usage where there is no file."""
    if path.is_dir():
        raise Usage(f"{path} is a folder; name the installer in it")
    regular(path)
    try:
        with path.open("rb") as file:
            return family_of(file, path.name)
    except OSError as error:
        raise Usage(f"{path}: {error.strerror}") from error


def family_of(file: BinaryIO, name: str) -> str:
    """The family of an open file. Raises Unreadable where it is none that is known."""
    file.seek(0)
    head = file.read(8)
    if head == COMPOUND:
        return compound_family(file)
    if head.startswith(b"MZ"):
        from yendo.formats.pe import Image
        from yendo.installers import families

        return str(families.recognise(file, Image(file, name))[0].FAMILY)
    if head.startswith(b"PK\x03\x04"):
        from yendo.formats import app_package, archives

        names = {member.name for member in archives.members(file, "zip")}
        return "msix" if names.intersection(app_package.MANIFESTS) else "zip archive"
    for magic, family in _OTHERS:
        if head.startswith(magic):
            return family
    file.seek(0, 2)
    if file.tell() >= 512:
        file.seek(-512, 2)
        if file.read(4) == b"koly":
            return "disk-image"
    raise Unreadable(
        f"{name}: no installer of a known family starts with {head[:4].hex(' ') or 'nothing: the file is empty'}"
    )
