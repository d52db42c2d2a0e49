"""Do the work on a fresh machine, and make a package of what it changed: for installers that cannot be made silent,
and for what has to be set by hand afterwards.

yendo capture sounder sounder-setup.exe --run '{setup} /S' --part settings --run 'reg add ...' --twice
yendo capture sounder sounder-setup.exe --hand '{setup}' --scenario desk --kit sounder-kit.zip
yendo capture sounder --from sounder.captured.zip
yendo capture sounder --show --left
yendo capture sounder --show --why 'C:\\ProgramData\\*'
"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yendo.cli import mac_capture, mac_half, machines

if TYPE_CHECKING:
    from collections.abc import Callable

    from rich.console import Console

    from yendo.capture import WorkDone, WorkLine
    from yendo.capture.kit import CaptureKit
    from yendo.capture.tree import Branch
    from yendo.platforms.windows.capture_record import Capture, LeftEntry
    from yendo.steps.captured import Decided

DEEP, WIDE = 3, 6  # how far a tree is shown by itself


class _InOrder(argparse.Action):
    """Commands and the parts that they stand in, as they were given."""

    def __call__(
        self,
        parser: argparse.ArgumentParser,
        namespace: argparse.Namespace,
        values: str | Sequence[Any] | None,
        option_string: str | None = None,
    ) -> None:
        given = [*(getattr(namespace, "work", None) or []), (self.dest, str(values))]
        namespace.work = given


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", type=Path, metavar="NAME", help="the workspace: new, or one that was captured before")
    parser.add_argument("setup", type=Path, nargs="?", metavar="SETUP", help="the vendor's file, put onto the machine")
    parser.add_argument(
        "--with",
        dest="beside",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help="another file that is put beside it (may be repeated)",
    )
    parser.add_argument(
        "--run",
        dest="run",
        action=_InOrder,
        metavar="LINE",
        help="a command line of the work, in order; {setup} is SETUP (default: its silent line)",
    )
    parser.add_argument(
        "--hand",
        dest="hand",
        action=_InOrder,
        metavar="LINE",
        help="the same, and a person does the rest at its windows on this screen; it ends with the last of them",
    )
    parser.add_argument(
        "--part",
        dest="part",
        action=_InOrder,
        metavar="PART",
        help="what follows belongs to this part of the work (default: install); with --show: only it",
    )
    parser.add_argument(
        "--twice",
        nargs="?",
        const="",
        metavar="MACHINE",
        help="do it again on a second machine that is called otherwise, to tell what is a machine's own",
    )
    parser.add_argument(
        "--start-again",
        action="store_true",
        help="in the end, delete the data and start the captured shortcuts once more: what comes back by itself is "
        "left out",
    )
    parser.add_argument("--although", default="", metavar="WHY", help="why what is there already does not matter")
    machines.add_watching(parser, "command", "30 min")
    machines.add_this_computer(parser)
    _configure_away(parser)
    _configure_showing(parser)


def _configure_away(parser: argparse.ArgumentParser) -> None:
    away = parser.add_argument_group("on a Windows where nothing is installed")
    away.add_argument(
        "--kit",
        type=Path,
        metavar="FILE",
        help="do nothing now: write a zip that does the work there, as --scenario says",
    )
    away.add_argument(
        "--from",
        type=Path,
        dest="results",
        action="append",
        metavar="FILE",
        help="what the kit has brought back; a second one, from another machine, tells what is a machine's own",
    )


def _configure_showing(parser: argparse.ArgumentParser) -> None:
    shown = parser.add_argument_group("look at a capture")
    shown.add_argument("--show", action="store_true", help="show what was captured, as a tree, and what becomes of it")
    shown.add_argument("--left", action="store_true", help="only what is left out, with reasons")
    shown.add_argument("--open", action="store_true", help="only what nobody has decided yet")
    shown.add_argument("--all", action="store_true", help="every thing, not only the places")
    shown.add_argument("--why", metavar="THING", help="what becomes of these things, and why; * stands for anything")


def run(options: argparse.Namespace) -> int:
    if options.show or options.left or options.open or options.why:
        return _show(options)
    if mac_half.is_mac(options.name.absolute().parent, [options.machine]):
        return mac_capture.run(options)
    return _take(options)


# --- the work -------------------------------------------------------------------------------------------------------


def _take(options: argparse.Namespace) -> int:
    import shutil

    from yendo import digest
    from yendo.capture import sorted_out
    from yendo.cli import show
    from yendo.draft import captured
    from yendo.errors import Usage
    from yendo.terms.amounts import seconds

    if options.setup and not options.setup.is_file():
        raise Usage(f"{options.setup} is no file; name the vendor's setup program or database")
    try:
        limit = seconds(options.limit)
    except ValueError as error:
        raise Usage(f"--limit: {error}") from error
    captured.guard(options.name)
    if options.kit:
        return _make_kit(options, limit)
    made = _brought_back(options) if options.results else None
    jobs = made.jobs if made else _jobs(options)
    office = _office(options.name)
    gathered = captured.staging(options.name)
    shutil.rmtree(gathered, ignore_errors=True)
    try:
        with show.working(f"capturing {options.name}", quiet=options.quiet or options.json) as progress:
            if made:
                taken = _judged(options, made, options.results[0], office, gathered)
                second = _judged(options, made, options.results[1], office, None) if len(options.results) > 1 else None
            else:
                taken, second = _done(options, jobs, office, limit, progress, gathered), None
                if options.twice is not None:
                    second = _done(options, jobs, office, limit, progress, None, options.twice or options.machine)
        setup = Path(made.setup) if made and made.setup else options.setup
        capture = sorted_out(
            taken,
            second,
            setup=setup.name if setup else "",
            sha256=made.sha256 if made else digest.of_file(setup) if setup else "",
            although=options.although or (made.although if made else ""),
            office=office,
        )
        written = captured.write(options.name, capture, gathered, setup.stem if setup else options.name.name)
    finally:
        shutil.rmtree(gathered, ignore_errors=True)
    every = _decided(options.name, capture)
    if options.json:
        show.emit(_as_json(capture, every))
    elif not options.quiet:
        _told(show.console(), options, capture, every, written.renewed, written.idle)
    return 1 if any(one.fate in ("open", "cannot") for one in every) or written.idle else 0


def _make_kit(options: argparse.Namespace, limit: float) -> int:
    """Writes a kit that does the work elsewhere."""
    from yendo.capture import kit
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.prove.scenarios import SCENARIOS

    if options.machine != "wine" or options.twice is not None or options.start_again:
        raise Usage(
            "a kit does the work on the machine that it is carried to, and leaves it so; leave --machine, --twice and "
            "--start-again out"
        )
    jobs = _jobs(options)
    scenario = options.scenario or ("desk" if any(job.hand for job in jobs) else "system")
    made = kit.write(
        options.name,
        options.kit,
        jobs,
        setup=options.setup,
        beside=options.beside,
        account=SCENARIOS[scenario].account,
        although=options.although,
        timeout=limit,
    )
    if options.json:
        show.emit({"schema": "yendo.kit/1", "kit": str(options.kit), "scenario": scenario, "result": made.result})
    elif not options.quiet:
        out = show.console()
        size = show.size(options.kit.stat().st_size)
        out.print(f"[bold]{show.clean(options.kit)}[/bold]: a kit that does the work, {size}, {scenario}")
        machines.kit_told(out, made.result, f"yendo capture {options.name}")
    return 0


def _brought_back(options: argparse.Namespace) -> CaptureKit:
    """The kit whose results are given. Raises Usage."""
    from yendo.capture import kit
    from yendo.errors import Usage

    if len(options.results) > 2:
        raise Usage("two results at most: one machine, and another that tells what is the first one's own")
    if options.setup or options.start_again or getattr(options, "work", None):
        raise Usage("what was done stands in the kit; give NAME and --from alone")
    return kit.kept_for(options.name)


def _judged(
    options: argparse.Namespace, made: CaptureKit, result: Path, office: Sequence[LeftEntry], gathered: Path | None
) -> WorkDone:
    """The work as a kit has done it."""
    from yendo.capture import brings, kit, work
    from yendo.capture.sort import wanted

    with kit.brought_back(result, made) as machine:
        return work(
            machine,
            made.jobs,
            brought=made.brought,
            lying=True,
            account=made.account,
            predicted=brings(made.at_hand) if made.at_hand else (),
            although=options.although or made.although,
            contents=gathered,
            wanted=wanted(office),
        )


def _office(folder: Path) -> tuple[LeftEntry, ...]:
    from yendo.draft.office import Office

    house = Office(folder).house
    return house.left if house else ()


def _jobs(options: argparse.Namespace) -> list[WorkLine]:
    """The work in its order. Raises Usage."""
    from yendo.capture import WorkLine
    from yendo.capture.take import INSTALL
    from yendo.errors import Usage

    part, jobs = INSTALL, []
    for kind, text in getattr(options, "work", None) or []:
        if kind == "part":
            part = text
        else:
            if "{setup}" in text and not options.setup:
                raise Usage(
                    f"{text!r} names the setup, and none is given: yendo capture {options.name} SETUP --run ..."
                )
            jobs.append(WorkLine(part, text, hand=kind == "hand"))
    if jobs:
        return jobs
    if not options.setup:
        raise Usage("say what is done on the machine: --run LINE, with the vendor's setup before it")
    return [WorkLine(INSTALL, _silent(options.setup))]


def _silent(setup: Path) -> str:
    """The setup's silent line, as reading knows it. Raises Usage where it does not."""
    from yendo.errors import Usage
    from yendo.installers import recognise

    account = recognise.read(setup)
    line = account.silent.install
    if line is None or line.confidence == "to be tried":
        raise Usage(
            f"how {setup.name} installs silently is not known for certain; say it with --run '{{setup}} ...', or find "
            f"it with `yendo try {setup}`"
        )
    return line.command


