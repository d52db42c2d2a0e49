"""The actions of ``yendo msi`` that say what can be decided: sequence, features, properties, dialogs, custom actions,
versions.
"""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import nested
from yendo.cli.nested import file_argument, opened

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.installers.msi.dialogs import Decision
    from yendo.installers.msi.influence import PropertyInfluence
    from yendo.installers.msi.meeting import Meeting, Release


def _given_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("given", nargs="*", metavar="NAME=VALUE", help="properties of the command line")


def _sequence_options(parser: argparse.ArgumentParser) -> None:
    _given_options(parser)
    parser.add_argument(
        "--installed",
        action="store_true",
        help="on a machine that has the product: with REMOVE=ALL its removal, with REINSTALL=ALL its repair",
    )
    parser.add_argument(
        "--account", choices=("user", "system"), default="user", help="who runs it (default: an elevated user)"
    )
    parser.add_argument("--architecture", choices=("x64", "x86"), default="x64", help="of the machine (default: x64)")


def sequence(options: argparse.Namespace) -> int:
    """Show the silent sequence as it runs on a given machine: each condition judged, each action with its effects.

    yendo msi sequence lantern-6.2.1.msi --installed REMOVE=ALL
    """
    from rich.text import Text

    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.installers.msi import describe, engine
    from yendo.platforms.windows.surroundings import windows

    with opened(options) as database:
        around = windows(options.account, options.architecture)
        state, given = describe.baseline(around), nested.assignments(options.given)
        memories = {}
        if options.installed:
            first = engine.run(database, around, state, {})
            if first.memory is None:
                raise Usage(f"{options.file.name} does not install on such a machine: exit code {first.exit_code}")
            memories[first.memory.code] = first.memory
        outcome = engine.run(database, around, state, given, memories=memories)
    if options.json:
        show.emit(
            {"schema": "yendo.msi.sequence/1", "exit_code": outcome.exit_code, "steps": nested.builtins(outcome.steps)}
        )
    elif not options.quiet:
        out = show.console()
        rows_ = [
            (
                str(step.number),
                Text(
                    step.action,
                    style="dim"
                    if not step.ran
                    else "cyan"
                    if step.kind == "custom"
                    else "red"
                    if step.kind == "unknown"
                    else "",
                ),
                Text("passed over", style="dim")
                if not step.ran
                else show.counted(step.effects, "effect")
                if step.effects
                else "",
                step.condition,
                step.when,
            )
            for step in outcome.steps
        ]
        show.grid(
            out,
            rows_,
            heads=("number", "action", "does", "condition", "a custom action runs"),
            styles=("dim", None, None, "dim", "yellow"),
        )
        if not outcome.done:
            out.print(f"\n[red]It ends here with {outcome.exit_code}:[/red] {show.clean(outcome.refusal)}")
    return 0


def features(options: argparse.Namespace) -> int:
    """Show the feature tree with sizes, and what leaving each one out or taking it in changes.

    yendo msi features lantern-6.2.1.msi
    """
    from yendo.cli import show
    from yendo.installers.msi import comparing, influence

    with opened(options) as database:
        found = influence.Influences(database, nested.assignments(options.given))
        tree, turned = comparing.features(database, found.whole), {entry.name: entry for entry in found.features()}
    if options.json:
        show.emit(
            {
                "schema": "yendo.msi.features/1",
                "features": [
                    {
                        **nested.builtins(branch),
                        "words": turned[branch.name].words,
                        "turned_round": nested.builtins(turned[branch.name].trial),
                    }
                    for branch in tree
                ],
            }
        )
    elif not options.quiet:
        out = show.console()
        rows_ = [
            (
                "  " * branch.depth + branch.name,
                "installed" if branch.installed else "left out",
                f"{(branch.size_below and show.size(branch.size_below)) or '-'}",
                branch.files_below,
                branch.title,
                f"{turned[branch.name].words}: {nested.effect_words(turned[branch.name].trial)}",
            )
            for branch in tree
        ]
        show.grid(
            out,
            rows_,
            heads=("feature", "by default", "size", "files", "title", "turned round"),
            styles=("cyan", None, None, "dim", "dim"),
        )
        if any(branch.condition for branch in tree):
            show.section(out, "Conditions")
            show.grid(
                out, [(branch.name, branch.condition) for branch in tree if branch.condition], styles=("cyan", "dim")
            )
        out.print("\n[dim]next:[/dim] in a plan: features = [...], or a change of kind feature")
    return 0


def _properties_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("names", nargs="*", metavar="NAME", help="only these")
    parser.add_argument("--things", action="store_true", help="name what changes, not only how much")


