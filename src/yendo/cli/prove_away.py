"""Proving on real Windows: by a kit that is carried there, on the computer that Yendo runs on, over SSH."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import machines, prove_report, proving
from yendo.machines.kinds import SSH

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from yendo.machines.addresses import Address
    from yendo.plan import Plan
    from yendo.prove.kit import KitResult
    from yendo.prove.scenarios import Scenario


def make_kit(options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path) -> int:
    """Writes a proof kit, or one for each of several scenarios into a folder. Exit code 1 where one cannot be made."""
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.prove import kit
    from yendo.prove.acts import NotByKit

    if options.machine:
        raise Usage("a kit plays on the machine that it is carried to; leave --machine out")
    site = proving.one_site(options, package)
    known = proving.scenarios_of(package, plan, workspace)
    names = list(dict.fromkeys(options.scenario or ["system"]))
    several = len(names) > 1 or names == ["all"]
    rows, found, refusals = [], [], {}
    given = plan.proof if plan else None
    wanted = [*(rule.title for rule in given.there), *given.files, *given.packages] if given else []
    for name in list(known) if names == ["all"] else names:
        scenario = proving.one_of(known, name)
        target = options.kit / f"{package.name}-{name.replace(':', '-')}.zip" if several else options.kit
        target.parent.mkdir(parents=True, exist_ok=True)
        try:
            made = kit.write(package, target, scenario, site, wanted=wanted)
        except NotByKit as refused:
            if not several:
                raise
            refusals[name] = refused.why
            continue
        size = show.size(target.stat().st_size)
        rows.append((name, target.name if several else str(target), f"{size}, {scenario.title}"))
        found.append({"kit": str(target), "scenario": name, "site": site, "digest": made.digest})
    code = int(names != ["all"] and bool(refusals))
    if options.json:
        all_of_them = {"schema": "yendo.kits/1", "kits": found, "refused": refusals}
        show.emit(all_of_them if several else {"schema": "yendo.kit/1", **found[0]})
    elif not options.quiet:
        _kits_told(options, package, rows, refusals, site, several, wanted)
    return code


def _kits_told(
    options: argparse.Namespace,
    package: Path,
    rows: Sequence[tuple[str, str, str]],
    refusals: Mapping[str, str],
    site: str,
    several: bool,
    wanted: Sequence[str],
) -> None:
    from yendo.cli import show
    from yendo.package import manifest as form
    from yendo.prove import kit

    out = show.console()
    if several:
        out.print(
            f"[bold]{show.clean(options.kit)}[/bold]: {show.counted(len(rows), 'proof kit')}, one for each scenario"
        )
        show.grid(out, rows, styles=("bold", "cyan", "dim"))
        if refusals:
            out.print("\nNot by a kit")
            show.grid(out, list(refusals.items()), styles=("bold", "dim"))
            out.print()
        result = "RESULT"
    else:
        (scenario, target, words) = rows[0]
        result = kit.result_of(form.read(package), scenario, site)
        out.print(f"[bold]{show.clean(target)}[/bold]: a proof kit, {show.clean(words)}")
    before = [("has to be there before", "; ".join(wanted))] if wanted else []
    machines.kit_told(out, result, f"yendo prove {options.package}", *before)


def judge_result(options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path) -> int:
    """Judges what a kit has brought back, like any other run."""
    from yendo.prove import kit

    return judged(options, package, plan, workspace, kit.read(options.result, package))


def judged(options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path, result: KitResult) -> int:
    """Proves by what was recorded of a play, and says how it ended."""
    from yendo.prove import scenarios
    from yendo.prove.prove import prove

    meant = proving.one_of(proving.scenarios_of(package, plan, workspace), result.scenario)
    scenario = scenarios.at_sites([meant], [result.site])[0]
    accept = plan.proof.accept if plan else ()
    return prove_report.told(
        options, package, workspace, prove(package, result.machine, scenario=scenario, accept=accept)
    )


def prove_here(options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path) -> int:
    """Proves on this very computer, once. Raises Usage, NoMachine."""
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.prove import here

    if options.machine != [proving.HERE] or len(options.scenario or ()) > 1:
        raise Usage("here is proved alone, one scenario at a time: put the machine back before the next")
    if not options.may_change:
        raise Usage(
            "this installs the package on this very computer, and removes it again; say so with "
            "--this-computer-may-be-changed, on one that is put back afterwards"
        )
    name, site = (options.scenario or ["system"])[0], proving.one_site(options, package)
    scenario = proving.one_of(proving.scenarios_of(package, plan, workspace), name)
    with show.working("proving here", quiet=options.quiet or options.json) as progress:
        result = here.play(package, scenario, site, although=options.although, heard=progress)
    return judged(options, package, plan, workspace, result)


def prove_over_ssh(options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path) -> int:
    """Proves on other computers, one after the other. Raises Usage, NoMachine.

    One scenario, the life of the package, is played by a kit that needs nobody meanwhile; others step by step.
    """
    import msgspec

    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.machines import addresses
    from yendo.plan.model import Proving
    from yendo.prove import attended

    some, accept = _scenarios(options, package, plan, workspace)
    names = [name.removeprefix(SSH) for name in dict.fromkeys(options.machine)]
    known = {name: addresses.named(workspace, name) for name in names}
    if len(some) > 1 and (fixed := [name for name in names if not known[name].revert]):
        raise Usage(
            f"{fixed[0]} would be changed {len(some)} times, and machines.toml does not say how it is put back: give "
            "it `revert`, or name one --scenario and one --site"
        )
    if len(some) > 1:
        return _step_by_step(options, package, plan, workspace, known, some, accept)
    given = msgspec.structs.replace(plan.proof if plan else Proving(), accept=tuple(accept))
    code = 0
    for name in names:
        with show.working(f"proving on {SSH}{name}", quiet=options.quiet or options.json) as progress:
            proof, words = attended.proved_over_ssh(package, name, known[name], some[0], given, workspace, progress)
        code |= prove_report.told(options, package, workspace, proof)
        visited(name, known[name], package, some[0].id, words)
    return code


def _scenarios(
    options: argparse.Namespace, package: Path, plan: Plan | None, workspace: Path
) -> tuple[list[Scenario], Sequence[str]]:
    """The scenarios of the system account that are meant, and what may be left behind. Raises Usage."""
    from yendo.errors import Usage

    everything = "all" in (options.scenario or ())
    options.scenario = options.scenario or ["system"]
    some, accept = proving.chosen(options, package, plan, workspace)
    for one in some:
        if one.account != "system" and not everything:
            raise Usage(f"over SSH the system account is proved; {one.id} needs a person's session: make a kit for it")
    return [one for one in some if one.account == "system"], accept


def _step_by_step(
    options: argparse.Namespace,
    package: Path,
    plan: Plan | None,
    workspace: Path,
    known: Mapping[str, Address],
    some: Sequence[Scenario],
    accept: Sequence[str],
) -> int:
    """Plays scenarios on computers, each of which is put back before each."""
    from yendo.cli import show
    from yendo.prove import attended
    from yendo.prove.furnished import furnished
    from yendo.prove.prove import matrix

    with show.working("proving", quiet=options.quiet or options.json) as progress:
        where = {name: attended.over_ssh(name, address, progress) for name, address in known.items()}
        heard = proving.progress_of(progress, len(some) * len(where))
        try:
            ready = [furnished(one, plan.proof, workspace) if plan else one for one in where.values()]
            cells = matrix(package, ready, some, jobs=1, go_on=options.go_on, accept=accept, progress=heard)
        finally:
            for machine in where.values():
                machine.interrupt()
    for name, machine in where.items():
        if played := [cell.scenario.id for cell in cells if cell.proof.machine == machine.name and not cell.earlier]:
            visited(name, known[name], package, ", ".join(played), machine.words)
    if len(cells) == 1:
        return prove_report.told(options, package, workspace, cells[0].proof)
    return prove_report.many_told(options, package, cells, sum(cell.proof.seconds for cell in cells))


def visited(name: str, address: Address, package: Path, what: str, windows: str) -> None:
    """Notes for `yendo machines` that something was proved on a computer."""
    from yendo.machines import visits

    visits.note(machines.cache(), name, f"{package.name}: {what}", windows, put_back=bool(address.revert))
