"""Look a plan over as an experienced colleague would. Exit code 1 when it finds an error.

yendo check lantern
yendo check lantern --sarif findings.sarif
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, nargs="?", default=Path(), metavar="FOLDER", help="the workspace (default: this folder)")
    parser.add_argument("--sarif", type=Path, metavar="FILE", help="also write the findings as SARIF 2.1.0")
    parser.add_argument("--rules", action="store_true", help="list the rules and leave")


def run(options: argparse.Namespace) -> int:
    import msgspec

    from yendo import atomic
    from yendo.check import RULES, Finding, Workspace, check
    from yendo.check import sarif as form
    from yendo.cli import show
    from yendo.plan import PlanError

    if options.rules:
        if options.json:
            show.emit({"schema": "yendo.rules/1", "rules": [{"id": rule.id, "severity": rule.severity, "why": rule.why} for rule in RULES.values()]})
        else:
            show.grid(show.console(), [(rule.id, rule.severity, rule.why) for rule in RULES.values()], styles=("cyan",))
        return 0
    unreadable: PlanError | None = None
    try:
        findings = check(Workspace(options.folder))
    except PlanError as error:
        unreadable = error
        findings = [
            Finding("unreadable-plan", "error", problem.line, problem.message, "nothing else can be checked", "correct this line")
            for problem in error.problems
        ]
    if options.sarif:
        where = (options.folder / "plan.toml").as_posix().lstrip("/")
        atomic.write(options.sarif, msgspec.json.format(msgspec.json.encode(form.document(findings, where)), indent=2) + b"\n")
    counts = {severity: sum(finding.severity == severity for finding in findings) for severity in ("error", "warning", "note")}
    if options.json:
        body: dict[str, Any] = {"schema": "yendo.check/1", "counts": counts, "findings": msgspec.to_builtins(findings)}
        show.emit(body)
    elif not options.quiet:
        out = show.console()
        colours = {"error": "bold red", "warning": "yellow", "note": "dim"}
        for finding in findings:
            colour = colours[finding.severity]
            out.print(
                f"[{colour}]{finding.severity:7}[/{colour}] "
                f"[dim]{show.clean(options.folder / finding.file)}:{finding.line}[/dim] "
                f"{show.clean(finding.message)} [dim]({finding.rule})[/dim]"
            )
            if finding.severity != "note":
                out.print(f"        [dim]why:[/dim] {show.clean(finding.why)}\n        [dim]do:[/dim]  {show.clean(finding.remedy)}")
        words = ", ".join(show.counted(count, severity) for severity, count in counts.items() if count)
        out.print(f"{show.counted(len(RULES), 'rule')} looked, {words or 'nothing found'}." if not unreadable else "The plan cannot be read.")
        out.print(
            f"[dim]next:[/dim] {'yendo build ' + show.clean(options.folder) if not counts['error'] else 'correct the errors, then check again'}"
        )
    if unreadable:
        return unreadable.exit_code
    return 1 if counts["error"] else 0
