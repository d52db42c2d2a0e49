"""Printing for people: tables and colour on a terminal, plain text in a pipe."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any

import msgspec
from rich.console import Console
from rich.markup import escape
from rich.table import Table
from rich.text import Text

from yendo import texts
from yendo.effects.effect import NOUNS
from yendo.terms.amounts import counted, size_in_words, some_of

PLAIN_WIDTH = 160
__all__ = [
    "clean",
    "console",
    "counted",
    "counting",
    "emit",
    "finding",
    "grid",
    "printable",
    "section",
    "size",
    "some_of",
    "told",
    "working",
]


def console(*, error: bool = False) -> Console:
    """A console; ``NO_COLOR`` is honoured by the library."""
    stream = sys.stderr if error else sys.stdout
    if stream.isatty():
        return Console(stderr=error, highlight=False)
    return Console(stderr=error, highlight=False, width=PLAIN_WIDTH, no_color=True)


def clean(value: object) -> str:
    """Text that came out of a file, made harmless: no control characters, no markup."""
    return escape(printable(value))


def printable(value: object) -> str:
    """Text without control characters, for what takes no markup."""
    return "".join(character if character.isprintable() else "\ufffd" for character in str(value))


def emit(value: object) -> None:
    """One JSON object on standard output."""
    try:
        data = msgspec.json.encode(value)
    except UnicodeEncodeError:  # a name on the disk that is no text in the system's coding
        data = msgspec.json.encode(_as_text(msgspec.to_builtins(value)))
    sys.stdout.write(msgspec.json.format(data, indent=2).decode() + "\n")


def _as_text(value: Any) -> Any:
    if isinstance(value, str):
        return texts.writable(value)
    if isinstance(value, dict):
        return {_as_text(key): _as_text(inner) for key, inner in value.items()}
    return [_as_text(inner) for inner in value] if isinstance(value, list | tuple) else value


def section(out: Console, title: str) -> None:
    out.print(f"\n[bold]{title}[/bold]")


def grid(
    out: Console, rows: Iterable[Sequence[object]], *, styles: Sequence[str | None] = (), heads: Sequence[str] = ()
) -> None:
    """Rows in columns, indented, without a frame. Cells are plain text, or Text with its own style."""
    table = Table(
        box=None,
        show_header=bool(heads),
        padding=(0, 2, 0, 0),
        header_style="dim",
        pad_edge=False,
        collapse_padding=True,
    )
    table.add_column(width=1)
    rows = list(rows)
    count = max((len(row) for row in rows), default=len(heads))
    for at in range(count):
        last = at == count - 1
        table.add_column(
            heads[at] if at < len(heads) else "",
            style=styles[at] if at < len(styles) else None,
            overflow="fold",
            no_wrap=False,
            ratio=1 if last else None,
        )
    for row in rows:
        table.add_row("", *(cell if isinstance(cell, Text) else Text(printable(cell)) for cell in row))
    out.print(table)


_LEVELS = {"error": "red", "warning": "yellow", "note": "dim"}


def finding(out: Console, level: str, what: str, advice: str, identifier: str) -> None:
    """What a reading has found wrong: how bad, what, what to do, and its name in the documentation."""
    colour = _LEVELS[level]
    out.print(f"  [{colour}]{level:7}[/{colour}]  {clean(what)}  [dim]{identifier}[/dim]")
    out.print(f"           [dim]{clean(advice)}[/dim]")


@contextlib.contextmanager
def counting(total: Callable[[], int], *, quiet: bool) -> Iterator[Callable[[str], object]]:
    """A bar that grows by one at each call, where somebody looks; ``total`` is asked for only then."""
    if quiet or not sys.stderr.isatty():
        yield lambda one: None
        return
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    columns = (TextColumn("reading"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
    with Progress(*columns, console=console(error=True), transient=True) as bar:
        task = bar.add_task("", total=total())
        yield lambda one: bar.advance(task)


def size(count: int | None) -> str:
    """Bytes for a person, in powers of ten."""
    return "?" if count is None else size_in_words(count)


def told(counts: Mapping[str, int], most: int = 99) -> str:
    """Counts of effects by kind in words: ``{"file removed": 2}`` as "2 files removed"."""
    words = []
    for kind, count in list(counts.items())[:most]:
        plain, removed, _ = kind.partition(" removed")
        words.append(counted(count, NOUNS.get(plain, plain)) + removed)
    return ", ".join([*words, "..."] if len(counts) > most else words)


@contextlib.contextmanager
def working(title: str, *, quiet: bool) -> Iterator[Callable[[str], None]]:
    """A line that moves while work goes on, on a terminal only."""
    if quiet or not sys.stderr.isatty():
        yield lambda text: None
        return
    with console(error=True).status(title) as status:
        yield lambda text: status.update(f"{title}: {escape(text)}")
