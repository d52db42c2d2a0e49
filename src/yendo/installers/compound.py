"""What a compound file of the Windows Installer is: a database, a transform or a patch."""

from __future__ import annotations

import uuid
from typing import BinaryIO

from yendo.formats.msi.writer import CLASS_IDS

MSI_KINDS = {"transform": "msi-transform", "patch": "msi-patch"}


def compound_family(file: BinaryIO) -> str:
    """Database, transform or patch, by the class of the container.

    Source: the class identifiers that such files carry.
    """
    file.seek(0)
    head = file.read(512)
    sector = 1 << int.from_bytes(head[30:32], "little") if 9 <= int.from_bytes(head[30:32], "little") <= 16 else 512
    file.seek((int.from_bytes(head[48:52], "little") + 1) * sector)
    root = file.read(128)
    for kind, raw in CLASS_IDS.items():
        if uuid.UUID(bytes_le=root[80:96].ljust(16, b"\0")) == uuid.UUID(bytes_le=bytes.fromhex(raw)):
            return MSI_KINDS.get(kind, "msi")
    return "msi"  # databases without a class identifier are common; reading says if it is none
