"""Read a patch: what it is for, whether it fits, what it changes, whether it can be taken back.

yendo patch show lantern-6.2.3.msp lantern-6.2.1.msi
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import nested

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.installers.msi.patching import PatchAccount


def configure(parser: argparse.ArgumentParser) -> None:
    nested.actions(parser, ACTIONS)


def run(options: argparse.Namespace) -> int:
    return int(options.run_action(options))


def _options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", type=Path, metavar="MSP", help="the patch")
    parser.add_argument("base", type=Path, nargs="?", metavar="MSI", help="the installer of the product it is for")
    parser.add_argument("--all", action="store_true", help="rows that only go along with others, too")
    parser.add_argument("--why", action="store_true", help="the table and key of each change")


def show_(options: argparse.Namespace) -> int:
    """Say what a patch is for and, with the installer at hand, what it changes in rows and on a machine.

    yendo patch show lantern-6.2.3.msp lantern-6.2.1.msi
    """
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.installers.msi import patching
    from yendo.installers.recognise import recognise

    nested.existing(options.file, *([options.base] if options.base else []))
    family = recognise(options.file)
    if family != "msi-patch":
        raise Usage(f"{options.file.name} is of family {family}, not a patch")
    found = patching.account(options.file, options.base)
    if options.json:
        show.emit({"schema": "yendo.patch/1", **nested.builtins(found)})
        return 1 if found.fits is False else 0
    if options.quiet:
        return 1 if found.fits is False else 0
    out = show.console()
    _what_it_is(out, found)
    if found.fits is None:
        out.print(
            f"\n[dim]next:[/dim] yendo patch show {show.clean(options.file)} BASE.msi, to see whether it fits and "
            "what it changes"
        )
        return 0
    if not found.fits:
        out.print(
            f"\n[red]It does not fit {show.clean(options.base.name)}:[/red] {show.clean('; '.join(found.reasons))}"
        )
        return 1
    out.print(f"\n[green]It fits {show.clean(options.base.name)}[/green], as a {found.kind}")
    show.section(out, "What it changes in the database")
    nested.change_rows(out, found.changes, everything=options.all, why=options.why)
    _on_a_machine(out, found)
    if found.risks:
        show.section(out, "Mind")
        show.grid(out, [(risk,) for risk in found.risks], styles=("yellow",))
    out.print(f"\n[dim]next:[/dim] yendo draft FOLDER {show.clean(options.base)} --with {show.clean(options.file)}")
    return 0


def _what_it_is(out: Console, found: PatchAccount) -> None:
    from yendo.cli import show

    out.print(f"[bold]{show.clean(found.name)}[/bold]{' by ' + show.clean(found.publisher) if found.publisher else ''}")
    back = {True: "yes, by its code", False: "no, by its own word", None: "it does not say"}[found.removable]
    rows = [
        ("patch code", found.code),
        *([("says", found.description)] if found.description else []),
        *(
            [("kind", ", ".join(filter(None, (found.classification, found.kind))))]
            if found.classification or found.kind
            else []
        ),
        (
            "is for",
            ", ".join(f"{target.version} ({target.product})" for target in found.versions) or ", ".join(found.targets),
        ),
        ("makes it", ", ".join(dict.fromkeys(target.new_version for target in found.versions)) or "unknown"),
        ("takes the place of", ", ".join(found.replaces) or "no other patch by code"),
        *[
            (
                "family",
                f"{family_.name} {family_.sequence}" + (", supersedes all earlier ones" if family_.supersedes else ""),
            )
            for family_ in found.families
        ],
        ("can be taken back", back),
        ("brings", ", ".join(f"{name}, {show.size(size)}" for name, size in found.cabinets.items()) or "no files"),
    ]
    show.grid(out, rows, styles=("dim",))


def _on_a_machine(out: Console, found: PatchAccount) -> None:
    from collections import Counter

    from yendo.cli import show
    from yendo.effects.things import kind_of, label

    verbs = {"add": "adds", "change": "changes", "remove": "removes"}
    words = [
        f"{said} {show.told(Counter(kind_of(effect.thing) for effect in some))}"
        for verb, said in verbs.items()
        if (some := [effect for effect in found.effects if effect.change == verb])
    ]
    show.section(out, f"On a machine that has the product it {', '.join(words) or 'changes nothing that can be told'}")
    show.grid(
        out,
        [(verbs[effect.change], kind_of(effect.thing), label(effect.thing)) for effect in found.effects[:40]],
        styles=("dim", "dim"),
    )


ACTIONS: nested.Actions = {"show": ("what it is for, whether it fits, what it changes", _options, show_)}
