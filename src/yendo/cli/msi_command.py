"""Look into an installer database: its tables, sequence, features, properties and dialogs.

yendo msi rows lantern-6.2.1.msi File 'FileSize>1000' --with Component --show File,FileSize,Component.Directory_
yendo msi properties lantern-6.2.1.msi
yendo msi meet from-tidewell
"""

from __future__ import annotations

import argparse
from pathlib import Path

from yendo.cli import nested
from yendo.cli.nested import file_argument, opened

PAGE = 400  # rows that a terminal is given unless all are asked for


def configure(parser: argparse.ArgumentParser) -> None:
    nested.actions(parser, ACTIONS)


def run(options: argparse.Namespace) -> int:
    return int(options.run_action(options))


def tables(options: argparse.Namespace) -> int:
    """List the tables, with their rows and columns."""
    from yendo.cli import show

    with opened(options) as database:
        found = [
            (name, len(database[name]), [f"{column.name} {column.idt}" + ("!" if column.is_key else "") for column in database.schema[name]])
            for name in sorted(database.tables)
        ]
        if options.json:
            show.emit({"schema": "yendo.msi.tables/1", "tables": [{"name": name, "rows": rows, "columns": columns} for name, rows, columns in found]})
        elif not options.quiet:
            out = show.console()
            filled = [entry for entry in found if entry[1]]
            show.grid(
                out,
                [(name, str(rows), ", ".join(_heading(column) for column in columns)) for name, rows, columns in filled],
                heads=("table", "rows", "columns (! is part of the key)"),
                styles=("cyan", None, "dim"),
            )
            if len(filled) < len(found):
                out.print(f"  [dim]and {show.counted(len(found) - len(filled), 'table')} without rows[/dim]")
            out.print(f"\n[dim]next:[/dim] yendo msi rows {show.clean(options.file)} TABLE")
    return 0


def _heading(column: str) -> str:
    return column.partition(" ")[0] + ("!" if column.endswith("!") else "")


def _rows_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("table", metavar="TABLE")
    parser.add_argument("terms", nargs="*", metavar="CONDITION", help="COLUMN=VALUE, != < > <= >= ~ (contains) !~, COLUMN? (is empty); all must hold")
    parser.add_argument("--with", action="append", default=[], dest="also", metavar="TABLE", help="join a table that belongs to it")
    parser.add_argument("--show", default="", metavar="COLUMNS", help="only these, separated by commas; of a joined table as Table.Column")
    parser.add_argument("--order", metavar="COLUMN", help="sort by it; -COLUMN for the other way (write --order=-COLUMN)")
    parser.add_argument("--csv", action="store_true", help="comma-separated values")
    parser.add_argument("--all", action="store_true", help=f"more than {PAGE} rows on a terminal too")


def rows(options: argparse.Namespace) -> int:
    """Show rows of a table, filtered and joined."""
    from yendo.cli import show
    from yendo.facts import secrets
    from yendo.installers.msi import references

    with opened(options) as database:
        terms = [references.Term.parse(text) for text in options.terms]
        columns = [name.strip() for name in options.show.split(",") if name.strip()]
        found = references.select(database, options.table, terms, also=options.also, columns=columns, order=options.order)
    cells = [_masked(options.table, found.columns, row, secrets.is_secret, secrets.MASK) for row in found.rows]
    if options.json:
        show.emit({"schema": "yendo.msi.rows/1", "table": options.table, "columns": found.columns, "rows": cells})
    elif options.csv:
        nested.write_csv(found.columns, cells)
    elif not options.quiet:
        out = show.console()
        shown = cells if options.all else cells[:PAGE]
        show.grid(out, [["" if cell is None else cell for cell in row] for row in shown], heads=found.columns, styles=("cyan",))
        out.print(
            f"[dim]{show.counted(len(cells), 'row')}{f', the first {PAGE} shown; --all shows the rest' if len(shown) < len(cells) else ''}[/dim]"
        )
    return 0


def _masked(table: str, columns: tuple[str, ...], row: tuple[object, ...], is_secret, mask: str) -> tuple[object, ...]:  # type: ignore[no-untyped-def]
    """A row without the secrets in it: values of properties whose name says so, and passwords of services."""
    values = dict(zip(columns, row, strict=True))
    hidden = {"Password", "ServiceInstall.Password"}
    for name, value in (("Property", "Value"), ("Property.Property", "Property.Value")):
        if is_secret(str(values.get(name) or "")):
            hidden.add(value)
    return tuple(mask if name in hidden and cell else cell for name, cell in zip(columns, row, strict=True))


