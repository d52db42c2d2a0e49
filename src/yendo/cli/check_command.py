"""Look a plan over as an experienced colleague would. Exit code 1 when it finds an error.

yendo check lantern
yendo check lantern --sarif findings.sarif
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yendo.cli import mac_half

if TYPE_CHECKING:
    from yendo.check import Finding
    from yendo.plan import PlanError


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder", type=Path, nargs="?", default=Path(), metavar="FOLDER", help="the workspace (default: this folder)"
    )
    parser.add_argument("--sarif", type=Path, metavar="FILE", help="also write the findings as SARIF 2.1.0")
    parser.add_argument("--rules", action="store_true", help="list the rules and leave")
    parser.add_argument(
        "--why",
        action="store_true",
        help="show instead where each value comes from: the plan, the house, what is usual",
    )


def why(options: argparse.Namespace) -> int:
    """Every value of the plan with its origin."""
    import json

    from yendo.cli import show
    from yendo.plan import read
    from yendo.plan.origins import origins

    plan, lines = read(options.folder / "plan.toml")
    try:
        reasons = json.loads((options.folder / "evidence.json").read_text("utf-8")).get("why", {})
    except (OSError, ValueError, AttributeError):
        reasons = {}
    found = origins(plan, lines, reasons)
    if options.json:
        values = [{"place": one.place, "value": one.value, "from": one.source, "why": one.why} for one in found]
        show.emit(
            {
                "schema": "yendo.origins/1",
                "house": str(plan.furnished.file) if plan.furnished else None,
                "values": values,
            }
        )
    elif not options.quiet:
        rows = [(one.place, one.value, one.source + (f", {one.why}" if one.why else "")) for one in found]
        show.grid(show.console(), rows, heads=("", "value", "from"), styles=("cyan", None, "dim"))
    return 0


def run(options: argparse.Namespace) -> int:
    import msgspec

    from yendo import atomic
    from yendo.check import sarif as form
    from yendo.cli import show

    if options.rules:
        return _rules(options)
    if options.why:
        return why(options)
    findings, unreadable = _looked(options)
    if options.sarif:
        where = (options.folder / "plan.toml").as_posix().lstrip("/")
        atomic.write(
            options.sarif, msgspec.json.format(msgspec.json.encode(form.document(findings, where)), indent=2) + b"\n"
        )
    counts = {
        severity: sum(finding.severity == severity for finding in findings) for severity in ("error", "warning", "note")
    }
    if options.json:
        body: dict[str, Any] = {"schema": "yendo.check/1", "counts": counts, "findings": msgspec.to_builtins(findings)}
        show.emit(body)
    elif not options.quiet:
        _print(options.folder, findings, counts, readable=unreadable is None)
    if unreadable:
        return unreadable.exit_code
    return 1 if counts["error"] else 0


def _rules(options: argparse.Namespace) -> int:
    from yendo.check import RULES
    from yendo.cli import show

    if options.json:
        rules = [{"id": rule.id, "severity": rule.severity, "why": rule.why} for rule in RULES.values()]
        show.emit({"schema": "yendo.rules/1", "rules": rules})
    else:
        show.grid(show.console(), [(rule.id, rule.severity, rule.why) for rule in RULES.values()], styles=("cyan",))
    return 0


def _looked(options: argparse.Namespace) -> tuple[list[Finding], PlanError | None]:
    """The findings on both halves, those on Windows' written down for the shelf; a plan that cannot be read is findings
    of its own, and the error.
    """
    import contextlib

    from yendo.check import Finding, Workspace, check
    from yendo.plan import PlanError
    from yendo.shelf import record

    findings: list[Finding] = []
    try:
        if not mac_half.is_alone(options.folder):
            findings += check(Workspace(options.folder))
            with contextlib.suppress(OSError):  # a workspace that cannot be written to is looked over all the same
                record.checked(options.folder, findings)
        if mac_half.is_meant(options.folder):
            findings += mac_half.checked(options.folder)
        return findings, None
    except PlanError as error:
        unreadable = [
            Finding(
                "unreadable-plan",
                "error",
                problem.line,
                problem.message,
                "nothing else can be checked",
                "correct this line",
                Path(error.path).name,
            )
            for problem in error.problems
        ]
        return [*findings, *unreadable], error


def _print(folder: Path, findings: list[Finding], counts: dict[str, int], *, readable: bool) -> None:
    from yendo.check import RULES
    from yendo.cli import show

    out = show.console()
    colours = {"error": "bold red", "warning": "yellow", "note": "dim"}
    for finding in findings:
        colour = colours[finding.severity]
        out.print(
            f"[{colour}]{finding.severity:7}[/{colour}] "
            f"[dim]{show.clean(folder / finding.file)}:{finding.line}[/dim] "
            f"{show.clean(finding.message)} [dim]({finding.rule})[/dim]"
        )
        if finding.severity != "note":
            out.print(
                f"        [dim]why:[/dim] {show.clean(finding.why)}\n        [dim]do:[/dim]  "
                f"{show.clean(finding.remedy)}"
            )
    words = ", ".join(show.counted(count, severity) for severity, count in counts.items() if count)
    looked = len(RULES) if not mac_half.is_alone(folder) else mac_half.rule_count()
    out.print(
        f"{show.counted(looked, 'rule')} looked, {words or 'nothing found'}."
        if readable
        else "The plan cannot be read."
    )
    next_one = "correct the errors, then check again" if counts["error"] else f"yendo build {show.clean(folder)}"
    out.print(f"[dim]next:[/dim] {next_one}")
