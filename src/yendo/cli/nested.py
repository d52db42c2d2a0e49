"""Commands that have actions of their own, and what they share: files to open, tables to print."""

from __future__ import annotations

import argparse
import csv
import inspect
import io
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.effects.things import Thing
    from yendo.formats.msi import Database
    from yendo.installers.msi.changes import DatabaseChange
    from yendo.installers.msi.influence import PropertyTrial

RunAction = Callable[[argparse.Namespace], int]
Configure = Callable[[argparse.ArgumentParser], None]
Actions = Mapping[str, tuple[str, Configure, RunAction]]


class _Free(argparse.ArgumentParser):
    """Takes options before, between and behind the words of an action."""

    _inside = False

    def parse_known_args(self, args: Any = None, namespace: Any = None) -> Any:
        if self._inside or self._subparsers is not None:  # words that choose further stand where they stand
            return super().parse_known_args(args, namespace)
        self._inside = True
        try:
            return super().parse_known_intermixed_args(args, namespace)
        finally:
            self._inside = False


def actions(parser: argparse.ArgumentParser, table: Actions) -> None:
    """Gives a command its actions; each takes ``--json`` and ``--quiet`` itself."""
    chosen = parser.add_subparsers(dest="action", metavar="ACTION", required=True, title="actions", parser_class=_Free)
    for name, (summary, configure, run) in table.items():
        action = chosen.add_parser(
            name,
            help=summary,
            description=inspect.cleandoc(run.__doc__ or summary),
            formatter_class=parser.formatter_class,
        )
        configure(action)
        action.add_argument("--json", action="store_true", default=argparse.SUPPRESS, help="print one JSON object")
        action.add_argument(
            "--quiet", "-q", action="store_true", default=argparse.SUPPRESS, help="print nothing but errors"
        )
        action.set_defaults(run_action=run)


