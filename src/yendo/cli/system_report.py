"""What is read of the system's own packages, updates and image files."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import nested

if TYPE_CHECKING:
    from collections.abc import Iterable

    from yendo.formats.wim import WimFile
    from yendo.servicing.manifest import ServicedManifest
    from yendo.servicing.reading import SystemPackage


def read(path: Path) -> WimFile | SystemPackage | None:
    """A package of the system, an update or an image file; None for others, for which nothing else is loaded."""
    if not path.is_file():
        return None
    with path.open("rb") as file:
        if file.read(4) not in (b"MSCF", b"MSWI"):
            return None
    from yendo.servicing import reading

    return reading.read(path)


def run(options: argparse.Namespace, found: WimFile | SystemPackage) -> int:
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.formats.wim import WimFile
    from yendo.servicing import reading

    if options.extract or options.icon or options.script:
        raise Usage(f"{options.file.name} is the system's own: it is read, and not taken apart here")
    if isinstance(found, WimFile):
        if options.json:
            show.emit({"schema": "yendo.image-file/1", "file": options.file.name, **nested.builtins(found)})
        elif not options.quiet:
            _images(found, options.file)
    elif options.json:
        body = {**nested.builtins(found), "builds": found.builds, "condition": reading.condition(found)}
        show.emit({"schema": "yendo.system-package/1", **body})
    elif not options.quiet:
        _package(found)
    return 0


def _images(found: WimFile, path: Path) -> None:
    from yendo.cli import show

    out = show.console()
    how = f", {found.packing}{', packed as one' if found.solid else ''}" if found.packing else ""
    part = f", part {found.part} of {found.parts}" if found.parts > 1 else ""
    count = show.counted(len(found.images), "image")
    out.print(f"[bold]{show.clean(path.name)}[/bold]: an image file with {count}{how}{part}")
    rows = [
        (
            one.index, one.name, " ".join(part for part in (one.edition, one.kind) if part), one.processor, one.build,
            ", ".join(one.languages[:4]), show.size(one.size) if one.size else "",
        )
        for one in found.images
    ]  # fmt: skip
    show.grid(out, rows, heads=("", "name", "edition", "processor", "build", "languages", "laid out"), styles=("bold",))
    if found.images and not any(one.build for one in found.images):
        out.print("[dim]none of them says that it holds a Windows[/dim]")
    if found.start:
        out.print(f"[dim]a computer may start from image {found.start}[/dim]")


def _package(found: SystemPackage) -> None:
    from yendo.cli import show
    from yendo.servicing.reading import condition

    out = show.console()
    sorts = {"package": "a package of the system", "update": "an update"}
    out.print(f"[bold]{show.clean(found.file)}[/bold]: {sorts.get(found.sort, 'an update as an image file')}")
    for one in found.manifests:
        _manifest(one)
    wanted = ("KB Article Number", "ApplyTo", "Applies to", "Build Date", "Installation Type", "Support Link")
    rows = [(f"it says of itself: {name}", found.says[name]) for name in wanted if name in found.says]
    rows += [("not read", text) for text in found.unread]
    if rows:
        show.grid(out, rows, styles=("dim",))
    if text := condition(found):
        out.print(f"\nIt fits no other build; in a plan: [cyan]{show.clean(text)}[/cyan]")
    elif found.sort != "update as an image":
        out.print("\n[yellow]It does not say for which build it is[/yellow]; whether it fits shows on the machine only")


def _manifest(one: ServicedManifest) -> None:
    from yendo.cli import show

    own = one.identity
    restart = {"required": "always", "possible": "perhaps", "never": "never"}.get(one.restart.lower(), one.restart)
    rows: list[tuple[object, ...]] = [
        ("package", f"{own.name} {own.version}"),
        ("called", one.shown or one.article),
        ("sort", one.release),
        ("for", ", ".join(part for part in (own.processor, own.language) if part)),
        ("restart", restart),
        ("removing", "cannot be removed: it says so itself" if one.permanent else ""),
        ("needs first", _some([f"{each.identity.name} {each.identity.version}" for each in one.parents])),
        ("features", _some(one.features)),
        ("capabilities", _some(one.capabilities)),
        ("needs capabilities", _some(one.needs)),
        ("holds", show.counted(len(one.inner), "package") if one.inner else ""),
    ]
    show.grid(show.console(), [row for row in rows if row[1]], styles=("dim",))


def _some(names: Iterable[str]) -> str:
    from yendo.terms.amounts import some_of

    found = list(names)
    return some_of(found, 4) if found else ""
