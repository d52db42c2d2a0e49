"""``yendo read FOLDER``: the table, its files and its summary."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

import msgspec

from yendo import atomic
from yendo.cli import nested, show
from yendo.errors import Usage
from yendo.installers import catalogue


def run(options: argparse.Namespace) -> int:
    found = _read(options)
    told = catalogue.summary(found)
    if options.csv:
        atomic.write(options.csv, _csv(found))
    if options.parquet:
        _parquet(options.parquet, found)
    if options.json:
        show.emit({"schema": catalogue.SCHEMA, "rows": found, "summary": told})
    elif not options.quiet:
        _print(found, told)
    return 1 if told.unreadable else 0


def _read(options: argparse.Namespace) -> list[catalogue.CatalogueRow]:
    with show.counting(lambda: len(catalogue.files(options.file)), quiet=options.quiet) as tell:
        return list(catalogue.rows(options.file, options.jobs, tell))


def _print(found: list[catalogue.CatalogueRow], told: catalogue.CatalogueSummary) -> None:
    out = show.console()
    rows = [
        (
            entry.path,
            entry.family or "unreadable",
            " ".join(filter(None, (entry.name, entry.version))),
            entry.architecture or "",
            entry.silent or "",
            entry.confidence or "",
        )
        for entry in found
    ]
    show.grid(
        out,
        rows[:200],
        heads=("file", "family", "what", "for", "silent", ""),
        styles=(None, "cyan", None, "dim", None, "dim"),
    )
    if len(rows) > 200:
        out.print(f"  [dim]and {len(rows) - 200} more (--csv or --json has them all)[/dim]")
    show.section(out, f"{show.counted(len(found), 'installer')}, {show.size(sum(entry.size for entry in found))}")
    lines = [("families", ", ".join(f"{count} {family}" for family, count in told.families.items()))]
    for title, paths in (
        ("unsigned", told.unsigned),
        ("the same bytes", [" = ".join(group) for group in told.duplicates]),
        ("older than another", [f"{old} (newest: {new})" for old, new in told.older]),
        ("unreadable", [f"{path}: {why}" for path, why in told.unreadable]),
    ):
        if paths:
            more = f" and {len(paths) - 8} more" if len(paths) > 8 else ""
            lines.append((title, f"{len(paths)}: " + "; ".join(list(paths)[:8]) + more))
    show.grid(out, lines, styles=("dim",))


def _table(found: list[catalogue.CatalogueRow]) -> dict[str, list[Any]]:
    return {field: [getattr(entry, field) for entry in found] for field in catalogue.CatalogueRow.__struct_fields__}


def _csv(found: list[catalogue.CatalogueRow]) -> bytes:
    """With a mark for spreadsheets; a text that a spreadsheet would take for a formula gets an apostrophe."""
    return nested.spreadsheet(catalogue.CatalogueRow.__struct_fields__, map(msgspec.structs.astuple, found))


def _parquet(path: Path, found: list[catalogue.CatalogueRow]) -> None:
    try:
        import pyarrow
        from pyarrow import parquet
    except ImportError as error:
        raise Usage(
            "Parquet needs pyarrow: pip install 'yendo[parquet]'; --csv and --json need nothing more"
        ) from error
    with atomic.writing(path) as file:
        parquet.write_table(pyarrow.table(_table(found)), file)
