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
from typing import TYPE_CHECKING, Any, BinaryIO

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from rich.console import Console

    from yendo.drivers.inside import DriversInside
    from yendo.installers.account import Content, InstallerAccount
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
    if found is not None and not (options.extract and system_report.is_media(found)):
        return system_report.run(options, found)
    if options.file.is_dir():
        return _folder(options)
    with holders.holder_of(options.file) as holder:
        if holder is not None and not (options.extract and holder.what != "disc image"):
            return _held(options, holder)
    if options.extract or options.icon:
        return _write(options)
    if options.script:
        return _script(options)
    from yendo.installers.recognise import read

    account = read(options.file, verify=options.verify)
    if options.json:
        show.emit(document(account, effects=options.effects, path=options.file))
    elif not options.quiet:
        _print(show.console(), account, options)
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

    endings = {name.rpartition(".")[2].lower() for name, _ in files_below(options.file)}
    if endings & {"cab", "msu"} and not endings & {"exe", "msi", "msix", "appx", "msp", "inf"} and _serviced(options):
        return 0

    try:
        return catalogue.run(options)
    except NoInstallers:
        from yendo.cli import drivers_report
        from yendo.drivers import share

        if not share.files(options.file):
            raise
        return drivers_report.run(options)


def _serviced(options: argparse.Namespace) -> bool:
    """The system's own packages and updates of a folder without installers; False where there are none."""
    from yendo.cli import show, system_report
    from yendo.servicing import reading
    from yendo.walk import files_below

    def opened(path: Path) -> Callable[[], BinaryIO]:
        return lambda: path.open("rb")

    parts = reading.listed((name, opened(path)) for name, path in files_below(options.file))
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


def document(account: InstallerAccount, *, effects: bool, path: Path | None = None) -> dict[str, Any]:
    """The stable JSON form. ``path`` is the file, where the drivers in it are told as well."""
    import msgspec

    from yendo.effects.effect import counts
    from yendo.installers.account import SCHEMA

    body = msgspec.to_builtins(account)
    why = body.pop("why")
    listed = body.pop("effects")
    body = {"schema": SCHEMA, **body, "effects": {"counts": counts(account.effects)}, "why": why}
    found = _drivers_in(account, path) if path is not None else None
    if found is not None and found.drivers:
        body["drivers"] = msgspec.to_builtins(list(found.drivers.values()))
    if effects:
        body["effects"]["list"] = listed
    return body


def _print(out: Console, account: InstallerAccount, options: argparse.Namespace) -> None:
    """Everything that is known of an installer, for a person."""
    from yendo.cli.show import clean

    _head(out, account)
    _lines(out, account)
    _asked(out, account)
    if account.properties:
        _properties(out, account)
    _inside(out, account, everything=options.contents)
    _drivers(out, account, options.file)
    _done(out, account, options)
    if options.why:
        _reasons(out, account)
    out.print(f"\n[dim]next:[/dim] {_next(account, clean(options.file))}")


def _head(out: Console, account: InstallerAccount) -> None:
    from yendo.cli.show import clean, grid, size

    identity, signature = account.identity, account.signature
    signed = (
        "not signed"
        if not signature or not signature.signed
        else f"signed by {signature.signer or 'an unreadable certificate'}"
    )
    if signature and signature.digest_holds is not None:
        signed += ", the digest holds" if signature.digest_holds else ", BUT THE FILE HAS CHANGED SINCE"
    out.print(
        f"[bold]{clean(identity.name or account.file.name)} {clean(identity.version or '')}[/bold]"
        f"{' by ' + clean(identity.publisher) if identity.publisher else ''}"
    )
    scope = {"machine": "for everyone on the machine", "user": "for the user who runs it"}.get(
        identity.scope or "", identity.scope or ""
    )
    grid(
        out,
        [
            ("file", f"{account.file.name}, {account.family}, {size(account.file.size)}, {signed}"),
            (
                "for",
                ", ".join(part for part in (identity.architecture, identity.language, scope) if part) + _stub(account),
            ),
            *_codes(account),
            *([("family", f"{account.family}: {account.why['family']}")] if account.program else []),
            *(
                [
                    (
                        "chain",
                        " < ".join(signature.chain) + (f", seen {signature.timestamp}" if signature.timestamp else ""),
                    )
                ]
                if signature and signature.chain
                else []
            ),
            *([("sha256", account.file.sha256)] if account.file.sha256 else []),
            *([("says of itself", account.says_of_itself)] if account.says_of_itself else []),
        ],
        styles=("dim",),
    )


