"""Many packages at once: the matrix over packages, scenarios and machines. One that cannot be played says why, and the
others go on.
"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import proving

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from yendo.farm import run as farming
    from yendo.farm.run import Crew
    from yendo.prove.proof import Proof
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
    from yendo.errors import Usage

    away = proving.is_away(options) and (not options.farm or proving.HERE in options.machine)
    if options.kit or options.result or options.junit or away:
        raise Usage(
            "a kit, a result, JUnit XML, here and ssh: are of one package; name one (a farm plays ssh: for all)"
        )
    if options.changed_since:
        paths = changed(paths, options.changed_since)
        if not paths:
            if options.json:
                show.emit({"schema": "yendo.matrices/1", "passed": True, "packages": []})
            elif not options.quiet:
                show.console().print(f"nothing has changed since {show.clean(options.changed_since)}")
            return 0
    found, seconds = _played(options, paths)
    good = all(one.good for one in found.values())
    if options.json:
        show.emit(
            {
                "schema": "yendo.matrices/1",
                "passed": good,
                "packages": [
                    {
                        "package": str(path),
                        "error": "; ".join(one.troubles) or None,
                        "cells": [proving.cell_as_data(cell) for cell in one.cells],
                    }
                    for path, one in found.items()
                ],
            }
        )
    elif not options.quiet:
        _table(found, good, seconds)
    return 0 if good else 1


class _Found:
    """What became of one package: its cells, and why some could not be played."""

    def __init__(self) -> None:
        self.cells: list[Cell] = []
        self.troubles: list[str] = []

    @property
    def good(self) -> bool:
        return bool(self.cells) and not self.troubles and not any(_bad(cell) for cell in self.cells)


def changed(paths: Sequence[Path], since: str) -> list[Path]:
    """Those in which a file is newer than a day (2026-11-01), or differs from a commit, branch or tag. Raises Usage."""
    from datetime import datetime

    try:
        moment = datetime.fromisoformat(since).timestamp()
    except ValueError:
        return [path for path in paths if _differs(path, since)]
    return [path for path in paths if _newest(path) >= moment]


def _newest(path: Path) -> float:
    records = (".proof-", ".dossier", ".kit-")
    own = (file for file in path.rglob("*") if file.is_file() and not any(word in file.name for word in records))
    return max((file.stat().st_mtime for file in own), default=0.0)


def _differs(path: Path, commit: str) -> bool:
    """Whether git says that a folder is not as it was. Raises Usage."""
    import subprocess

    from yendo.errors import Usage

    def git(*words: str) -> str:
        line = ["git", "-C", str(path), *words]
        try:
            done = subprocess.run(line, capture_output=True, text=True, errors="replace", stdin=subprocess.DEVNULL)
        except OSError as error:
            raise Usage(f"{commit!r} is no day (2026-11-01), and git is not here: {error}") from error
        if done.returncode:
            said = done.stderr.strip().splitlines()
            raise Usage(f"{commit!r} is no day (2026-11-01), and git says: {said[-1] if said else 'nothing'}")
        return done.stdout

    git("rev-parse", "--verify", "--quiet", "--end-of-options", f"{commit}^{{commit}}")
    return bool(git("diff", "--name-only", commit, "--", ".") or git("status", "--porcelain", "--", "."))


def _played(options: argparse.Namespace, paths: Sequence[Path]) -> tuple[dict[Path, _Found], float]:
    """Every package's cells, played by a crew; what cannot be played says why."""
    import time

    from yendo.cli import interrupts, show
    from yendo.errors import YendoError
    from yendo.farm import run as farm
    from yendo.prove import prove

    found = {path: _Found() for path in paths}
    cells: list[farm.FarmCell] = []
    owner: list[Path] = []
    release = options.windows
    for path in paths:
        try:
            options.windows = release
            for cell, earlier in _cells(options, path):
                if earlier is not None:
                    found[path].cells.append(prove.Cell(cell.scenario, earlier, earlier=True))
                else:
                    cells.append(cell)
                    owner.append(path)
        except YendoError as error:
            found[path].troubles.append(str(error))
    lacking = {} if options.farm else _lacking(options, {cell.job.machine for cell in cells})
    for cell, path in zip(cells, owner, strict=True):
        if (why := lacking.get(cell.job.machine)) and why not in found[path].troubles:
            found[path].troubles.append(why)
    todo = [(cell, path) for cell, path in zip(cells, owner, strict=True) if cell.job.machine not in lacking]
    begun = time.monotonic()
    if todo:
        with show.working(f"{len(todo)} cells", quiet=options.quiet or options.json) as progress:

            def heard(ended: farm.Ended | None, count: int, workers: int) -> None:
                interrupts.check()
                who = show.counted(workers, "worker") if options.farm else show.counted(workers, "process")
                last = f"; last: {ended.cell.package.name}, {ended.cell.scenario.id}" if ended else ""
                progress(f"{count} of {len(todo)} by {who}{last}")

            crew = _crew(options, {cell.job.machine for cell, _ in todo}, progress)
            played = farm.play([cell for cell, _ in todo], crew, heard=heard)
            for ended, (_, path) in zip(played, todo, strict=True):
                if ended.proof is not None:
                    found[path].cells.append(prove.Cell(ended.cell.scenario, ended.proof))
                else:
                    found[path].troubles.append(f"{ended.cell.scenario.id}: {ended.trouble}")
    return found, time.monotonic() - begun


