"""Install, detect, install again and remove the built package on fresh machines. Exit code 1 when something fails.

yendo prove lantern
yendo prove lantern --quick
yendo prove lantern --machine wine --scenario system --junit proof.xml
yendo prove lantern --scenario all --machine all --jobs 2 --go-on
yendo prove packages --scenario all --go-on --changed-since 2026-11-01
yendo prove packages --scenario all --farm tls://10.0.0.5:8786 --farm-keys farm-keys
yendo prove lantern --kit lantern-kit.zip
yendo prove lantern --from tidewell-lantern-system.result.gz
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yendo.cli import machines

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from rich.console import Console

    from yendo.machines.addresses import Address
    from yendo.machines.protocol import Machine
    from yendo.plan import Plan
    from yendo.prove.kit import KitResult
    from yendo.prove.proof import Phase, Proof
    from yendo.prove.prove import Cell
    from yendo.prove.scenarios import Scenario

    Heard = Callable[[Cell | None, Machine, Scenario], object]


HERE, SSH = "here", "ssh:"


class _Known(tuple[str, ...]):
    """The names that are offered; a computer over SSH is one too."""

    def __contains__(self, name: object) -> bool:
        return super().__contains__(name) or (isinstance(name, str) and name.startswith(SSH))


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "packages",
        type=Path,
        nargs="*",
        metavar="PACKAGE",
        help="a built package, or a workspace (then its newest package); several, or a folder of them: all",
    )
    parser.add_argument(
        "--machine",
        choices=_Known((*machines.NAMES, HERE, "all")),
        metavar="NAME",
        action="append",
        help=f"what to prove on: {', '.join(machines.NAMES)}, all of these, here, or ssh:NAME of machines.toml; may be "
        "given twice (default: what [proof] says, else simulated)",
    )
    machines.add_shell(parser)
    parser.add_argument(
        "--scenario",
        action="append",
        metavar="NAME",
        help="what to play: all, or names from the matrix; may be given several times (default: what [proof] says, "
        "else desk)",
    )
    parser.add_argument(
        "--site",
        action="append",
        metavar="NAME",
        help="with the values of this site only; may be given several times (default: all)",
    )
    parser.add_argument(
        "--quick",
        action="store_true",
        help="the short cycle: as the system account, and removed and installed again, simulated",
    )
    parser.add_argument("--jobs", type=int, default=2, metavar="N", help="how many at once (default: 2)")
    parser.add_argument("--go-on", action="store_true", help="play only what has not passed on these bytes yet")
    parser.add_argument(
        "--changed-since",
        metavar="WHEN",
        help="of several packages only those with a file newer than a day (2026-11-01), or that git shows as changed "
        "since a commit, branch or tag",
    )
    parser.add_argument("--farm", metavar="ADDRESS", help="let the workers of `yendo farm` play, not this computer")
    parser.add_argument("--farm-keys", type=Path, metavar="FOLDER", help="what `yendo farm keys` made")
    kit = parser.add_mutually_exclusive_group()
    kit.add_argument(
        "--kit",
        type=Path,
        metavar="FILE",
        help="prove nothing now: write a zip for a Windows where nothing is installed; it plays system (or --scenario "
        "desk) there",
    )
    parser.add_argument(
        "--this-computer-may-be-changed",
        action="store_true",
        dest="may_change",
        help="with --machine here: yes, install and remove it on this Windows",
    )
    parser.add_argument(
        "--although", metavar="WHY", default="", help="with --machine here: why it may be one that belongs to somebody"
    )
    kit.add_argument("--from", type=Path, dest="result", metavar="FILE", help="judge what a kit has brought back")
    parser.add_argument("--junit", type=Path, metavar="FILE", help="also write the phases as JUnit XML")


def find(path: Path) -> Path:
    """The package meant by a path: itself, or the one that a workspace's plan names. Raises Usage."""
    from yendo.errors import Usage
    from yendo.package.build import name_of
    from yendo.plan import read

    if (path / "manifest.json").is_file():
        return path
    if (path / "plan.toml").is_file():
        package = path / "package" / name_of(read(path / "plan.toml")[0])
        if (package / "manifest.json").is_file():
            return package
        raise Usage(f"{path} has no built package of this version and revision yet: yendo build {path}")
    raise Usage(f"{path} is neither a built package nor a workspace")


