"""Run the whole way once, on invented data: read, draft, decide, check, build, prove.

yendo demo
yendo demo ./try-out --machine wine
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, cast

from yendo.cli import machines

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.demo.story import Story
    from yendo.demo.taken import CaptureTold
    from yendo.detect.strength import Strength
    from yendo.machines.protocol import Machine

FATES = {"kept": "comes", "left": "left out", "open": "to decide"}


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder", type=Path, nargs="?", metavar="FOLDER", help="where to (default: a new temporary folder)"
    )
    machines.add_options(parser)


def run(options: argparse.Namespace) -> int:
    import tempfile

    from yendo.cli import proving, show
    from yendo.demo import story
    from yendo.demo.taken import capture_it
    from yendo.machines.watching import ScreenMachine

    folder = options.folder or Path(tempfile.mkdtemp(prefix="yendo-demo-"))
    machine = machines.asked(options, options.machine)
    without = machine.evidence and not machine.has_powershell
    if without and not (options.quiet or options.json):
        show.console().print(
            f"[yellow]There is no PowerShell for {show.clean(machine.name)}[/yellow], so the package's own runner "
            "cannot be carried out on it, and its proof there stays open; all the rest is done. yendo doctor says how "
            "to get one.\n"
        )
    taken = None
    with show.working("demo", quiet=options.quiet or options.json) as progress:
        told = story.tell(folder, machine, tell_step=progress)
        if machine.screens:  # what a person does needs programs that run
            setup = told.installer.parent / story.SETUP
            taken = capture_it(folder, setup, cast("ScreenMachine", machine), progress)
    body, record = proving.keep(told.proof, told.built.folder)
    passed = told.proof.passed
    if options.json:
        package = str(told.built.folder)
        show.emit(
            {"schema": "yendo.demo/1", "folder": str(folder), "package": package, "passed": passed, "proof": body}
        )
    elif not options.quiet:
        out = show.console()
        _steps(out, told, folder, machine)
        _lived(out, told, record)
        _autumn(out, told)
        if taken:
            _taken(out, taken, folder, told.installer.parent.relative_to(folder))
        _mac(out, told, folder)
        _delivered(out, told, folder)
        _around(out, told, folder)
        _next(out, options, machine, without=without)
    return 0 if passed else 1


def _steps(out: Console, told: Story, folder: Path, machine: Machine) -> None:
    """The steps that were taken, each with its command and what came of it."""
    from yendo.cli import show
    from yendo.demo import story
    from yendo.effects.effect import counts

    out.print(
        "The survey office of Marrowby harbour packages Tidewell's Lantern 6.2.1 and its patch 6.2.3. All of it is "
        "invented."
    )
    out.print(f"It is done in [bold]{show.clean(folder)}[/bold]; these are the commands as from there.\n")
    identity, workspace = told.account.identity, told.drafted.plan.parent
    installer, short = told.installer.relative_to(folder), workspace.relative_to(folder)
    errors = sum(finding.severity == "error" for finding in told.findings)
    found = f"{show.counted(errors, 'error')}, {show.counted(len(told.findings) - errors, 'other finding')}"
    patch = story.patch_of(told.installer).relative_to(folder)
    met = {(meeting.there.version, meeting.new.version): meeting.kind for meeting in told.meetings}
    pairs = (("6.1.0", "6.2.1"), ("6.2.1", "6.2.3"), ("6.2.3", "6.1.0"))
    rows = [
        (
            "1 read",
            f"yendo read {installer}",
            f"{identity.name} {identity.version}: {show.told(counts(told.account.effects), 3)}",
        ),
        (
            "2 meet",
            f"yendo msi meet {installer.parent}",
            ", ".join(f"{there} to {new}: {met[there, new]}" for there, new in pairs),
        ),
        (
            "3 draft",
            f"yendo draft {short} {installer} --with {patch}",
            f"{show.counted(len(told.drafted.decisions), 'thing')} to decide, "
            f"{show.counted(len(told.drafted.strays), 'file')} left behind",
        ),
        (
            "4 decide",
            f"edit {short}/plan.toml",
            f"{len(story.CHANGES)} changes, a runtime first, older releases, a driver, a restart, a configuration "
            "with two sites' values",
        ),
        ("5 detect", f"yendo detect derive {short} --write", _detection(told.detection)),
        ("6 check", f"yendo check {short}", found),
        ("7 build", f"yendo build {short}", f"{told.built.folder.name}, {show.size(told.built.size)}"),
        ("8 prove", f"yendo prove {short} --machine {machine.name}", "below"),
        ("9 hand over", f"yendo dossier {short}", _page(told.built.folder, workspace)),
    ]
    show.grid(out, rows, heads=("", "command", "came of it"), styles=("bold", "cyan"))


def _lived(out: Console, told: Story, record: Path) -> None:
    """What a person at the machine saw of it, the proof, every scenario, and what detection catches."""
    from yendo.cli import prove_report, show, strength_report
    from yendo.package.manifest import EXIT_CODES

    show.section(out, "On a machine where people work (simulated)")
    codes = {code: known.outcome for code, known in EXIT_CODES.items()}
    moments = [
        (moment.title, moment.exit_code, codes.get(moment.exit_code, ""), "; ".join(moment.lines))
        for moment in told.lived
    ]
    show.grid(out, moments, heads=("moment", "code", "", "what the log says"), styles=("bold",))
    out.print()
    prove_report.report(out, told.proof, told.built.folder, record)
    show.section(out, "In every scenario (simulated)")
    prove_report.rows(out, told.cells)
    show.section(out, "What detection catches")
    strength_report.rows(out, told.detection[1])


def _autumn(out: Console, told: Story) -> None:
    """The vendor's next release, and what became of the decisions."""
    from yendo.cli import prove_report, show
    from yendo.demo import story

    command = f"yendo renew {story.next_of(Path())} {story.AUTUMN}/lantern-6.3.0.msi"
    show.section(out, f"In the autumn the vendor releases 6.3.0: {command}")
    renewal = told.renewal
    show.grid(
        out,
        [
            ("the vendor", "; ".join(one.text for one in renewal.differences if one.mind)),
            ("followed", f"{show.counted(len(renewal.moved), 'value')}; detection {renewal.detection}"),
            ("stayed", f"{show.counted(len(renewal.kept), 'decision')} of the office's"),
            *[
                ("to decide", f"{one.place}: {one.why_theirs}; decided by the office: nothing is left to switch off")
                for one in renewal.conflicts
            ],
        ],
        styles=("dim",),
    )
    prove_report.rows(out, told.renewed)


