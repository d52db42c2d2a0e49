"""Write the page for the person who signs off: what the package is, does, and how it was proved. One file, nothing else
needed.

yendo dossier lantern
yendo dossier lantern -o lantern.html --pdf lantern.pdf
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import mac_half, nested

if TYPE_CHECKING:
    from yendo.plan import Plan

BROWSERS = ("chromium", "chromium-browser", "google-chrome")


def configure(parser: argparse.ArgumentParser) -> None:
    nested.add_package(parser, "a built and proved package, or a workspace (then its newest package)")
    parser.add_argument("--output", "-o", type=Path, metavar="FILE", help="the page (default: beside the package)")
    mac_half.add_system(parser, "each that is there")
    parser.add_argument(
        "--pdf", type=Path, metavar="FILE", help="print it to a PDF too, through a browser that is here"
    )


def write(package: Path, plan: Plan | None, workspace: Path, target: Path | None = None) -> tuple[Path, int]:
    """Writes the page of a package, beside it unless said otherwise; returns where, and its size in bytes.

    Raises Usage.
    """
    from yendo import atomic
    from yendo.check import Workspace, check
    from yendo.prove import dossier
    from yendo.prove.furnished import simulated_for

    findings = tuple(check(Workspace(workspace))) if plan else ()
    others = [workspace / name for name in plan.proof.others] if plan else []
    page = dossier.page(
        package,
        workspace=workspace if plan else None,
        findings=[finding for finding in findings if finding.severity != "note"],
        others=[other for other in others if other.is_file()],
        updates=bool(plan and plan.proof.updates_itself),
        furnished=plan.furnished if plan else None,
        machine=simulated_for(plan, workspace) if plan else None,
    ).encode()
    target = target or package.parent / f"{package.name}.dossier.html"
    atomic.write(target, page)
    return target, len(page)


def run(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.errors import Usage

    windows, mac = mac_half.both(options)
    if windows and mac and options.pdf:
        raise Usage("there are two halves, and one file: --system windows or --system macos")
    made = [half(options) for half, meant in ((_of_windows, windows), (_of_mac, mac)) if meant]
    pdf = str(options.pdf) if options.pdf else None
    if options.json:
        first, *others = ({"file": str(target), "size": size} for target, size in made)
        show.emit({"schema": "yendo.dossier/1", **first, "pdf": pdf, **({"macos": others[0]} if others else {})})
    elif not options.quiet:
        out = show.console()
        for target, size in made:
            out.print(f"{show.clean(target)}, {show.size(size)}" + (f"; {show.clean(pdf)}" if pdf else ""))
        out.print("[dim]next:[/dim] open it in a browser, or hand it on as it is: it needs nothing else")
    return 0


def _of_windows(options: argparse.Namespace) -> tuple[Path, int]:
    from yendo.cli import show
    from yendo.cli.proving import find, plan_of

    package = find(options.package)
    with show.working("dossier", quiet=options.quiet or options.json):
        target, size = write(package, *plan_of(options.package, package), options.output)
        if options.pdf:
            _print(target, options.pdf)
    return target, size


def _of_mac(options: argparse.Namespace) -> tuple[Path, int]:
    from yendo import atomic
    from yendo.cli import show
    from yendo.mac_half import build, check, reading
    from yendo.prove import mac_dossier

    base = options.package.resolve()
    with show.working("dossier of the half for macOS", quiet=options.quiet or options.json):
        plan, _ = reading.read(base)
        findings = [one for one in check.check(base) if one.severity != "note"]
        page = mac_dossier.page(base, findings).encode()
        target = options.output or options.package / build.FOLDER / f"{build.name_of(plan)}.dossier.html"
        atomic.write(target, page)
        if options.pdf:
            _print(target, options.pdf)
    return target, len(page)


def _print(page: Path, target: Path) -> None:
    """Prints a page to a PDF by a browser in a profile of its own. Raises Usage where there is none."""
    import os
    import shutil
    import subprocess
    import tempfile

    from yendo import atomic
    from yendo.errors import Usage

    browser = next((found for name in BROWSERS if (found := shutil.which(name))), None)
    if browser is None:
        raise Usage(
            f"--pdf needs a browser ({', '.join(BROWSERS)}); the page itself is in {page}, and prints from any other"
        )
    with tempfile.TemporaryDirectory(prefix="yendo-print-") as folder:
        made = Path(folder) / "page.pdf"
        command = [
            browser,
            "--headless",
            "--disable-gpu",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
        ]
        command += [
            "--disable-sync",
            "--no-pdf-header-footer",
            f"--user-data-dir={folder}/profile",
            f"--print-to-pdf={made}",
        ]
        command += ["--no-sandbox"] if hasattr(os, "geteuid") and os.geteuid() == 0 else []
        try:
            subprocess.run([*command, page.resolve().as_uri()], check=True, capture_output=True, timeout=120)
        except (subprocess.SubprocessError, OSError) as error:
            raise Usage(f"{Path(browser).name} could not print the page: {error}") from error
        if not made.is_file():
            raise Usage(f"{Path(browser).name} printed nothing; the page itself is in {page}")
        atomic.write(target, made.read_bytes())
