"""Say what an installer is and does, without running any of it.

yendo read lantern-6.2.1.msi
yendo read lantern-6.2.1.msi --why
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.console import Console

    from yendo.installers.account import Account


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", type=Path, metavar="FILE", help="the vendor's installer")
    parser.add_argument("--effects", action="store_true", help="list every effect")
    parser.add_argument("--why", action="store_true", help="show where each value comes from")
    parser.add_argument("--verify", action="store_true", help="read the whole file: its hash, and whether the signature's digest holds")


def run(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.installers.recognise import read

    account = read(options.file, verify=options.verify)
    if options.json:
        show.emit(document(account, effects=options.effects))
    elif not options.quiet:
        _print(show.console(), account, options)
    return 0


def document(account: Account, *, effects: bool) -> dict[str, Any]:
    """The stable JSON form."""
    import msgspec

    from yendo.effects.effect import counts
    from yendo.installers.account import SCHEMA

    body = msgspec.to_builtins(account)
    why = body.pop("why")
    listed = body.pop("effects")
    body = {"schema": SCHEMA, **body, "effects": {"counts": counts(account.effects)}, "why": why}
    if effects:
        body["effects"]["list"] = listed
    return body


def _print(out: Console, account: Account, options: argparse.Namespace) -> None:
    from yendo.cli.show import clean, counted, grid, section, size, told
    from yendo.effects.effect import counts
    from yendo.effects.things import label

    identity, signature = account.identity, account.signature
    signed = "not signed" if not signature or not signature.signed else f"signed by {signature.signer or 'an unreadable certificate'}"
    if signature and signature.digest_holds is not None:
        signed += ", the digest holds" if signature.digest_holds else ", BUT THE FILE HAS CHANGED SINCE"
    out.print(
        f"[bold]{clean(identity.name or account.file.name)} {clean(identity.version or '')}[/bold]"
        f"{' by ' + clean(identity.publisher) if identity.publisher else ''}"
    )
    scope = {"machine": "for everyone on the machine", "user": "for the user who runs it"}.get(identity.scope or "", identity.scope or "")
    grid(
        out,
        [
            ("file", f"{account.file.name}, {account.family}, {size(account.file.size)}, {signed}"),
            ("for", ", ".join(part for part in (identity.architecture, identity.language, scope) if part)),
            ("product code", identity.product_code or "none"),
            ("upgrade code", identity.upgrade_code or "none: it will never upgrade an older one by itself"),
            *([("sha256", account.file.sha256)] if account.file.sha256 else []),
            *([("says of itself", account.says_of_itself)] if account.says_of_itself else []),
        ],
        styles=("dim",),
    )
    section(out, "Silent command lines")
    grid(
        out,
        [(name, command.command, command.confidence) for name in ("install", "uninstall", "repair") if (command := getattr(account.silent, name))],
        styles=("dim", "cyan"),
    )
    if account.refused:
        out.print(f"\n[red]On a fresh machine it refuses:[/red] {clean(account.refused)}")
    if account.conditions or account.needs:
        section(out, "Asks for")
        grid(
            out,
            [*((need, "") for need in account.needs), *((condition.in_words, f"else: {condition.message}") for condition in account.conditions)],
            styles=(None, "dim"),
        )
    if account.properties:
        shown = [entry for entry in account.properties if entry.in_silence]
        section(out, "Properties you can set")
        rows = [(entry.name, "unset" if entry.default is None else entry.default, ", ".join(entry.used_in)) for entry in shown]
        if rows:
            grid(out, rows, heads=("name", "default", "used in"), styles=("cyan", None, "dim"))
        if more := len(account.properties) - len(shown):
            out.print(f"  [dim]{counted(more, 'other')} that only dialogs and messages refer to, or nothing does (--json lists them)[/dim]")
    if account.payload:
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
                    f"{medium.kind}, {size(medium.size)}" if medium.present else f"{medium.kind}, MISSING beside the installer",
                    "",
                )
                for medium in account.payload.media
            ][:20],
            styles=("dim",),
        )
    if account.processes:
        section(out, "Programs of its own")
        grid(out, [(", ".join(account.processes),)])
    section(out, "What it does to a fresh machine")
    grid(out, [(told(counts(account.effects)) or "nothing that can be told without running it",)])
    if options.effects:
        grid(
            out,
            [(effect.change, effect.kind, label(effect.thing), str(effect.evidence) if options.why else "") for effect in account.effects],
            styles=("dim", "dim", None, "dim"),
        )
    if account.blind_spots:
        section(out, "Blind spots")
        grid(out, [(spot.what, spot.why, spot.evidence.where if options.why else "") for spot in account.blind_spots], styles=("yellow", None, "dim"))
    if options.why:
        section(out, "Why")
        values = {
            **{name: str(evidence) for name, evidence in account.why.items()},
            **{f"silent.{name}": str(command.evidence) for name in ("install", "uninstall", "repair") if (command := getattr(account.silent, name))},
            **{f"condition {at + 1}": str(condition.evidence) for at, condition in enumerate(account.conditions)},
        }
        grid(out, list(values.items()), styles=("dim",))
    if account.family == "msi" and any(entry.in_silence for entry in account.properties):
        out.print(
            f"\n[dim]next:[/dim] yendo msi properties {clean(options.file)}, to see what each changes; then yendo draft FOLDER {clean(options.file)}"
        )
    else:
        out.print(f"\n[dim]next:[/dim] yendo draft FOLDER {clean(options.file)}")
