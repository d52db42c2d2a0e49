"""Make the package: runner, detection script, manifest, bill of materials, identification tag, media.

yendo build lantern
yendo build lantern --archive
yendo build sounder --as msi
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import mac_half, nested
from yendo.errors import Usage

if TYPE_CHECKING:
    from yendo.check import Finding
    from yendo.package.build import Built
    from yendo.plan import Plan


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder", type=Path, nargs="?", default=Path(), metavar="FOLDER", help="the workspace (default: this folder)"
    )
    parser.add_argument(
        "-o", "--output", type=Path, metavar="DIR", help="where the package goes (default: FOLDER/package)"
    )
    parser.add_argument(
        "--as",
        dest="form",
        choices=("msi", "msix", "envelope"),
        help="instead, in a workspace of its own (FOLDER/forms/FORM): msi, a database of the Windows Installer that "
        "brings what the plan brings by its tables; msix, a modern app package of it; envelope, a database with the "
        "whole package inside",
    )
    parser.add_argument(
        "--without-entry", action="store_true", help="an envelope has no line of its own in the list of programs"
    )
    parser.add_argument(
        "--certificate",
        type=Path,
        metavar="FILE",
        help="with --as msix: the certificate of who will sign it, PEM or DER; its subject is the package's publisher",
    )
    parser.add_argument(
        "--together-with",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help="with --as msix: an app package of the same product for another processor; all of them become one bundle",
    )
    parser.add_argument(
        "--site",
        metavar="NAME",
        help="with --as msix: the site of the plan whose values are built in (default: the settings' defaults)",
    )
    parser.add_argument(
        "--reach",
        choices=("log-on", "shortcut"),
        help="with --as msi: settings of people's own come to everybody at their next log-on (the default), or when "
        "they first start the program by its shortcut",
    )
    parser.add_argument("--archive", action="store_true", help="also as one .zip file")
    parser.add_argument(
        "--although",
        action="append",
        default=[],
        metavar="RULE=WHY",
        help="build over an error of this check rule, with the reason (written into the workspace's record)",
    )


def run(options: argparse.Namespace) -> int:
    if options.reach and options.form != "msi":
        raise Usage("--reach belongs to --as msi")
    if options.together_with and options.form != "msix":
        raise Usage("--together-with belongs to --as msix")
    from yendo.check import Workspace, check
    from yendo.cli import show
    from yendo.package import build
    from yendo.shelf import claims

    hint = 'as --although no-uninstall="it is never removed"'
    reasons = nested.pairs("--although", options.although, "RULE=WHY", hint, empty=False)
    errors: list[Finding] = []  # what a check calls an error, and nobody has answered for
    if mac_half.is_meant(options.folder):
        errors += [one for one in mac_half.checked(options.folder) if one.severity == "error"]
    if not mac_half.is_alone(options.folder):
        workspace = Workspace(options.folder)
        plan = workspace.plan
        errors += [one for one in check(workspace) if one.severity == "error"]
    if errors := [one for one in errors if one.rule not in reasons]:
        return _refused(options, errors)
    mac = mac_half.run_build(options) if mac_half.is_meant(options.folder) and not options.form else None
    if mac_half.is_alone(options.folder):
        return 0
    if options.form:
        return _form(options, plan)
    with show.working("building", quiet=options.quiet or options.json):
        built = build.build(options.folder, plan, output=options.output, archive=options.archive)
        build.record(options.folder, built, although={rule: why.strip() for rule, why in reasons.items()})
        claims.record(options.folder, plan, built)
    _told(options, plan, built, mac)
    return 0


def _told(options: argparse.Namespace, plan: Plan, built: Built, mac: dict[str, object] | None) -> None:
    """What was built; ``mac`` is what was built for macOS beside it."""
    from yendo.cli import show

    if options.json:
        body = {
            "folder": str(built.folder),
            "archive": str(built.archive) if built.archive else None,
            "digest": built.digest,
            "size": built.size,
            "files": len(built.manifest.files) + 1,
            **({"macos": mac} if mac else {}),
        }
        show.emit({"schema": "yendo.build/1", **body})
    elif not options.quiet:
        out = show.console()
        out.print(
            f"[bold]{show.clean(built.folder)}[/bold]: {len(built.manifest.files) + 1} files, {show.size(built.size)}"
        )
        show.grid(
            out,
            [
                ("digest", built.digest),
                *([("archive", f"{built.archive}, not signed yet")] if built.archive and plan.only_signed else []),
                *([("archive", built.archive)] if built.archive and not plan.only_signed else []),
                ("on a machine", "apply.cmd install | uninstall | repair"),
                ("detection", "detect.ps1"),
            ],
            styles=("dim",),
        )
        out.print(f"\n[dim]next:[/dim] yendo prove {show.clean(options.folder)}")


def _form(options: argparse.Namespace, plan: Plan) -> int:
    import msgspec

    from yendo import forms
    from yendo.cli import show

    if (options.form == forms.MSIX) != bool(options.certificate):
        raise Usage("--as msix and --certificate FILE go together: an app package names who will sign it")
    if options.site and options.form != forms.MSIX:
        raise Usage("--site belongs to --as msix: every other form takes its values when it is delivered")
    with show.working("building", quiet=options.quiet or options.json):
        if options.form == forms.ENVELOPE:
            built = forms.build_envelope(options.folder, plan, entry=not options.without_entry)
        elif options.form == forms.MSIX:
            publisher = forms.publisher_of(options.certificate)
            built = forms.build_app(options.folder, plan, publisher, options.site or "", options.together_with)
        else:
            built = forms.build(options.folder, plan, reach=options.reach or forms.LOG_ON)
    if options.json:
        places = {"folder": str(built.folder), "main": str(built.main)}
        show.emit({"schema": "yendo.form/1", **msgspec.structs.asdict(built), **places})
    elif not options.quiet:
        out = show.console()
        folder = show.clean(built.folder)
        out.print(f"[bold]{show.clean(built.main)}[/bold]: {show.size(built.size)}")
        show.grid(out, [("digest", built.digest), *(("note", note) for note in built.notes)], styles=("dim", None))
        out.print("\nIt has a workspace of its own, and is proved like every package.")
        sign = f"yendo sign {show.clean(built.main)}; " if options.form == forms.MSIX else ""
        out.print(f"[dim]next:[/dim] {sign}yendo build {folder}; yendo prove {folder}")
    return 0


def _refused(options: argparse.Namespace, errors: list[Finding]) -> int:
    from yendo.cli import show

    if options.json:
        show.emit({"schema": "yendo.build/1", "folder": None, "errors": errors})
        return 1
    out = show.console()
    out.print(f"[bold red]Not built[/bold red]: {show.counted(len(errors), 'error')}")
    show.grid(
        out,
        [(f"line {one.line}", one.message, one.remedy, one.rule) for one in errors[:10]],
        styles=("dim", "red", None, "dim"),
    )
    folder = show.clean(options.folder)
    out.print(f'\n[dim]next:[/dim] yendo check {folder} says why; where it is meant: --although {errors[0].rule}="..."')
    return 1