def _links_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("table", metavar="TABLE")
    parser.add_argument("key", nargs="+", metavar="KEY", help="the row's key, a word for each part")


def links(options: argparse.Namespace) -> int:
    """Show what a row refers to, and who refers to it."""
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.installers.msi import references

    with opened(options) as database:
        key: tuple[str | int, ...] = tuple(options.key)
        for wanted in (key, tuple(int(part) if part.lstrip("-").isdigit() else part for part in options.key)):
            if database[options.table].find(*wanted) is not None:
                key = wanted
                break
        else:
            raise Usage(f"{options.table} has no row {', '.join(options.key)}; see `yendo msi rows {options.file} {options.table}`")
        to, by = references.refers_to(database, options.table, key), references.referred_by(database, options.table, key)
    if options.json:
        show.emit(
            {"schema": "yendo.msi.links/1", "table": options.table, "key": key, "refers_to": nested.builtins(to), "referred_by": nested.builtins(by)}
        )
    elif not options.quiet:
        out = show.console()
        for title, found in (("Refers to", to), ("Referred to by", by)):
            show.section(out, f"{title}: {show.counted(len(found), 'row')}")
            rows_ = []
            for link in found[:PAGE]:
                key_ = ", ".join("" if part is None else str(part) for part in link.key)
                rows_.append((link.table, key_, f"by {link.column}" + (", in its text" if link.in_text else "")))
            show.grid(out, rows_, styles=("cyan", None, "dim"))
    return 0


def _given_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("given", nargs="*", metavar="NAME=VALUE", help="properties of the command line")


def _sequence_options(parser: argparse.ArgumentParser) -> None:
    _given_options(parser)
    parser.add_argument(
        "--installed", action="store_true", help="on a machine that has the product: with REMOVE=ALL its removal, with REINSTALL=ALL its repair"
    )
    parser.add_argument("--account", choices=("user", "system"), default="user", help="who runs it (default: an elevated user)")
    parser.add_argument("--architecture", choices=("x64", "x86"), default="x64", help="of the machine (default: x64)")


def sequence(options: argparse.Namespace) -> int:
    """Show the silent sequence as it runs on a given machine: each condition judged, each action with its effects."""
    from rich.text import Text

    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.facts.surroundings import windows
    from yendo.installers.msi import describe, engine

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
        show.emit({"schema": "yendo.msi.sequence/1", "exit_code": outcome.exit_code, "steps": nested.builtins(outcome.steps)})
    elif not options.quiet:
        out = show.console()
        rows_ = [
            (
                str(step.number),
                Text(step.action, style="dim" if not step.ran else "cyan" if step.kind == "custom" else "red" if step.kind == "unknown" else ""),
                Text("passed over", style="dim") if not step.ran else show.counted(step.effects, "effect") if step.effects else "",
                step.condition,
                step.when,
            )
            for step in outcome.steps
        ]
        show.grid(out, rows_, heads=("number", "action", "does", "condition", "a custom action runs"), styles=("dim", None, None, "dim", "yellow"))
        if outcome.exit_code not in (0, 3010, 1641):
            said = next((line.partition(" -- ")[2] for line in outcome.log if " -- " in line), "")
            out.print(f"\n[red]It ends here with {outcome.exit_code}:[/red] {show.clean(said)}")
    return 0


def features(options: argparse.Namespace) -> int:
    """Show the feature tree with sizes, and what leaving each one out or taking it in changes."""
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
                    {**nested.builtins(branch), "words": turned[branch.name].words, "turned_round": nested.builtins(turned[branch.name].trial)}
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
        show.grid(out, rows_, heads=("feature", "by default", "size", "files", "title", "turned round"), styles=("cyan", None, None, "dim", "dim"))
        if any(branch.condition for branch in tree):
            show.section(out, "Conditions")
            show.grid(out, [(branch.name, branch.condition) for branch in tree if branch.condition], styles=("cyan", "dim"))
        out.print("\n[dim]next:[/dim] in a plan: features = [...], or a change of kind feature")
    return 0