def _trials(entry: PropertyInfluence, *, things: bool) -> Iterator[tuple[object, ...]]:
    """Lines of what each value of a property does; its name and default stand on the first."""
    from yendo.facts import secrets

    default = "unset" if entry.default is None else secrets.MASK if secrets.is_secret(entry.name) else entry.default
    head = (entry.name, default[:60])
    for trial in entry.trials:
        text = next((choice.text for choice in entry.choices if choice.value == trial.value and choice.text), "")
        value = f"{trial.value} ({text})" if text else trial.value or '"" (unset)'
        yield *head, value + (" *" if trial.made_up else ""), nested.effect_words(trial)
        head = ("", "")
        for verb, some in (("adds", trial.added), ("leaves out", trial.left_out), ("changes", trial.changed)):
            for thing in some[:40] if things else ():
                yield "", "", "", f"  {verb} {nested.things([thing], 1)}"


def properties(options: argparse.Namespace) -> int:
    """Show what each property changes: every value that the database knows is tried on a prediction.

    yendo msi properties lantern-6.2.1.msi SITE --things
    """
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.installers.msi import influence

    with opened(options) as database:
        found = influence.Influences(database)
        known = {entry.name for entry in found.account}
        if unknown := [name for name in options.names if name not in known]:
            raise Usage(f"the installer knows no public property {', '.join(unknown)}; names are in upper case")
        told = found.properties(options.names or None)
        others = len(found.account) - len(told)
    if options.json:
        show.emit({"schema": "yendo.msi.properties/1", "properties": nested.builtins(told)})
        return 0
    if options.quiet:
        return 0
    out = show.console()
    rows_ = [line for entry in told for line in _trials(entry, things=options.things)]
    show.grid(out, rows_, heads=("property", "default", "set to", "what that does"), styles=("cyan", "dim", None, None))
    if any(trial.made_up for entry in told for trial in entry.trials):
        out.print("  [dim]* the database knows no value but the default; this one was made up to see[/dim]")
    if others and not options.names:
        out.print(
            f"  [dim]{show.counted(others, 'other')} that only dialogs and messages refer to, or nothing does; name "
            "one to try it[/dim]"
        )
    out.print(
        f"\n[dim]next:[/dim] yendo msi dialogs {show.clean(options.file)}, for what a person at the keyboard would "
        "have chosen"
    )
    return 0


def _dialogs_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("--all", action="store_true", help="decisions that nothing but dialogs look at, too")


def _decision(entry: Decision) -> tuple[str, ...]:
    """One line of what a person is asked."""
    values = ", ".join(
        choice.value + (f" ({choice.text})" if choice.text and choice.text != choice.value else "")
        for choice in entry.choices[:6]
    )
    without = "licence" if entry.licence else "unset" if entry.default is None else entry.default
    what = f"{entry.what}: {entry.label}" if entry.label else entry.what
    return entry.dialog, what, entry.switch or "-", values, without, entry.remark


def dialogs(options: argparse.Namespace) -> int:
    """Show what the vendor's dialogs let a person decide, and the switch that says the same in silence.

    yendo msi dialogs lantern-6.2.1.msi
    """
    from yendo.cli import show
    from yendo.installers.msi import dialogs as asked

    with opened(options) as database:
        found, missed = asked.decisions(database), asked.only_in_dialogs(database)
        count = len(database["Dialog"])
    if options.json:
        show.emit(
            {
                "schema": "yendo.msi.dialogs/1",
                "decisions": nested.builtins(found),
                "only_in_dialogs": nested.builtins(missed),
            }
        )
        return 0
    if options.quiet:
        return 0
    out = show.console()
    if not count:
        out.print("It has no dialogs: nothing that a person could decide is lost in a silent installation.")
        return 0
    shown = [entry for entry in found if options.all or entry.matters or entry.licence]
    out.print(
        f"{show.counted(count, 'dialog')} ask for {show.counted(len(found), 'decision')}; "
        f"{sum(entry.matters for entry in found)} matter outside the dialogs"
    )
    show.grid(
        out,
        [_decision(entry) for entry in shown],
        heads=("dialog", "a person would", "says the same", "values", "in silence", "note"),
        styles=("dim", None, "cyan", None, "dim", "yellow"),
    )
    if missed:
        show.section(out, "Done only where there are dialogs")
        show.grid(out, [(entry.action, entry.sets, entry.remark) for entry in missed], styles=("cyan", None, "yellow"))
    if len(shown) < len(found):
        out.print(
            f"  [dim]{show.counted(len(found) - len(shown), 'other decision')} that nothing else looks at (--all "
            "shows them)[/dim]"
        )
    return 0