def file_argument(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", type=Path, metavar="FILE", help="the installer (.msi)")
    parser.add_argument(
        "--transform",
        type=Path,
        action="append",
        default=[],
        metavar="MST",
        help="look at it with this transform, :NAME for one inside it (again for more)",
    )
    parser.add_argument(
        "--patch",
        type=Path,
        action="append",
        default=[],
        metavar="MSP",
        help="look at it with this patch (again for more)",
    )


@contextmanager
def opened(options: argparse.Namespace) -> Iterator[Database]:
    """The installer of a command line with what lies over it. Raises Usage where that does not fit."""
    from yendo.errors import Usage
    from yendo.installers.msi import layers

    transforms = [str(path)[1:] if str(path).startswith(":") else path for path in options.transform]
    existing(options.file, *(path for path in transforms if isinstance(path, Path)), *options.patch)
    try:
        with layers.layered(options.file, transforms, options.patch) as database:
            yield database
    except layers.Refused as refused:
        raise Usage(refused.message) from refused


def existing(*paths: Path) -> None:
    """Raises Usage where one is no file."""
    from yendo.errors import Usage

    for path in paths:
        if not path.is_file():
            raise Usage(f"{path} is {'a folder' if path.is_dir() else 'not there'}")


def write_csv(columns: Sequence[str], rows: Iterable[Sequence[object]]) -> None:
    """Comma-separated, as RFC 4180 has it; an empty cell is null.

    A cell that a table program would run as a formula is quoted as text.
    """
    if isinstance(sys.stdout, io.TextIOWrapper):
        sys.stdout.reconfigure(newline="")  # else Windows ends each line twice
    writer = csv.writer(sys.stdout, lineterminator="\r\n")
    writer.writerow(columns)
    writer.writerows(["" if cell is None else safe_cell(cell) for cell in row] for row in rows)


def spreadsheet(columns: Sequence[str], rows: Iterable[Iterable[object]]) -> bytes:
    """The same as a file for table programs, with the mark that tells them its coding; what is no text is written as
    one.
    """
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(columns)
    for row in rows:
        texts = ("" if cell is None else "; ".join(cell) if isinstance(cell, tuple) else str(cell) for cell in row)
        writer.writerow([safe_cell(text) for text in texts])
    return out.getvalue().encode("utf-8-sig")


def safe_cell(cell: object) -> object:
    """A cell that a table program would run as a formula, also behind a tab or a line end, as text."""
    return (
        f"'{cell}"
        if isinstance(cell, str) and cell[:1] in ("=", "+", "-", "@", "\t", "\r", "\n") and len(cell) > 1
        else cell
    )


def add_package(parser: argparse.ArgumentParser, what: str) -> None:
    """The argument that names a built package; without it the workspace in this folder is meant."""
    parser.add_argument("package", type=Path, nargs="?", default=Path(), metavar="PACKAGE", help=what)


def assignments(words: Sequence[str]) -> dict[str, str]:
    """``NAME=value`` words as properties. Raises Usage."""
    from yendo.errors import Usage

    given = {}
    for word in words:
        name, equals, value = word.partition("=")
        if not equals or not name.replace(".", "_").isidentifier():
            raise Usage(f"{word!r} is no property; write NAME=value")
        given[name] = value
    return given


def pairs(option: str, words: Sequence[str], form: str, hint: str, *, empty: bool = True) -> dict[str, str]:
    """What an option gives by name, ``NAME=text`` each, ``empty`` texts too. Raises Usage with the form."""
    from yendo.errors import Usage

    found = {}
    for word in words:
        name, equals, value = word.partition("=")
        if not equals or not name.strip() or not (empty or value.strip()):
            raise Usage(f"{option} {word}: write {form}, {hint}")
        found[name.strip()] = value
    return found


def things(found: Sequence[Thing], most: int = 3) -> str:
    """A few things by name, and how many more."""
    from yendo.effects.things import label
    from yendo.terms.amounts import some_of

    return some_of([label(thing) for thing in found], most)


def effect_words(trial: PropertyTrial) -> str:
    """What a value changes, as counts: ``changes 2 registry values, leaves out 1 shortcut, moves 3 files``."""
    from collections import Counter

    from yendo.cli.show import told
    from yendo.effects.things import kind_of

    if trial.refused:
        return f"is refused: {trial.refused}"
    parts = [
        f"{verb} {told(Counter(kind_of(thing) for thing in some))}"
        for verb, some in (
            ("adds", trial.added),
            ("leaves out", trial.left_out),
            ("changes", trial.changed),
            ("moves", [thing for thing, _ in trial.moved]),
        )
        if some
    ]
    if trial.actions:
        parts.append(f"switches {', '.join(trial.actions[:3])}")
    return ", ".join(parts) or "changes nothing that can be told"


def change_rows(out: Console, changes: Sequence[DatabaseChange], *, everything: bool, why: bool) -> None:
    """Changes in words, with their risks below, and a count of those that only go along."""
    from rich.text import Text

    from yendo.cli import show

    colours = {"adds": "green", "drops": "red", "changes": "cyan"}
    shown = [change for change in changes if everything or not change.goes_along]
    rows = [
        (Text(change.kind, style=colours[change.kind]), change.text, change.evidence.where if why else "")
        for change in shown
    ]
    show.grid(out, rows, styles=(None, None, "dim"))
    more = sum(change.rows for change in changes if change not in shown)
    if more:
        out.print(f"  [dim]and {show.counted(more, 'row')} that go with them (--all shows them)[/dim]")
    risky = [change for change in changes if change.risk]
    if risky:
        show.section(out, "Look at these")
        show.grid(out, [(change.risk, f"{change.kind} {change.text}") for change in risky], styles=("yellow", None))


def builtins(value: object) -> Any:
    """A value of the core as JSON has it."""
    import msgspec

    return msgspec.to_builtins(value, enc_hook=str)
