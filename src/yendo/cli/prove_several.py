"""Many packages at once: the matrix over packages, scenarios and machines. One that cannot be played says why, and the
others go on.
"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import prove_command

if TYPE_CHECKING:
    from yendo.prove.prove import Cell


def packages(paths: Sequence[Path]) -> list[Path]:
    """The packages and workspaces meant: a folder that is neither stands for those in it. Raises Usage."""
    from yendo.errors import Usage

    found: list[Path] = []
    for path in paths or [Path()]:
        inner = [] if _is_one(path) or not path.is_dir() else [one for one in sorted(path.iterdir()) if _is_one(one)]
        found += inner or [path]
    if len(found) > 1 and len({path.resolve() for path in found}) < len(found):
        raise Usage("a package is named twice")
    return found


def _is_one(path: Path) -> bool:
    return (path / "plan.toml").is_file() or (path / "manifest.json").is_file()


def run(options: argparse.Namespace, paths: Sequence[Path]) -> int:
    """Plays each; exit code 1 where one fails, or could not be played."""
    from yendo.cli import show
    from yendo.errors import Usage, YendoError

    if options.kit or options.result or options.junit or prove_command.is_away(options):
        raise Usage("a kit, a result, JUnit XML, here and ssh: are of one package; name one")
    found: dict[Path, tuple[list[Cell], str]] = {}
    release = options.windows
    for number, path in enumerate(paths, 1):
        with show.working(f"{number} of {len(paths)}: {path}", quiet=options.quiet or options.json) as progress:
            try:
                options.windows = release
                package = prove_command.find(path)
                plan, workspace = prove_command.plan_of(path, package)
                where, some, accept = prove_command.meant(options, package, plan, workspace)
                heard = prove_command.progress_of(progress, len(some) * len(where), prefix=f"{package.name}: ")
                found[path] = prove_command.cells_of(options, package, where, some, accept, heard), ""
            except YendoError as error:
                found[path] = [], str(error)
    good = all(cells and not any(_bad(cell) for cell in cells) for cells, _ in found.values())
    if options.json:
        show.emit(
            {
                "schema": "yendo.matrices/1",
                "passed": good,
                "packages": [
                    {
                        "package": str(path),
                        "error": error or None,
                        "cells": [prove_command.cell_as_data(cell) for cell in cells],
                    }
                    for path, (cells, error) in found.items()
                ],
            }
        )
    elif not options.quiet:
        _table(found, good)
    return 0 if good else 1


def _bad(cell: Cell) -> bool:
    return cell.outcome in ("failed", "open")


def _table(found: dict[Path, tuple[list[Cell], str]], good: bool) -> None:
    """A line a package; scenarios that failed by their names."""
    from rich.text import Text

    from yendo.cli import show

    out = show.console()
    machines = list(dict.fromkeys(cell.proof.machine for cells, _ in found.values() for cell in cells))
    rows = []
    for path, (cells, error) in found.items():
        name = f"{cells[0].proof.package} {cells[0].proof.version}" if cells else path.name
        marks = [_mark([cell for cell in cells if cell.proof.machine == machine], error) for machine in machines]
        wrong = [f"{cell.scenario.id} ({cell.proof.machine})" for cell in cells if _bad(cell)]
        rows.append((name, *(marks or [Text("not played", "yellow")]), error or ", ".join(wrong)))
    show.grid(out, rows, heads=("package", *(machines or [""]), "what is wrong"), styles=("bold",))
    bad = [path for path, (cells, _) in found.items() if not cells or any(_bad(cell) for cell in cells)]
    out.print(
        f"\n{show.counted(len(found), 'package')}, {len(found) - len(bad)} without a failure; records lie beside each"
    )
    if not good:
        first = show.clean(bad[0])
        out.print(f"[dim]next:[/dim] yendo prove {first}, to see what is wrong; --go-on plays only what is open")
    else:
        out.print("[dim]next:[/dim] yendo shelf, to see them side by side; yendo dossier for each that is handed over")


def _mark(cells: Sequence[Cell], error: str) -> object:
    from rich.text import Text

    if error or not cells:
        return Text("not played", "yellow")
    failed = sum(_bad(cell) for cell in cells)
    played = [cell for cell in cells if cell.outcome in ("passed", "failed", "open")]
    before = sum(cell.earlier for cell in played)
    text = f"{len(played) - failed} of {len(played)} passed" + (f", {before} before" if before else "")
    return Text(text, "bold red" if failed else "green")
