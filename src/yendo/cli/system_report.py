"""What is read of the system's own packages, updates and image files."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yendo.cli import nested

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from rich.console import Console

    from yendo.formats.wim import WimFile, WimImage
    from yendo.installers.images import DiscImage
    from yendo.servicing.manifest import ServicedManifest
    from yendo.servicing.media import SystemMedia
    from yendo.servicing.reading import ListedPackage, SystemPackage

_HEADS = ("", "name", "edition", "processor", "build", "languages", "laid out")


def read(path: Path) -> WimFile | SystemPackage | SystemMedia | None:
    """A package of the system, an update, an image file, a folder of media; None for others, for which nothing else is
    loaded.
    """
    if path.is_dir():
        if not any(one.name.lower() == "sources" for one in path.iterdir()):
            return None
        from yendo.servicing import media

        return media.read(path)
    if path.is_file():
        with path.open("rb") as file:
            head = file.read(4)
        if head in (b"MSCF", b"MSWI"):
            from yendo.servicing import reading

            return reading.read(path)
    return None


def of_image(image: DiscImage) -> SystemMedia | None:
    """The media that an open disc image is; None for others."""
    from yendo.servicing import media

    return media.of_image(image)


def run(options: argparse.Namespace, found: WimFile | SystemPackage | SystemMedia) -> int:
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.formats.wim import WimFile
    from yendo.servicing import reading
    from yendo.servicing.media import SystemMedia

    if options.extract or options.icon or options.script:
        raise Usage(f"{options.file.name} is the system's own: it is read, and not taken apart here")
    if isinstance(found, SystemMedia):
        if options.json:
            body = {**nested.builtins(found), "build": found.build, "condition": found.condition}
            show.emit({"schema": "yendo.system-media/1", **body})
        elif not options.quiet:
            _media(found)
        return 0
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


def _media(found: SystemMedia) -> None:
    from yendo.cli import show
    from yendo.servicing import upgrade

    out = show.console()
    count = show.counted(len(found.images), "edition")
    out.print(
        f"[bold]{show.clean(found.file)}[/bold]: installation media with {count} in {found.image_file}; "
        f"{show.counted(found.files, 'file')}, {show.size(found.size)}"
    )
    show.grid(out, _rows(found.images), heads=_HEADS, styles=("bold",))
    for name in found.missing:
        out.print(
            f"[red]missing[/red]  {show.clean(name)}: the image file is split, and without all parts nothing begins"
        )
    if not found.setup:
        out.print("[yellow]no setup program[/yellow]: nothing on them upgrades a computer that runs")
    if found.starts:
        names = ", ".join(dict.fromkeys(one.name for one in found.starts if one.name))
        out.print(f"[dim]to start from, and no editions: {show.clean(names)}[/dim]")
    if found.setup and found.build:
        words = upgrade.switches("upgrade", int(found.build))
        show.section(out, f"Their setup upgrades unattended; yendo draft NAME {show.clean(found.file)} makes a package")
        show.grid(out, [(one.text, one.meaning) for one in words], styles=("cyan", "dim"))
    if found.condition:
        out.print("\nThey upgrade computers like this; in a plan's \\[when]:")
        for line in found.condition.splitlines():
            out.print(f"[cyan]{show.clean(line)}[/cyan]")


def _images(found: WimFile, path: Path) -> None:
    from yendo.cli import show

    out = show.console()
    how = f", {found.packing}{', packed as one' if found.solid else ''}" if found.packing else ""
    part = f", part {found.part} of {found.parts}" if found.parts > 1 else ""
    count = show.counted(len(found.images), "image")
    out.print(f"[bold]{show.clean(path.name)}[/bold]: an image file with {count}{how}{part}")
    show.grid(out, _rows(found.images), heads=_HEADS, styles=("bold",))
    if found.images and not any(one.build for one in found.images):
        out.print("[dim]none of them says that it holds a Windows[/dim]")
    if found.start:
        out.print(f"[dim]a computer may start from image {found.start}[/dim]")


def _rows(images: Iterable[WimImage]) -> list[tuple[object, ...]]:
    from yendo.cli import show

    return [
        (
            one.index, one.name, " ".join(part for part in (one.edition, one.kind) if part), one.processor, one.build,
            ", ".join(one.languages[:4]), show.size(one.size) if one.size else "",
        )
        for one in images
    ]  # fmt: skip


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


def rows(parts: Sequence[ListedPackage]) -> list[dict[str, object]]:
    """Packages of a folder or an image, a flat row each manifest."""
    found: list[dict[str, object]] = []
    for part in parts:
        if part.package is None or not part.package.manifests:
            why = part.trouble or "; ".join(part.package.unread if part.package else ())
            found.append({"path": part.path, "trouble": why})
        for one in part.package.manifests if part.package else ():
            own = one.identity
            found.append(
                {
                    "path": part.path, "name": own.name, "version": own.version, "processor": own.processor,
                    "language": own.language, "builds": list(part.package.builds) if part.package else [],
                    "permanent": one.permanent, "capabilities": list(one.capabilities), "features": list(one.features),
                }
            )  # fmt: skip
    return found


def listing(out: Console, parts: Sequence[ListedPackage]) -> None:
    """The same as a table."""
    from yendo.cli import show

    show.section(out, f"The system's own packages: {show.counted(len(parts), 'file')}")
    lines: list[tuple[object, ...]] = []
    for row in rows(parts):
        if "trouble" in row:
            lines.append((row["path"], row["trouble"]))
            continue
        named: Any = row["capabilities"] or row["features"]
        builds: Any = row["builds"]
        lines.append(
            (
                row["path"], row["name"], row["version"], f"{row['processor']} {row['language']}".strip(),
                ", ".join(builds) or "not said", "stays" if row["permanent"] else "", _some(named),
            )
        )  # fmt: skip
    show.grid(out, lines, styles=("cyan",), heads=("file", "package", "version", "for", "build", "", "brings"))


def _manifest(one: ServicedManifest) -> None:
    from yendo.cli import show

    own = one.identity
    restart = {"required": "always", "possible": "perhaps", "never": "never"}.get(one.restart.lower(), one.restart)
    rows: list[tuple[object, ...]] = [
        ("package", f"{own.name} {own.version}"),
        ("identity", own.whole if own.token else ""),
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
