"""Run a setup program on fresh machines until a command line is silent and complete; then its uninstaller.

yendo try sounder-setup.exe
yendo try sounder-setup.exe --into sounder
yendo try old-setup.exe --record
yendo try odd-setup.exe --command '"odd-setup.exe" /mode:unattended'
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import machines

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.prove.trial import Trial


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", type=Path, metavar="FILE", help="the vendor's setup program")
    parser.add_argument(
        "--command",
        dest="lines",
        action="append",
        default=[],
        metavar="LINE",
        help="try this command line instead of what reading proposes (may be repeated)",
    )
    parser.add_argument(
        "--record",
        action="store_true",
        help="agree to every dialog once and keep the answers (answers-exe), then try with them",
    )
    parser.add_argument(
        "--into",
        type=Path,
        metavar="WORKSPACE",
        help="put what was found into the plan of this workspace, its evidence beside it",
    )
    parser.add_argument("--keep", type=Path, metavar="DIR", help="where evidence and pictures go (default: NAME-trial)")
    parser.add_argument("--most", type=int, default=12, metavar="N", help="at most so many runs (default: 12)")
    machines.add_watching(parser, "run", "10 min")


def run(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.prove.scenarios import SCENARIOS
    from yendo.prove.trial import Trying
    from yendo.terms.amounts import seconds

    if not options.file.is_file():
        raise Usage(f"{options.file} is no file; name the vendor's setup program")
    if options.into and not (options.into / "plan.toml").is_file():
        raise Usage(f"{options.into} is no workspace; make one with `yendo draft {options.into} {options.file}`")
    try:
        limit = seconds(options.limit)
    except ValueError as error:
        raise Usage(f"--limit: {error}") from error
    keep = options.keep or (options.into / "trial" if options.into else Path(f"{options.file.stem}-trial"))
    with (
        show.working(f"trying {options.file.name}", quiet=options.quiet or options.json) as progress,
        machines.watched(options, options.into or Path(), progress) as machine,
    ):
        trying = Trying(
            options.file,
            machine,
            keep,
            account=SCENARIOS[options.scenario or ("desk" if options.machine == "wine" else "system")].account,
            timeout=limit,
            most=options.most,
            progress=progress,
        )
        commands = list(options.lines)
        if options.record:
            if not trying.trial.recorded_answers:
                trying.record_answers()
            commands.append(trying.with_answers())
        trial = trying.run(commands)
    if options.into and trial.install:
        from yendo.draft import setups

        setups.take_over(options.into, keep)
    if options.json:
        show.emit(trial)
    elif not options.quiet:
        _print(show.console(), trial, keep, options)
    return 0 if trial.install and trial.uninstall else 1


_MARKS = {
    "silent and complete": "bold green",
    "failed": "red",
    "showed a window": "yellow",
    "waits for a person": "yellow",
}


def _print(out: Console, trial: Trial, keep: Path, options: argparse.Namespace) -> None:
    from rich.text import Text

    from yendo.cli import show

    out.print(f"[bold]{show.clean(trial.installer)}[/bold], {trial.family}, on {show.clean(trial.machine)}")
    rows: list[tuple[object, ...]] = []
    for run in trial.runs:
        rows.append((run.purpose, Text(run.verdict, _MARKS.get(run.verdict, "")), run.command, f"{run.seconds:.1f} s"))
        rows += [("", "", Text(f"  {remark}", "dim"), "") for remark in run.remarks]
        rows += [
            ("", "", Text(f"  picture: {keep / window.picture}", "dim"), "") for window in run.windows if window.picture
        ]
    show.section(out, show.counted(len(trial.runs), "run"))
    show.grid(out, rows, styles=("dim", None, "cyan", "dim"))
    show.section(out, "Found")
    found = [
        ("install", trial.install or "no silent command line among those tried"),
        ("uninstall", trial.uninstall or "none that is silent and complete"),
    ]
    if best := trial.best("install"):
        found.append(("it did", show.told(best.effects)))
        waits = (
            f"no: it returns {best.returned_early:.1f} s early; wait for {', '.join(best.outlived) or 'its children'}"
            if best.returned_early
            else "yes, until all is done"
        )
        found += [("waits", waits), ("restart", "asks for one" if best.restart else "none")]
    if trial.predicted:
        found.append(
            (
                "reading alone",
                f"{trial.predicted['recall']:.0%} of {trial.predicted['observed']:.0f} effects predicted, "
                f"{trial.predicted['precision']:.0%} of the predictions true",
            )
        )
    if trial.left_behind:
        found.append(
            ("left behind", f"{show.counted(len(trial.left_behind), 'thing')}: " + "; ".join(trial.left_behind[:6]))
        )
    show.grid(out, found, styles=("dim",))
    workspace = options.into or "FOLDER"
    if not trial.install:
        hint = f"look at the pictures in {keep}, then --command with a line of your own" + (
            ", or --record" if trial.family == "answers-exe" else ""
        )
    elif options.into:
        hint = f"yendo check {workspace}; then build and prove"
    else:
        hint = f"yendo draft {workspace} {options.file}; then yendo try {options.file} --into {workspace}"
    out.print(f"\nThe evidence is in {show.clean(keep)}.\n[dim]next:[/dim] {show.clean(hint)}")
