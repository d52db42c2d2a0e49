"""Install, detect, install again and remove the built package on a fresh machine. Exit code 1 when a phase fails.

yendo prove lantern
yendo prove lantern --machine wine --scenario system --junit proof.xml
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yendo.cli import machines

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.prove.proof import Proof


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "package", type=Path, nargs="?", default=Path(), metavar="PACKAGE", help="a built package, or a workspace (then its newest package)"
    )
    machines.add_options(parser)
    parser.add_argument("--scenario", choices=("desk", "system"), default="desk", help="as an elevated user at a desk, or as the system account")
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


def keep(proof: Proof, package: Path) -> tuple[dict[str, Any], Path]:
    """Writes a proof's record beside its package; returns what was written, and where."""
    import msgspec

    from yendo import atomic

    body = {**msgspec.to_builtins(proof), "passed": proof.passed}
    record = package.parent / f"{package.name}.proof-{proof.machine}-{proof.scenario}.json"
    atomic.write(record, msgspec.json.format(msgspec.json.encode(body), indent=2) + b"\n")
    return body, record


def run(options: argparse.Namespace) -> int:
    from yendo import atomic
    from yendo.cli import show
    from yendo.prove import junit
    from yendo.prove.prove import prove

    package = find(options.package)
    machine = machines.make(options.machine, options.powershell)
    with show.working(f"proving on {machine.label}", quiet=options.quiet or options.json) as progress:
        proof = prove(package, machine, scenario=options.scenario, progress=progress)
    body, record = keep(proof, package)
    if options.junit:
        atomic.write(options.junit, junit.encode(proof))
    if options.json:
        show.emit(body)
    elif not options.quiet:
        report(show.console(), proof, package, record)
    return 0 if proof.passed else 1


def report(out: Console, proof: Proof, package: Path, record: Path) -> None:
    """The proof as a table, and what to do next."""
    from rich.text import Text

    from yendo.cli import show

    out.print(f"[bold]{show.clean(proof.package)} {show.clean(proof.version)}, revision {proof.revision}[/bold] on {show.clean(proof.label)}")
    out.print(f"[dim]{show.clean(proof.scenario_note)}[/dim]\n")
    marks = {"passed": ("passed", "green"), "failed": ("FAILED", "bold red"), "not executed": ("not executed", "yellow")}
    show.grid(
        out,
        [(Text(*marks[phase.outcome]), phase.title, phase.found, phase.place) for phase in proof.phases],
        heads=("", "phase", "found", "executed"),
        styles=(None, None, None, "dim"),
    )
    for phase in proof.phases:
        if phase.outcome == "failed":
            show.section(out, f"{phase.title}: failed")
            show.grid(
                out,
                [
                    ("expected", phase.expected),
                    ("found", phase.found),
                    *([("usual cause", phase.cause)] if phase.cause else []),
                    *([("to try", phase.advice)] if phase.advice else []),
                    *(("", detail) for detail in phase.details),
                ],
                styles=("dim",),
            )
    if comparison := proof.comparison:
        if comparison.evidence:
            show.section(out, "Predicted and observed")
            show.grid(
                out,
                [
                    (
                        f"{comparison.matched} of {comparison.matched + len(comparison.missed)} observed effects were predicted, {len(comparison.false)} predicted "
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
    verdict = f"[green]Proved[/green]{where}" if proof.passed else f"[bold red]Not proved[/bold red]{where}"
    share = 100 * (1 - proof.command_seconds / proof.seconds) if proof.seconds and proof.place != "simulation" else None
    out.print(
        f"\n{verdict} in {proof.seconds:.1f} s"
        + (f", {share:.0f} % of it outside the commands" if share is not None else "")
        + f"; the record is {show.clean(record)}"
    )
    if proof.passed and proof.place == "simulation":
        out.print(f"[dim]next:[/dim] yendo prove {show.clean(package)} --machine wine, for evidence from a real machine")
    elif proof.passed and not proof.runner_executed:
        out.print("[dim]next:[/dim] yendo doctor, to have the package's own runner executed too")
    elif proof.passed:
        out.print(f"[dim]next:[/dim] hand over {show.clean(package)}")
    else:
        out.print("[dim]next:[/dim] mend the plan, then yendo check, build and prove again")
