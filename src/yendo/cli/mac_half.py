"""The commands on the half of a package that is for macOS: draft, check, build."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from yendo.cli import show
from yendo.errors import Usage
from yendo.machines.kinds import SSH

MAX_PROBLEMS = 12

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from yendo.check.workspace import Finding
    from yendo.mac_half.draft import MacDrafted
    from yendo.mac_half.model import MacPlan
    from yendo.mac_half.prove import MacPlayed, MacProof


def is_meant(folder: Path) -> bool:
    """Whether a workspace has a half for macOS; nothing else is loaded to know it."""
    return (folder / "macos.toml").is_file()


def is_alone(folder: Path) -> bool:
    """Whether that is all it has."""
    return is_meant(folder) and not (folder / "plan.toml").is_file()


def add_system(parser: argparse.ArgumentParser, usual: str) -> None:
    """The option that says which half of a workspace is meant."""
    parser.add_argument("--system", choices=("windows", "macos"), help=f"of which half (default: {usual})")


def for_mac(options: argparse.Namespace) -> bool:
    """Whether the half for macOS is meant, of a command on one half. Raises Usage."""
    if options.system != "macos":
        return options.system is None and is_alone(options.package)
    _has_one(options.package)
    return True


def both(options: argparse.Namespace) -> tuple[bool, bool]:
    """Whether the half for Windows, and the one for macOS, is meant, where a command takes both. Raises Usage."""
    if options.system == "macos":
        _has_one(options.package)
    mac = options.system != "windows" and is_meant(options.package)
    windows = options.system != "macos" and not (mac and is_alone(options.package))
    if windows and mac and options.output:
        raise Usage("there are two halves, and one file: --system windows or --system macos, or without --output")
    return windows, mac


def _has_one(folder: Path) -> None:
    if not is_meant(folder):
        raise Usage(f"{folder} is no workspace with a half for macOS")


def is_given(options: argparse.Namespace) -> bool:
    """Whether what is drafted from is for macOS."""
    from yendo.mac_half import draft

    if options.to and options.to.startswith("/") and not options.to.startswith("//"):
        return True
    return any(draft.kind_of(path) for path in options.sources)


def run_draft(options: argparse.Namespace) -> int:
    from yendo.mac_half import draft

    drafted = draft.draft(options.folder, options.sources, options.files, options.to or "", options.inside or "")
    if options.json:
        given = {**msgspec.to_builtins(msgspec.structs.replace(drafted, plan=str(drafted.plan)))}
        show.emit({"schema": "yendo.mac-draft/1", **given})
    elif not options.quiet:
        started(drafted, "drafted, the half for macOS", options.folder)
    return 0


def started(drafted: MacDrafted, how: str, folder: Path) -> None:
    """A half that was started: what is in it, and what is still to be decided."""
    out = show.console()
    out.print(f"[bold]{show.clean(drafted.plan)}[/bold] {how}")
    show.grid(out, [("media", name) for name in drafted.media], styles=("dim",))
    show.section(out, "Still yours to decide")
    show.grid(out, [tuple(one.split(": ", 1)) for one in drafted.decisions], styles=("yellow",))
    out.print(f"\n[dim]next:[/dim] edit {show.clean(drafted.plan)}, then yendo check {show.clean(folder)}")


def checked(folder: Path) -> list[Finding]:
    """What is found on it. Raises PlanError."""
    from yendo.mac_half import check

    return check.check(folder)


def rule_count() -> int:
    from yendo.mac_half import check

    return check.count()


def run_build(options: argparse.Namespace) -> dict[str, object]:
    """Builds it, once nothing stands against it, and tells it; where there is another half too, as data only that half
    tells.
    """
    from yendo.mac_half import build, reading

    plan, _ = reading.read(options.folder)
    with show.working("building", quiet=options.quiet or options.json):
        built = build.build(options.folder, plan)
    places = {
        "folder": str(built.folder),
        "package": str(built.package),
        "removal": str(built.removal),
        "profiles": [str(path) for path in built.profiles],
    }
    body: dict[str, object] = {"schema": "yendo.mac-build/1", **msgspec.structs.asdict(built), **places}
    if options.json:
        if is_alone(options.folder):
            show.emit(body)
    elif not options.quiet:
        out = show.console()
        out.print(
            f"[bold]{show.clean(built.package)}[/bold]: {show.counted(built.count, 'item')}, {show.size(built.size)}"
        )
        rows = [
            ("digest", built.digest),
            ("removes it", built.removal.name),
            ("detection", "detect.sh"),
            *(("profile", f"{path.name}, to be delivered first") for path in built.profiles),
            *(("note", note) for note in built.notes),
            ("signed", "not yet: a management service takes signed ones only"),
        ]
        show.grid(out, rows, styles=("dim",))
        out.print(
            f"\n[dim]next:[/dim] yendo prove {show.clean(options.folder)}; yendo sign {show.clean(built.package)}"
        )
    return body


def run_prove(options: argparse.Namespace, folder: Path) -> int:
    """Plays it on simulated machines, or on Macs over SSH."""
    from yendo.mac_half import prove, reading

    plan, _ = reading.read(folder)
    names = tuple(name for name in options.scenario or () if name != "all")
    if others := sorted({name for name in options.machine or () if not name.startswith(SSH)} - {"simulated", "all"}):
        raise Usage(f"the half for macOS is proved on simulated machines, or on Macs over SSH, and not on {others[0]}")
    if away := [name for name in options.machine or () if name.startswith(SSH)]:
        return max(_prove_away(options, folder, plan, name) for name in away)
    with show.working("proving on simulated machines with macOS", quiet=options.quiet or options.json):
        proof = prove.prove(folder.resolve(), plan, names)
    if options.json:
        show.emit({**msgspec.to_builtins(proof), "verdict": proof.verdict})
    elif not options.quiet:
        proved(show.console(), proof, folder)
    return 0 if proof.verdict == "proved" else 1


def is_mac(folder: Path, names: Sequence[str]) -> bool:
    """Whether machines over SSH are Macs; they are asked for together or not at all. Raises NoMachine, Usage."""
    from yendo.machines import addresses

    if not any(name.startswith(SSH) for name in names):
        return False
    kinds = {addresses.named(folder, name.removeprefix(SSH)).system for name in names if name.startswith(SSH)}
    if len(kinds) > 1 or ("macos" in kinds and not all(name.startswith(SSH) for name in names)):
        raise Usage("Macs over SSH are proved by themselves; name the others in another call")
    return kinds == {"macos"}


def _prove_away(options: argparse.Namespace, folder: Path, plan: MacPlan, name: str) -> int:
    from yendo.mac_half import prove
    from yendo.machines import addresses

    if options.scenario and set(options.scenario) != {prove.AWAY}:
        raise Usage(f"a Mac is taken as it is: without --scenario, or with --scenario {prove.AWAY}")
    address = addresses.named(folder, name.removeprefix(SSH))
    if address.system != "macos":
        raise Usage(f'{name} is no Mac; system = "macos" in machines.toml says that one is')
    with show.working(f"proving on {name}", quiet=options.quiet or options.json):
        proof = prove.prove_away(folder.resolve(), plan, name.removeprefix(SSH), address)
    if options.json:
        show.emit({**msgspec.to_builtins(proof), "verdict": proof.verdict})
    elif not options.quiet:
        proved(show.console(), proof, folder)
    return 0 if proof.verdict == "proved" else 1


def proved(out: Console, proof: MacProof, folder: Path) -> None:
    """What a proof came to."""
    from yendo.mac_half.prove import title_of

    colours = {"proved": "green", "failed": "bold red", "laid only": "yellow"}
    out.print(f"[bold]{show.clean(proof.package)}[/bold]: [{colours[proof.verdict]}]{proof.verdict}[/]")
    rows = []
    for one in proof.played:
        phases = ", ".join(phase.name for phase in one.phases[:5]) + (", ..." if len(one.phases) > 5 else "")
        rows.append((one.scenario, "yes" if one.proved else "NO", _on(one), f"{title_of(one.scenario)}: {phases}"))
    show.grid(out, rows, styles=("cyan", None, "dim", "dim"))
    for one in proof.played:
        for phase in one.phases:
            for problem in phase.problems[:MAX_PROBLEMS]:
                out.print(f"  [red]{one.scenario}, {phase.name}:[/red] {show.clean(problem)}")
            if len(phase.problems) > MAX_PROBLEMS:
                out.print(f"  [dim]and {len(phase.problems) - MAX_PROBLEMS} more (--json)[/dim]")
    if proof.blind:
        out.print(f"[yellow]not known here:[/yellow] {show.clean(', '.join(proof.blind))}: what they do is in no proof")
    where = "files and installer are simulated; scripts ran in a sandbox, against stand-ins of the system's programs"
    where = where if proof.executed else f"scripts ran nowhere: {show.clean(proof.why_not)}"
    if proof.real:
        where = "the system's own installer and programs; looked at were the folders of programs, settings and jobs"
        out.print(f"[dim]{where}. What every Mac changes by itself was not.[/dim]")
    else:
        out.print(f"[dim]{where}. No Mac was asked.[/dim]")
    if proof.verdict == "proved":
        name = proof.package.removesuffix("-macos")
        out.print(f"\n[dim]next:[/dim] yendo sign {show.clean(folder / 'package' / proof.package / name)}.pkg")


def _on(one: MacPlayed) -> str:
    return one.machine if one.place == "simulated" else f"{one.machine}, {one.place}"


def is_renewed(options: argparse.Namespace) -> bool:
    """Whether what a workspace is renewed with is for macOS."""
    from yendo.mac_half import draft

    return is_meant(options.folder) and draft.kind_of(options.installer) is not None


def run_renew(options: argparse.Namespace) -> int:
    """The vendor's next version into the half for macOS."""
    from yendo.mac_half import renew

    found = renew.renew(
        options.folder,
        options.installer,
        inside=options.inside or "",
        dry=options.dry_run,
        although=tuple(options.although),
    )
    if options.json:
        show.emit({"schema": "yendo.mac-renewal/1", **msgspec.to_builtins(found)})
    elif not options.quiet:
        out = show.console()
        folder = show.clean(options.folder)
        done = "renewed" if found.written else "would be renewed"
        out.print(f"{folder}/macos.toml: {show.clean(found.was)} -> [bold]{show.clean(found.now)}[/bold], {done}")
        for title, rows in (
            ("What the vendor changed", found.differences),
            ("What followed", found.followed),
            ("Yours, and kept", found.kept),
        ):
            if rows:
                show.section(out, title)
                heads = ("", "yours", "theirs") if rows is found.kept else ("", "was", "is")
                show.grid(out, [(one.place, one.was, one.now) for one in rows], heads=heads, styles=(None, "dim", None))
        again = f"yendo renew {folder} {show.clean(options.installer)}"
        after = f"yendo check {folder}, yendo build, yendo prove"
        out.print(f"\n[dim]next:[/dim] {after if found.written else again}")
    return 0
