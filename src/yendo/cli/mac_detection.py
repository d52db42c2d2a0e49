"""``yendo detect`` for the half that is for macOS."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

import msgspec

from yendo.cli import show
from yendo.cli.strength_report import catching, rows, score_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from yendo.mac_half.model import AnyMacRule

WHERE = "Each state was made on a simulated machine, and the script's own lines answered there. No Mac was asked."


def run_strength(options: argparse.Namespace) -> int:
    from yendo.mac_half import reading, strength

    _refused(options)
    plan, _ = reading.read(options.package)
    with show.working("asking in each state", quiet=options.quiet or options.json):
        found = strength.measure(options.package.resolve(), plan, options.seed)
    now = found.strength()
    if options.json:
        show.emit({"schema": "yendo.mac-strength/1", "strength": now, "missing": found.missing})
    elif not options.quiet:
        out = show.console()
        out.print(f"{catching(now.rules)} [bold]{score_of(now)}[/bold]\n")
        rows(out, now)
        _missing(out, found.missing)
        out.print(f"\n[dim]next:[/dim] yendo detect derive {_named(options)}, to see rules that catch more")
    return 1 if now.false_absent or now.score < 0.5 else 0


def run_derive(options: argparse.Namespace) -> int:
    from yendo.mac_half import reading, strength

    _refused(options)
    plan, _ = reading.read(options.package)
    with show.working("asking every rule in each state", quiet=options.quiet or options.json):
        found = strength.derive(options.package.resolve(), plan, most=options.most, seed=options.seed)
    rules = [rule for rule, _ in found.rules]
    if options.write and rules:
        _write(options, rules)
    if options.json:
        show.emit({"schema": "yendo.mac-derived/1", **msgspec.to_builtins(found)})
    elif not options.quiet:
        out = show.console()
        lead = f"[bold]{catching(len(rules))}[/bold] {score_of(found.strength)}"
        out.print(f"{lead}, in {found.states} states\n")
        told = [(number, rule.title, f"{count} more") for number, (rule, count) in enumerate(found.rules, 1)]
        show.grid(out, told, heads=("", "rule", "broken states"), styles=("dim", None, "dim"))
        show.section(out, "What they catch")
        rows(out, found.strength)
        _missing(out, found.missing)
        out.print(f"\nthe plan's own rules catch {score_of(found.now)}")
        folder = show.clean(options.package)
        ready = f"they stand in the plan now; yendo build {folder}, then yendo prove {folder}"
        again = f"yendo detect derive {_named(options)} --write, to put them into the plan"
        out.print(f"[dim]next:[/dim] {ready if options.write else again}")
    return 0


def exported(options: argparse.Namespace) -> tuple[bytes, int]:
    """The rules in the form that is asked for, and how many they are; what a form cannot say is told beside it."""
    import tempfile
    from pathlib import Path

    from yendo.mac_half import detection, oval, reading
    from yendo.mac_half.work import Workshop

    plan, _ = reading.read(options.package)
    if options.form == "json":
        package = plan.package
        body = {"schema": "yendo.mac-rules/1", "package": package.id, "version": package.version, "all": plan.detect}
        return msgspec.json.format(msgspec.json.encode(body), indent=2) + b"\n", len(plan.detect)
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
        items = Workshop(options.package.resolve(), plan, Path(place)).done.items
        if options.form == "script":
            return detection.script_of(plan, items).encode(), len(plan.detect)
        made = oval.document(plan, items)
    for line in made.weaker:
        sys.stderr.write(f"weaker in this form: {line}\n")
    return made.data, len(plan.detect)


def _refused(options: argparse.Namespace) -> None:
    from yendo.errors import Usage

    if options.other or options.site:
        raise Usage("--other and --site are for the half for Windows")


def _named(options: argparse.Namespace) -> str:
    both = (options.package / "plan.toml").is_file()
    return f"{show.clean(options.package)}{' --system macos' if both else ''}"


def _missing(out: Console, missing: Sequence[str]) -> None:
    for text in missing:
        out.print(f"[yellow]not tried:[/yellow] {show.clean(text)}")
    out.print(f"[dim]{WHERE}[/dim]")


def _write(options: argparse.Namespace, rules: Sequence[AnyMacRule]) -> None:
    import tomlkit

    from yendo import atomic
    from yendo.draft import writing
    from yendo.mac_half import reading

    path = options.package / reading.NAME
    document = tomlkit.parse(path.read_text("utf-8"))
    document.pop("detect", None)
    plain = [
        {key: value for key, value in msgspec.to_builtins(rule).items() if value not in (None, "")} for rule in rules
    ]
    document["detect"] = writing.array(*(writing.table(values) for values in plain))
    atomic.write(path, writing.spaced(tomlkit.dumps(document)).encode())
