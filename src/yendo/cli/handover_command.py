"""Write the hand-over sheet: all that is typed, uploaded or chosen at a management system. Say when it was handed over.

yendo handover lantern
yendo handover lantern -o lantern.html --data lantern.json
yendo handover lantern --done
"""

from __future__ import annotations

import argparse
from pathlib import Path

from yendo.cli import mac_half, nested


def configure(parser: argparse.ArgumentParser) -> None:
    nested.add_package(parser, "a built package, or a workspace (then the package of its plan)")
    parser.add_argument("--output", "-o", type=Path, metavar="FILE", help="the page (default: beside the package)")
    mac_half.add_system(parser, "each that is there")
    parser.add_argument(
        "--data",
        type=Path,
        metavar="FILE",
        help="the same as JSON (docs/sheet.schema.json, docs/mac-sheet.schema.json)",
    )
    parser.add_argument(
        "--done", action="store_true", help="these bytes are handed over now: later checks hold new builds against them"
    )


def run(options: argparse.Namespace) -> int:
    from yendo.errors import Usage

    windows, mac = mac_half.both(options)
    if windows and mac and options.data:
        raise Usage("there are two halves, and one file: --system windows or --system macos")
    if windows:
        _of_windows(options)
    if mac:
        _of_mac(options)
    return 0


def _of_mac(options: argparse.Namespace) -> None:
    import tempfile

    import msgspec

    from yendo import atomic
    from yendo.cli import show
    from yendo.mac_half import build
    from yendo.package import delivered
    from yendo.prove import mac_sheet

    base = options.package.resolve()
    plan = mac_sheet.plan_of(base)
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
        found = mac_sheet.sheet(base, plan, Path(place))
    target = options.output or options.package / build.FOLDER / f"{build.name_of(plan)}.sheet.html"
    atomic.write(target, mac_sheet.page(found).encode())
    if options.data:
        atomic.write(options.data, msgspec.json.format(msgspec.json.encode(found), indent=2))
    proved = found.verdict == "proved"
    if options.done:
        rules = msgspec.to_builtins(plan.detect)
        this = delivered.Delivered(found.version, found.revision, found.digest, found.digest, rules, "")
        delivered.remember(base, this, delivered.MAC_FILE)
    if options.json:
        body = {"schema": "yendo.handover/1", "file": str(target), "proved": proved, "done": options.done}
        show.emit({**body, "system": "macos"})
    elif not options.quiet:
        out = show.console()
        out.print(f"{show.clean(target)}" + (f"; {show.clean(options.data)}" if options.data else ""))
        folder = show.clean(options.package)
        unsigned = [one.file for one in found.uploads if one.signed == "not signed"]
        if options.done:
            what = f"{show.clean(found.name)} {show.clean(found.version)} for macOS"
            out.print(f"{what}, revision {found.revision}: handed over")
        if not proved:
            out.print(f"[yellow]These bytes were not proved.[/yellow] [dim]next:[/dim] yendo prove {folder}")
        elif unsigned:
            said = f"{show.clean(', '.join(unsigned))}: not signed, and a management service takes signed ones only"
            place = show.clean(options.package / build.FOLDER / build.name_of(plan) / unsigned[0])
            out.print(f"[yellow]{said}[/yellow]\n[dim]next:[/dim] yendo sign {place} --identity FILE")
        elif not options.done:
            out.print(f"[dim]next:[/dim] hand the files and the sheet over, then yendo handover {folder} --done")


def _of_windows(options: argparse.Namespace) -> None:
    import msgspec

    from yendo import atomic
    from yendo.cli import show
    from yendo.cli.proving import find, plan_of
    from yendo.errors import Usage
    from yendo.package import delivered
    from yendo.prove import sheet

    package = find(options.package)
    plan, workspace = plan_of(options.package, package)
    furnished = plan.furnished if plan else None
    found = sheet.sheet(package, furnished)
    target = options.output or package.parent / f"{package.name}.sheet.html"
    atomic.write(target, sheet.page(found, furnished).encode())
    if options.data:
        atomic.write(options.data, msgspec.json.format(msgspec.json.encode(found), indent=2))
    proved = any(proof.verdict == "proved" for proof in found.proofs)
    if options.done:
        if plan is None:
            raise Usage(f"{package} belongs to no workspace here, so what was handed over cannot be remembered")
        delivered.record(workspace, package)
    if options.json:
        show.emit({"schema": "yendo.handover/1", "file": str(target), "proved": proved, "done": options.done})
    elif not options.quiet:
        out = show.console()
        out.print(f"{show.clean(target)}" + (f"; {show.clean(options.data)}" if options.data else ""))
        if options.done:
            out.print(f"{show.clean(found.name)} {show.clean(found.version)}, revision {found.revision}: handed over")
        if not proved:
            out.print(
                f"[yellow]These bytes were not proved.[/yellow] [dim]next:[/dim] yendo prove {show.clean(package)}"
            )
        elif not options.done:
            name = show.clean(options.package)
            out.print(f"[dim]next:[/dim] hand the folder and the sheet over, then yendo handover {name} --done")