def _lacking(options: argparse.Namespace, wanted: set[str]) -> dict[str, str]:
    """Which machines are not here, and why. Of those that are the templates are made, once and not by several."""
    from yendo.cli import machines
    from yendo.errors import YendoError

    lacking = {}
    for name in sorted(wanted):
        try:
            machines.asked(options, name).surroundings("user")
        except YendoError as error:
            lacking[name] = str(error)
    return lacking


def _crew(options: argparse.Namespace, wanted: set[str], progress: Callable[[str], object]) -> Crew:
    """Who plays: a farm's workers, or this computer's processes. Raises NoMachine."""
    from yendo.cli import machines
    from yendo.farm.job import Making
    from yendo.farm.run import Processes

    if options.farm:
        from yendo.farm.cluster import Cluster

        cluster = Cluster(options.farm, options.farm_keys)
        progress(f"at {options.farm}; the cluster's own page: {cluster.page}")
        return cluster
    return Processes(options.jobs, Making(str(machines.cache()), str(options.powershell or "")), wanted)


def _cells(options: argparse.Namespace, path: Path) -> Iterator[tuple[farming.FarmCell, Proof | None]]:
    """What is to be played of a package, each with a proof of these very bytes that need not be repeated. Raises Usage,
    NoMachine.
    """
    from yendo.farm import run as farm
    from yendo.farm.job import Job
    from yendo.plan.model import Proving
    from yendo.prove import prove

    package = proving.find(path)
    plan, workspace = proving.plan_of(path, package)
    names = proving.machines_meant(options, plan)
    asked = plan.proof if plan else Proving()
    some, _ = proving.chosen(options, package, plan, workspace)
    known = prove.passed_before(package) if options.go_on else {}
    for scenario in some:
        for name in names:
            job = Job(
                str(package.resolve()),
                scenario.id,
                scenario.site or "",
                name,
                options.windows,
                options.unconfined,
                asked,
            )
            told = name.replace(":", "-")
            yield farm.FarmCell(package, workspace.resolve(), scenario, job), known.get((told, scenario.id))


def _bad(cell: Cell) -> bool:
    return cell.outcome in ("failed", "open")


def _table(found: dict[Path, _Found], good: bool, seconds: float) -> None:
    """A line a package; scenarios that failed by their names."""
    from rich.text import Text

    from yendo.cli import show

    out = show.console()
    machines = list(dict.fromkeys(cell.proof.machine for one in found.values() for cell in one.cells))
    rows = []
    for path, one in found.items():
        name = f"{one.cells[0].proof.package} {one.cells[0].proof.version}" if one.cells else path.name
        marks = [_mark([cell for cell in one.cells if cell.proof.machine == machine]) for machine in machines]
        wrong = [f"{cell.scenario.id} ({cell.proof.machine})" for cell in one.cells if _bad(cell)]
        rows.append((name, *(marks or [Text("not played", "yellow")]), ", ".join([*one.troubles, *wrong])))
    show.grid(out, rows, heads=("package", *(machines or [""]), "what is wrong"), styles=("bold",))
    bad = [path for path, one in found.items() if not one.good]
    out.print(
        f"\n{show.counted(len(found), 'package')}, {len(found) - len(bad)} without a failure, in {seconds:.0f} s; "
        "records lie beside each"
    )
    if not good:
        first = show.clean(bad[0])
        out.print(f"[dim]next:[/dim] yendo prove {first}, to see what is wrong; --go-on plays only what is open")
    else:
        out.print("[dim]next:[/dim] yendo shelf, to see them side by side; yendo dossier for each that is handed over")


def _mark(cells: Sequence[Cell]) -> object:
    from rich.text import Text

    if not cells:
        return Text("not played", "yellow")
    failed = sum(_bad(cell) for cell in cells)
    played = [cell for cell in cells if cell.outcome in ("passed", "failed", "open")]
    before = sum(cell.earlier for cell in played)
    text = f"{len(played) - failed} of {len(played)} passed" + (f", {before} before" if before else "")
    return Text(text, "bold red" if failed else "green")