def _done(
    options: argparse.Namespace,
    jobs: Sequence[WorkLine],
    office: Sequence[LeftEntry],
    limit: float,
    progress: Callable[[str], None],
    gathered: Path | None,
    second: str | None = None,
) -> WorkDone:
    from yendo.capture import WorkFailed, brings, work
    from yendo.capture.sort import wanted
    from yendo.errors import Usage
    from yendo.prove.scenarios import SCENARIOS

    scenario = options.scenario or ("desk" if (second or options.machine) == "wine" else "system")
    if options.start_again and options.machine == "here":
        raise Usage("--start-again deletes what was captured; it needs a machine that is thrown away, not this one")
    screen = _screen() if any(job.hand for job in jobs) else None
    with machines.watched(options, options.name, progress, second=second, screen=screen, here=True) as machine:
        try:
            return work(
                machine,
                jobs,
                brought=[*([options.setup] if options.setup else []), *options.beside],
                account=SCENARIOS[scenario].account,
                timeout=limit,
                predicted=brings(options.setup) if options.setup else (),
                although=options.although,
                contents=gathered,
                wanted=wanted(office),
                start_again=options.start_again and second is None,
                progress=progress,
            )
        except WorkFailed as failed:
            raise _pictured(options, failed) from failed


def _screen() -> str:
    """The person's screen. Raises Usage."""
    import os

    from yendo.errors import Usage

    if not os.environ.get("DISPLAY"):
        raise Usage("--hand needs a screen that a person sees: start Yendo in a session with one (DISPLAY is not set)")
    return os.environ["DISPLAY"]