def plan_of(path: Path, package: Path) -> tuple[Plan | None, Path]:
    """The plan that a package was built from, where it lies about, and its workspace."""
    from yendo.errors import YendoError
    from yendo.plan import read

    workspace = path if (path / "plan.toml").is_file() else package.parent.parent
    try:
        return (read(workspace / "plan.toml")[0] if (workspace / "plan.toml").is_file() else None), workspace
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
    import difflib

    from yendo.errors import Usage
    from yendo.prove import scenarios

    others = tuple(workspace / name for name in plan.proof.others) if plan else ()
    for other in others:
        if not other.is_file():
            raise Usage(f"{other} is named in [proof] others and is not there")
    known = scenarios.with_others(others, package)
    names = (
        list(scenarios.QUICK)
        if options.quick
        else options.scenario or (list(plan.proof.scenarios) if plan else []) or ["desk"]
    )
    if "all" in names:
        names = list(known)
    for name in names:
        if name not in known:
            near = difflib.get_close_matches(name, known, 1)
            raise Usage(
                f"scenario {name!r} is not known; there are: all, {', '.join(known)}"
                + (f"; did you mean {near[0]}?" if near else "")
            )
    return scenarios.at_sites(
        [known[name] for name in dict.fromkeys(names)], sites_of(package, options.site)
    ), plan.proof.accept if plan else ()


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


def make_kit(options: argparse.Namespace, package: Path) -> int:
    """Writes a proof kit."""
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.package import manifest as form
    from yendo.prove import kit

    if len(options.scenario or ()) > 1 or options.machine:
        raise Usage("a kit plays one scenario, on the machine that it is carried to; make one for each")
    site = one_site(options, package)
    scenario = (options.scenario or [kit.PLAYED[0]])[0]
    made = kit.write(package, options.kit, scenario, site)
    if options.json:
        found = {"kit": str(options.kit), "scenario": scenario, "site": site, "digest": made.digest}
        show.emit({"schema": "yendo.kit/1", **found})
    elif not options.quiet:
        out = show.console()
        size = show.size(options.kit.stat().st_size)
        out.print(f"[bold]{show.clean(options.kit)}[/bold]: a proof kit, {size}, plays {scenario}")
        rows = [
            ("on a Windows", "unpack it, start play.cmd as administrator; put the machine back afterwards"),
            ("brings back", kit.result_of(form.read(package), scenario, site)),
        ]
        show.grid(out, rows, styles=("dim",))
        name = show.clean(kit.result_of(form.read(package), scenario, site))
        out.print(f"\n[dim]next:[/dim] yendo prove {show.clean(options.package)} --from {name}")
    return 0


def judge_result(options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path) -> int:
    """Judges what a kit has brought back, like any other run."""
    from yendo.prove import kit

    return judged(options, package, plan, workspace, kit.read(options.result, package))


def judged(options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path, result: KitResult) -> int:
    """Proves by what was recorded of a play, and says how it ended."""
    from yendo.prove import scenarios
    from yendo.prove.prove import prove

    scenario = scenarios.at_sites([scenarios.SCENARIOS[result.scenario]], [result.site])[0]
    accept = plan.proof.accept if plan else ()
    return told(options, package, workspace, prove(package, result.machine, scenario=scenario, accept=accept))


def prove_here(options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path) -> int:
    """Proves on this very computer, once. Raises Usage, NoMachine."""
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.prove import here

    if options.machine != [HERE] or len(options.scenario or ()) > 1:
        raise Usage("here is proved alone, one scenario at a time: put the machine back before the next")
    if not options.may_change:
        raise Usage(
            "this installs the package on this very computer, and removes it again; say so with "
            "--this-computer-may-be-changed, on one that is put back afterwards"
        )
    scenario, site = (options.scenario or ["system"])[0], one_site(options, package)
    with show.working("proving here", quiet=options.quiet or options.json) as progress:
        result = here.play(package, scenario, site, although=options.although, heard=progress)
    return judged(options, package, plan, workspace, result)


