"""``yendo read`` of drivers: one ``.inf``, a folder full of them, a catalogue, and which of several a device gets."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from yendo import atomic, walk
from yendo.cli import nested, show
from yendo.drivers import labels, ranking, reading, share, start_up, target, trust
from yendo.drivers.driver import SCHEMA, Driver, DriverFile
from yendo.errors import Unreadable, Usage
from yendo.platforms.windows import systems

if TYPE_CHECKING:
    from rich.console import Console

MAX_ROWS = 200
_RANKED = ("rank", "path", "version", "date", "identifier", "reason")


def windows(options: argparse.Namespace) -> target.DriverTarget:
    """The Windows that was asked about. Raises Usage."""
    return target.of_system(systems.system(options.windows or systems.USUAL), options.processor)


def run(options: argparse.Namespace) -> int:
    walk.regular(options.file)
    if options.file.is_dir():
        return _share(options)
    if options.file.suffix.lower() == ".cat":
        return _catalogue(options.file, options)
    found = reading.read(options.file, windows(options))
    if options.device:
        return _ranked({options.file.name: found}, options)
    if options.json:
        show.emit({"schema": SCHEMA, **msgspec.to_builtins(found)})
    elif not options.quiet:
        _print(show.console(), found, options)
    return 0


def _share(options: argparse.Namespace) -> int:
    wanted = windows(options)
    paths = share.files(options.file)
    with show.counting(lambda: len(paths), quiet=options.quiet) as tell:
        found = share.read(options.file, wanted, found=paths, workers=options.jobs, tell=tell)
    known = labels.labelled(labels.read(options.file), found.drivers)
    if options.in_set:
        found = _of_set(found, known, options.in_set)
    if options.device:
        return _ranked(found.drivers, options)
    if options.start_up:
        return _start_up(found, options)
    rows = found.rows
    if options.csv:
        heads = (*share.DriverRow.__struct_fields__, "sets", "said")
        lines = [(*msgspec.structs.astuple(row), *_said(known, row.path)) for row in rows]
        atomic.write(options.csv, nested.spreadsheet(heads, lines))
    if options.json:
        show.emit(
            {
                "schema": share.SCHEMA,
                "windows": wanted.words,
                "rows": rows,
                "same": found.duplicates,
                "older": found.older,
                "claims": found.claims,
                "labels": known.labels,
                "carried": sorted(known.carried),
                "passed": known.passed,
            }
        )
    elif not options.quiet:
        _table(show.console(), found, wanted, options.file, known)
    return 1 if found.troubles else 0


def _of_set(found: share.SharedDrivers, known: labels.LabelledShare, name: str) -> share.SharedDrivers:
    """The drivers of one set. Raises Usage where there is no such set."""
    import difflib

    some = {path: driver for path, driver in found.drivers.items() if name in _sets(known, path)}
    if not some:
        every = sorted({one for labelled in known.labels.values() for one in labelled.sets})
        near = difflib.get_close_matches(name, every, 1)
        raise Usage(
            f"no driver stands in the set {name!r}; there are: {', '.join(every) or 'none (yendo label)'}"
            + (f"; did you mean {near[0]}?" if near else "")
        )
    return share.SharedDrivers(some, {})


def _sets(known: labels.LabelledShare, path: str) -> tuple[str, ...]:
    return known.labels[path].sets if path in known.labels else ()


def _said(known: labels.LabelledShare, path: str) -> tuple[str, str]:
    one = known.labels.get(path)
    if one is None:
        return "", ""
    older = " (said of an older version)" if path in known.carried and one.words else ""
    return ", ".join(one.sets), "; ".join(one.words) + older


def _table(
    out: Console, found: share.SharedDrivers, wanted: target.DriverTarget, folder: Path, known: labels.LabelledShare
) -> None:  # fmt: skip
    rows = found.rows
    labelled = any(row.path in known.labels for row in rows)
    show.grid(
        out,
        [
            (
                row.path,
                row.class_name,
                " ".join(filter(None, (row.version, row.date))),
                row.architectures,
                str(row.devices) if not row.trouble else "",
                row.signed,
                row.errors or row.trouble,
                *([" | ".join(filter(None, _said(known, row.path)))] if labelled else []),
            )
            for row in rows[:MAX_ROWS]
        ],
        heads=(
            "driver",
            "class",
            "version",
            "for",
            "devices",
            "signed",
            "wrong",
            *(["sets | said"] if labelled else []),
        ),
        styles=(None, "cyan", None, "dim", None, None, "red"),
    )
    if len(rows) > MAX_ROWS:
        out.print(f"  [dim]and {len(rows) - MAX_ROWS} more (--csv or --json has them all)[/dim]")
    show.section(out, f"{show.counted(len(found.drivers), 'driver')}, held against {show.clean(wanted.words)}")
    _summary(out, found, rows, known)
    wrong = [row.path for row in rows if row.errors]
    if wrong:
        out.print(f"\n[dim]next:[/dim] yendo read {show.clean(folder / wrong[0])}, which says what is wrong with it")


def _summary(
    out: Console, found: share.SharedDrivers, rows: list[share.DriverRow], known: labels.LabelledShare
) -> None:  # fmt: skip
    """What is the same, older, claimed twice, needed to start, labelled, unreadable."""
    lines = [
        (title, paths)
        for title, paths in (
            ("the same bytes", [" = ".join(group) for group in found.duplicates]),
            ("older than another", [f"{old} (newest: {new})" for old, new in found.older]),
            ("claimed by several", [f"{identifier} ({' and '.join(who)})" for identifier, who in found.claims.items()]),
            *(
                (f"a start-up image needs, {sort}", [row.path for row in rows if row.start == sort])
                for sort in ("storage", "network", "bus")
            ),
            ("in no set until labelled", list(known.passed)),
            ("labelled, and not there", list(known.gone)),
            ("unreadable", [f"{path}: {why}" for path, why in found.troubles.items()]),
        )
        if paths
    ]
    show.grid(
        out,
        [
            (
                title,
                f"{len(paths)}: " + "; ".join(paths[:6]) + (f" and {len(paths) - 6} more" if len(paths) > 6 else ""),
            )
            for title, paths in lines
        ],
        styles=("dim",),
    )


def _print(out: Console, found: Driver, options: argparse.Namespace) -> None:
    _head(out, found, verify=options.verify)
    _brings(out, found, everything=options.contents, why=options.why)
    show.section(out, "How it behaves")
    more = [
        *(("co-installer", text) for text in found.co_installers),
        *(("builds on", f"{name}, the system's own: not at hand") for name in found.system),
        ("isolated", "yes" if not found.isolated else f"no: {'; '.join(found.isolated[:6])}"),
    ]
    show.grid(out, more, styles=("dim",))
    if found.findings:
        show.section(out, "Findings")
        for finding in found.findings:
            show.finding(out, finding.level, finding.what, finding.advice, finding.id)
    if any(finding.level == "error" for finding in found.findings):
        out.print("\n[dim]next:[/dim] ask the vendor for a driver without these errors; as it is, Windows refuses it")
    else:
        out.print(f"\n[dim]next:[/dim] yendo draft WORKSPACE {show.clean(options.file.parent)}")


def _head(out: Console, found: Driver, *, verify: bool) -> None:
    """What it is and who vouches for it."""
    by = f" by {show.clean(found.provider)}" if found.provider else ""
    out.print(f"[bold]{show.clean(found.inf)} {show.clean(found.version)}[/bold]{by}")
    trust = found.trust
    seen = f", seen {trust.seen}" if trust.seen else ""
    rows = [
        ("class", f"{found.class_name or 'none'}" + (f", {found.class_words}" if found.class_words else "")),
        ("date", found.date or "not stated"),
        ("for", f"{', '.join(found.architectures) or 'no processor'}; read as {found.windows} takes it"),
        ("signature", trust.words),
        ("chain", " < ".join(trust.chain) + seen if trust.chain else ""),
        ("for systems", ", ".join(trust.systems)),
        ("start-up", f"a start-up image needs it: {found.start}" if found.start else ""),
        ("languages", ", ".join(f"0x{code:04x}" for code in found.languages)),
        ("sha256", found.sha256 if verify else ""),
    ]
    show.grid(out, [row for row in rows if row[1]], styles=("dim",))


def _brings(out: Console, found: Driver, *, everything: bool, why: bool) -> None:
    """Devices, files, services."""
    many = len(found.devices)
    most = many if everything else 16
    show.section(out, f"Devices: {many}" + (f", section {', '.join(found.models)}" if found.models else ""))
    show.grid(
        out,
        [
            (device.words, device.hardware, ", ".join(device.compatible), f"line {device.line}" if why else "")
            for device in found.devices[:most]
        ],
        styles=(None, "cyan", None, "dim"),
    )
    if many > most:
        out.print(f"  [dim]and {many - most} more (--contents lists them)[/dim]")
    if found.files:
        show.section(out, "Files")
        shown = found.files if everything else found.files[:32]
        show.grid(out, [(file.source, file.to, _where(file)) for file in shown], styles=(None, "dim", "red"))
    if found.services:
        show.section(out, "Services")
        rows = [(one.name, one.start, "in the kernel" if one.kernel else "", one.program) for one in found.services]
        show.grid(out, rows, styles=("cyan", None, None, "dim"))


def _where(file: DriverFile) -> str:
    return "" if file.there else "the system's own" if file.system else "MISSING"


def _catalogue(path: Path, options: argparse.Namespace) -> int:
    """What a catalogue lists, and which files beside it are in it."""
    catalogue = trust.opened(path.name, path)
    listed = catalogue.listed
    if listed is None:
        raise Unreadable(f"{path.name}: {catalogue.trouble}")
    beside = {name: place for name, place in reading.listing(path.parent).items() if place != path}
    digests = {name: trust.digests(place, catalogue.algorithms) for name, place in beside.items()}
    judged = trust.judge(catalogue, digests)
    if options.json:
        show.emit(
            {
                "schema": "yendo.security-catalogue/1",
                "made": listed.made,
                "members": len(listed.members),
                "trust": judged,
            }
        )
        return 0
    if options.quiet:
        return 0
    out = show.console()
    out.print(f"[bold]{show.clean(path.name)}[/bold], a signed list of {show.counted(len(listed.members), 'digest')}")
    show.grid(
        out,
        [
            ("made", listed.made),
            ("signature", judged.words),
            ("chain", " < ".join(judged.chain) + (f", seen {judged.seen}" if judged.seen else "")),
            ("for systems", ", ".join(judged.systems) or "not stated"),
            ("beside it", f"{len(judged.covered)} of {show.counted(len(beside), 'file')} are in it"),
            *([("changed since", ", ".join(judged.altered))] if judged.altered else []),
            *(
                [("not in it", ", ".join(judged.uncovered[:12]) + (" ..." if len(judged.uncovered) > 12 else ""))]
                if judged.uncovered
                else []
            ),
            *(("wrong", problem) for problem in judged.problems),
        ],
        styles=("dim",),
    )
    return 0


def _start_up(found: share.SharedDrivers, options: argparse.Namespace) -> int:
    """The set for a start-up image, written into a new folder."""
    chosen = start_up.chosen(found)
    start_up.write(chosen, options.start_up)
    if options.json:
        show.emit({"schema": "yendo.start-up-set/1", "taken": list(chosen.taken), "left_out": chosen.left_out})
    elif not options.quiet:
        out = show.console()
        out.print(f"{show.counted(len(chosen.taken), 'driver')} in {show.clean(options.start_up)}")
        rows = [(path, driver.start, driver.class_words, driver.version) for path, driver in chosen.taken.items()]
        show.grid(out, rows, styles=(None, "cyan", "dim", None))
        if chosen.left_out:
            show.section(out, "Left out")
            show.grid(out, list(chosen.left_out.items()), styles=("yellow", None))
        out.print(f"\n[dim]next:[/dim] mount the image, then {start_up.SCRIPT} with its folder")
    return 0


def _ranked(drivers: dict[str, Driver], options: argparse.Namespace) -> int:
    """Which driver a device gets, of those at hand."""
    hardware, _, compatible = options.device.partition(";")
    wanted = ranking.DeviceIdentifiers(
        tuple(filter(None, map(str.strip, hardware.split(",")))),
        tuple(filter(None, map(str.strip, compatible.split(",")))),
    )
    if not wanted.hardware and not wanted.compatible:
        raise Usage("--device takes identifiers, the nearest first: --device 'USB\\VID_FFFE&PID_0021'")
    found = ranking.rank(drivers.values(), wanted)
    paths = {driver.path: path for path, driver in drivers.items()}
    rows = []
    for number, one in enumerate(found.base, 1):
        above = found.base[number - 2]
        same = one.driver.content == above.driver.content
        behind = f"the same bytes as {number - 1}" if same else f"loses to {number - 1}: {ranking.why(above, one)}"
        reason = "the best of these" if number == 1 else behind
        rows.append((str(number), paths[one.driver.path], one.driver.version, one.driver.date, one.identifier, reason))
    beside = [(paths[one.driver.path], one.driver.version, one.identifier) for one in found.extensions]
    if options.json:
        show.emit(
            {
                "schema": "yendo.ranking/1",
                "device": wanted,
                "drivers": [
                    dict(zip(("rank", "path", "version", "date", "identifier", "reason"), row, strict=True))
                    for row in rows
                ],
                "extensions": beside,
                "unknown": "what the system itself brings",
            }
        )
    elif not options.quiet:
        out = show.console()
        out.print(f"[bold]{show.clean(', '.join(wanted.hardware + wanted.compatible))}[/bold]")
        if rows:
            heads = ("", "driver", "version", "date", "identifier", "")
            show.grid(out, rows, heads=heads, styles=("bold", None, None, None, "cyan", "dim"))
        else:
            out.print("  none of these is for it")
        if beside:
            show.section(out, "Extensions, added to it")
            show.grid(out, beside, styles=(None, None, "cyan"))
        out.print("\n[dim]What the system itself brings is not at hand: a driver of its own may still win.[/dim]")
    return 0 if rows else 1
