"""Say what the vendor changed between two versions, without a workspace. Exit code 1 when anything differs.

yendo compare lantern-6.2.1.msi lantern-6.3.0.msi
yendo compare last-year/Lantern.app Lantern.app
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Sequence


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("old", type=Path, metavar="OLD", help="the version that is known")
    parser.add_argument(
        "new", type=Path, metavar="NEW", help="the one that came: an installer, or a bundle, package or image for macOS"
    )


def run(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.mac import comparing

    for path in (options.old, options.new):
        if not path.exists():
            raise Usage(f"{path} is not there")
    mac = [comparing.is_one(path) for path in (options.old, options.new)]
    if mac[0] != mac[1]:
        raise Usage("one is for macOS and the other for Windows; two of a kind are compared")
    versions, found = _mac(options) if mac[0] else _windows(options)
    if options.json:
        rows = [{"text": text, "mind": mind} for text, mind in found]
        show.emit({"schema": "yendo.compare/1", "old": versions[0], "new": versions[1], "differences": rows})
    elif not options.quiet:
        _print(options, versions, found)
    return 1 if found else 0


def _mac(options: argparse.Namespace) -> tuple[list[str], list[tuple[str, bool]]]:
    from yendo.mac import comparing

    sides = [comparing.read(path) for path in (options.old, options.new)]
    return [one.version for one in sides], comparing.differences(*sides)


def _windows(options: argparse.Namespace) -> tuple[list[str], list[tuple[str, bool]]]:
    from yendo import digest
    from yendo.installers import recognise
    from yendo.renew import words

    sides = [recognise.read(path) for path in (options.old, options.new)]
    same = digest.of_file(options.old) == digest.of_file(options.new)
    told = [] if same else [(one.text, one.mind) for one in words.told(*sides)]
    return [one.identity.version or "" for one in sides], told


def _print(options: argparse.Namespace, versions: Sequence[str], found: Sequence[tuple[str, bool]]) -> None:
    from rich.text import Text

    from yendo.cli import show

    out = show.console()
    names = [
        f"{path.name} {version}".strip() for path, version in zip((options.old, options.new), versions, strict=True)
    ]
    out.print(f"{show.clean(names[0])} -> [bold]{show.clean(names[1])}[/bold]")
    rows = [(Text("mind", "yellow") if mind else "", text) for text, mind in sorted(found, key=lambda one: not one[1])]
    show.grid(out, rows or [("", "nothing that reading can tell")])
    if options.new.suffix.lower() == ".msi":
        out.print("\n[dim]next:[/dim] yendo msi compare tells every row; yendo renew carries a package over")
    else:
        out.print("\n[dim]next:[/dim] yendo renew carries a package over to it")