def _lines(out: Console, account: InstallerAccount) -> None:
    """Its command lines, switches, and how it behaves."""
    from yendo.cli.show import grid, section

    section(out, "Silent command lines")
    if account.silent.install is None:
        out.print("  none is known from reading")
    grid(
        out,
        [
            (
                name,
                command.command,
                command.confidence + (f"; then wait for {', '.join(command.wait_for)}" if command.wait_for else ""),
            )
            for name in ("install", "uninstall", "repair")
            if (command := getattr(account.silent, name))
        ],
        styles=("dim", "cyan"),
    )
    if account.switches:
        section(out, "Switches")
        grid(
            out,
            [(entry.switch, entry.meaning, entry.confidence) for entry in account.switches[:16]],
            styles=("cyan", None, "dim"),
        )
    if account.behaviour:
        section(out, "How it behaves")
        grid(
            out,
            [(entry.name, entry.value, entry.confidence) for entry in account.behaviour],
            styles=("dim", None, "dim"),
        )
    if account.program and (rows := list(_listed(account))):
        section(out, "In the list of programs")
        grid(out, rows, styles=("dim",))


def _asked(out: Console, account: InstallerAccount) -> None:
    """What it asks of a machine."""
    from yendo.cli.show import clean, grid, section

    if account.refused:
        out.print(f"\n[red]On a fresh machine it refuses:[/red] {clean(account.refused)}")
    if account.conditions or account.needs:
        section(out, "Asks for")
        grid(
            out,
            [
                *((need, "") for need in account.needs),
                *((condition.in_words, f"else: {condition.message}") for condition in account.conditions),
            ],
            styles=(None, "dim"),
        )


def _properties(out: Console, account: InstallerAccount) -> None:
    from yendo.cli.show import counted, grid, section

    shown = [entry for entry in account.properties if entry.in_silence]
    section(out, "Properties you can set")
    rows = [
        (entry.name, "unset" if entry.default is None else entry.default, ", ".join(entry.used_in)) for entry in shown
    ]
    if rows:
        grid(out, rows, heads=("name", "default", "used in"), styles=("cyan", None, "dim"))
    if more := len(account.properties) - len(shown):
        out.print(
            f"  [dim]{counted(more, 'other')} that only dialogs and messages refer to, or nothing does (--json "
            "lists them)[/dim]"
        )


def _inside(out: Console, account: InstallerAccount, *, everything: bool) -> None:
    """What lies in it: features and media, or the tree of a program."""
    from yendo.cli.show import counted, grid, section, size

    if account.payload and not account.contents:
        section(out, f"Contents: {counted(account.payload.files, 'file')}, {size(account.payload.size)}")
        grid(
            out,
            [
                (
                    "feature",
                    f"{feature.id}" + (f" (below {feature.parent})" if feature.parent else ""),
                    "installed" if feature.by_default else "left out by default",
                    feature.title,
                )
                for feature in account.payload.features
            ]
            + [
                (
                    "media",
                    medium.name,
                    f"{medium.kind}, {size(medium.size)}"
                    if medium.present
                    else f"{medium.kind}, MISSING beside the installer",
                    "",
                )
                for medium in account.payload.media
            ][:20],
            styles=("dim",),
        )
    if account.contents:
        rows = list(_tree(account.contents))
        most = len(rows) if everything else 16
        section(out, f"Inside: {counted(account.payload.files if account.payload else 0, 'file')}")
        grid(
            out,
            rows[:most],
            styles=(None, "dim", "dim", "cyan", "yellow"),
            heads=("name", "size", "offset", "family", ""),
        )
        if len(rows) > most:
            out.print(f"  [dim]and {len(rows) - most} more (--contents lists them)[/dim]")


def _drivers_in(account: InstallerAccount, path: Path) -> DriversInside | None:
    """None where the file names none: most do, and then nothing of that room is loaded."""
    if account.program is not None and _any_driver(account.contents):
        from yendo.drivers import inside

        return inside.of_setup(path, account.contents)
    if account.family != "msi" or not any(effect.thing.identity.endswith(".inf") for effect in account.effects):
        return None
    from yendo.drivers import inside

    return inside.of_database(path, account.effects)


def _any_driver(contents: Iterable[Content]) -> bool:
    return any(one.name.lower().endswith(".inf") or _any_driver(one.contents) for one in contents)


