"""Carry a package over to the vendor's next version: what nobody changed follows, what was decided stays, conflicts are
listed. Exit code 1 with conflicts.

yendo renew lantern lantern-6.3.0.msi --dry-run
yendo renew lantern lantern-6.3.0.msi
yendo renew lantern lantern-6.3.0.msi --with lantern-6.3.1.msp --prove --machine wine
yendo renew lantern-mac Lantern.app
"""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yendo.cli import machines

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.renew.renew import Renewal

ALTHOUGH = {
    "older": "it is older",
    "same-version": "it has the same version",
    "other-vendor": "it is another vendor's",
    "other-product": "it is another product",
}


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, metavar="FOLDER", help="the workspace")
    parser.add_argument("installer", type=Path, metavar="INSTALLER", help="the vendor's new installer")
    parser.add_argument(
        "--with",
        type=Path,
        action="append",
        default=[],
        dest="overlays",
        metavar="FILE",
        help="a transform or patch that goes onto it",
    )
    parser.add_argument(
        "--inside", metavar="PATH", help="which installer is meant, where INSTALLER is a disc image or an archive"
    )
    parser.add_argument(
        "--old",
        choices=("keep", "store", "drop"),
        default="keep",
        help="the old media: keep them below earlier/ and prove upgrades from them, put them into the media store, "
        "or drop them (default: keep)",
    )
    parser.add_argument("--store", type=Path, metavar="DIR", help="the media store, with --old store")
    parser.add_argument("--dry-run", action="store_true", help="only say what would come of it")
    parser.add_argument(
        "--although",
        action="append",
        choices=tuple(ALTHOUGH),
        default=[],
        help="what is meant all the same: an installer that is older, of the same version, another vendor's, another "
        "product",
    )
    parser.add_argument("--prove", action="store_true", help="check, build and prove it too, where nothing conflicts")
    parser.add_argument(
        "--machine",
        choices=machines.NAMES,
        action="append",
        help="with --prove: what on; may be given twice (default: what [proof] says, else simulated)",
    )
    machines.add_shell(parser)


def run(options: argparse.Namespace) -> int:
    from yendo.cli import mac_half, show
    from yendo.errors import Usage
    from yendo.installers import holders
    from yendo.renew.renew import renew

    if mac_half.is_renewed(options):
        return mac_half.run_renew(options)
    if options.prove and options.dry_run:
        raise Usage("--prove needs the renewed plan, which --dry-run does not write")
    store: Any = None
    if options.old == "store":
        from yendo.cli.store_command import opened

        store = opened(options.store, options.folder)
    with (
        show.working("renewing", quiet=options.quiet or options.json),
        holders.opened(options.installer, options.inside) as (installer, origin),
    ):
        found = renew(
            options.folder,
            installer,
            options.overlays,
            old=options.old,
            dry=options.dry_run,
            although=options.although,
            store=store,
            origin=origin,
        )
    if options.json:
        show.emit(body(found))
    elif not options.quiet:
        report(show.console(), found, options)
    if found.conflicts:
        return 1
    return proved(options) if options.prove else 0


def body(found: Renewal) -> dict[str, Any]:
    """The renewal as one object."""
    import msgspec

    given: dict[str, Any] = {"old": found.old.identity, "new": found.new.identity}
    one = msgspec.to_builtins(msgspec.structs.replace(found, **given))
    return {"schema": "yendo.renewal/1", **one}