def _taken(out: Console, taken: CaptureTold, folder: Path, share: Path) -> None:
    """What was captured on a machine, and the forms that were built of it."""
    from yendo.cli import show
    from yendo.demo import story
    from yendo.demo.taken import WORKSPACE

    show.section(out, f"What cannot be made silent: yendo capture {WORKSPACE} {share}/{story.SETUP}")
    built: list[tuple[object, ...]] = [(words, taken.fates.get(fate, 0)) for fate, words in FATES.items()]
    built.append(("the package", taken.package.relative_to(folder)))
    built.append(("as a database", taken.database.relative_to(folder)))
    built.append(("inside a database", taken.envelope.relative_to(folder)))
    built.append(("as an app package", taken.app.relative_to(folder)))
    show.grid(out, built, styles=("dim",))


def _mac(out: Console, told: Story, folder: Path) -> None:
    """The half for macOS, and the scenarios that were played of it."""
    from yendo.cli import mac_half, show
    from yendo.demo import half

    share, short = told.installer.parent.relative_to(folder), told.mac.workspace.relative_to(folder)
    show.section(out, f"On the office's Macs: yendo draft {short} {share}/{half.BUNDLE}; yendo check, build, prove")
    mac_half.proved(out, told.mac.proof, short)


def _delivered(out: Console, told: Story, folder: Path) -> None:
    """What the package would meet on all machines, and how its waves would go."""
    from yendo.cli import show
    from yendo.cli.fleet_common import between, in_a_sentence, wave_rows

    show.section(out, "On all machines: yendo fleet add, foresee lantern, waves lantern --play")
    if told.delivery is None:
        out.print("needs more libraries: pip install 'yendo[fleet]'")
        return
    out.print(in_a_sentence(told.delivery.foreseen))
    gauges = told.delivery.gauges.whole
    yes, unknown = int((gauges == 1).sum()), int((gauges == -1).sum())
    out.print(
        f"its driver would change {show.counted(yes, 'machine')}"
        + (f", of {unknown} that is not known" if unknown else "")
        + ": yendo fleet ask --driver lantern/extras/gauge-driver"
    )
    show.grid(out, wave_rows(told.delivery.groups), styles=("bold",))
    ends = ", ".join(sorted({course.ended for course in told.delivery.courses}))
    days = sorted(len(course.days) for course in told.delivery.courses)
    played = show.counted(len(told.delivery.courses), "time")
    picture = show.clean(told.delivery.picture.relative_to(folder))
    out.print(f"played {played}: {ends}, after {between(days)} days; {picture} shows the first")
    if told.delivery.went and told.delivery.page:
        page = show.clean(told.delivery.page.relative_to(folder))
        out.print(f"then as it might really go, with invented reports: {show.clean(told.delivery.went.sentence)}")
        out.print(f"yendo fleet status 1 says more; {page} is the same as a page")


