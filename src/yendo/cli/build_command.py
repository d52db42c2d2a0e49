"""Make the package: runner, detection script, manifest, bill of materials, identification tag, media.

yendo build lantern
yendo build lantern --archive
"""

from __future__ import annotations

import argparse
from pathlib import Path


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder", type=Path, nargs="?", default=Path(), metavar="FOLDER", help="the workspace (default: this folder)"
    )
    parser.add_argument(
        "-o", "--output", type=Path, metavar="DIR", help="where the package goes (default: FOLDER/package)"
    )
    parser.add_argument("--archive", action="store_true", help="also as one .zip file")


def run(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.package import build
    from yendo.plan import read
    from yendo.shelf import claims

    plan, _ = read(options.folder / "plan.toml")
    with show.working("building", quiet=options.quiet or options.json):
        built = build.build(options.folder, plan, output=options.output, archive=options.archive)
        build.record(options.folder, built)
        claims.record(options.folder, plan, built)
    if options.json:
        show.emit(
            {
                "schema": "yendo.build/1",
                "folder": str(built.folder),
                "archive": str(built.archive) if built.archive else None,
                "digest": built.digest,
                "size": built.size,
                "files": len(built.manifest.files) + 1,
            }
        )
    elif not options.quiet:
        out = show.console()
        out.print(
            f"[bold]{show.clean(built.folder)}[/bold]: {len(built.manifest.files) + 1} files, {show.size(built.size)}"
        )
        show.grid(
            out,
            [
                ("digest", built.digest),
                *([("archive", built.archive)] if built.archive else []),
                ("on a machine", "apply.cmd install | uninstall | repair"),
                ("detection", "detect.ps1"),
            ],
            styles=("dim",),
        )
        out.print(f"\n[dim]next:[/dim] yendo prove {show.clean(options.folder)}")
    return 0
