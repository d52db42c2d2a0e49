"""Patches: a database of their own, the transforms for each target in storages, and cabinets.

For every target there are two transforms: one that makes the old database the new one, and one
beside it, with "#" before its name, that brings in what only the patch needs (its medium and its
own tables). Source: "Patch Packages" and "Summary property descriptions" of the Windows Installer.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

import msgspec

from yendo.errors import Unreadable
from yendo.formats import cfb
from yendo.formats.msi.database import Database
from yendo.formats.msi.schema import columns
from yendo.formats.msi.summary import Summary
from yendo.formats.msi.transform import Stream, Transform, read_storage, storage_of
from yendo.formats.msi.writer import DatabaseWriter

CODE = re.compile(r"\{[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\}")
MAX_TRANSFORMS = 512


class PatchFamily(msgspec.Struct, frozen=True):
    """A patch's place among others.

    ``product`` is "" for every target; ``supersedes`` all earlier ones of the family.
    """

    name: str
    product: str
    sequence: str
    supersedes: bool


class Patch(Database):
    """A patch, open for reading. Use as a context manager. Raises Unreadable."""

    @property
    def code(self) -> str:
        """The patch's own code, upper case."""
        found = CODE.match(self.summary.revision or "")
        if not found:
            raise Unreadable(f"{self.source}: the summary information names no patch code")
        return found[0].upper()

    @property
    def replaces(self) -> tuple[str, ...]:
        """Patch codes that it removes when it is applied."""
        return tuple(code.upper() for code in CODE.findall(self.summary.revision or "")[1:])

    @property
    def targets(self) -> tuple[str, ...]:
        """The product codes it is for, upper case."""
        return tuple(code.upper() for code in CODE.findall(self.summary.template or ""))

    @cached_property
    def metadata(self) -> dict[str, str]:
        """What it says of itself: AllowRemoval, Classification, DisplayName, TargetProductName, ..."""
        return {row.text("Property"): row.text("Value") for row in self["MsiPatchMetadata"] if not row.text("Company")}

    @cached_property
    def families(self) -> tuple[PatchFamily, ...]:
        return tuple(
            PatchFamily(
                row.text("PatchFamily"),
                row.text("ProductCode").upper(),
                row.text("Sequence"),
                bool(row.number("Attributes") & 1),
            )
            for row in self["MsiPatchSequence"]
        )

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The names of its transforms without the colon, in their order; those of its own with "#"."""
        listed = tuple(part.lstrip(":") for part in (self.summary.last_saved_by or "").split(";") if part.strip())
        if len(listed) > MAX_TRANSFORMS:
            raise Unreadable(f"{self.source}: lists {len(listed)} transforms")
        return listed

    @cached_property
    def _storages(self) -> dict[str, cfb.StorageEntry]:
        return {entry.name: entry for entry in self.container.entries() if entry.is_storage}

    def transform(self, name: str, base: Database) -> Transform:
        """One of its transforms. Raises Unreadable where it is not there."""
        storage = self._storages.get(name)
        if storage is None:
            raise Unreadable(f"{self.source}: lists a transform {name!r} that it does not hold")
        return read_storage(self.container, storage, base)

    @property
    def cabinets(self) -> dict[str, Stream]:
        return {name: entry for name, entry in self.streams.items() if not name.startswith("\x05")}


def write(
    target: BinaryIO,
    *,
    code: str,
    targets: Iterable[str],
    transforms: Mapping[str, Transform],
    cabinets: Mapping[str, bytes | Path],
    metadata: Mapping[str, str],
    families: Iterable[PatchFamily] = (),
    replaces: Iterable[str] = (),
    title: str = "Patch",
) -> None:
    """Writes a patch.

    ``transforms`` by name, in order, each followed by its own with "#". The same input gives the same bytes.
    """
    summary = Summary(
        title=title,
        subject=metadata.get("DisplayName"),
        author=metadata.get("ManufacturerName"),
        template=";".join(targets),
        last_saved_by=";".join(f":{name}" for name in transforms),
        revision=code + "".join(replaces),
        words=5,
    )
    writer = DatabaseWriter(summary=summary, kind="patch")
    writer.table(
        "MsiPatchMetadata", columns("MsiPatchMetadata"), [(None, name, value) for name, value in metadata.items()]
    )
    rows = [
        (family.name, family.product or None, family.sequence, 1 if family.supersedes else 0) for family in families
    ]
    if rows:
        writer.table("MsiPatchSequence", columns("MsiPatchSequence"), rows)
    for name, data in cabinets.items():
        writer.stream(name, data)
    writer.storages = {name: storage_of(transform) for name, transform in transforms.items()}
    writer.write(target)
