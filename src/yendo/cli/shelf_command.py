"""List every workspace below a folder: version, how far it is and why not further, and where packages get into one
another's way.

yendo shelf packages
yendo shelf packages --csv shelf.csv --html shelf.html
"""

from __future__ import annotations

import argparse
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.shelf.shelf import Shelf
    from yendo.shelf.shelf import ShelfRow as Line


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder",
        type=Path,
        nargs="?",
        default=Path(),
        metavar="FOLDER",
        help="where the workspaces are (default: this folder)",
    )
    parser.add_argument("--csv", type=Path, metavar="FILE", help="also write the table as CSV")
    parser.add_argument("--html", type=Path, metavar="FILE", help="also write it as one page")
    parser.add_argument("--anew", action="store_true", help="read everything again, also what has not changed")


def run(options: argparse.Namespace) -> int:
    from yendo import atomic
    from yendo.cli import machines, show
    from yendo.errors import Usage
    from yendo.shelf.shelf import MAC_HALF, listing

    if not options.folder.is_dir():
        raise Usage(f"{options.folder} is no folder")
    found = listing(options.folder, None if options.anew else machines.cache())
    out_there = delivered(options.folder)
    if options.csv:
        atomic.write(options.csv, table(found.rows))
    if options.html:
        from yendo.plan import house
        from yendo.shelf.page import page

        file = house.find(options.folder)
        atomic.write(options.html, page(found, house.HouseGiven(file, house.read(file)[0]) if file else None).encode())
    if options.json:
        show.emit(
            {
                "schema": "yendo.shelf/1",
                "folder": found.folder,
                "counts": found.counts,
                "workspaces": found.rows,
                "conflicts": found.conflicts,
                "uncounted": found.uncounted,
                "delivered": {f"{name} {version}": words for (name, version), words in out_there.items()},
            }
        )
        return 0
    if options.quiet:
        return 0
    out = show.console()
    if not found.rows:
        out.print(f"no workspace below {show.clean(options.folder)}; [dim]next:[/dim] yendo draft FOLDER INSTALLER")
        return 0
    _rows(out, found, out_there)
    _conflicts(out, found)
    told = ", ".join(f"{count} {state}" for state, count in found.counts.items())
    out.print(
        f"\n{show.counted(len(found.rows), 'workspace')}: {told}"
        + (f"; of {len(found.uncounted)} it is not known what they claim" if found.uncounted else "")
    )
    behind = next((one for one in found.rows if one.state not in ("proved", "unreadable") or one.stale), None)
    if behind:
        verb = {"drafted": "check", "checked": "build", "built": "prove"}.get(
            "checked" if behind.stale and behind.state == "checked" else behind.state, "check"
        )
        folder = options.folder / behind.path.removesuffix(MAC_HALF)
        out.print(f"[dim]next:[/dim] yendo {verb} {show.clean(folder)}")
    return 0


def delivered(folder: Path) -> dict[tuple[str, str], str]:
    """What became of the packages' last deliveries, by id and version, where an inventory lies in the folder."""
    if not (folder / "fleet.db").is_file():
        return {}
    try:
        from yendo.fleet.deliveries import Deliveries
        from yendo.fleet.store import Inventory
    except ImportError:
        return {}
    deliveries, found = Deliveries(Inventory(folder / "fleet.db")), {}
    for one in deliveries.all():
        if one.verb == "install":
            states = [place.state for place in deliveries.places(one.number)]
            failed = f", {states.count('failed'):,} failed" if "failed" in states else ""
            words = f"delivery {one.number} {one.state}: {states.count('done'):,} of {len(states):,}{failed}"
            found[one.package, one.version] = words
    return found


def _rows(out: Console, found: Shelf, out_there: dict[tuple[str, str], str]) -> None:
    from rich.text import Text

    from yendo.cli import show

    colours = {"proved": "green", "built": "cyan", "checked": "cyan", "drafted": "yellow", "unreadable": "bold red"}
    rows = [
        (
            one.path,
            one.name,
            f"{one.version}, r{one.revision}" if one.version else "",
            Text(one.state, colours[one.state]),
            Text(one.why, "red" if one.stale else "dim"),
            out_there.get((one.id, one.version), ""),
        )
        for one in found.rows
    ]
    show.grid(out, rows, heads=("where", "package", "version", "state", "", ""), styles=("cyan",))


def _conflicts(out: Console, found: Shelf) -> None:
    from yendo.cli import show

    if found.conflicts:
        show.section(out, f"In one another's way: {len(found.conflicts)}")
        show.grid(
            out,
            [
                (
                    one.one,
                    one.other,
                    one.what if one.count == 1 else f"{one.count} x {one.what}",
                    f"{one.text}: {', '.join(one.things[:2])}",
                )
                for one in found.conflicts[:20]
            ],
            styles=("cyan", "cyan", "yellow", None),
        )
        if len(found.conflicts) > 20:
            out.print(f"  [dim]and {len(found.conflicts) - 20} more (--json and --html have them all)[/dim]")


def table(rows: Iterable[Line]) -> bytes:
    """The rows as CSV, with a mark for spreadsheets; a text that a spreadsheet would take for a formula gets an
    apostrophe.
    """
    import msgspec

    from yendo.cli import nested
    from yendo.shelf.shelf import ShelfRow

    return nested.spreadsheet(ShelfRow.__struct_fields__, map(msgspec.structs.astuple, rows))
