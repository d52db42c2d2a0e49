"""Start a package: a workspace with the media, a plan with every derived value, and the evidence.

yendo draft lantern lantern-6.2.1.msi
yendo draft lantern lantern-6.2.1.msi --with lantern-6.2.3.msp
yendo draft charts --files ./charts --to '%ProgramData%\\Tidewell\\charts'
yendo draft settings quays.reg clean-up.ps1
yendo draft lantern Lantern.app
"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from yendo.draft.draft import Drafted


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, metavar="FOLDER", help="the workspace to start")
    parser.add_argument(
        "sources",
        type=Path,
        nargs="*",
        metavar="SOURCE",
        help="the vendor's installer; also a script, a .reg file, a folder with a driver, a cabinet of the system; "
        "several are carried out in this order",
    )
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
        "--inside", metavar="PATH", help="which installer is meant, where SOURCE is a disc image or an archive"
    )
    parser.add_argument(
        "--files",
        type=Path,
        action="append",
        default=[],
        metavar="DIR",
        help="files and folders to place, after everything else (again for more)",
    )
    parser.add_argument(
        "--silent", metavar="ARGUMENTS", help="what makes a setup program silent, where you know it: --silent=/S"
    )
    parser.add_argument(
        "--uninstall", metavar="LINE", help="the command line that removes what a setup program installs"
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

    from yendo.cli import mac_half, show
    from yendo.draft import draft, materials, proposing
    from yendo.errors import Usage
    from yendo.installers import holders

    if mac_half.is_given(options):
        return mac_half.run_draft(options)
    if not options.sources and not options.files:
        raise Usage("name what the package is made of: yendo draft FOLDER INSTALLER, or yendo draft FOLDER --files DIR")
    if options.to and not options.files:
        raise Usage("--to goes with --files; for an installer, say in plan.toml where extra files belong")
    if options.inside and len(options.sources) != 1:
        raise Usage("--inside goes with one disc image or archive")
    for path in options.files:
        if not path.is_dir():
            raise Usage(f"{path} is no folder")
    known = proposing.Known(options.silent, options.uninstall)
    first, *more = options.sources or [None]
    within = first is not None and not materials.is_material(first)
    with holders.opened(first, options.inside) if within else nullcontext((first, "")) as (installer, origin):
        drafted = draft.from_sources(
            options.folder,
            [*([installer] if installer else []), *more, *options.files],
            options.overlays,
            target=options.to,
            named_house=options.house,
            origin=origin,
            take=options.take,
            known=known,
        )
    if options.json:
        given: dict[str, Any] = {"plan": str(drafted.plan)}
        show.emit({"schema": "yendo.draft/1", **msgspec.to_builtins(msgspec.structs.replace(drafted, **given))})
    elif not options.quiet:
        _told(options, drafted, origin)
    return 0


def _told(options: argparse.Namespace, drafted: Drafted, origin: str) -> None:
    """What came along, what did not, what is left to decide, what comes next."""
    from yendo.cli import show

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
        setup = options.folder / "media" / origin.rpartition("/")[2] if origin else _to_try(options.sources)
        name = f"yendo try {show.clean(setup)} --into {folder}"
        out.print(f"\n[dim]next:[/dim] {name}, since only a run can answer some of this; then yendo decide {folder}")
    else:
        out.print(f"\n[dim]next:[/dim] yendo decide {folder}, or edit the plan; then yendo check {folder}")


def _to_try(sources: Sequence[Path]) -> Path:
    """The setup program of several sources."""
    from yendo.draft import materials

    return next(path for path in sources if not materials.is_material(path))