def _properties_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("names", nargs="*", metavar="NAME", help="only these")
    parser.add_argument("--things", action="store_true", help="name what changes, not only how much")


def properties(options: argparse.Namespace) -> int:
    """Show what each property changes: every value that the database knows is tried on a prediction."""
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.facts import secrets
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
    rows_: list[tuple[object, ...]] = []
    for entry in told:
        first = True
        for trial in entry.trials:
            text = next((choice.text for choice in entry.choices if choice.value == trial.value and choice.text), "")
            value = f"{trial.value} ({text})" if text else trial.value or '"" (unset)'
            default = "unset" if entry.default is None else secrets.MASK if secrets.is_secret(entry.name) else entry.default
            rows_.append(
                (entry.name if first else "", default[:60] if first else "", value + (" *" if trial.made_up else ""), nested.effect_words(trial))
            )
            first = False
            if options.things:
                for verb, some in (("adds", trial.added), ("leaves out", trial.left_out), ("changes", trial.changed)):
                    rows_ += [("", "", "", f"  {verb} {nested.things([thing], 1)}") for thing in some[:40]]
    show.grid(out, rows_, heads=("property", "default", "set to", "what that does"), styles=("cyan", "dim", None, None))
    if any(trial.made_up for entry in told for trial in entry.trials):
        out.print("  [dim]* the database knows no value but the default; this one was made up to see[/dim]")
    if others and not options.names:
        out.print(f"  [dim]{show.counted(others, 'other')} that only dialogs and messages refer to, or nothing does; name one to try it[/dim]")
    out.print(f"\n[dim]next:[/dim] yendo msi dialogs {show.clean(options.file)}, for what a person at the keyboard would have chosen")
    return 0


def _dialogs_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("--all", action="store_true", help="decisions that nothing but dialogs look at, too")


def dialogs(options: argparse.Namespace) -> int:
    """Show what the vendor's dialogs let a person decide, and the switch that says the same in silence."""
    from yendo.cli import show
    from yendo.installers.msi import dialogs as asked

    with opened(options) as database:
        found, missed = asked.decisions(database), asked.only_in_dialogs(database)
        count = len(database["Dialog"])
    if options.json:
        show.emit({"schema": "yendo.msi.dialogs/1", "decisions": nested.builtins(found), "only_in_dialogs": nested.builtins(missed)})
        return 0
    if options.quiet:
        return 0
    out = show.console()
    if not count:
        out.print("It has no dialogs: nothing that a person could decide is lost in a silent installation.")
        return 0
    shown = [entry for entry in found if options.all or entry.matters or entry.licence]
    out.print(
        f"{show.counted(count, 'dialog')} ask for {show.counted(len(found), 'decision')}; {sum(entry.matters for entry in found)} matter outside the dialogs"
    )
    rows_ = []
    for entry in shown:
        values = ", ".join(
            choice.value + (f" ({choice.text})" if choice.text and choice.text != choice.value else "") for choice in entry.choices[:6]
        )
        without = "licence" if entry.licence else "unset" if entry.default is None else entry.default
        rows_.append(
            (entry.dialog, f"{entry.what}: {entry.label}" if entry.label else entry.what, entry.switch or "-", values, without, entry.remark)
        )
    show.grid(
        out,
        rows_,
        heads=("dialog", "a person would", "says the same", "values", "in silence", "note"),
        styles=("dim", None, "cyan", None, "dim", "yellow"),
    )
    if missed:
        show.section(out, "Done only where there are dialogs")
        show.grid(out, [(entry.action, entry.sets, entry.remark) for entry in missed], styles=("cyan", None, "yellow"))
    if len(shown) < len(found):
        out.print(f"  [dim]{show.counted(len(found) - len(shown), 'other decision')} that nothing else looks at (--all shows them)[/dim]")
    return 0


def _actions_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("--source", action="store_true", help="the whole text of scripts, not its first lines")