def _pictured(options: argparse.Namespace, failed: Exception) -> Exception:
    """The same with the picture kept, and said where."""
    from yendo import atomic
    from yendo.capture import WorkFailed

    picture = getattr(failed, "picture", None)
    if picture is None:
        return failed
    path = options.name.parent / f"{options.name.name}-failed.png"
    atomic.write(path, picture)
    return WorkFailed(f"{failed}; what it showed: {path}. Nothing was captured")


# --- showing ----------------------------------------------------------------------------------------------------------


def _decided(folder: Path, capture: Capture) -> list[Decided]:
    from yendo.draft import captured
    from yendo.steps.captured import CapturedStep, decided

    return decided(captured.step_of(folder) or CapturedStep(), capture)


def _as_json(capture: Capture, every: Sequence[Decided]) -> dict[str, object]:
    import msgspec

    from yendo.effects.things import label

    things = [
        {
            "part": one.caught.part,
            "change": one.caught.effect.change,
            "kind": one.caught.effect.kind,
            "thing": label(one.caught.effect.thing),
            "fate": one.fate,
            "why": one.why,
        }
        for one in every
    ]
    body = msgspec.to_builtins(capture)
    return {
        "schema": "yendo.captured/1",
        **{name: body[name] for name in ("setup", "machines", "parts") if name in body},
        "there": list(capture.there),
        "things": things,
    }


