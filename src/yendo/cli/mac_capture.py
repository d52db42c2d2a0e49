"""``yendo capture`` on a Mac over SSH."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

import msgspec

from yendo.cli import mac_half, show
from yendo.errors import Usage
from yendo.machines.kinds import SSH

if TYPE_CHECKING:
    from collections.abc import Iterator

    from yendo.mac_half.away import MacAway
    from yendo.mac_half.captured import MacDoing

MOST = 20
PACKAGE = "/usr/sbin/installer -pkg {setup} -target /"


def run(options: argparse.Namespace) -> int:
    from yendo.mac_half.away import MacAway
    from yendo.mac_half.captured import capture
    from yendo.machines import addresses

    if options.kit or options.results or options.twice is not None or options.start_again or options.beside:
        raise Usage(
            "on a Mac the work is done once, over SSH: --kit, --from, --twice, --start-again, --with are Windows'"
        )
    if options.setup and not options.setup.is_file():
        raise Usage(f"{options.setup} is no file; pack a bundle or image's content into one, or name the package")
    work = list(_work(options))
    name = options.machine.removeprefix(SSH)
    address = addresses.named(options.name.absolute().parent, name)
    what = f"capturing {options.name} on {options.machine}"
    if mac_half.is_meant(options.name):
        return _first_start(options, work, MacAway(name, address))
    with show.working(what, quiet=options.quiet or options.json), MacAway(name, address) as machine:
        found = capture(options.name, machine, work, options.setup, _waited)
    drafted = found.drafted
    if options.json:
        told = {"plan": str(drafted.plan), "media": drafted.media, "decisions": drafted.decisions}
        show.emit({"schema": "yendo.mac-capture/1", **told, "changes": found.changes, "receipts": found.receipts})
    elif not options.quiet:
        counts = [f"{sum(1 for one, _ in found.changes if one == kind)} {kind}" for kind in ("new", "changed", "gone")]
        mac_half.started(drafted, f"captured on {show.clean(options.machine)}: {', '.join(counts)}", options.name)
    return 0


def _first_start(options: argparse.Namespace, work: list[MacDoing], machine: MacAway) -> int:
    """What the program of a package that is there makes by itself."""
    from yendo.mac_half.captured import first_start

    if options.setup:
        raise Usage(f"{options.name} has its half already: then the work is starting its program, without a setup")
    with show.working(f"starting it on {options.machine}", quiet=options.quiet or options.json), machine:
        found = first_start(options.name, machine, work, _waited)
    if options.json:
        show.emit({"schema": "yendo.mac-first-start/1", **msgspec.to_builtins(found)})
    elif not options.quiet:
        out = show.console()
        count = show.counted(len(found.made), "thing")
        out.print(
            f"its program made [bold]{count}[/bold] by itself" + ("; made_later names them now" if found.made else "")
        )
        show.grid(out, [(path, "goes with the package") for path in found.made], styles=(None, "dim"))
        show.grid(
            out, [(one, "a person's settings; users_too takes them") for one in found.of_people], styles=(None, "dim")
        )
        show.grid(out, [(path, f"{kind}, and stays") for kind, path in found.other[:MOST]], styles=("dim", "dim"))
        if len(found.other) > MOST:
            out.print(f"[dim]and {len(found.other) - MOST} more (--json)[/dim]")
        out.print(f"\n[dim]next:[/dim] yendo build {show.clean(options.name)}, then yendo prove")
    return 0


def _work(options: argparse.Namespace) -> Iterator[MacDoing]:
    from yendo.mac_half.captured import MacDoing

    given = [(kind, text) for kind, text in getattr(options, "work", None) or [] if kind != "part"]
    if not given:
        if not options.setup or options.setup.suffix.lower() != ".pkg":
            raise Usage("say what is done there: --run LINE, or --hand LINE where a person does the rest at its screen")
        given = [("run", PACKAGE)]
    for kind, text in given:
        if "{setup}" in text and not options.setup:
            raise Usage(f"{text!r} names the setup, and none is given")
        yield MacDoing(text, hand=kind == "hand")


def _waited(line: str) -> None:
    """Until a person has done the rest there."""
    try:
        input(f"do the rest on the Mac ({line}); Enter when it is done ")
    except EOFError:
        raise Usage("--hand needs somebody at this terminal who says when it is done") from None