def _drivers(out: Console, account: InstallerAccount, path: Path) -> None:
    """The drivers that a database brings, and what Windows will say to them."""
    from yendo.cli.show import clean, grid, section

    found = _drivers_in(account, path)
    if found is None or not (found.drivers or found.trouble):
        return
    section(out, "Drivers in it")
    grid(
        out,
        [
            (
                driver.inf,
                driver.class_words,
                " ".join(filter(None, (driver.version, driver.date))),
                driver.trust.words,
                ", ".join(finding.id for finding in driver.findings if finding.level != "note"),
            )
            for driver in found.drivers.values()
        ],
        styles=("cyan", None, None, "dim", "yellow"),
    )
    for driver in found.drivers.values():
        for finding in driver.findings:
            if finding.level != "note":
                out.print(f"  [dim]{clean(driver.inf)}: {clean(finding.what)}; {clean(finding.advice)}[/dim]")
    if found.trouble:
        out.print(f"  [yellow]not all of them could be looked at:[/yellow] {clean(found.trouble)}")


def _done(out: Console, account: InstallerAccount, options: argparse.Namespace) -> None:
    """What it does to a machine, and what nobody can tell."""
    from yendo.cli.show import grid, section, told
    from yendo.effects.effect import counts
    from yendo.effects.things import label

    if account.processes:
        section(out, "Programs of its own")
        grid(out, [(", ".join(account.processes),)])
    section(out, "What it does to a fresh machine")
    grid(out, [(told(counts(account.effects)) or "nothing that can be told without running it",)])
    if options.effects:
        grid(
            out,
            [
                (effect.change, effect.kind, label(effect.thing), str(effect.evidence) if options.why else "")
                for effect in account.effects
            ],
            styles=("dim", "dim", None, "dim"),
        )
    if account.blind_spots:
        section(out, "Blind spots")
        grid(
            out,
            [(spot.what, spot.why, spot.evidence.where if options.why else "") for spot in account.blind_spots],
            styles=("yellow", None, "dim"),
        )


def _reasons(out: Console, account: InstallerAccount) -> None:
    """The evidence of every value."""
    from yendo.cli.show import grid, section

    section(out, "Why")
    values = {
        **{name: str(evidence) for name, evidence in account.why.items()},
        **{
            f"silent.{name}": str(command.evidence)
            for name in ("install", "uninstall", "repair")
            if (command := getattr(account.silent, name))
        },
        **{f"condition {at + 1}": str(condition.evidence) for at, condition in enumerate(account.conditions)},
    }
    grid(out, list(values.items()), styles=("dim",))


def _listed(account: InstallerAccount) -> Any:
    """The uninstall entry that it will write, with the quiet form of its command even where the vendor writes none."""
    from yendo.effects import UninstallEntry

    for effect in account.effects:
        entry = effect.thing
        if isinstance(entry, UninstallEntry):
            yield "name", " ".join(filter(None, (entry.name, entry.version)))
            yield "key", f"{entry.hive}, {entry.view}-bit view, ...\\Uninstall\\{entry.key}"
            yield (
                "uninstall",
                entry.uninstall or "none of its own; the Windows Installer removes it by its product code",
            )
            quiet = account.silent.uninstall.command if account.silent.uninstall else None
            yield "quietly", entry.quiet_uninstall or quiet or "not known from reading"


def _codes(account: InstallerAccount) -> list[tuple[str, str]]:
    identity = account.identity
    if account.family == "msi":
        missing = "none: it will never upgrade an older one by itself"
        return [("product code", identity.product_code or "none"), ("upgrade code", identity.upgrade_code or missing)]
    return [
        (title, code)
        for title, code in (("product code", identity.product_code), ("upgrade code", identity.upgrade_code))
        if code
    ]


def _stub(account: InstallerAccount) -> str:
    program = account.program
    return (
        f"; the setup program itself is for {program.stub}"
        if program and program.stub != account.identity.architecture
        else ""
    )


def _tree(contents: tuple[Content, ...], depth: int = 0) -> Any:
    """The contents as rows, each level indented."""
    from yendo.cli.show import size

    for content in contents:
        yield (
            "  " * depth + content.name,
            size(content.size)
            if content.size is not None
            else f"{size(content.packed)} packed"
            if content.packed
            else "",
            "" if content.offset is None else str(content.offset),
            content.family or "",
            content.note,
        )
        yield from _tree(content.contents, depth + 1)


def _next(account: InstallerAccount, file: str) -> str:
    if account.family == "msi" and any(entry.in_silence for entry in account.properties):
        return f"yendo msi properties {file}, to see what each changes; then yendo draft FOLDER {file}"
    if account.family in ("msi", "msix"):
        return f"yendo draft FOLDER {file}"
    install = account.silent.install
    if install is None or install.confidence != "certain":
        return f"yendo try {file}, which runs it on a fresh machine and says what is true"
    trial = f"; or yendo try {file}, to see it proved" if account.program else ""
    return f"yendo draft FOLDER {file}{trial}"
