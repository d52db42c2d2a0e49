"""Which family a file belongs to, by its structure."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from yendo.errors import NotCovered, Unreadable, Usage
from yendo.formats.msi.writer import CLASS_IDS
from yendo.installers.account import Account
from yendo.installers.msi import describe

_MAGIC: tuple[tuple[bytes, str], ...] = (
    (b"MZ", "a Windows program"),
    (b"MSCF", "a cabinet"),
    (b"PK\x03\x04", "a zip archive or modern app package"),
    (b"7z\xbc\xaf\x27\x1c", "a 7z archive"),
    (b"xar!", "a flat package of macOS"),
)
_MSI_KINDS = {"transform": "msi-transform", "patch": "msi-patch"}


def read(path: Path, *, verify: bool = False) -> Account:
    """The account of an installer. Raises Unreadable, NotCovered for a family of a later version, or Usage."""
    family = recognise(path)
    readers: dict[str, Callable[..., Account]] = {"msi": describe.account}
    if family in _MSI_KINDS.values():
        kind = family.partition("-")[2]
        raise NotCovered(f"{path.name} is a {kind}, no installer of its own; see `yendo {kind} show {path} BASE.msi`")
    if family not in readers:
        raise NotCovered(f"{path.name} is of family {family}, which this version recognises and does not read; it reads: msi")
    return readers[family](path, verify=verify)


def recognise(path: Path) -> str:
    """The family's id. Raises Unreadable where it is none that is known, Usage where there is no file."""
    if path.is_dir():
        raise Usage(f"{path} is a folder; name the installer in it")
    try:
        with path.open("rb") as file:
            head = file.read(8)
    except OSError as error:
        raise Usage(f"{path}: {error.strerror}") from error
    if head == b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1":
        from yendo.formats.cfb import CompoundFile

        with CompoundFile(path) as container:
            class_id = container.class_id
        import uuid

        for kind, raw in CLASS_IDS.items():
            if class_id and uuid.UUID(class_id.strip("{}")) == uuid.UUID(bytes_le=bytes.fromhex(raw)):
                return _MSI_KINDS.get(kind, "msi")
        return "msi"  # databases without a class identifier are common; reading says if it is none
    for magic, what in _MAGIC:
        if head.startswith(magic):
            raise NotCovered(f"{path.name} is {what} (its first bytes say so); this version reads installer databases (.msi) only")
    raise Unreadable(f"{path.name}: no installer of a known family starts with {head[:4].hex(' ') or 'nothing: the file is empty'}")