def _show(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.draft import captured
    from yendo.errors import Usage
    from yendo.steps.captured import CapturedStep, Which, capture_of, decided

    step = captured.step_of(options.name)
    if step is None:
        raise Usage(f"{options.name} brings nothing that was captured; yendo capture {options.name} SETUP makes it")
    capture = capture_of(step or CapturedStep(), options.name)
    parts = [text for kind, text in getattr(options, "work", None) or [] if kind == "part"]
    which = Which(thing=options.why) if options.why else None
    fates = {"left"} if options.left else {"open", "cannot"} if options.open else {"kept", "open", "cannot", "left"}
    every = [
        one
        for one in decided(step, capture)
        if one.fate in fates and (not parts or one.caught.part in parts) and (which is None or which.names(one.caught))
    ]
    if options.json:
        show.emit(_as_json(capture, every))
        return 0 if every or not which else 1
    out = show.console()
    if which:
        return _why(out, options.why, every)
    _heading(out, capture)
    _tree(out, every, options)
    _reasons(out, every)
    return 0


def _why(out: Console, asked: str, every: Sequence[Decided]) -> int:
    """What becomes of some things, a line each."""
    from yendo.cli import show
    from yendo.effects.things import label

    rows = [
        (
            one.fate,
            one.caught.effect.change,
            one.caught.effect.kind,
            label(one.caught.effect.thing),
            one.caught.part,
            one.why,
        )
        for one in every[:200]
    ]
    show.grid(out, rows, styles=("bold", "dim", None, "cyan", "dim", None))
    if not every:
        out.print(f"nothing of the capture is called {show.clean(asked)}")
    return 0 if every else 1


def _heading(out: Console, capture: Capture) -> None:
    from yendo.cli import show

    again = capture.machines.second
    where = f"twice on {again}" if again == capture.machines.first else f"on {capture.machines.first}"
    where += f", and again on {again}" if again and again != capture.machines.first else ""
    out.print(
        f"[bold]{show.clean(capture.setup or 'work without a setup')}[/bold] {show.clean(where)}, "
        f"{capture.machines.date[:10]}"
    )
    rows: list[tuple[object, ...]] = []
    for part in capture.parts:
        for ran in part.runs:
            more = [
                *(["then the machine started anew"] if ran.restarted else []),
                *([f"showed {', '.join(ran.windows)}"] if ran.windows else []),
                *([f"still runs: {', '.join(ran.still)}"] if ran.still else []),
            ]
            rows.append((part.name, ran.command, f"{ran.seconds:.1f} s", "; ".join([f"code {ran.exit_code}", *more])))
    show.grid(out, rows, styles=("bold", "cyan", "dim", "dim"))


_COLOURS = {"kept": "green", "open": "bold yellow", "cannot": "red", "left": "dim"}


def _counts(node: Branch) -> Any:
    from rich.text import Text

    text = Text()
    for fate, colour in _COLOURS.items():
        if count := node.counts[fate]:
            text.append(("  " if text else "") + f"{count} {fate}", colour)
    return text


def _tree(out: Console, every: Sequence[Decided], options: argparse.Namespace) -> None:
    from rich.text import Text
    from rich.tree import Tree

    from yendo.capture.tree import tree, value_text
    from yendo.cli import show

    def grow(branch: Tree, node: Branch, depth: int) -> None:
        inner = sorted(node.inner.values(), key=lambda one: one.name.lower())
        most = len(inner) if options.all or len(inner) <= WIDE + 1 else WIDE
        for one in inner[:most]:
            line = Text(show.clean(one.name) + "  ")
            if one.leaf is not None and not one.inner and (text := value_text(one.leaf)):
                line.append(f"= {show.printable(text)}  ", "cyan")
            line.append_text(_counts(one))
            if one.leaf is not None and one.leaf.why and not one.inner:
                line.append(f"  {show.printable(one.leaf.why)}", "dim italic")
            below = branch.add(line)
            if options.all or depth < DEEP:
                grow(below, one, depth + 1)
        if most < len(inner):
            rest = sum((one.counts for one in inner[most:]), start=type(node.counts)())
            branch.add(Text(f"and {len(inner) - most} more, with {rest.total()} things", "dim"))

    root = Tree("", hide_root=True, guide_style="dim")
    grow(root, tree(every), 1)
    out.print(root)


def _reasons(out: Console, every: Sequence[Decided]) -> None:
    from yendo.capture.tree import reasons
    from yendo.cli import show

    if found := reasons(every):
        show.section(out, "Not brought")
        show.grid(out, [(count, why) for why, count in found[:12]], styles=("bold", None))


def _told(
    out: Console,
    options: argparse.Namespace,
    capture: Capture,
    every: Sequence[Decided],
    renewed: bool,
    idle: Sequence[str],
) -> None:
    from collections import Counter

    from yendo.cli import show

    _heading(out, capture)
    by: dict[str, Counter[str]] = {}
    for one in every:
        by.setdefault(one.fate, Counter())[one.caught.effect.kind] += 1
    show.section(out, "Captured")
    words = {
        "kept": "comes with the package",
        "open": "belongs to the machine: decide",
        "cannot": "cannot be brought",
        "left": "left out",
    }
    show.grid(out, [(words[fate], show.told(by[fate])) for fate in words if fate in by], styles=("bold",))
    _reasons(out, [one for one in every if one.fate in ("open", "cannot")])
    if capture.there:
        out.print(f"\nthere already, unchanged: {show.clean('; '.join(capture.there[:5]))}")
    for text in idle:
        out.print(f"[yellow]names nothing any more:[/yellow] {show.clean(text)}")
    if capture.machines.second:
        out.print(f"[dim]told apart by two machines that differed in: {', '.join(capture.machines.differed)}[/dim]")
    else:
        out.print("[dim]seen on one machine: what is its own is guessed; --twice tells it apart by a second one[/dim]")
    plan = "keeps its decisions" if renewed else "brings it"
    waiting = any(one.fate in ("open", "cannot") for one in every)
    look = f"yendo capture {options.name} --show" + (" --open" if waiting else "")
    out.print(
        f"\n[bold]{show.clean(options.name / 'plan.toml')}[/bold] {plan}.\n[dim]next:[/dim] {show.clean(look)}; then "
        f"yendo check {show.clean(options.name)}"
    )
