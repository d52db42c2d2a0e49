"""Say what an installer is and does, without running any of it; or list a whole folder of installers.

yendo read lantern-6.2.1.msi
yendo read sounder-setup.exe --why
yendo read sounder-setup.exe --extract inside
yendo read from-tidewell --csv installers.csv
yendo read drivers --for arm64
yendo read drivers --device 'USB\\VID_FFFE&PID_0021'
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from yendo.installers.images import Holder, ImageEntry
    from yendo.servicing.reading import ListedPackage


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "file",
        type=Path,
        metavar="FILE",
        help="the vendor's installer, a package for macOS, a driver's .inf or .cat, an update (.msu, .cab), an image "
        "file (.wim, .esd), or a folder of them",
    )
    parser.add_argument("--effects", action="store_true", help="list every effect")
    parser.add_argument("--why", action="store_true", help="show where each value comes from")
    parser.add_argument(
        "--verify", action="store_true", help="read the whole file: its hash, and whether the signature's digest holds"
    )
    inside = parser.add_argument_group("setup programs")
    inside.add_argument("--contents", action="store_true", help="list everything inside, level by level")
    inside.add_argument(
        "--listing",
        action="store_true",
        help="of a package or an image for macOS: only what its bill or catalogue lists; nothing is unpacked",
    )
    inside.add_argument(
        "--script", action="store_true", help="print the compiled script, or the manifest's packages, one line a step"
    )
    inside.add_argument("--extract", type=Path, metavar="DIR", help="write everything inside into a new folder")
    inside.add_argument("--icon", type=Path, metavar="FILE.png", help="write the program's icon as a picture")
    folder = parser.add_argument_group("folders")
    folder.add_argument("--csv", type=Path, metavar="FILE", help="also write the table as CSV")
    folder.add_argument("--parquet", type=Path, metavar="FILE", help="also write the table as Parquet (needs pyarrow)")
    folder.add_argument("--drivers", action="store_true", help="the drivers of a folder that holds installers too")
    folder.add_argument("--jobs", type=int, metavar="N", help="how many files to read at once (all cores)")

    drivers = parser.add_argument_group("drivers")
    drivers.add_argument(
        "--windows", metavar="NAME", help="the Windows they are held against, 11-24h2 or server-2022 for instance"
    )
    drivers.add_argument(
        "--for", dest="processor", choices=("x64", "arm64", "x86", "arm"), default="x64", help="its processor (x64)"
    )
    drivers.add_argument("--in", dest="in_set", metavar="SET", help="only drivers of a folder that stand in this set")
    drivers.add_argument(
        "--device",
        metavar="ID,...",
        help="which of the drivers this device gets: its identifiers, the nearest first; compatible ones behind a ;",
    )
    drivers.add_argument(
        "--start-up",
        type=Path,
        metavar="DIR",
        help="put what a start-up image needs of a folder into a new one, with the script that puts it into the image",
    )


def run(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.installers import holders
    from yendo.installers.images import DiscImage

    if _is_driver(options):
        from yendo.cli import drivers_report

        return drivers_report.run(options)
    if _is_flat_package(options.file) or _is_older_package(options.file):
        from yendo.cli import mac_report

        return mac_report.run(options)
    if _is_mac_image(options.file):
        from yendo.cli import mac_report

        return mac_report.run_image(options)
    if _is_mac_code(options.file):
        from yendo.cli import mac_report

        return mac_report.run_app(options)
    from yendo.cli import system_report

    found = system_report.read(options.file)
    if found is not None:
        return system_report.run(options, found)
    if options.file.is_dir():
        return _folder(options)
    with holders.holder_of(options.file) as holder:
        if isinstance(holder, DiscImage) and not options.extract and (media := system_report.of_image(holder)):
            return system_report.run(options, media)
        if holder is not None and not (options.extract and not isinstance(holder, DiscImage)):
            return _held(options, holder)
    if options.extract or options.icon:
        return _write(options)
    if options.script:
        return _script(options)
    from yendo.cli import account_report
    from yendo.installers.recognise import read

    account = read(options.file, verify=options.verify)
    if options.json:
        show.emit(account_report.document(account, effects=options.effects, path=options.file))
    elif not options.quiet:
        account_report.shown(show.console(), account, options)
    return 0


def _is_flat_package(path: Path) -> bool:
    """A package for macOS, whatever its name; looked at here, so that nothing of it is loaded for all others."""
    if not path.is_file():
        return False
    with path.open("rb") as file:
        return file.read(4) == b"xar!"


def _is_older_package(path: Path) -> bool:
    """A package for macOS of the older form, which is a folder."""
    if not (path.is_dir() and path.suffix.lower() in (".pkg", ".mpkg")):
        return False
    from yendo.mac import older

    return older.is_older(path)


def _is_mac_image(path: Path) -> bool:
    """A disk image for macOS, by how it ends or begins."""
    if path.suffix.lower() not in (".dmg", ".cdr", ".img", ".hfs", ".smi"):
        return False
    from yendo.mac import images

    return images.is_image(path)


def _is_mac_code(path: Path) -> bool:
    """A bundle or a program for macOS, by the first bytes; looked at here for the same reason."""
    from yendo.formats import mach_o

    if not path.is_file():
        return (path / "Contents" / "Info.plist").is_file()
    with path.open("rb") as file:
        return mach_o.is_program(file.read(8))


def _is_driver(options: argparse.Namespace) -> bool:
    """Whether it is about drivers: an ``.inf``, a catalogue, or a folder whose drivers are asked for."""
    if not options.file.is_dir():
        return options.file.suffix.lower() in (".inf", ".cat")
    return bool(options.drivers or options.device or options.start_up or options.in_set)


def _folder(options: argparse.Namespace) -> int:
    """The installers of a folder; its drivers where it holds none."""
    from yendo.cli import catalogue
    from yendo.installers.catalogue import NoInstallers
    from yendo.walk import files_below

    files = files_below(options.file)
    endings = {name.rpartition(".")[2].lower() for name, _ in files}
    serviced = endings & {"cab", "msu"} and not endings & {"exe", "msi", "msix", "appx", "msp", "inf"}
    if serviced and _serviced(options, files):
        return 0

    try:
        return catalogue.run(options)
    except NoInstallers:
        from yendo.cli import drivers_report
        from yendo.drivers import share

        if not share.files(options.file):
            raise
        return drivers_report.run(options)


def _serviced(options: argparse.Namespace, files: Iterable[tuple[str, Path]]) -> bool:
    """The system's own packages and updates of a folder without installers; False where there are none."""
    from yendo.cli import show, system_report
    from yendo.servicing import reading

    def opened(path: Path) -> Callable[[], BinaryIO]:
        return lambda: path.open("rb")

    parts = reading.listed((name, opened(path)) for name, path in files)
    if not parts:
        return False
    if options.json:
        show.emit({"schema": "yendo.system-packages/1", "packages": system_report.rows(parts)})
    elif not options.quiet:
        system_report.listing(show.console(), parts)
    return True


