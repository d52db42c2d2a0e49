"""From what is laid to the payload of a component, and to its bill of materials."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec

from yendo.formats import bom
from yendo.formats.bom import BillItem, Checksum
from yendo.formats.cpio_writer import CpioWriter, PackedStream, pieces
from yendo.mac_half.work import LaidItem, data_folders


class WrittenPayload(msgspec.Struct, frozen=True):
    """``file`` is the packed payload, ``bill`` its bill; ``count`` its entries, ``size`` its bytes unpacked."""

    file: Path
    bill: bytes
    count: int
    size: int


def ordered(items: Iterable[LaidItem]) -> list[LaidItem]:
    """With every folder that they lie in, as the system has it, and each before what is in it."""
    found = {item.path: item for item in items}
    for path in list(found):
        while path != "/":
            path = path.rpartition("/")[0] or "/"
            mode, user, group = data_folders().get(path, (0o755, 0, 0))
            found.setdefault(path, LaidItem(path, "folder", mode, user, group))
    for path, (mode, user, group) in data_folders().items():
        if path in found:  # the installer would make the system's own folders another's
            found[path] = LaidItem(path, "folder", mode, user, group)
    return sorted(found.values(), key=lambda item: item.path.strip("/").encode().split(b"/"))


def written(items: Sequence[LaidItem], target: Path) -> WrittenPayload:
    """Writes the payload of ordered items into a file. Raises OSError, ValueError."""
    bill: list[BillItem] = []
    with target.open("wb") as file:
        stream = PackedStream(file)
        try:
            archive = CpioWriter(stream)
            for item in items:
                bill.append(_entry(archive, item))
            archive.end()
            stream.close()
        finally:
            stream.stop()
    return WrittenPayload(target, bom.written(bill), len(items), sum(one.size for one in bill if one.kind == "file"))


def _entry(archive: CpioWriter, item: LaidItem) -> BillItem:
    path = "." if item.path == "/" else f".{item.path}"
    check = Checksum()
    if item.kind == "folder":
        archive.begin(path, "folder", item.mode, item.user, item.group, 0)
        return BillItem(path, "folder", item.mode, item.user, item.group)
    raw = item.target.encode("utf-8", "surrogateescape") if item.kind == "link" else item.content
    size = len(raw) if isinstance(raw, bytes) else raw.stat().st_size
    archive.begin(path, item.kind, item.mode, item.user, item.group, size)
    if isinstance(raw, bytes):
        archive.content(raw)
        check.update(raw)
    else:
        told = 0
        with raw.open("rb") as file:
            for piece in pieces(file):
                told += len(piece)
                archive.content(piece)
                check.update(piece)
        if told != size:
            raise OSError(f"{raw} changed while it was read")
    return BillItem(path, item.kind, item.mode, item.user, item.group, size, check.value(), item.target)


def scripts(found: Sequence[tuple[str, bytes | Path]], target: Path) -> Path:
    """The archive of a component's scripts and of what lies beside them. Raises OSError, ValueError."""
    with target.open("wb") as file:
        stream = PackedStream(file)
        try:
            archive = CpioWriter(stream)
            _entry(archive, LaidItem("/", "folder", 0o755))
            for name, content in sorted(found):
                _entry(archive, LaidItem(f"/{name}", "file", 0o755, content=content))
            archive.end()
            stream.close()
        finally:
            stream.stop()
    return target