def prove_over_ssh(options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path) -> int:
    """Proves on other computers, one after the other. Raises Usage, NoMachine.

    One scenario, the life of the package, is played by a kit that needs nobody meanwhile; others step by step.
    """
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.machines import addresses
    from yendo.prove import attended, remote
    from yendo.prove.furnished import furnished
    from yendo.prove.prove import matrix

    everything = "all" in (options.scenario or ())
    options.scenario = options.scenario or ["system"]
    some, accept = chosen(options, package, plan, workspace)
    for one in some:
        if one.account != "system" and not everything:
            raise Usage(f"over SSH the system account is proved; {one.id} needs a person's session: make a kit for it")
    some = [one for one in some if one.account == "system"]
    names = [name.removeprefix(SSH) for name in dict.fromkeys(options.machine)]
    known = {name: addresses.named(workspace, name) for name in names}
    if len(some) > 1 and (fixed := [name for name in names if not known[name].revert]):
        raise Usage(
            f"{fixed[0]} would be changed {len(some)} times, and machines.toml does not say how it is put back: give "
            "it `revert`, or name one --scenario and one --site"
        )
    if len(some) == 1 and some[0].id.partition("@")[0] == "system":
        code = 0
        for name in names:
            with show.working(f"proving on {SSH}{name}", quiet=options.quiet or options.json) as progress:
                result = remote.play(package, name, known[name], some[0].site or "", progress)
            code |= judged(options, package, plan, workspace, result)
            visited(name, known[name], package, some[0].id, result.machine.words)
        return code
    with show.working("proving", quiet=options.quiet or options.json) as progress:
        where = [attended.over_ssh(name, known[name], progress) for name in names]
        heard = progress_of(progress, len(some) * len(where))
        try:
            ready = [furnished(one, plan.proof, workspace) if plan else one for one in where]
            cells = matrix(package, ready, some, jobs=1, go_on=options.go_on, accept=accept, progress=heard)
        finally:
            for machine in where:
                machine.interrupt()
    for name, machine in zip(names, where, strict=True):
        if played := [cell.scenario.id for cell in cells if cell.proof.machine == machine.name and not cell.earlier]:
            visited(name, known[name], package, ", ".join(played), machine.words)
    if len(cells) == 1:
        return told(options, package, workspace, cells[0].proof)
    return many_told(options, package, cells, sum(cell.proof.seconds for cell in cells))


def visited(name: str, address: Address, package: Path, what: str, windows: str) -> None:
    """Notes for `yendo machines` that something was proved on a computer."""
    from yendo.machines import visits

    visits.note(machines.cache(), name, f"{package.name}: {what}", windows, put_back=bool(address.revert))


def run(options: argparse.Namespace) -> int:
    from yendo.cli import prove_several, show
    from yendo.errors import Usage
    from yendo.prove.prove import prove

    if options.jobs < 1:
        raise Usage("--jobs is at least 1")
    paths = prove_several.packages(options.packages)
    if len(paths) > 1 or options.farm or options.changed_since:
        return prove_several.run(options, paths)
    options.package = paths[0]
    package = find(options.package)
    if options.kit:
        return make_kit(options, package)
    plan, workspace = plan_of(options.package, package)
    if options.result:
        return judge_result(options, package, plan, workspace)
    if is_away(options):
        if HERE in options.machine:
            return prove_here(options, package, plan, workspace)
        if not all(name.startswith(SSH) for name in options.machine):
            raise Usage("machines over SSH are proved by themselves; name the others in another call")
        return prove_over_ssh(options, package, plan, workspace)
    where, some, accept = meant(options, package, plan, workspace)
    if len(some) * len(where) > 1:
        return many(options, package, where, some, accept)
    machine = where[0]
    with show.working(f"proving on {machine.label}", quiet=options.quiet or options.json) as progress:
        proof = prove(package, machine, scenario=some[0], progress=progress, accept=accept)
    return told(options, package, workspace, proof)


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
    from yendo.facts import systems

    if plan and options.windows is None:
        options.windows = systems.suiting(plan.when.os)
    wanted = options.machine or (list(plan.proof.machines) if plan else []) or ["simulated"]
    return list(machines.NAMES if "all" in wanted else dict.fromkeys(wanted))


def told(options: argparse.Namespace, package: Path, workspace: Path, proof: Proof) -> int:
    """Keeps one proof's record, and says how it ended."""
    from yendo import atomic
    from yendo.cli import show
    from yendo.prove import junit
    from yendo.shelf.record import stale_package

    stale = stale_package(workspace, package)
    body, record = keep(proof, package)
    if options.junit:
        atomic.write(options.junit, junit.encode([proof]))
    if options.json:
        show.emit({**body, "stale": stale})
    elif not options.quiet:
        report(show.console(), proof, package, record)
        if stale:
            folder = show.clean(workspace)
            show.console().print(
                f"[yellow]{show.clean(stale)}[/yellow], and this proves what was built then: yendo build {folder}"
            )
    return 0 if proof.passed else 1


