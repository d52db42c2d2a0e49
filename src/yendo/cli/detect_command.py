"""Derive detection rules from the states that they must tell apart, measure what they catch, and write them for other
systems.

yendo detect derive lantern
yendo detect strength lantern
yendo detect export lantern --as oval -o lantern.oval.xml
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yendo.cli import mac_detection, mac_half, nested, strength_report

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from yendo.detect.derive import Chosen
    from yendo.detect.strength import Strength
    from yendo.package.manifest import Manifest
    from yendo.prove.ground import Made

FORMS = ("oval", "json", "script")
REPORTED = (1, 3, 5, 10)


def configure(parser: argparse.ArgumentParser) -> None:
    nested.actions(parser, ACTIONS)


def run(options: argparse.Namespace) -> int:
    return int(options.run_action(options))


def _place(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "package", type=Path, metavar="PACKAGE", help="a built package, or a workspace (then its newest package)"
    )
    parser.add_argument(
        "--other",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help="another installer of the vendor's to tell apart, beside those in [proof] others",
    )
    parser.add_argument("--site", metavar="NAME", help="with the values of this site (default: the plan's first)")
    mac_half.add_system(parser, "Windows', where there is one")
    parser.add_argument(
        "--seed", type=int, default=1, help="chooses broken states where there are too many (default: 1)"
    )


def _made(options: argparse.Namespace, *, everywhere: bool = False) -> tuple[Manifest, Made]:
    from yendo.cli.proving import find, plan_of, sites_of
    from yendo.errors import Usage
    from yendo.prove import ground
    from yendo.prove.furnished import simulated_for

    package = find(options.package)
    if options.site:
        sites_of(package, [options.site])
    plan, workspace = plan_of(options.package, package)
    others = [*(workspace / name for name in (plan.proof.others if plan else ())), *options.other]
    for other in others:
        if not other.is_file():
            raise Usage(f"{other} is not there")
    machine = simulated_for(plan, workspace) if plan else None
    updates = bool(plan and plan.proof.updates_itself)
    made = ground.make(package, others, updates=updates, site=options.site, machine=machine)
    return made.manifest, ground.everywhere(made, package) if everywhere else made


# --- derive -----------------------------------------------------------------------------------------


def _derive(parser: argparse.ArgumentParser) -> None:
    _place(parser)
    parser.add_argument("--most", type=int, default=10, metavar="N", help="at most so many rules (default: 10)")
    parser.add_argument("--write", action="store_true", help="put them into the plan in place of those that are there")


def derive(options: argparse.Namespace) -> int:
    import msgspec

    from yendo.cli import show
    from yendo.detect.derive import derive as derived
    from yendo.detect.states import listed
    from yendo.detect.strength import measure
    from yendo.errors import Usage
    from yendo.prove import ground

    if options.most < 1:
        raise Usage("--most is at least 1")
    if mac_half.for_mac(options):
        return mac_detection.run_derive(options)
    manifest, made = _made(options, everywhere=True)
    found = derived(made.ground, made.environment, most=options.most, seed=options.seed)
    placed = [
        [msgspec.structs.replace(one, rule=ground.with_places(one.rule, made)) for one in rules]
        for rules in (found.rules, found.further)
    ]
    found = msgspec.structs.replace(found, rules=tuple(placed[0]), further=tuple(placed[1]))
    rules = [chosen.rule for chosen in found.rules]
    now = measure(manifest.detect, made.ground, made.environment, options.seed)
    if options.write:
        _write(options.package, rules)
    if options.json:
        show.emit(
            {
                "schema": "yendo.derived/1",
                "rules": [{"rule": one.rule, "separates": one.separates, "adds": one.adds} for one in found.rules],
                "confused": found.confused,
                "further": [{"rule": one.rule, "adds": one.adds} for one in found.further],
                "strength": found.strength,
                "now": now,
                "states": [case.name for case in listed(made.ground)],
                "missing": made.missing,
            }
        )
    elif not options.quiet:
        _told(
            show.console(),
            options,
            found.rules,
            found.confused,
            found.further,
            found.strength,
            now,
            made,
            len(listed(made.ground)),
        )
    return 1 if found.confused else 0


def _told(
    out: Console,
    options: argparse.Namespace,
    rules: Sequence[Chosen],
    confused: Sequence[str],
    further: Sequence[Chosen],
    strength: Strength,
    now: Strength,
    made: Made,
    states: int,
) -> None:
    from yendo.cli import show

    out.print(
        f"{states} states have to be told apart; [bold]{show.counted(len(rules), 'rule')}[/bold] do it, and catch "
        f"{strength_report.score_of(strength)}"
    )
    exactly = "exactly this version counts; updates_itself = true under [proof] says that newer ones do too"
    out.print(
        f"[dim]{show.clean('a newer version counts, since the program may update itself' if made.ground.updates else exactly)}[/dim]\n"  # noqa: E501
    )
    rows = [
        (
            number,
            one.rule.title,
            f"{len(one.separates)} of {states - 1}",
            show.some_of(one.first, 3) or f"{show.counted(one.adds, 'more broken state')}",
        )
        for number, one in enumerate(rules, 1)
    ]
    show.grid(out, rows, heads=("", "rule", "states", "the first to tell it from"), styles=("dim", None, None, "dim"))
    for name in confused:
        out.print(f"[bold red]not told apart:[/bold red] {show.clean(name)}")
    for text in made.missing:
        out.print(f"[yellow]not tried:[/yellow] {show.clean(text)}")
    if further:
        show.section(out, "What these rules do not catch, and what would")
        show.grid(
            out,
            [
                (one.rule.title, f"{show.counted(one.adds, 'state')}: {show.some_of(one.first, 2)}")
                for one in further[:6]
            ],
            styles=(None, "dim"),
        )
    out.print(f"\nthe plan's own rules catch {strength_report.score_of(now)}")
    for name in now.false_absent[:3]:
        out.print(f"[bold red]the plan's own rules say no to:[/bold red] {show.clean(name)}")
    if options.write:
        out.print(
            f"[dim]next:[/dim] they stand in the plan now; yendo check {show.clean(options.package)}, then build and "
            "prove"
        )
    else:
        out.print(
            f"[dim]next:[/dim] yendo detect derive {show.clean(options.package)} --write, to put them into the plan"
        )


def _write(workspace: Path, rules: Sequence[Any]) -> None:
    import tomlkit

    from yendo import atomic
    from yendo.draft import writing
    from yendo.errors import Usage

    path = workspace / "plan.toml"
    if not path.is_file():
        raise Usage(f"--write needs a workspace with a plan, and {workspace} is none")
    document = tomlkit.parse(path.read_text("utf-8"))
    document.pop("detect", None)
    document["detect"] = writing.rules_of(list(rules))
    atomic.write(path, writing.spaced(tomlkit.dumps(document)).encode())


# --- strength ----------------------------------------------------------------------------------------


def _strength(parser: argparse.ArgumentParser) -> None:
    _place(parser)


def strength(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.detect.derive import derive as derived
    from yendo.detect.states import broken
    from yendo.detect.strength import Tried

    if mac_half.for_mac(options):
        return mac_detection.run_strength(options)
    manifest, made = _made(options)
    tried = Tried(broken(made.ground, options.seed), made.environment)
    now = tried.strength(manifest.detect)
    best = derived(made.ground, made.environment, most=max(REPORTED), seed=options.seed, enough=1.0, tried=tried)
    rules = [one.rule for one in best.rules]
    counts = dict.fromkeys(min(count, len(rules)) for count in REPORTED)
    curve = [(count, tried.strength(rules[:count])) for count in counts]
    if options.json:
        show.emit(
            {
                "schema": "yendo.strength/1",
                "strength": now,
                "derived": [{"rules": count, "checks": one.checks, "score": one.score} for count, one in curve],
                "further": [{"rule": one.rule, "adds": one.adds} for one in best.rules],
                "missing": made.missing,
            }
        )
        return 1 if now.false_absent or now.score < 0.5 else 0
    if options.quiet:
        return 1 if now.false_absent or now.score < 0.5 else 0
    out = show.console()
    out.print(f"{strength_report.catching(now.rules)} [bold]{strength_report.score_of(now)}[/bold]\n")
    strength_report.rows(out, now)
    for text in made.missing:
        out.print(f"[yellow]not tried:[/yellow] {show.clean(text)}")
    if now.undecided:
        out.print(
            f"[yellow]{show.counted(now.undecided, 'rule')} can be judged only on a real machine, and count as "
            "holding here[/yellow]"
        )
    show.section(out, "What derived rules would catch")
    gains = [
        (
            show.counted(count, "rule"),
            f"{100 * one.score:.0f} %",
            show.counted(one.checks, "thing") + " to keep up to date",
        )
        for count, one in curve
    ]
    show.grid(out, gains, styles=(None, "bold", "dim"))
    out.print(f"\n[dim]next:[/dim] yendo detect derive {show.clean(options.package)}, to see those rules")
    return 1 if now.false_absent or now.score < 0.5 else 0


# --- export --------------------------------------------------------------------------------------------


def _export(parser: argparse.ArgumentParser) -> None:
    from yendo.package.scripts import FORMS as ANSWERS

    parser.add_argument(
        "package", type=Path, metavar="PACKAGE", help="a built package, or a workspace (then its newest package)"
    )
    parser.add_argument(
        "--as",
        dest="form",
        choices=FORMS,
        default="oval",
        help="OVAL 5.11 definitions, plain JSON, or the detection script (default: oval)",
    )
    parser.add_argument(
        "--answer",
        choices=ANSWERS,
        default=ANSWERS[0],
        help="how the script answers: a line only where it is there, or always a line",
    )
    parser.add_argument(
        "--site", metavar="NAME", help="OVAL and JSON with the values of this site, where detection depends on settings"
    )
    parser.add_argument("--output", "-o", type=Path, metavar="FILE", help="where to (default: standard output)")
    mac_half.add_system(parser, "Windows', where there is one")


def _settled(manifest: Manifest, package: Path, site: str | None) -> Manifest:
    """The manifest for a form that knows no settings. Raises Usage where it is not clear with which values."""
    from yendo.cli.proving import sites_of
    from yendo.errors import Usage
    from yendo.package import manifest as form

    if not form.used(manifest, "detect"):
        return manifest
    if site is None and len(manifest.sites) > 1:
        raise Usage(
            "detection depends on settings, and this form knows none; say for which site: --site "
            f"{' | '.join(manifest.sites)}"
        )
    chosen = sites_of(package, [site] if site else None)[0]
    # secrets stand in no rule, as check sees to; folders stay as they are written, since they are expanded where they
    # are judged
    return form.with_values(manifest, {}, manifest.sites.get(chosen, {}), verb="detect")


def export(options: argparse.Namespace) -> int:
    if mac_half.for_mac(options):
        data, count = mac_detection.exported(options)
    else:
        data, count = _exported(options)
    return _written(options, data, count)


def _exported(options: argparse.Namespace) -> tuple[bytes, int]:
    """The rules of the half for Windows in a form, and how many they are."""
    import msgspec

    from yendo.cli.proving import find
    from yendo.detect import oval
    from yendo.package import manifest as form
    from yendo.package import scripts

    package = find(options.package)
    manifest = form.read(package)
    if options.form != "script":
        manifest = _settled(manifest, package, options.site)
    if options.form == "oval":
        # a fixed moment, so that the same package gives the same bytes; the format wants one
        data = oval.document(
            manifest.detect,
            identifier=manifest.id,
            name=manifest.name,
            version=manifest.version,
            revision=manifest.revision,
            made="2000-01-01T00:00:00",
        )
    elif options.form == "json":
        body = {
            "schema": "yendo.rules/1",
            "package": manifest.id,
            "version": manifest.version,
            "revision": manifest.revision,
            "all": manifest.detect,
        }
        data = msgspec.json.format(msgspec.json.encode(body), indent=2) + b"\n"
    else:
        data = scripts.detection(manifest, options.answer)
    return data, len(manifest.detect)


def _written(options: argparse.Namespace, data: bytes, count: int) -> int:
    import sys

    from yendo import atomic
    from yendo.cli import show

    if not options.output:
        sys.stdout.buffer.write(data)
        return 0
    atomic.write(options.output, data)
    if options.json:
        about = {"form": options.form, "file": str(options.output), "size": len(data), "rules": count}
        show.emit({"schema": "yendo.exported/1", **about})
    elif not options.quiet:
        show.console().print(f"{show.counted(count, 'rule')} in {show.clean(options.output)}")
    return 0


ACTIONS: nested.Actions = {
    "derive": ("propose the smallest set of rules that tells the states apart", _derive, derive),
    "strength": ("count which broken states the plan's rules catch", _strength, strength),
    "export": ("write the rules as OVAL, as JSON, or as a script", _export, export),
}
