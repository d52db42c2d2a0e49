"""What the commands about all machines share: where an inventory is, and how waves and forecasts are told."""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Callable

    from yendo.fleet.columns import Columns
    from yendo.fleet.deliveries import Deliveries
    from yendo.fleet.foresee import Foreseen
    from yendo.fleet.planning import PlannedWave
    from yendo.fleet.store import Inventory
    from yendo.plan import Plan

VARIABLE = "YENDO_FLEET"


def where(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--inventory",
        metavar="ADDRESS",
        help=f"a file, or postgresql://... (default: {VARIABLE}, else fleet.db in this folder)",
    )


def over_ssh(parser: argparse.ArgumentParser, patience: str) -> None:
    """How computers are reached; ``patience`` is how long one may take where nothing is said."""
    parser.add_argument("--user", required=True, metavar="NAME", help="an administrator there")
    parser.add_argument(
        "--key", type=Path, required=True, metavar="FILE", help="private key; FILE-cert.pub beside it counts"
    )
    parser.add_argument(
        "--known", type=Path, required=True, metavar="FILE",
        help="the computers' keys (known_hosts), or who vouches for them",
    )  # fmt: skip
    parser.add_argument("--port", type=int, default=22)
    parser.add_argument("--at-once", type=int, default=8, metavar="N", help="computers at once (default: 8)")
    parser.add_argument(
        "--patience", default=patience, metavar="TIME", help=f"how long one may take (default: {patience})"
    )


def reached(options: argparse.Namespace, columns: Columns | None) -> dict[str, Any]:
    """The same for the core. Where the inventory has the column address, that is where a computer is. Raises Usage."""
    from yendo.errors import Usage
    from yendo.terms.amounts import seconds

    for path in (options.key, options.known):
        if not path.is_file():
            raise Usage(f"{path} is not there")
    places = by_computer(columns, "address") if columns else {}
    return {
        "user": options.user, "key": options.key, "known": options.known, "port": options.port,
        "at_once": max(options.at_once, 1), "patience": seconds(options.patience),
        "addresses": {name: (text, options.port) for name, text in places.items()},
    }  # fmt: skip


def by_computer(columns: Columns, name: str) -> dict[str, str]:
    """A column's texts by computer, in small letters; nothing where the inventory does not have it."""
    column = columns.texts.get(name)
    if column is None:
        return {}
    return {one.lower(): text for at, one in enumerate(columns.computers) if (text := column.at(at))}


def heard(options: argparse.Namespace) -> Callable[[str, str], None]:
    """Who says what goes on at a computer."""
    from yendo.cli import show

    out = show.console()

    def said(name: str, text: str) -> None:
        if not options.quiet and not options.json:
            out.print(f"[dim]{show.clean(name)}: {show.clean(text)}[/dim]")

    return said


def store_of(options: argparse.Namespace) -> Inventory:
    from yendo.errors import Usage

    try:
        from yendo.fleet.store import FILE, Inventory
    except ImportError as error:
        raise Usage("an inventory needs more libraries: pip install 'yendo[fleet]'") from error
    return Inventory(options.inventory or os.environ.get(VARIABLE) or FILE)


def plan_of(folder: Path) -> Plan:
    from yendo.plan import read

    return read(folder / "plan.toml")[0]


def foreseen_of(plan: Plan, folder: Path, store: Inventory, columns: Columns) -> Foreseen:
    from datetime import date

    from yendo.fleet.foresee import foresee as foreseen

    return foreseen(plan, folder, columns, store.outcomes(), now=f"{date.today()}T12:00")


def in_a_sentence(found: Foreseen) -> str:
    words = f"of {found.machines:,}, {len(found.gets):,} get it"
    expected = found.failures
    if expected is None:
        return f"{words}; how many fail nobody can say before any package was reported (yendo fleet report)"
    mostly = f", mostly {expected.causes[0][0]}" if expected.causes else ""
    return (
        f"{words}, {expected.low:,} to {expected.high:,} will fail{mostly} "
        f"({expected.share:.0%}, from {expected.earlier:,} outcomes of {expected.packages:,} packages)"
    )


def wave_rows(groups: list[PlannedWave]) -> list[tuple[str, str, str]]:
    """The waves as rows: name, machines, what a chosen group shows and what not."""
    from yendo.cli import show

    rows = []
    for one in groups:
        note = f"pause {one.wave.pause}"
        if one.covering:
            note = f"covers {one.covering.covered:.0%} of what the others are like, {note}; its rate is not that of all"
        if one.left:
            note += f"; named and not meant: {', '.join(one.left[:3])}{' and more' if len(one.left) > 3 else ''}"
        rows.append((one.wave.name, show.counted(len(one.machines), "machine"), note))
    return rows


def between(some: list[int]) -> str:
    """The first and the last of numbers in order."""
    return f"{some[0]:,}" if some[0] == some[-1] else f"{some[0]:,} to {some[-1]:,}"


def deliveries_of(options: argparse.Namespace) -> Deliveries:
    """What goes out from the inventory of a command line. Raises Usage."""
    store = store_of(options)
    from yendo.fleet.deliveries import Deliveries

    return Deliveries(store)


def say(options: argparse.Namespace, text: str, following: str = "") -> None:
    """A sentence, and what comes next, for whoever did not ask for JSON or silence."""
    from yendo.cli import show

    if options.quiet or options.json:
        return
    out = show.console()
    out.print(text)
    if following:
        out.print(f"[dim]next:[/dim] {show.clean(following)}")
