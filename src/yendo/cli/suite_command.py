"""Several products as one: chosen, in the right order, with what they share brought once; what needs a person is set
apart.

yendo suite survey-desk --dry-run
yendo suite survey-desk
yendo suite survey-desk --language en-GB --updates-only
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.suite.suite import Resolved


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder",
        type=Path,
        nargs="?",
        default=Path(),
        metavar="FOLDER",
        help="the folder with suite.toml (default: this one)",
    )
    parser.add_argument(
        "--language",
        action="append",
        metavar="NAME",
        help="only products in this language, or in none; may be given several times",
    )
    parser.add_argument("--updates-only", action="store_true", help="every product only where it is already")
    parser.add_argument(
        "--each", action="store_true", help="a package for each product, and their order, in place of one for all"
    )
    parser.add_argument("--dry-run", action="store_true", help="only say what it comes to")


def run(options: argparse.Namespace) -> int:
    import msgspec

    from yendo.cli import show
    from yendo.package import build
    from yendo.plan import read as read_plan
    from yendo.suite import model, suite

    plan, lines = model.read(options.folder / model.NAME)
    head = plan.suite
    if options.language:
        head = msgspec.structs.replace(head, languages=tuple(options.language))
    head = msgspec.structs.replace(
        head, updates_only=head.updates_only or options.updates_only, packages="each" if options.each else head.packages
    )
    found = suite.resolve(options.folder.resolve(), msgspec.structs.replace(plan, suite=head), lines)
    packages: list[Path] = []
    if not options.dry_run:
        with show.working("building", quiet=options.quiet or options.json):
            if head.packages == "each":
                packages = suite.each(options.folder, found)
            else:
                made = suite.make(options.folder, found)
                packages = [
                    build.build(made, read_plan(made / "plan.toml")[0], output=options.folder / "package").folder
                ]
    if options.json:
        show.emit(
            {
                "schema": "yendo.suite/1",
                "id": head.id,
                "order": [
                    {"id": one.id, "version": one.plan.package.version, "updates_only": found.updates_only(one)}
                    for one in found.members
                ],
                "shared": [
                    {"package": package, "version": version, "brought": source is not None}
                    for package, version, source in found.shared
                ],
                "left_out": found.left_out,
                "by_hand": found.by_hand,
                "packages": [str(path) for path in packages],
            }
        )
    elif not options.quiet:
        report(show.console(), found, packages, options)
    return 1 if found.by_hand else 0


def report(out: Console, found: Resolved, packages: list[Path], options: argparse.Namespace) -> None:
    """Who is in it and in which order, what is shared, who is not and why, what a person has to do."""
    from yendo.cli import show

    out.print(
        f"[bold]{show.clean(found.suite.name)} {show.clean(found.suite.version)}[/bold], "
        f"{show.counted(len(found.members), 'product')}"
    )
    for package, version, source in found.shared:
        out.print(
            f"   first, once for all: {show.clean(package)} {show.clean(version)}"
            + ("" if source else ", expected to be there")
        )
    rows = []
    for at, one in enumerate(found.members, 1):
        more = [f"only where it is already, before {one.plan.package.version}"] if found.updates_only(one) else []
        more += [f"as at {one.product.site}"] if one.product.site else []
        more += (
            [", ".join(f"{name} = {value}" for name, value in one.product.settings.items())]
            if one.product.settings
            else []
        )
        more += ["where its condition holds"] if one.product.when else []
        rows.append((at, one.plan.package.name, one.plan.package.version, one.plan.package.language, "; ".join(more)))
    show.grid(out, rows, heads=("", "product", "version", "language", ""), styles=("dim", None, None, "dim", "dim"))
    if found.left_out:
        show.section(out, "Left out")
        show.grid(out, found.left_out, styles=(None, "dim"))
    if found.by_hand:
        show.section(out, "Not unattended, so not in it")
        show.grid(
            out,
            [(one.product, one.reason, one.do) for one in found.by_hand],
            heads=("product", "why", "to do"),
            styles=("yellow",),
        )
    if not packages:
        out.print(f"\n[dim]nothing was built; next:[/dim] yendo suite {show.clean(options.folder)}")
    elif found.suite.packages == "each":
        out.print(
            f"\n{show.counted(len(packages), 'package')} and order.json in {show.clean(packages[0].parent)}; "
            "[dim]next:[/dim] yendo prove each of them"
        )
    else:
        out.print(
            f"\n[bold]{show.clean(packages[0])}[/bold]; [dim]next:[/dim] yendo check "
            f"{show.clean(options.folder / 'made')}, then yendo prove {show.clean(packages[0])}"
        )