def _around(out: Console, told: Story, folder: Path) -> None:
    """The office's shelf, and where things lie."""
    from yendo.cli import show
    from yendo.demo import half, story

    show.section(out, "On the office's shelf: yendo shelf .")
    show.grid(
        out,
        [(one.path, f"{one.name} {one.version}", one.state, one.why) for one in told.shelf.rows],
        styles=("cyan", None, "bold", "dim"),
    )
    show.section(out, "Where to look")
    setup = told.installer.parent / story.SETUP
    show.grid(
        out,
        [
            ("the plan", told.drafted.plan),
            ("its evidence", told.drafted.plan.parent / "evidence.json"),
            ("the package", told.built.folder),
            ("the office's house file", folder / "house.toml"),
            ("another program", f"{setup}, a setup of its own: yendo try finds its silent switch"),
            ("for macOS", f"{told.installer.parent / half.PACKAGE}: yendo read says what it would do"),
            ("its drivers", f"{folder / 'drivers'}, some years of them: yendo read says which are any good"),
        ],
        styles=("dim",),
    )


def _next(out: Console, options: argparse.Namespace, machine: Machine, *, without: bool) -> None:
    """How to get more evidence."""
    from yendo.cli import show
    from yendo.errors import NoMachine

    if not machine.evidence:
        try:
            real = machines.asked(options, "wine")
            out.print(
                f"\n{real.label} is here too: [cyan]./run demo --machine wine[/cyan] (or yendo demo --machine wine) "
                "proves it there"
            )
        except NoMachine:
            out.print(
                "\n[dim]For evidence from a real machine: yendo doctor says how to get one, then yendo demo "
                "--machine wine[/dim]"
            )
    if without:
        out.print(
            f"\n[yellow]Proved on the simulated machine, open on {show.clean(machine.name)}:[/yellow] no PowerShell. "
            "[dim]next:[/dim] yendo doctor"
        )


def _detection(found: tuple[Strength, Strength, int]) -> str:
    before, after, states = found
    return f"{states} states told apart by {after.rules} rules; {after.caught} of {after.broken} broken states caught, {before.caught} by the draft's {before.rules}"  # noqa: E501


def _page(package: Path, workspace: Path) -> str:
    from yendo.cli import dossier_command
    from yendo.errors import Usage
    from yendo.plan import read

    try:
        target, _ = dossier_command.write(package, read(workspace / "plan.toml")[0], workspace)
    except Usage as error:
        return str(error)
    return f"{target.name}, one page for the person who signs off"
