"""Answer what a plan leaves open, one question at a time: what stands now, where it comes from, what hangs on it.

yendo decide lantern
yendo decide lantern --accept-defaults --answer package.contact="Survey office, extension 12"
yendo decide lantern --list
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import nested

if TYPE_CHECKING:
    from yendo.draft.deciding import Question


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, metavar="WORKSPACE")
    parser.add_argument(
        "--answer",
        action="append",
        default=[],
        metavar="KEY=VALUE",
        help="answer a question by its key, as --list shows it; may be given several times",
    )
    parser.add_argument("--accept-defaults", action="store_true", help="let stand what stands in the plan now")
    parser.add_argument("--all", action="store_true", help="ask for the vendor's own defaults too")
    parser.add_argument("--list", action="store_true", help="show what is open, and ask nothing")


def run(options: argparse.Namespace) -> int:
    from yendo.draft import deciding

    plan = options.folder / "plan.toml" if options.folder.is_dir() else options.folder
    given: dict[str, str | None] = {}
    given |= nested.pairs("--answer", options.answer, "KEY=VALUE", "with a key that --list shows")
    known = deciding.questions(plan)
    if options.accept_defaults:
        given = {**{one.key: None for one in known if one.key and not (one.optional or one.empty)}, **given}
    if given:
        deciding.answer(plan, given)
        known = deciding.questions(plan)
    asked = [one for one in known if one.key and (options.all or not one.optional)]
    if asked and not (given or options.list or options.json or options.quiet) and sys.stdin.isatty():
        _ask(plan, asked)
        known = deciding.questions(plan)
    _told(options, plan, known, sorted(given))
    return 1 if any(not one.optional for one in known) else 0


def _told(options: argparse.Namespace, plan: Path, known: Sequence[Question], answered: Sequence[str]) -> None:
    """What is answered, and what is open."""
    from yendo.cli import show

    left = [one for one in known if not one.optional]
    if options.json:
        standing = [one for one in known if one.optional]
        body = {"plan": str(plan), "answered": answered, "open": left, "standing": standing}
        show.emit({"schema": "yendo.decide/1", **body})
    elif not options.quiet:
        _report(plan, list(known), all_of_them=options.all or options.list)
        ready = f"[green]Everything is decided.[/green] [dim]next:[/dim] yendo build {show.clean(options.folder)}"
        show.console().print(f"\n[dim]next:[/dim] {_next(options.folder, left)}" if left else f"\n{ready}")


def _next(folder: Path, left: list[Question]) -> str:
    from yendo.cli import show

    name = show.clean(folder)
    key = next((one.key for one in left if one.key), "")
    if not key and not any("yendo try" in one.text for one in left):
        return f"decide the marked lines in {name}/plan.toml and take the marks out, then yendo check {name}"
    if not key:
        return f"a person at the plan, or a run: yendo try INSTALLER --into {name}"
    return f"yendo decide {name} at a terminal, or yendo decide {name} --answer {key}=..."


def _report(plan: Path, known: list[Question], *, all_of_them: bool) -> None:
    from yendo.cli import show

    out = show.console()
    still = [one for one in known if not one.optional]
    if still:
        show.section(out, f"Open in {show.clean(plan)}")
        show.grid(
            out,
            [
                (
                    f"line {one.line}",
                    one.key or "the plan itself",
                    one.text,
                    "" if one.default is None else f"{one.default}",
                )
                for one in still
            ],
            heads=("", "key", "question", "stands now"),
            styles=("dim", None, "yellow", None),
        )
    optional = [one for one in known if one.optional]
    if optional and all_of_them:
        show.section(out, "Stands unless you decide otherwise")
        show.grid(out, [(one.key, one.text, f"{one.default}") for one in optional], styles=(None, "dim", None))


def _ask(plan: Path, asked: list[Question]) -> None:
    """Asks at the terminal; each answer is written at once, so that nothing is lost when somebody stops."""
    from yendo.cli import show
    from yendo.draft import deciding
    from yendo.errors import Usage

    out = show.console()
    out.print("[dim]Enter lets stand what stands now; - leaves a question open; Ctrl-D ends.[/dim]")
    for number, question in enumerate(asked, 1):
        out.print(f"\n[bold]{number} of {len(asked)}  {show.clean(question.key)}[/bold]  {show.clean(question.text)}")
        if question.hangs:
            out.print(f"   [dim]{question.hangs}[/dim]")
        out.print(f"   stands now: {'nothing' if question.empty else show.clean(str(question.default))}")
        while True:
            try:
                said = input("   > ").strip()
            except EOFError:
                out.print()
                return
            if said == "-" or (not said and (question.empty or question.optional)):
                break
            try:
                deciding.answer(plan, {question.key: said or None})
                break
            except Usage as error:
                out.print(f"   [red]{show.clean(str(error))}[/red]")
