"""How the invented vendor makes a patch: from two releases of one product, with whole files and no deltas."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from yendo.formats import cab
from yendo.formats.msi import Column, Database
from yendo.formats.msi import patch as msp
from yendo.formats.msi.database import TableCell
from yendo.formats.msi.overlay import Overlay, difference
from yendo.formats.msi.schema import columns
from yendo.formats.msi.transform import TableChange, Transform
from yendo.installers.msi.fitting import EQUAL, PRODUCT, UPDATE, facts, summary_for
from yendo.installers.msi.media import payload

PATCH_ADDED, COMPRESSED, DISK = 0x1000, 0x4000, 100
SOURCE = "TIDEWELLPATCH"  # a medium without the name of a source property is no patch's


def write_patch(
    target: Path,
    old: Path,
    new: Path,
    code: str,
    *,
    metadata: Mapping[str, str] = {},
    family: msp.PatchFamily | None = None,
    replaces: tuple[str, ...] = (),
    name: str = "Old2New",
) -> None:
    """Writes the patch that makes the release ``old`` the release ``new``, both of one product code."""
    with Database(old) as before, Database(new) as after:
        had, has = payload(before, old), payload(after, new)
        main = difference(before, after)
        main.streams = {name: stream for name, stream in main.streams.items() if name.partition(".")[0] in after.schema}
        main.tables.pop("Media", None)
        main.summary = summary_for(before, after, version_flags=PRODUCT | UPDATE | EQUAL)
        changed = [key for key in has if had.get(key) != has[key]]
        main_files = main.tables.get("File")
        if main_files:
            for known in main_files.updated.values():
                known.pop("Sequence", None)
            main_files.updated = {at: known for at, known in main_files.updated.items() if known}
        first = max(row.number("LastSequence") for row in before["Media"])
        first = max(first, max(row.number("Sequence") for row in after["File"]))
        image = Overlay(before, [main])
        files = TableChange(list(after["File"].columns))
        for at, key in enumerate(changed, first + 1):
            there = image["File"].find(key)
            assert there is not None
            cells: dict[str, TableCell] = {"Sequence": at}
            if key not in had:
                cells["Attributes"] = there.number("Attributes") | PATCH_ADDED | COMPRESSED
            files.updated[(key,)] = cells
        media = TableChange(list(after["Media"].columns))
        media.inserted[(DISK,)] = (DISK, first + len(changed), None, "#PCAB", None, SOURCE)
        package = TableChange(
            [Column.parse(text) for text in columns("PatchPackage")], created="PatchPackage" not in before
        )
        package.inserted[(code,)] = (code, DISK)
        own = Transform({"File": files, "Media": media, "PatchPackage": package}, code_page=main.code_page)
        own.summary = summary_for(image, version_flags=PRODUCT)
        with target.open("wb") as file:
            msp.write(
                file,
                code=code,
                targets=[facts(before)["ProductCode"]],
                transforms={name: main, f"#{name}": own},
                cabinets={"PCAB": cab.build((key, has[key]) for key in changed)},
                metadata=metadata,
                families=[family] if family else [],
                replaces=replaces,
            )
