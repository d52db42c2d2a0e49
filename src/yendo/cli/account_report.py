"""What is read of an installer, for people and as a document."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Iterable

    from rich.console import Console

    from yendo.drivers.inside import DriversInside
    from yendo.installers.account import Content, InstallerAccount


def document(account: InstallerAccount, *, effects: bool, path: Path | None = None) -> dict[str, Any]:
    """The stable JSON form. ``path`` is the file, where the drivers in it are told as well."""
    import msgspec

    from yendo.effects.effect import counts
    from yendo.installers.account import SCHEMA

    body = msgspec.to_builtins(account)
    why = body.pop("why")
    listed = body.pop("effects")
    body = {"schema": SCHEMA, **body, "effects": {"counts": counts(account.effects)}, "why": why}
    found = _drivers_in(account, path) if path is not None else None
    if found is not None and found.drivers:
        body["drivers"] = msgspec.to_builtins(list(found.drivers.values()))
    if effects:
        body["effects"]["list"] = listed
    return body


def shown(out: Console, account: InstallerAccount, options: argparse.Namespace) -> None:
    """Everything that is known of an installer, for a person."""
    from yendo.cli.show import clean

    _head(out, account)
    _lines(out, account)
    _asked(out, account)
    if account.properties:
        _properties(out, account)
    _inside(out, account, everything=options.contents)
    _drivers(out, account, options.file)
    _done(out, account, options)
    if options.why:
        _reasons(out, account)
    out.print(f"\n[dim]next:[/dim] {_next(account, clean(options.file))}")


def _head(out: Console, account: InstallerAccount) -> None:
    from yendo.cli.show import clean, grid, size

    identity, signature = account.identity, account.signature
    signed = (
        "not signed"
        if not signature or not signature.signed
        else f"signed by {signature.signer or 'an unreadable certificate'}"
    )
    if signature and signature.digest_holds is not None:
        signed += ", the digest holds" if signature.digest_holds else ", BUT THE FILE HAS CHANGED SINCE"
    out.print(
        f"[bold]{clean(identity.name or account.file.name)} {clean(identity.version or '')}[/bold]"
        f"{' by ' + clean(identity.publisher) if identity.publisher else ''}"
    )
    scope = {"machine": "for everyone on the machine", "user": "for the user who runs it"}.get(
        identity.scope or "", identity.scope or ""
    )
    grid(
        out,
        [
            ("file", f"{account.file.name}, {account.family}, {size(account.file.size)}, {signed}"),
            (
                "for",
                ", ".join(part for part in (identity.architecture, identity.language, scope) if part) + _stub(account),
            ),
            *_codes(account),
            *([("family", f"{account.family}: {account.why['family']}")] if account.program else []),
            *(
                [
                    (
                        "chain",
                        " < ".join(signature.chain) + (f", seen {signature.timestamp}" if signature.timestamp else ""),
                    )
                ]
                if signature and signature.chain
                else []
            ),
            *([("sha256", account.file.sha256)] if account.file.sha256 else []),
            *([("says of itself", account.says_of_itself)] if account.says_of_itself else []),
        ],
        styles=("dim",),
    )


def _lines(out: Console, account: InstallerAccount) -> None:
    """Its command lines, switches, and how it behaves."""
    from yendo.cli.show import grid, section

    section(out, "Silent command lines")
    if account.silent.install is None:
        out.print("  none is known from reading")
    grid(
        out,
        [
            (
                name,
                command.command,
                command.confidence + (f"; then wait for {', '.join(command.wait_for)}" if command.wait_for else ""),
            )
            for name in ("install", "uninstall", "repair")
            if (command := getattr(account.silent, name))
        ],
        styles=("dim", "cyan"),
    )
    if account.switches:
        section(out, "Switches")
        grid(
            out,
            [(entry.switch, entry.meaning, entry.confidence) for entry in account.switches[:16]],
            styles=("cyan", None, "dim"),
        )
    if account.behaviour:
        section(out, "How it behaves")
        grid(
            out,
            [(entry.name, entry.value, entry.confidence) for entry in account.behaviour],
            styles=("dim", None, "dim"),
        )
    if account.program and (rows := list(_listed(account))):
        section(out, "In the list of programs")
        grid(out, rows, styles=("dim",))


def _asked(out: Console, account: InstallerAccount) -> None:
    """What it asks of a machine."""
    from yendo.cli.show import clean, grid, section

    if account.refused:
        out.print(f"\n[red]On a fresh machine it refuses:[/red] {clean(account.refused)}")
    if account.conditions or account.needs:
        section(out, "Asks for")
        grid(
            out,
            [
                *((need, "") for need in account.needs),
                *((condition.in_words, f"else: {condition.message}") for condition in account.conditions),
            ],
            styles=(None, "dim"),
        )


def _properties(out: Console, account: InstallerAccount) -> None:
    from yendo.cli.show import counted, grid, section

    shown = [entry for entry in account.properties if entry.in_silence]
    section(out, "Properties you can set")
    rows = [
        (entry.name, "unset" if entry.default is None else entry.default, ", ".join(entry.used_in)) for entry in shown
    ]
    if rows:
        grid(out, rows, heads=("name", "default", "used in"), styles=("cyan", None, "dim"))
    if more := len(account.properties) - len(shown):
        out.print(
            f"  [dim]{counted(more, 'other')} that only dialogs and messages refer to, or nothing does (--json "
            "lists them)[/dim]"
        )


def _inside(out: Console, account: InstallerAccount, *, everything: bool) -> None:
    """What lies in it: features and media, or the tree of a program."""
    from yendo.cli.show import counted, grid, section, size

    if account.payload and not account.contents:
        section(out, f"Contents: {counted(account.payload.files, 'file')}, {size(account.payload.size)}")
        grid(
            out,
            [
                (
                    "feature",
                    f"{feature.id}" + (f" (below {feature.parent})" if feature.parent else ""),
                    "installed" if feature.by_default else "left out by default",
                    feature.title,
                )
                for feature in account.payload.features
            ]
            + [
                (
                    "media",
                    medium.name,
                    f"{medium.kind}, {size(medium.size)}"
                    if medium.present
                    else f"{medium.kind}, MISSING beside the installer",
                    "",
                )
                for medium in account.payload.media
            ][:20],
            styles=("dim",),
        )
    if account.contents:
        rows = list(_tree(account.contents))
        most = len(rows) if everything else 16
        section(out, f"Inside: {counted(account.payload.files if account.payload else 0, 'file')}")
        grid(
            out,
            rows[:most],
            styles=(None, "dim", "dim", "cyan", "yellow"),
            heads=("name", "size", "offset", "family", ""),
        )
        if len(rows) > most:
            out.print(f"  [dim]and {len(rows) - most} more (--contents lists them)[/dim]")


def _drivers_in(account: InstallerAccount, path: Path) -> DriversInside | None:
    """None where the file names none: most do, and then nothing of that room is loaded."""
    if account.program is not None and _any_driver(account.contents):
        from yendo.drivers import inside

        return inside.of_setup(path, account.contents)
    if account.family != "msi" or not any(effect.thing.identity.endswith(".inf") for effect in account.effects):
        return None
    from yendo.drivers import inside

    return inside.of_database(path, account.effects)


def _any_driver(contents: Iterable[Content]) -> bool:
    return any(one.name.lower().endswith(".inf") or _any_driver(one.contents) for one in contents)


def _drivers(out: Console, account: InstallerAccount, path: Path) -> None:
    """The drivers that a database brings, and what Windows will say to them."""
    from yendo.cli.show import clean, grid, section

    found = _drivers_in(account, path)
    if found is None or not (found.drivers or found.trouble):
        return
    section(out, "Drivers in it")
    grid(
        out,
        [
            (
                driver.inf,
                driver.class_words,
                " ".join(filter(None, (driver.version, driver.date))),
                driver.trust.words,
                ", ".join(finding.id for finding in driver.findings if finding.level != "note"),
            )
            for driver in found.drivers.values()
        ],
        styles=("cyan", None, None, "dim", "yellow"),
    )
    for driver in found.drivers.values():
        for finding in driver.findings:
            if finding.level != "note":
                out.print(f"  [dim]{clean(driver.inf)}: {clean(finding.what)}; {clean(finding.advice)}[/dim]")
    if found.trouble:
        out.print(f"  [yellow]not all of them could be looked at:[/yellow] {clean(found.trouble)}")


def _done(out: Console, account: InstallerAccount, options: argparse.Namespace) -> None:
    """What it does to a machine, and what nobody can tell."""
    from yendo.cli.show import grid, section, told
    from yendo.effects.effect import counts
    from yendo.effects.things import label

    if account.processes:
        section(out, "Programs of its own")
        grid(out, [(", ".join(account.processes),)])
    section(out, "What it does to a fresh machine")
    grid(out, [(told(counts(account.effects)) or "nothing that can be told without running it",)])
    if options.effects:
        grid(
            out,
            [
                (effect.change, effect.kind, label(effect.thing), str(effect.evidence) if options.why else "")
                for effect in account.effects
            ],
            styles=("dim", "dim", None, "dim"),
        )
    if account.blind_spots:
        section(out, "Blind spots")
        grid(
            out,
            [(spot.what, spot.why, spot.evidence.where if options.why else "") for spot in account.blind_spots],
            styles=("yellow", None, "dim"),
        )


def _reasons(out: Console, account: InstallerAccount) -> None:
    """The evidence of every value."""
    from yendo.cli.show import grid, section

    section(out, "Why")
    values = {
        **{name: str(evidence) for name, evidence in account.why.items()},
        **{
            f"silent.{name}": str(command.evidence)
            for name in ("install", "uninstall", "repair")
            if (command := getattr(account.silent, name))
        },
        **{f"condition {at + 1}": str(condition.evidence) for at, condition in enumerate(account.conditions)},
    }
    grid(out, list(values.items()), styles=("dim",))


def _listed(account: InstallerAccount) -> Any:
    """The uninstall entry that it will write, with the quiet form of its command even where the vendor writes none."""
    from yendo.effects import UninstallEntry

    for effect in account.effects:
        entry = effect.thing
        if isinstance(entry, UninstallEntry):
            yield "name", " ".join(filter(None, (entry.name, entry.version)))
            yield "key", f"{entry.hive}, {entry.view}-bit view, ...\\Uninstall\\{entry.key}"
            yield (
                "uninstall",
                entry.uninstall or "none of its own; the Windows Installer removes it by its product code",
            )
            quiet = account.silent.uninstall.command if account.silent.uninstall else None
            yield "quietly", entry.quiet_uninstall or quiet or "not known from reading"


def _codes(account: InstallerAccount) -> list[tuple[str, str]]:
    identity = account.identity
    if account.family == "msi":
        missing = "none: it will never upgrade an older one by itself"
        return [("product code", identity.product_code or "none"), ("upgrade code", identity.upgrade_code or missing)]
    return [
        (title, code)
        for title, code in (("product code", identity.product_code), ("upgrade code", identity.upgrade_code))
        if code
    ]


def _stub(account: InstallerAccount) -> str:
    program = account.program
    return (
        f"; the setup program itself is for {program.stub}"
        if program and program.stub != account.identity.architecture
        else ""
    )


def _tree(contents: tuple[Content, ...], depth: int = 0) -> Any:
    """The contents as rows, each level indented."""
    from yendo.cli.show import size

    for content in contents:
        yield (
            "  " * depth + content.name,
            size(content.size)
            if content.size is not None
            else f"{size(content.packed)} packed"
            if content.packed
            else "",
            "" if content.offset is None else str(content.offset),
            content.family or "",
            content.note,
        )
        yield from _tree(content.contents, depth + 1)


def _next(account: InstallerAccount, file: str) -> str:
    if account.family == "msi" and any(entry.in_silence for entry in account.properties):
        return f"yendo msi properties {file}, to see what each changes; then yendo draft FOLDER {file}"
    if account.family in ("msi", "msix"):
        return f"yendo draft FOLDER {file}"
    install = account.silent.install
    if install is None or install.confidence != "certain":
        return f"yendo try {file}, which runs it on a fresh machine and says what is true"
    trial = f"; or yendo try {file}, to see it proved" if account.program else ""
    return f"yendo draft FOLDER {file}{trial}"
