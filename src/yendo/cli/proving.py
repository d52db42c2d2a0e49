"""What a command that proves means: which package, which machines, which scenarios."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yendo.cli import mac_half, machines
from yendo.machines.kinds import HERE as HERE
from yendo.machines.kinds import SSH

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

    from yendo.machines.protocol import Machine
    from yendo.plan import Plan
    from yendo.prove.proof import Proof
    from yendo.prove.prove import Cell
    from yendo.prove.scenarios import Scenario

    Heard = Callable[[Cell | None, Machine, Scenario], object]


def find(path: Path) -> Path:
    """The package meant by a path: itself, or the one that a workspace's plan names. Raises Usage."""
    from yendo.errors import Usage
    from yendo.package.build import name_of
    from yendo.plan import read_once

    if (path / "manifest.json").is_file():
        return path
    if (path / "plan.toml").is_file():
        package = path / "package" / name_of(read_once(path / "plan.toml")[0])
        if (package / "manifest.json").is_file():
            return package
        raise Usage(f"{path} has no built package of this version and revision yet: yendo build {path}")
    if mac_half.is_meant(path):
        raise Usage(f"{path} has a half for macOS only, and this is for the half for Windows")
    raise Usage(f"{path} is neither a built package nor a workspace")


def plan_of(path: Path, package: Path) -> tuple[Plan | None, Path]:
    """The plan that a package was built from, where it lies about, and its workspace."""
    from yendo.errors import YendoError
    from yendo.plan import read_once

    workspace = path if (path / "plan.toml").is_file() else package.parent.parent
    try:
        return (read_once(workspace / "plan.toml")[0] if (workspace / "plan.toml").is_file() else None), workspace
    except YendoError:
        return None, workspace


def keep(proof: Proof, package: Path) -> tuple[dict[str, Any], Path]:
    """Writes a proof's record beside its package; returns what was written, and where."""
    import msgspec

    from yendo.prove import prove

    return {**msgspec.to_builtins(proof), "passed": proof.passed}, prove.keep(proof, package)


def chosen(
    options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path
) -> tuple[list[Scenario], Sequence[str]]:
    """The scenarios meant, and what may be left behind. Raises Usage."""
    from yendo.prove import scenarios

    known = scenarios_of(package, plan, workspace)
    names = (
        list(scenarios.QUICK)
        if options.quick
        else options.scenario or (list(plan.proof.scenarios) if plan else []) or ["desk"]
    )
    if "all" in names:
        names = list(known)
    return scenarios.at_sites(
        [one_of(known, name) for name in dict.fromkeys(names)], sites_of(package, options.site)
    ), plan.proof.accept if plan else ()


def scenarios_of(package: Path, plan: Plan | None, workspace: Path) -> dict[str, Scenario]:
    """Every scenario that a package can be proved in, by name. Raises Usage."""
    from yendo.errors import Usage
    from yendo.prove import scenarios

    others = tuple(workspace / name for name in plan.proof.others) if plan else ()
    for other in others:
        if not other.is_file():
            raise Usage(f"{other} is named in [proof] others and is not there")
    return scenarios.with_others(others, package, [workspace / name for name in plan.proof.back_to] if plan else ())


def one_of(known: Mapping[str, Scenario], name: str) -> Scenario:
    """The scenario of a name. Raises Usage."""
    import difflib

    from yendo.errors import Usage

    if name not in known:
        near = difflib.get_close_matches(name, known, 1)
        raise Usage(
            f"scenario {name!r} is not known; there are: all, {', '.join(known)}"
            + (f"; did you mean {near[0]}?" if near else "")
        )
    return known[name]


def sites_of(package: Path, wanted: Sequence[str] | None) -> Sequence[str]:
    """The named sets of values meant: those that were asked for, or all. Raises Usage."""
    from yendo.errors import Usage
    from yendo.package import manifest as form

    known = form.sites_of(form.read(package))
    for name in wanted or ():
        if name not in known:
            raise Usage(
                f"site {name!r} is not in the plan; "
                + (f"there are: {', '.join(known)}" if known != ("",) else "it has no [site]")
            )
    return wanted or known


def one_site(options: argparse.Namespace, package: Path) -> str:
    """The set of values that a machine plays once. Raises Usage where several could be meant."""
    from yendo.errors import Usage

    meant, *more = sites_of(package, options.site)
    if more:
        raise Usage(f"the package has values for {', '.join((meant, *more))}; a machine plays one: --site {meant}")
    return meant


def is_away(options: argparse.Namespace) -> bool:
    """Whether a machine is meant that is no kind but one computer."""
    return any(name == HERE or name.startswith(SSH) for name in options.machine or ())


def meant(
    options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path
) -> tuple[list[Machine], list[Scenario], Sequence[str]]:
    """The machines and scenarios to prove a package in, and what may be left behind. Raises Usage, NoMachine."""
    from yendo.prove.furnished import furnished

    where = [machines.asked(options, name) for name in machines_meant(options, plan)]
    if plan:
        where = [furnished(one, plan.proof, workspace) for one in where]
    return where, *chosen(options, package, plan, workspace)


def machines_meant(options: argparse.Namespace, plan: Plan | None) -> list[str]:
    """The names of the machines to prove on; the simulated one becomes a Windows that the plan admits."""
    from yendo.platforms.windows import systems

    if plan and options.windows is None:
        options.windows = systems.suiting(plan.when.os)
    wanted = options.machine or (list(plan.proof.machines) if plan else []) or ["simulated"]
    return list(machines.NAMES if "all" in wanted else dict.fromkeys(wanted))


def progress_of(progress: Callable[[str], object], count: int, prefix: str = "") -> Heard:
    """Who hears of cells, and says how many of them have ended."""
    ended = 0

    def heard(cell: Cell | None, machine: Machine, scenario: Scenario) -> None:
        nonlocal ended
        ended += cell is not None
        told = f", {cell.outcome}" if cell else ""
        progress(f"{prefix}{ended} of {count}: {scenario.title}, {machine.name}{told}")

    return heard


def cell_as_data(cell: Cell) -> dict[str, Any]:
    """A cell of the matrix, for scripts."""
    return {
        "scenario": cell.scenario.id,
        "machine": cell.proof.machine,
        "outcome": cell.outcome,
        "earlier": cell.earlier,
    }
