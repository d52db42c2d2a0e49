"""Look into an installer database: its tables, sequence, features, properties and dialogs.

yendo msi rows lantern-6.2.1.msi File 'FileSize>1000' --with Component --show File,FileSize,Component.Directory_
yendo msi properties lantern-6.2.1.msi
yendo msi meet from-tidewell
"""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import msi_decisions, nested
from yendo.cli.nested import file_argument, opened

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.installers.msi.influence import PropertyTrial

PAGE = 400  # rows that a terminal is given unless all are asked for


def configure(parser: argparse.ArgumentParser) -> None:
    nested.actions(parser, ACTIONS)


def run(options: argparse.Namespace) -> int:
    return int(options.run_action(options))


def tables(options: argparse.Namespace) -> int:
    """List the tables, with their rows and columns.

    yendo msi tables lantern-6.2.1.msi
    """
    from yendo.cli import show

    with opened(options) as database:
        found = [
            (
                name,
                len(database[name]),
                [f"{column.name} {column.idt}" + ("!" if column.is_key else "") for column in database.schema[name]],
            )
            for name in sorted(database.tables)
        ]
        if options.json:
            show.emit(
                {
                    "schema": "yendo.msi.tables/1",
                    "tables": [{"name": name, "rows": rows, "columns": columns} for name, rows, columns in found],
                }
            )
        elif not options.quiet:
            out = show.console()
            filled = [entry for entry in found if entry[1]]
            show.grid(
                out,
                [
                    (name, str(rows), ", ".join(_heading(column) for column in columns))
                    for name, rows, columns in filled
                ],
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
    parser.add_argument(
        "terms",
        nargs="*",
        metavar="CONDITION",
        help="COLUMN=VALUE, != < > <= >= ~ (contains) !~, COLUMN? (is empty); all must hold",
    )
    parser.add_argument(
        "--with", action="append", default=[], dest="also", metavar="TABLE", help="join a table that belongs to it"
    )
    parser.add_argument(
        "--show",
        default="",
        metavar="COLUMNS",
        help="only these, separated by commas; of a joined table as Table.Column",
    )
    parser.add_argument(
        "--order", metavar="COLUMN", help="sort by it; -COLUMN for the other way (write --order=-COLUMN)"
    )
    parser.add_argument("--csv", action="store_true", help="comma-separated values")
    parser.add_argument("--all", action="store_true", help=f"more than {PAGE} rows on a terminal too")


def rows(options: argparse.Namespace) -> int:
    """Show rows of a table, filtered and joined.

    yendo msi rows lantern-6.2.1.msi File 'FileSize>1000' --with Component --show File,Component.Directory_
    """
    from yendo.cli import show
    from yendo.facts import secrets
    from yendo.installers.msi import references

    with opened(options) as database:
        terms = [references.Term.parse(text) for text in options.terms]
        columns = [name.strip() for name in options.show.split(",") if name.strip()]
        found = references.select(
            database, options.table, terms, also=options.also, columns=columns, order=options.order
        )
    cells = [_masked(options.table, found.columns, row, secrets.is_secret, secrets.MASK) for row in found.rows]
    if options.json:
        show.emit({"schema": "yendo.msi.rows/1", "table": options.table, "columns": found.columns, "rows": cells})
    elif options.csv:
        nested.write_csv(found.columns, cells)
    elif not options.quiet:
        out = show.console()
        shown = cells if options.all else cells[:PAGE]
        show.grid(
            out,
            [["" if cell is None else cell for cell in row] for row in shown],
            heads=found.columns,
            styles=("cyan",),
        )
        out.print(
            f"[dim]{show.counted(len(cells), 'row')}{f', the first {PAGE} shown; --all shows the rest' if len(shown) < len(cells) else ''}[/dim]"  # noqa: E501
        )
    return 0


def _masked(
    table: str, columns: tuple[str, ...], row: tuple[object, ...], is_secret: Callable[[str], bool], mask: str
) -> tuple[object, ...]:
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
    """Show what a row refers to, and who refers to it.

    yendo msi links lantern-6.2.1.msi Component Program
    """
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
            raise Usage(
                f"{options.table} has no row {', '.join(options.key)}; see `yendo msi rows {options.file} "
                f"{options.table}`"
            )
        to, by = (
            references.refers_to(database, options.table, key),
            references.referred_by(database, options.table, key),
        )
    if options.json:
        show.emit(
            {
                "schema": "yendo.msi.links/1",
                "table": options.table,
                "key": key,
                "refers_to": nested.builtins(to),
                "referred_by": nested.builtins(by),
            }
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


def _streams_options(parser: argparse.ArgumentParser) -> None:
    file_argument(parser)
    parser.add_argument("--extract", type=Path, metavar="DIR", help="write them into this folder")


def streams(options: argparse.Namespace) -> int:
    """List the embedded streams, and write them out if asked.

    yendo msi streams lantern-6.2.1.msi --extract streams
    """
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
            {
                "schema": "yendo.msi.streams/1",
                "streams": [{**nested.builtins(stream), "written": written.get(stream.name)} for stream in found],
            }
        )
    elif not options.quiet:
        out = show.console()
        show.grid(
            out,
            [
                (stream.name.lstrip("\x05"), show.size(stream.size), stream.what, written.get(stream.name, ""))
                for stream in found
            ],
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


def _on_a_machine(out: Console, effects: PropertyTrial) -> None:
    """What the second of two databases does otherwise on a machine."""
    from yendo.cli import show
    from yendo.effects.things import kind_of, label

    for verb, some in (("adds", effects.added), ("leaves out", effects.left_out), ("changes", effects.changed)):
        if some:
            show.section(out, verb[0].upper() + verb[1:])
            show.grid(out, [(kind_of(thing), label(thing)) for thing in some[:25]], styles=("dim",))
            if len(some) > 25:
                out.print(f"  [dim]and {len(some) - 25} more[/dim]")
    if effects.moved:
        show.section(out, "Moves")
        show.grid(out, [(label(was), "to", label(now)) for was, now in effects.moved[:25]], styles=("dim",))


def compare(options: argparse.Namespace) -> int:
    """Compare two databases row by row, and say what the difference does to a machine.

    yendo msi compare lantern-6.2.1.msi lantern-6.2.3.msi --rows
    """
    from yendo.cli import show
    from yendo.formats.msi import Database
    from yendo.installers.msi import changes, comparing, fitting

    nested.existing(options.other)
    with opened(options) as one, Database(options.other) as other:
        found = comparing.compare(one, other)
        told = changes.in_words(one, found.transform)
        names = [
            f"{fitting.facts(side).get('ProductName', '?')} {fitting.facts(side).get('ProductVersion', '')}"
            for side in (one, other)
        ]
    effects = found.effects
    if options.json:
        show.emit(
            {
                "schema": "yendo.msi.compare/1",
                "rows": {name: {"added": a, "dropped": d, "changed": c} for name, (a, d, c) in found.rows.items()},
                "changes": nested.builtins(told),
                "effects": nested.builtins(effects),
                "blind_spots": {"before": found.blind_before, "after": found.blind_after},
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
        f"[bold]{show.clean(names[0])}[/bold] against [bold]{show.clean(names[1])}[/bold]: the second "
        f"{show.clean(nested.effect_words(effects))}"
    )
    _on_a_machine(out, effects)
    come, gone = set(found.blind_after) - set(found.blind_before), set(found.blind_before) - set(found.blind_after)
    for title, spots in (("Blind spots that come with it", come), ("Blind spots that are gone", gone)):
        if spots:
            show.section(out, title)
            show.grid(out, [(what,) for what in sorted(spots)], styles=("yellow",))
    show.section(out, "Rows")
    if options.rows:
        nested.change_rows(out, told, everything=options.all, why=options.why)
    else:
        show.grid(
            out,
            [
                (name, f"+{a}" if a else "", f"-{d}" if d else "", f"~{c}" if c else "")
                for name, (a, d, c) in found.rows.items()
            ],
            heads=("table", "added", "dropped", "changed"),
            styles=("cyan",),
        )
        out.print("  [dim]--rows tells them in words[/dim]")
    return 1


def validate(options: argparse.Namespace) -> int:
    """Hold the database to its own description and to the component rules.

    yendo msi validate lantern-6.2.1.msi --transform site.mst
    """
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
            [
                (finding.severity, finding.evidence.where, finding.column, finding.message, finding.rule)
                for finding in found[:PAGE]
            ],
            styles=("yellow", None, "cyan", None, "dim"),
        )
        by = (
            "its own _Validation table"
            if described
            else "the documented columns; it has no _Validation table of its own"
        )
        out.print(
            f"Held to {by} and to the component rules: {show.counted(len(errors), 'error')}, "
            f"{show.counted(len(found) - len(errors), 'warning')}."
        )
    return 1 if errors else 0


ACTIONS: nested.Actions = {
    "tables": ("the tables, with rows and columns", file_argument, tables),
    "rows": ("rows of a table, filtered and joined", _rows_options, rows),
    "links": ("what a row refers to, and who refers to it", _links_options, links),
    "streams": ("the embedded streams; --extract writes them", _streams_options, streams),
    "compare": ("two databases, by rows and by effects", _compare_options, compare),
    "validate": ("the database against its own rules", file_argument, validate),
    **msi_decisions.ACTIONS,
}