def _held(options: argparse.Namespace, holder: Holder) -> int:
    """A disc image or an archive: which installers are in it, and with ``--contents`` every file."""
    from yendo.cli import show
    from yendo.errors import Usage

    if options.extract or options.icon or options.script:
        raise Usage(
            f"{options.file.name} is a {holder.what}: yendo draft FOLDER {options.file.name} --inside PATH takes an "
            "installer out with what it needs"
        )
    found, installers = holder.entries(), holder.installers()
    parts = _parts_of_the_system(holder, found)
    if options.json:
        from yendo.cli import system_report

        show.emit(
            {
                "schema": "yendo.image/1",
                "kind": holder.what,
                "file": options.file.name,
                "files": found,
                "installers": installers,
                **({"system_packages": system_report.rows(parts)} if parts else {}),
            }
        )
    elif not options.quiet:
        out = show.console()
        total = show.size(sum(entry.size for entry in found))
        out.print(
            f"[bold]{show.clean(options.file.name)}[/bold], a {holder.what} with {show.counted(len(found), 'file')}, "
            f"{total}"
        )
        show.section(out, "Installers in it")
        show.grid(
            out,
            [(entry.path, show.size(entry.size), entry.family or "not recognised") for entry in installers]
            or [("none",)],
            styles=("cyan", None, "dim"),
        )
        if parts:
            from yendo.cli import system_report

            system_report.listing(out, parts)
        if options.contents:
            show.section(out, "Files")
            show.grid(out, [(entry.path, show.size(entry.size)) for entry in found])
        if parts and not installers:
            out.print(
                f"\n[dim]next:[/dim] yendo draft FOLDER {show.clean(options.file)} --inside {show.clean(parts[0].path)}"
            )
        elif installers:
            out.print(
                f"\n[dim]next:[/dim] yendo draft FOLDER {show.clean(options.file)} --inside "
                f"{show.clean(installers[0].path)}"
            )
        elif not options.contents:
            more = "" if holder.what == "disc image" else "; --extract DIR takes them out"
            out.print(f"\n[dim]next:[/dim] yendo read {show.clean(options.file)} --contents lists its files{more}")
    return 0


def _parts_of_the_system(holder: Holder, found: Iterable[ImageEntry]) -> list[ListedPackage]:
    """The system's own packages and updates in a disc image; where none may be, nothing of that room is loaded."""
    from yendo.installers.images import DiscImage

    named = [entry.path for entry in found if entry.path.lower().endswith((".cab", ".msu"))]
    if not named or not isinstance(holder, DiscImage):
        return []
    from functools import partial

    from yendo.servicing import reading

    return reading.listed((path, partial(holder.opened, path)) for path in named)


def _write(options: argparse.Namespace) -> int:
    from yendo import atomic
    from yendo.cli import show
    from yendo.installers import extract, programs

    out = show.console()
    if options.icon:
        atomic.write(options.icon, programs.icon_png(options.file))
        if not options.quiet and not options.json:
            out.print(f"the icon is in {show.clean(options.icon)}")
    if not options.extract:
        return 0
    taken = extract.extract(options.file, options.extract)
    if options.json:
        show.emit({"schema": "yendo.extract/1", "written": taken.written, "left_out": taken.left_out})
    elif not options.quiet:
        out.print(
            f"{show.counted(len(taken.written), 'file')}, {show.size(sum(size for _, size in taken.written))}, in "
            f"{show.clean(options.extract)}"
        )
        show.grid(out, [(show.size(size), path) for path, size in taken.written[:40]], styles=("dim",))
        if len(taken.written) > 40:
            out.print(f"  [dim]and {len(taken.written) - 40} more[/dim]")
        if taken.left_out:
            show.section(out, "Not written")
            show.grid(out, taken.left_out, styles=("yellow", None))
    return 1 if taken.left_out else 0


def _script(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.installers.programs import Reading

    with options.file.open("rb") as file:
        reading = Reading(file, options.file.name)
        listing = reading.tell().listing
    if not listing:
        raise Usage(f"{options.file.name} is of family {reading.family}, which has no script that can be listed")
    if options.json:
        show.emit({"schema": "yendo.script/1", "family": reading.family, "lines": listing})
    elif not options.quiet:
        out = show.console()
        for line in listing:
            out.print(show.clean(line), soft_wrap=True)
    return 0
