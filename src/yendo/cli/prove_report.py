"""How proofs are told: one, or the matrix of several; for a person and for scripts."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import proving

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from yendo.prove.proof import Phase, Proof
    from yendo.prove.prove import Cell


def told(options: argparse.Namespace, package: Path, workspace: Path, proof: Proof) -> int:
    """Keeps one proof's record, and says how it ended."""
    from yendo import atomic
    from yendo.cli import show
    from yendo.prove import junit
    from yendo.shelf.record import stale_package

    stale = stale_package(workspace, package)
    body, record = proving.keep(proof, package)
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
        found = [proving.cell_as_data(cell) for cell in cells]
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
    _compared(out, proof)
    left = [leftover for leftover in proof.leftovers if leftover.whose != "runner"]
    if left:
        show.section(out, "Left behind")
        show.grid(out, [(leftover.what, leftover.reason) for leftover in left[:20]], styles=(None, "dim"))
    _verdict(out, proof, package, record)


def _compared(out: Console, proof: Proof) -> None:
    from yendo.cli import show

    comparison = proof.comparison
    if comparison is not None and comparison.evidence:
        show.section(out, "Predicted and observed")
        seen = comparison.matched + len(comparison.missed)
        words = f"{comparison.matched} of {seen} observed effects were predicted, {len(comparison.false)} predicted were not seen"  # noqa: E501
        apart = ((f"counted apart, {count}: {reason}",) for reason, count in comparison.layer_differences.items())
        show.grid(out, [(words,), *apart])
    if comparison is not None and comparison.blind_spots:
        show.section(out, "Blind spots")
        show.grid(out, [(spot,) for spot in comparison.blind_spots[:8]], styles=("yellow",))


def _verdict(out: Console, proof: Proof, package: Path, record: Path) -> None:
    """Whether it is proved, and what comes next."""
    from yendo.cli import show

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
