"""Write the hand-over sheet: all that is typed, uploaded or chosen at a management system. Say when it was handed over.

yendo handover lantern
yendo handover lantern -o lantern.html --data lantern.json
yendo handover lantern --done
"""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

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


class _Sheet(NamedTuple):
    """A page that was written: of which package and how it is told, whether that was proved, how its hand-over is
    remembered, and what comes next.
    """

    file: Path
    name: str
    proved: bool
    remember: Callable[[], object]
    advice: str


def run(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.errors import Usage

    windows, mac = mac_half.both(options)
    if windows and mac and options.data:
        raise Usage("there are two halves, and one file: --system windows or --system macos")
    made = [half(options) for half, meant in ((_of_windows, windows), (_of_mac, mac)) if meant]
    if options.done:
        for one in made:
            one.remember()
    if options.json:
        first, *others = ({"file": str(one.file), "proved": one.proved} for one in made)
        more = {"macos": others[0]} if others else {} if windows else {"system": "macos"}
        show.emit({"schema": "yendo.handover/1", **first, "done": options.done, **more})
    elif not options.quiet:
        for one in made:
            _told(options, one)
    return 0


def _told(options: argparse.Namespace, one: _Sheet) -> None:
    from yendo.cli import show

    out = show.console()
    out.print(f"{show.clean(one.file)}" + (f"; {show.clean(options.data)}" if options.data else ""))
    if options.done:
        out.print(f"{show.clean(one.name)}: handed over")
    if one.advice:
        out.print(one.advice)


def _written(options: argparse.Namespace, found: Any, page: str, usual: Path) -> Path:
    """The page, and the same as data where that is asked for."""
    import msgspec

    from yendo import atomic

    target = options.output or usual
    atomic.write(target, page.encode())
    if options.data:
        atomic.write(options.data, msgspec.json.format(msgspec.json.encode(found), indent=2))
    return Path(target)


def _of_mac(options: argparse.Namespace) -> _Sheet:
    import tempfile

    import msgspec

    from yendo.cli import show
    from yendo.mac_half import build, reading
    from yendo.package import delivered
    from yendo.prove import mac_sheet

    base = options.package.resolve()
    plan, _ = reading.read(base)
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
        found = mac_sheet.sheet(base, plan, Path(place))
    folder = options.package / build.FOLDER
    target = _written(options, found, mac_sheet.page(found), folder / f"{build.name_of(plan)}.sheet.html")
    rules = msgspec.to_builtins(plan.detect)
    this = delivered.Delivered(found.version, found.revision, found.digest, found.digest, rules, "")
    proved = found.verdict == "proved"
    unsigned = [one.file for one in found.uploads if one.signed == "not signed"]
    name, advice = show.clean(options.package), ""
    if not proved:
        advice = f"[yellow]These bytes were not proved.[/yellow] [dim]next:[/dim] yendo prove {name}"
    elif unsigned:
        said = f"{show.clean(', '.join(unsigned))}: not signed, and a management service takes signed ones only"
        place_of = show.clean(folder / build.name_of(plan) / unsigned[0])
        advice = f"[yellow]{said}[/yellow]\n[dim]next:[/dim] yendo sign {place_of} --identity FILE"
    elif not options.done:
        advice = f"[dim]next:[/dim] hand the files and the sheet over, then yendo handover {name} --done"
    title = f"{found.name} {found.version} for macOS, revision {found.revision}"
    return _Sheet(target, title, proved, lambda: delivered.remember(base, this, delivered.MAC_FILE), advice)


def _of_windows(options: argparse.Namespace) -> _Sheet:
    from yendo.cli import show
    from yendo.cli.proving import find, plan_of
    from yendo.errors import Usage
    from yendo.package import delivered
    from yendo.prove import sheet

    package = find(options.package)
    plan, workspace = plan_of(options.package, package)
    furnished = plan.furnished if plan else None
    found = sheet.sheet(package, furnished)
    usual = package.parent / f"{package.name}.sheet.html"
    target = _written(options, found, sheet.page(found, furnished), usual)
    if options.done and plan is None:
        raise Usage(f"{package} belongs to no workspace here, so what was handed over cannot be remembered")
    proved = any(proof.verdict == "proved" for proof in found.proofs)
    name, advice = show.clean(options.package), ""
    if not proved:
        advice = f"[yellow]These bytes were not proved.[/yellow] [dim]next:[/dim] yendo prove {show.clean(package)}"
    elif not options.done:
        advice = f"[dim]next:[/dim] hand the folder and the sheet over, then yendo handover {name} --done"
    title = f"{found.name} {found.version}, revision {found.revision}"
    return _Sheet(target, title, proved, lambda: delivered.record(workspace, package), advice)