def report(out: Console, found: Renewal, options: argparse.Namespace) -> None:
    """What is different, what followed, what stayed, what is to be decided."""
    from rich.text import Text

    from yendo.cli import show

    old, new = found.old.identity, found.new.identity
    done = ("renewed" if found.written else "would be renewed") + f" in {show.clean(options.folder)}"
    out.print(
        f"[bold]{show.clean(new.name or found.new.file.name)}[/bold] {show.clean(old.version)} -> "
        f"[bold]{show.clean(new.version)}[/bold], {done}"
    )
    show.section(out, "What the vendor changed")
    lines = [
        (Text("mind", "yellow") if one.mind else "", one.text)
        for one in sorted(found.differences, key=lambda one: not one.mind)
    ]
    show.grid(out, lines or [("", "nothing that reading can tell")])
    show.section(out, "What followed")
    show.grid(
        out,
        [(one.place, _said(one.old), _said(one.new)) for one in _telling(found)],
        heads=("", "was", "is"),
        styles=(None, "dim", None),
    )
    out.print(f"   detection: {show.clean(found.detection)}")
    if found.kept:
        show.section(out, f"Yours, and kept: {len(found.kept)}")
        show.grid(
            out,
            [(one.place, one.what) for one in found.kept[:14]]
            + ([(f"and {len(found.kept) - 14} more", "")] if len(found.kept) > 14 else []),
            styles=("dim",),
        )
    if found.conflicts:
        show.section(out, f"To decide: {show.counted(len(found.conflicts), 'conflict')}")
        for one in found.conflicts:
            out.print(f"   [bold yellow]{show.clean(one.place)}[/bold yellow]: [dim]{show.clean(one.outcome)}[/dim]")
            show.grid(
                out,
                [("  yours", one.yours, one.why_yours), ("  theirs", one.theirs, one.why_theirs)],
                styles=("dim", None, "dim"),
            )
    if found.stale:
        show.section(out, f"Lines that still name {show.clean(old.version)}")
        show.grid(out, [(f"plan.toml:{line}", text) for line, text in found.stale[:8]], styles=("dim",))
    for text in found.open:
        out.print(f"[yellow]still to do:[/yellow] {show.clean(text)}")
    folder = show.clean(options.folder)
    if not found.written:
        out.print(f"\n[dim]nothing was written; next:[/dim] yendo renew {folder} {show.clean(options.installer)}")
    elif found.conflicts:
        out.print(
            f"\n[dim]next:[/dim] decide the lines marked CONFLICT in {folder}/plan.toml and take the marks out, then "
            f"yendo check {folder}"
        )
    elif not options.prove and not found.open:
        out.print(f"\n[dim]next:[/dim] yendo check {folder}, build and prove")


def _telling(found: Renewal) -> list[Any]:
    named = {one.place.removesuffix(".file") for one in found.moved if one.place.endswith(".file")}
    return [
        one for one in found.moved if not one.place.endswith(".size") and one.place.removesuffix(".sha256") not in named
    ][:24]


def _said(value: object) -> str:
    if value is None:
        return "-"
    if isinstance(value, list) and value and isinstance(value[0], dict):
        value = [" ".join(str(one[key]) for key in ("kind", "name", "version") if key in one) for one in value]
    if re.fullmatch(r"[0-9a-f]{64}", str(value)):
        return f"{str(value)[:12]}..."
    text = ", ".join(map(str, value)) if isinstance(value, list) else str(value)
    return text if len(text) <= 60 else text[:57] + "..."


def proved(options: argparse.Namespace) -> int:
    """Checks, builds and proves what was renewed, as the commands do it when they are typed; the exit code."""
    from yendo.cli import build_command, check_command, prove_command
    from yendo.cli.main import parser

    quiet = ["--quiet"] if options.quiet or options.json else []
    shell = [f"--machine={name}" for name in options.machine or ()]
    shell += [f"--windows={options.windows}"] if options.windows else []
    shell += [f"--powershell={options.powershell}"] if options.powershell else []
    shell += ["--unconfined"] if options.unconfined else []
    for name, command, more in (
        ("check", check_command, []),
        ("build", build_command, []),
        ("prove", prove_command, shell),
    ):
        code = command.run(parser(name).parse_args([name, *more, *quiet, "--", str(options.folder)]))
        if code:
            return int(code)
    return 0