def many(
    options: argparse.Namespace,
    package: Path,
    where: Sequence[Machine],
    some: Sequence[Scenario],
    accept: Sequence[str],
) -> int:
    """The matrix of scenarios and machines."""
    import time

    from yendo.cli import show

    begun = time.monotonic()
    with show.working("proving", quiet=options.quiet or options.json) as progress:
        heard = progress_of(progress, len(some) * len(where))
        cells = cells_of(options, package, where, some, accept, heard)
    return many_told(options, package, cells, time.monotonic() - begun)


def many_told(options: argparse.Namespace, package: Path, cells: Sequence[Cell], seconds: float) -> int:
    """Says how the cells of a matrix ended, whose records are kept."""
    import msgspec

    from yendo import atomic
    from yendo.cli import show
    from yendo.prove import junit

    failed = any(cell.outcome in ("failed", "open") for cell in cells)
    if options.junit:
        atomic.write(options.junit, junit.encode([cell.proof for cell in cells]))
    if options.json:
        found = [cell_as_data(cell) for cell in cells]
        proofs = [msgspec.to_builtins(cell.proof) for cell in cells]
        show.emit(
            {
                "schema": "yendo.matrix/1",
                "package": str(package),
                "passed": not failed,
                "cells": found,
                "proofs": proofs,
            }
        )
    elif not options.quiet:
        table(show.console(), cells, package, seconds)
    return 1 if failed else 0


def progress_of(progress: Callable[[str], object], count: int, prefix: str = "") -> Heard:
    """Who hears of cells, and says how many of them have ended."""
    ended = 0

    def heard(cell: Cell | None, machine: Machine, scenario: Scenario) -> None:
        nonlocal ended
        ended += cell is not None
        told = f", {cell.outcome}" if cell else ""
        progress(f"{prefix}{ended} of {count}: {scenario.title}, {machine.name}{told}")

    return heard


def cells_of(
    options: argparse.Namespace,
    package: Path,
    where: Sequence[Machine],
    some: Sequence[Scenario],
    accept: Sequence[str],
    heard: Heard,
) -> list[Cell]:
    """Plays every scenario on every machine."""
    from yendo.prove.prove import matrix

    return matrix(package, where, some, jobs=options.jobs, go_on=options.go_on, accept=accept, progress=heard)


def cell_as_data(cell: Cell) -> dict[str, Any]:
    """A cell of the matrix, for scripts."""
    return {
        "scenario": cell.scenario.id,
        "machine": cell.proof.machine,
        "outcome": cell.outcome,
        "earlier": cell.earlier,
    }


OUTCOMES = {
    "passed": ("passed", "green"),
    "failed": ("FAILED", "bold red"),
    "open": ("not proved here", "yellow"),
    "not executed": ("not executed", "yellow"),
    "needless": ("not called for", "dim"),
}


def table(out: Console, cells: Sequence[Cell], package: Path, seconds: float) -> None:
    """Scenarios down, machines across, and what failed below."""
    from yendo.cli import show

    first = cells[0].proof
    names = dict.fromkeys(cell.proof.machine for cell in cells)
    out.print(
        f"[bold]{show.clean(first.package)} {show.clean(first.version)}, revision {first.revision}[/bold] on "
        f"{', '.join(names)}\n"
    )
    rows(out, cells)
    for cell in cells:
        for phase in cell.proof.phases:
            if phase.outcome == "failed":
                show.section(out, f"{cell.scenario.id} on {cell.proof.machine}: {phase.title}: failed")
                failure(out, phase)
    counts = [sum(cell.outcome == outcome for cell in cells) for outcome in OUTCOMES]
    told = ", ".join(
        f"{count} {OUTCOMES[outcome][0].lower()}" for outcome, count in zip(OUTCOMES, counts, strict=True) if count
    )
    out.print(f"\n{told} in {seconds:.1f} s; the records lie beside {show.clean(package)}")
    if open_ := next((cell.proof.unanswered for cell in cells if cell.outcome == "open"), ""):
        out.print(f"[dim]open:[/dim] {show.clean(open_)}")
    elif counts[1]:
        out.print("[dim]next:[/dim] mend the plan, then yendo check, build and prove --go-on again")
    else:
        out.print(f"[dim]next:[/dim] yendo dossier {show.clean(package)}, for the person who signs off")