def actions(options: argparse.Namespace) -> int:
    """List the custom actions: what each is, when it runs, and for scripts their source. Nothing is run."""
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
                out, [row for row in (("condition", entry.condition), ("does", entry.target), ("from", entry.origin)) if row[1]], styles=("dim",)
            )
            lines = entry.script.splitlines()
            for line in lines if options.source else lines[:6]:
                out.print(Text("   | " + "".join(c if c.isprintable() else " " for c in line), style="yellow"))
            if len(lines) > 6 and not options.source:
                out.print(f"   [dim]and {len(lines) - 6} more lines (--source)[/dim]")
    return 0


def _streams_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("--extract", type=Path, metavar="DIR", help="write them into this folder")


def streams(options: argparse.Namespace) -> int:
    """List the embedded streams, and write them out if asked."""
    import shutil

    from yendo import atomic
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.installers.msi import comparing

    written: dict[str, str] = {}
    with opened(options) as database:
        found = comparing.streams(database)
        if options.extract:
            if options.extract.exists() and not options.extract.is_dir():
                raise Usage(f"{options.extract} is no folder")
            options.extract.mkdir(parents=True, exist_ok=True)
            for stream in found:
                name, number = comparing.safe_name(stream.name), 2
                while name.lower() in (known.lower() for known in written.values()):
                    name, number = f"{number}-{comparing.safe_name(stream.name)}", number + 1
                entry = database.stream(stream.name)
                if entry is not None:
                    with entry.open() as source, atomic.writing(options.extract / name) as target:
                        shutil.copyfileobj(source, target, 1 << 20)
                    written[stream.name] = name
    if options.json:
        show.emit(
            {"schema": "yendo.msi.streams/1", "streams": [{**nested.builtins(stream), "written": written.get(stream.name)} for stream in found]}
        )
    elif not options.quiet:
        out = show.console()
        show.grid(
            out,
            [(stream.name.lstrip("\x05"), show.size(stream.size), stream.what, written.get(stream.name, "")) for stream in found],
            heads=("stream", "size", "what it is", "written as" if written else ""),
            styles=("cyan", None, None, "dim"),
        )
    return 0


def _compare_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("other", type=Path, metavar="OTHER", help="the installer to hold it against")
    parser.add_argument("--rows", action="store_true", help="every row, in words")
    parser.add_argument("--all", action="store_true", help="with --rows: rows that only go along with others, too")
    parser.add_argument("--why", action="store_true", help="with --rows: the table and key of each")


def compare(options: argparse.Namespace) -> int:
    """Compare two databases row by row, and say what the difference does to a machine."""
    from yendo.cli import show
    from yendo.effects.things import kind_of, label
    from yendo.formats.msi import Database
    from yendo.installers.msi import changes, comparing, fitting

    nested.existing(options.other)
    with opened(options) as one, Database(options.other) as other:
        found = comparing.compare(one, other)
        told = changes.in_words(one, found.transform)
        names = [f"{fitting.facts(side).get('ProductName', '?')} {fitting.facts(side).get('ProductVersion', '')}" for side in (one, other)]
    effects = found.effects
    if options.json:
        show.emit(
            {
                "schema": "yendo.msi.compare/1",
                "rows": {name: {"added": a, "dropped": d, "changed": c} for name, (a, d, c) in found.rows.items()},
                "changes": nested.builtins(told),
                "effects": nested.builtins(effects),
            }
        )
        return 0 if not found.rows else 1
    if options.quiet:
        return 0 if not found.rows else 1
    out = show.console()
    if not found.rows:
        out.print("No row differs.")
        return 0
    out.print(
        f"[bold]{show.clean(names[0])}[/bold] against [bold]{show.clean(names[1])}[/bold]: the second {show.clean(nested.effect_words(effects))}"
    )
    for verb, some in (("adds", effects.added), ("leaves out", effects.left_out), ("changes", effects.changed)):
        if some:
            show.section(out, verb[0].upper() + verb[1:])
            show.grid(out, [(kind_of(thing), label(thing)) for thing in some[:25]], styles=("dim",))
            if len(some) > 25:
                out.print(f"  [dim]and {len(some) - 25} more[/dim]")
    if effects.moved:
        show.section(out, "Moves")
        show.grid(out, [(label(was), "to", label(now)) for was, now in effects.moved[:25]], styles=("dim",))
    show.section(out, "Rows")
    if options.rows:
        nested.change_rows(out, told, everything=options.all, why=options.why)
    else:
        show.grid(
            out,
            [(name, f"+{a}" if a else "", f"-{d}" if d else "", f"~{c}" if c else "") for name, (a, d, c) in found.rows.items()],
            heads=("table", "added", "dropped", "changed"),
            styles=("cyan",),
        )
        out.print("  [dim]--rows tells them in words[/dim]")
    return 1


