"""The machines that packages are proved on: those that are always here, and the computers of machines.toml.

yendo machines
yendo machines --json
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from yendo.cli import machines


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder", type=Path, nargs="?", default=Path(), metavar="FOLDER", help="where machines.toml is looked for"
    )


def run(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.machines.kinds import SSH

    found = survey(options.folder)
    if options.json:
        show.emit({"schema": "yendo.machines/1", "machines": found})
        return 0
    if options.quiet:
        return 0
    out = show.console()
    rows = [(one["name"], one["what"], one["put_back"], one["proved"], one["last"]) for one in found]
    show.grid(out, rows, heads=("machine", "what it is", "put back", "proved on", "last"), styles=("bold",))
    if not any(one["name"].startswith(SSH) for one in found):
        out.print("\n[dim]next:[/dim] describe a Windows in machines.toml: docs/machines.md shows one", soft_wrap=True)
    return 0


def survey(folder: Path) -> list[dict[str, Any]]:
    """An entry a machine: its name, what it is, when it was last put back and proved on, and what was. Raises Usage."""
    from yendo.errors import YendoError
    from yendo.machines import addresses, kinds, visits
    from yendo.machines.kinds import SSH

    found: list[dict[str, Any]] = []
    for name in kinds.NAMES:
        try:
            what, back = machines.make(name).label, "every run"
        except YendoError as error:
            what, back = f"not here: {str(error).partition(':')[0]}", ""
        found.append({"name": name, "what": what, "put_back": back, "proved": "", "last": ""})
    path = addresses.find(folder)
    known = visits.known(machines.cache())
    for name, address in (addresses.read(path) if path else {}).items():
        visit = known.get(name, visits.Visit())
        back = visit.put_back or ("never" if address.revert else "not by us: no revert")
        what = visit.windows or f"{address.user}@{address.address}, never seen"
        found.append(
            {
                "name": f"{SSH}{name}",
                "what": what,
                "put_back": back,
                "proved": visit.proved or "never",
                "last": visit.what,
            }
        )
    return found
