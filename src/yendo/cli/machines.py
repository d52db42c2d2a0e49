"""Machines by name, for the commands that need one."""

from __future__ import annotations

import argparse
import contextlib
import os
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.machines.kinds import HERE
from yendo.machines.kinds import NAMES as NAMES

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from rich.console import Console

    from yendo.machines.protocol import Machine
    from yendo.machines.watching import WatchedMachine


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--machine", choices=NAMES, default="simulated", help="what to prove on (default: simulated)")
    add_shell(parser)


def add_shell(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--powershell",
        type=Path,
        metavar="PATH",
        help="a zip or folder with a PowerShell for the wine machine (or YENDO_POWERSHELL)",
    )
    parser.add_argument(
        "--windows",
        metavar="NAME",
        help="which Windows the simulated machine is: 10-22h2 (default), 11-24h2, 10-ltsc-2021, server-2019 or -2022",
    )
    parser.add_argument(
        "--unconfined",
        action="store_true",
        help="run the installer on wine without isolation, with your own rights and files; said in every record",
    )


def add_watching(parser: argparse.ArgumentParser, what: str, limit: str) -> None:
    """The options of a command that watches what runs: where, as whom, and how long ``what`` may take."""
    parser.add_argument("--limit", default=limit, metavar="TIME", help=f"at most so long a {what} (default: {limit})")
    parser.add_argument(
        "--scenario",
        choices=("desk", "system"),
        default=None,
        help="as an elevated user at a desk, or as the system account (default: desk; over SSH system)",
    )
    parser.add_argument(
        "--machine",
        default="wine",
        metavar="NAME",
        help="where it runs: wine (default), ssh:NAME of machines.toml, which is put back before every run, or for a "
        "capture here",
    )
    parser.add_argument("--powershell", type=Path, metavar="PATH", help=argparse.SUPPRESS)
    parser.add_argument(
        "--unconfined",
        action="store_true",
        help="run it without isolation, with your own rights and files; said in the record",
    )


def add_this_computer(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--this-computer-may-be-changed",
        action="store_true",
        dest="may_change",
        help="with --machine here: yes, do it on this Windows",
    )


def kit_told(out: Console, result: str, command: str, *before: tuple[str, str]) -> None:
    """What is done with a kit, what it brings back, and the command that takes that; ``before`` are rows above."""
    from yendo.cli import show

    there = "unpack it there, start play.cmd as administrator; put the machine back afterwards"
    show.grid(out, [*before, ("on a Windows", there), ("brings back", result)], styles=("dim",))
    out.print(f"\n[dim]next:[/dim] {show.clean(command)} --from {show.clean(result)}")


def cache() -> Path:
    """Where templates are kept."""
    if given := os.environ.get("YENDO_CACHE"):
        return Path(given)
    import platformdirs

    return Path(platformdirs.user_cache_dir("yendo"))


def asked(options: argparse.Namespace, name: str) -> Machine:
    """The machine of a name, as the options of its shell and isolation want it. Raises NoMachine, Usage."""
    return make(name, options.powershell, unconfined=options.unconfined, release=options.windows)


def make(name: str, powershell: Path | None = None, *, unconfined: bool = False, release: str | None = None) -> Machine:
    """The machine of a name. Raises NoMachine, Usage."""
    from yendo.machines import kinds

    return kinds.make(name, cache(), powershell, unconfined=unconfined, release=release)


@contextlib.contextmanager
def watched(
    options: argparse.Namespace,
    folder: Path,
    progress: Callable[[str], object],
    *,
    second: str | None = None,
    screen: str | None = None,
    here: bool = False,
) -> Iterator[WatchedMachine]:
    """The machine that watches what runs there: wine, or ssh:NAME, which is put back before every run.

    ``folder`` is where machines.toml is looked for; ``second`` names another one, and with wine that is called
    otherwise; ``screen`` is a person's own; ``here``: whether this computer can be meant, which is changed once. Raises
    NoMachine, Usage.
    """
    from yendo.errors import Usage
    from yendo.machines import addresses
    from yendo.machines.kinds import SSH
    from yendo.machines.wine.machine import OTHER, WineMachine, powershell_source
    from yendo.prove import attended

    asked = second or options.machine
    if asked == "wine":
        shell = powershell_source(options.powershell)
        guise = OTHER if second else None
        yield WineMachine(cache(), shell, unconfined=options.unconfined, guise=guise, screen=screen)
        return
    if here and asked == HERE:
        if not options.may_change:
            raise Usage(
                "this does the work on this very computer; say so with --this-computer-may-be-changed, on one that is "
                "put back afterwards"
            )
        machine = attended.here("", progress)  # one that belongs to somebody is refused
    else:
        name = asked.removeprefix(SSH)
        if name == asked:
            raise Usage(f"{asked!r} is no machine that can be watched; there are wine and ssh:NAME")
        known = addresses.named(folder, name)
        if not known.revert:
            raise Usage(f"{asked} is changed by every run, and machines.toml does not say how it is put back: revert")
        machine = attended.over_ssh(name, known, progress)
    try:
        yield machine
    finally:
        machine.interrupt()