def validate(options: argparse.Namespace) -> int:
    """Hold the database to its own description and to the component rules."""
    from yendo.cli import show
    from yendo.installers.msi.validate import validate as judge

    with opened(options) as database:
        found, described = judge(database), len(database["_Validation"])
    errors = [finding for finding in found if finding.severity == "error"]
    if options.json:
        show.emit({"schema": "yendo.msi.validate/1", "described": described > 0, "findings": nested.builtins(found)})
    elif not options.quiet:
        out = show.console()
        show.grid(
            out,
            [(finding.severity, finding.evidence.where, finding.column, finding.message, finding.rule) for finding in found[:PAGE]],
            styles=("yellow", None, "cyan", None, "dim"),
        )
        by = "its own _Validation table" if described else "the documented columns; it has no _Validation table of its own"
        out.print(
            f"Held to {by} and to the component rules: {show.counted(len(errors), 'error')}, {show.counted(len(found) - len(errors), 'warning')}."
        )
    return 1 if errors else 0


def _meet_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("files", type=Path, nargs="+", metavar="FILE", help="installers, or folders of them")


def meet(options: argparse.Namespace) -> int:
    """Show what each installer does on a machine that has each other one."""
    from rich.text import Text

    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.installers.msi import meeting

    for path in options.files:
        if not path.exists():
            raise Usage(f"{path} is not there")
    found, meetings = meeting.matrix(options.files)
    if options.json:
        show.emit({"schema": "yendo.msi.meet/1", "releases": nested.builtins(found), "meetings": nested.builtins(meetings)})
        return 0
    if options.quiet:
        return 0
    out = show.console()
    colours = {"same": "dim", "upgrade": "green", "minor update": "cyan", "downgrade": "yellow", "side by side": "yellow", "refused": "red"}
    twice = len({release.name for release in found}) > 1
    names = {release.path: f"{release.name} {release.version}" if twice else release.version for release in found}
    cells = {(meeting_.there.path, meeting_.new.path): meeting_ for meeting_ in meetings}
    out.print(f"[bold]{'' if twice else show.clean(found[0].name) + ': '}installed (down) and run over it (across)[/bold]")
    show.grid(
        out,
        [
            (names[there.path], *(Text(cells[there.path, new.path].kind, style=colours[cells[there.path, new.path].kind]) for new in found))
            for there in found
        ],
        heads=("", *(names[release.path] for release in found)),
        styles=("cyan",),
    )
    show.section(out, "In words")
    rows_ = [(names[m.there.path], names[m.new.path], Text(m.kind, style=colours[m.kind]), m.text, m.command) for m in meetings if m.kind != "same"]
    show.grid(out, rows_, heads=("installed", "run", "", "what happens", "needs on the command line"), styles=("cyan", "cyan", None, None, "cyan"))
    for meeting_ in meetings:
        if meeting_.lost:
            pair = f"{show.clean(names[meeting_.there.path])} to {show.clean(names[meeting_.new.path])}"
            out.print(f"[red]{pair} loses:[/red] {show.clean(', '.join(meeting_.lost[:4]))}")
    return 0


ACTIONS: nested.Actions = {
    "tables": ("the tables, with rows and columns", file_argument, tables),
    "rows": ("rows of a table, filtered and joined", _rows_options, rows),
    "links": ("what a row refers to, and who refers to it", _links_options, links),
    "sequence": ("the silent sequence as it will run", _sequence_options, sequence),
    "features": ("the feature tree with sizes and effects", _given_options, features),
    "properties": ("what each property changes", _properties_options, properties),
    "dialogs": ("what a person would decide, as switches", _dialogs_options, dialogs),
    "actions": ("custom actions, scripts with their source", _actions_options, actions),
    "streams": ("the embedded streams; --extract writes them", _streams_options, streams),
    "compare": ("two databases, by rows and by effects", _compare_options, compare),
    "validate": ("the database against its own rules", file_argument, validate),
    "meet": ("what happens where versions meet", _meet_options, meet),
}
