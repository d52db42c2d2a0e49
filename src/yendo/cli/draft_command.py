"""Start a package: a workspace with the media, a plan with every derived value, and the evidence.

yendo draft lantern lantern-6.2.1.msi
yendo draft lantern lantern-6.2.1.msi --with lantern-6.2.3.msp
yendo draft charts --files ./charts --to '%ProgramData%\\Tidewell\\charts'
"""

from __future__ import annotations

import argparse
from pathlib import Path


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, metavar="FOLDER", help="the workspace to start")
    parser.add_argument("installer", type=Path, nargs="?", metavar="INSTALLER", help="the vendor's installer")
    parser.add_argument(
        "--with",
        type=Path,
        action="append",
        default=[],
        dest="overlays",
        metavar="FILE",
        help="a transform or patch that goes onto it (again for more)",
    )
    parser.add_argument(
        "--inside", metavar="PATH", help="which installer is meant, where INSTALLER is a disc image (.iso)"
    )
    parser.add_argument(
        "--files", type=Path, metavar="DIR", help="a package without an installer: files and folders to place"
    )
    parser.add_argument(
        "--take",
        action="append",
        default=[],
        metavar="PATTERN",
        help="bring files along that lie beside the installer, by name, pattern or folder; may be given several times",
    )
    parser.add_argument("--to", metavar="PATH", help="with --files: where they belong on the machine")
    parser.add_argument(
        "--house",
        type=Path,
        metavar="FILE",
        help="the office's house file, written into the plan (default: house.toml above it)",
    )


def run(options: argparse.Namespace) -> int:
    import msgspec

    from yendo.cli import show
    from yendo.draft import draft
    from yendo.errors import Usage
    from yendo.installers import images

    if bool(options.installer) == bool(options.files):
        raise Usage(
            "name either an installer or a folder of files: yendo draft FOLDER INSTALLER, or yendo draft FOLDER "
            "--files DIR"
        )
    if options.to and not options.files:
        raise Usage("--to goes with --files; for an installer, say in plan.toml where extra files belong")
    if options.inside and not options.installer:
        raise Usage("--inside goes with a disc image")
    if options.files:
        drafted = draft.from_files(options.folder, options.files, options.to, named_house=options.house)
    else:
        with images.opened(options.installer, options.inside) as (installer, origin):
            drafted = draft.from_installer(
                options.folder, installer, options.overlays, named_house=options.house, origin=origin, take=options.take
            )
    if options.json:
        show.emit(
            {"schema": "yendo.draft/1", **msgspec.to_builtins(msgspec.structs.replace(drafted, plan=str(drafted.plan)))}
        )  # type: ignore[arg-type]
    elif not options.quiet:
        out = show.console()
        kept = show.counted(len(drafted.media), "medium").replace("mediums", "media")
        way = "it" if len(drafted.media) == 1 else "they"
        out.print(
            f"[bold]{show.clean(drafted.plan)}[/bold] drafted"
            + (f", with {kept} kept as {way} came" if drafted.media else "")
        )
        for title, names, style in (
            (
                "left where they were, the installer does not need them"
                if drafted.needless
                else "left where they were; whether they are needed is not known: --take NAME brings one along",
                drafted.strays,
                "dim" if drafted.needless else "yellow",
            ),
            ("MISSING beside the installer", drafted.missing, "red"),
        ):
            if names:
                show.section(out, title[0].upper() + title[1:])
                show.grid(
                    out,
                    [(name,) for name in names[:20]] + ([(f"and {len(names) - 20} more",)] if len(names) > 20 else []),
                    styles=(style,),
                )
        show.section(out, "Still yours to decide (marked DECIDE in the plan)")
        show.grid(out, [tuple(decision.split(": ", 1)) for decision in drafted.decisions], styles=("yellow",))
        if drafted.defaults:
            show.section(out, "What stands unless you decide otherwise")
            show.grid(out, [tuple(default.split(": ", 1)) for default in drafted.defaults], styles=("dim",))
        folder = show.clean(options.folder)
        if drafted.to_try:
            name = f"yendo try {show.clean(options.installer)} --into {folder}"
            out.print(
                f"\n[dim]next:[/dim] {name}, since only a run can answer some of this; then yendo decide {folder}"
            )
        else:
            out.print(f"\n[dim]next:[/dim] yendo decide {folder}, or edit the plan; then yendo check {folder}")
    return 0