def _actions_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("--source", action="store_true", help="the whole text of scripts, not its first lines")


def actions(options: argparse.Namespace) -> int:
    """List the custom actions: what each is, when it runs, and for scripts their source. Nothing is run.

    yendo msi actions lantern-6.2.1.msi --source
    """
    from rich.text import Text

    from yendo.cli import show
    from yendo.installers.msi import describe

    with opened(options) as database:
        found = describe.custom_actions(database)
    if options.json:
        show.emit({"schema": "yendo.msi.actions/1", "actions": nested.builtins(found)})
    elif not options.quiet:
        out = show.console()
        if not found:
            out.print("It has no custom actions: its tables tell all that it does.")
        for entry in found:
            told = "evaluated here" if entry.evaluated else "only running it shows what it does"
            out.print(f"[cyan]{show.clean(entry.name)}[/cyan]  {entry.what}, {entry.when}  [dim]{told}[/dim]")
            show.grid(
                out,
                [
                    row
                    for row in (("condition", entry.condition), ("does", entry.target), ("from", entry.origin))
                    if row[1]
                ],
                styles=("dim",),
            )
            lines = entry.script.splitlines()
            for line in lines if options.source else lines[:6]:
                out.print(Text("   | " + "".join(c if c.isprintable() else " " for c in line), style="yellow"))
            if len(lines) > 6 and not options.source:
                out.print(f"   [dim]and {len(lines) - 6} more lines (--source)[/dim]")
    return 0


def _meet_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("files", type=Path, nargs="+", metavar="FILE", help="installers, or folders of them")


def meet(options: argparse.Namespace) -> int:
    """Show what each installer does on a machine that has each other one.

    yendo msi meet from-tidewell
    """
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.installers.msi import meeting

    for path in options.files:
        if not path.exists():
            raise Usage(f"{path} is not there")
    found, meetings = meeting.matrix(options.files)
    if options.json:
        show.emit(
            {"schema": "yendo.msi.meet/1", "releases": nested.builtins(found), "meetings": nested.builtins(meetings)}
        )
        return 0
    if options.quiet:
        return 0
    _met(show.console(), found, meetings)
    return 0


_MEETING_COLOURS = {
    "same": "dim",
    "upgrade": "green",
    "minor update": "cyan",
    "downgrade": "yellow",
    "side by side": "yellow",
    "refused": "red",
}


def _met(out: Console, found: Sequence[Release], meetings: Sequence[Meeting]) -> None:
    """The table of who meets whom, and each meeting in words."""
    from rich.text import Text

    from yendo.cli import show

    colours = _MEETING_COLOURS
    twice = len({release.name for release in found}) > 1
    names = {release.path: f"{release.name} {release.version}" if twice else release.version for release in found}
    cells = {(meeting_.there.path, meeting_.new.path): meeting_ for meeting_ in meetings}
    out.print(
        f"[bold]{'' if twice else show.clean(found[0].name) + ': '}installed (down) and run over it (across)[/bold]"
    )
    show.grid(
        out,
        [
            (
                names[there.path],
                *(
                    Text(cells[there.path, new.path].kind, style=colours[cells[there.path, new.path].kind])
                    for new in found
                ),
            )
            for there in found
        ],
        heads=("", *(names[release.path] for release in found)),
        styles=("cyan",),
    )
    show.section(out, "In words")
    rows_ = [
        (names[m.there.path], names[m.new.path], Text(m.kind, style=colours[m.kind]), m.text, m.command)
        for m in meetings
        if m.kind != "same"
    ]
    show.grid(
        out,
        rows_,
        heads=("installed", "run", "", "what happens", "needs on the command line"),
        styles=("cyan", "cyan", None, None, "cyan"),
    )
    for meeting_ in meetings:
        if meeting_.lost:
            pair = f"{show.clean(names[meeting_.there.path])} to {show.clean(names[meeting_.new.path])}"
            out.print(f"[red]{pair} loses:[/red] {show.clean(', '.join(meeting_.lost[:4]))}")


ACTIONS: nested.Actions = {
    "sequence": ("the silent sequence as it will run", _sequence_options, sequence),
    "features": ("the feature tree with sizes and effects", _given_options, features),
    "properties": ("what each property changes", _properties_options, properties),
    "dialogs": ("what a person would decide, as switches", _dialogs_options, dialogs),
    "actions": ("custom actions, scripts with their source", _actions_options, actions),
    "meet": ("what happens where versions meet", _meet_options, meet),
}