def rows(out: Console, cells: Sequence[Cell]) -> None:
    """The matrix itself."""
    from rich.text import Text

    from yendo.cli import show

    names = list(dict.fromkeys(cell.proof.machine for cell in cells))
    found: dict[str, list[Cell]] = {}
    for cell in cells:
        found.setdefault(cell.scenario.id, []).append(cell)
    lines = []
    for name, some in found.items():
        marks = [
            Text(f"{OUTCOMES[cell.outcome][0]}{', before' if cell.earlier else ''}", OUTCOMES[cell.outcome][1])
            for cell in some
        ]
        lines.append((name, some[0].scenario.title, *marks, _remark(some)))
    show.grid(out, lines, heads=("scenario", "", *names, ""), styles=("cyan", None, *(None for _ in names), "dim"))


def _remark(cells: Sequence[Cell]) -> str:
    """Why a cell was not played, in words; what is open stands below the matrix."""
    found = [
        phase.found
        for cell in cells
        for phase in cell.proof.phases
        if phase.outcome == "not executed" and cell.outcome in ("needless", "not executed") and phase.id != "runner"
    ]
    return "; ".join(dict.fromkeys(found))


def failure(out: Console, phase: Phase) -> None:
    """What was expected and found, the likeliest cause, and what to try."""
    from yendo.cli import show

    show.grid(
        out,
        [
            ("expected", phase.expected),
            ("found", phase.found),
            *([("likely cause", phase.cause)] if phase.cause else []),
            *([("to try", phase.advice)] if phase.advice else []),
            *(("", detail) for detail in phase.details),
        ],
        styles=("dim",),
    )


def report(out: Console, proof: Proof, package: Path, record: Path) -> None:
    """The proof as a table, and what to do next."""
    from rich.text import Text

    from yendo.cli import show

    out.print(
        f"[bold]{show.clean(proof.package)} {show.clean(proof.version)}, revision {proof.revision}[/bold] on "
        f"{show.clean(proof.label)}"
    )
    out.print(f"[dim]{show.clean(proof.scenario_note)}[/dim]\n")
    marks = {
        "passed": ("passed", "green"),
        "failed": ("FAILED", "bold red"),
        "not executed": ("not executed", "yellow"),
    }
    show.grid(
        out,
        [(Text(*marks[phase.outcome]), phase.title, phase.found, phase.place) for phase in proof.phases],
        heads=("", "phase", "found", "executed"),
        styles=(None, None, None, "dim"),
    )
    for phase in proof.phases:
        if phase.outcome == "failed":
            show.section(out, f"{phase.title}: failed")
            failure(out, phase)
    if comparison := proof.comparison:
        if comparison.evidence:
            show.section(out, "Predicted and observed")
            show.grid(
                out,
                [
                    (
                        f"{comparison.matched} of {comparison.matched + len(comparison.missed)} observed effects "
                        f"were predicted, {len(comparison.false)} predicted "
                        "were not seen",
                    ),
                    *((f"counted apart, {count}: {reason}",) for reason, count in comparison.layer_differences.items()),
                ],
            )
        if comparison.blind_spots:
            show.section(out, "Blind spots")
            show.grid(out, [(spot,) for spot in comparison.blind_spots[:8]], styles=("yellow",))
    left = [leftover for leftover in proof.leftovers if leftover.whose != "runner"]
    if left:
        show.section(out, "Left behind")
        show.grid(out, [(leftover.what, leftover.reason) for leftover in left[:20]], styles=(None, "dim"))
    where = " on the simulated machine" if proof.place == "simulation" else ""
    verdict = {"passed": "[green]Proved[/green]", "open": "[yellow]Not proved[/yellow]"}.get(
        proof.outcome, "[bold red]Not proved[/bold red]"
    )
    verdict += where
    share = 100 * (1 - proof.command_seconds / proof.seconds) if proof.seconds and proof.place != "simulation" else None
    out.print(
        f"\n{verdict} in {proof.seconds:.1f} s"
        + (f", {share:.0f} % of it outside the commands" if share is not None else "")
        + f"; the record is {show.clean(record)}"
    )
    if proof.passed and proof.place == "simulation":
        out.print(
            f"[dim]next:[/dim] yendo prove {show.clean(package)} --machine wine, for evidence from a real machine"
        )
    elif proof.passed and not proof.runner_executed:
        out.print("[dim]next:[/dim] yendo doctor, to have the package's own runner executed too")
    elif proof.passed:
        out.print(f"[dim]next:[/dim] yendo dossier {show.clean(package)}, and hand both over")
    elif proof.outcome == "open":
        out.print(f"[dim]open:[/dim] {show.clean(proof.unanswered)}")
    else:
        out.print("[dim]next:[/dim] mend the plan, then yendo check, build and prove again")
