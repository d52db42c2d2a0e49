"""``yendo read`` of a package, a bundle or a program for macOS."""

from __future__ import annotations

import argparse
from collections import Counter
from typing import TYPE_CHECKING

import msgspec

from yendo.cli import show
from yendo.mac import bundles, older, reading
from yendo.mac.app import SCHEMA as APP_SCHEMA
from yendo.mac.app import MacApp, MacCode
from yendo.mac.package import SCHEMA, MacComponent, MacFinding, MacPackage

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from rich.console import Console

    from yendo.mac.images import MacImage

MAX_FINDINGS, MAX_ITEMS = 40, 24
_FORMS = {"distribution": "distribution", "component": "component", "older": "package of the older form"}


def run(options: argparse.Namespace) -> int:
    if options.extract:
        return _taken_out(options)
    older_form = options.file.is_dir()
    found = (older if older_form else reading).read(options.file, listing=options.listing)
    if options.json:
        show.emit({"schema": SCHEMA, **msgspec.to_builtins(found)})
    elif options.script and not options.quiet:
        out = show.console()
        for component in found.components:
            for script in component.scripts:
                show.section(out, f"{script.when} of {show.clean(component.identifier)}")
                out.print(show.clean(script.text.replace("\r\n", "\n")).replace("\ufffd", "\n"), soft_wrap=True)
    elif not options.quiet:
        _print(show.console(), found, options)
    return 0


def _taken_out(options: argparse.Namespace) -> int:
    from yendo import atomic
    from yendo.installers.extract import is_free
    from yendo.mac import unpacking

    is_free(options.extract)
    with atomic.folder(options.extract) as work:
        count, size = unpacking.extract(options.file, work)
    if not options.quiet:
        words = f"{show.counted(count, 'file')}, {show.size(size)}, in {show.clean(options.extract)}"
        show.console().print(f"{words}; owners and groups are not kept, yendo read --contents tells them")
    return 0


def run_app(options: argparse.Namespace) -> int:
    """A bundle, or a program by itself."""
    found = bundles.read(options.file) if options.file.is_dir() else bundles.program(options.file)
    if options.json:
        show.emit({"schema": APP_SCHEMA, **msgspec.to_builtins(found)})
    elif not options.quiet:
        _app(show.console(), found, everything=options.contents)
    return 0


def _behind(main: MacCode) -> Iterator[tuple[str, str]]:
    """Who stands behind a program."""
    yield "signed", main.words
    yield "team", main.team
    yield "chain", " < ".join(main.chain) if len(main.chain) > 1 else ""


def _programs_in(out: Console, found: MacApp, *, everything: bool) -> None:
    """Programs and libraries of a bundle beside its main one."""
    show.section(out, f"Programs and libraries in it: {len(found.code) - 1}")
    inside = [(one.path, ", ".join(one.processors), one.words) for one in found.code[1:]]
    show.grid(out, inside if everything else inside[:MAX_ITEMS], styles=(None, "dim", "dim"))
    if len(inside) > MAX_ITEMS and not everything:
        out.print(f"  [dim]and {len(inside) - MAX_ITEMS} more (--contents lists them)[/dim]")


def _app(out: Console, found: MacApp, *, everything: bool, medium: str = "") -> None:
    version = found.version or found.build
    out.print(f"[bold]{show.clean(found.name)} {show.clean(version)}[/bold]".replace(" [/bold]", "[/bold]"))
    main = found.code[0] if found.code else None
    sealed = {"none": "not sealed", "whole": "every file is as it was sealed", "broken": "NOT AS IT WAS SEALED"}
    rows = [
        ("identifier", found.identifier or "none"),
        ("build", found.build if found.build != version else ""),
        ("for", ", ".join(main.processors) if main else "no program in it"),
        ("oldest", f"macOS {found.oldest}" if found.oldest else "not stated"),
        *(_behind(main) if main else ()),
        ("seal", sealed[found.sealed] if found.file.endswith(".app") else ""),
        ("notary", "a ticket is stapled on" if found.ticket else ""),
    ]
    show.grid(out, [one for one in rows if one[1]], styles=("dim",))
    if len(found.code) > 1:
        _programs_in(out, found, everything=everything)
    if found.asks:
        show.section(out, "What has to be allowed")
        show.grid(out, found.asks, styles=("cyan", "dim"))
    _findings(out, found.findings)
    if medium or found.file.endswith(".app"):
        out.print(f"\n[dim]next:[/dim] yendo draft FOLDER {show.clean(medium or found.file)} starts a package of it")


def _extracted(options: argparse.Namespace) -> int:
    from yendo import atomic
    from yendo.installers.extract import is_free
    from yendo.mac import images

    is_free(options.extract)
    with images.opened(options.file) as (volume, _), atomic.folder(options.extract) as work:
        items = volume.items()
        images.extract(volume, items, work)
    if not options.quiet:
        files = [item for item in items if item.kind == "file"]
        total = show.size(sum(item.size for item in files))
        show.console().print(f"{show.counted(len(files), 'file')}, {total}, in {show.clean(options.extract)}")
    return 0


def run_image(options: argparse.Namespace) -> int:
    """A disk image: what lies on its volume, and the bundles and packages among it."""
    from yendo.mac import images

    if options.extract:
        return _extracted(options)
    found = images.read(options.file, listing=options.listing)
    if options.json:
        show.emit({"schema": images.SCHEMA, **msgspec.to_builtins(found)})
        return 0
    if options.quiet:
        return 0
    out = show.console()
    files = [item for item in found.items if item.kind == "file"]
    packed = ", ".join(found.packings) or "none"
    size = show.size(sum(item.size for item in files))
    out.print(
        f"[bold]{show.clean(found.file)}[/bold], a disk image for macOS with {show.counted(len(files), 'file')}, {size}"
    )
    rows = [("volume", found.volume or "without a name"), ("packed", packed)]
    show.grid(out, [*rows, *([("licence", "one is shown before it opens")] if found.licence else [])], styles=("dim",))
    for name, problem in found.trouble:
        out.print(f"   [yellow]not read:[/yellow] {show.clean(name)}: {show.clean(problem)}")
    for app in found.apps:
        out.print()
        _app(out, app, everything=options.contents, medium=found.file)
    for package in found.packages:
        out.print()
        _print(out, package, options)
    if options.contents:
        _volume(out, found)
    if not (found.apps or found.packages):
        out.print("\n[dim]next:[/dim] --contents lists its files; --extract DIR takes them out")
    return 0


def _volume(out: Console, found: MacImage) -> None:
    show.section(out, "On the volume")
    grid = [
        (
            f"{item.mode:04o}",
            f"{item.user}:{item.group}",
            item.kind if item.kind != "file" else show.size(item.size),
            item.path,
        )
        for item in found.items
    ]
    show.grid(out, grid, styles=("dim", "dim", "dim", None))


def _findings(out: Console, findings: Sequence[MacFinding]) -> None:
    if not findings:
        return
    counts: Counter[str] = Counter(finding.level for finding in findings)
    words = ", ".join(show.counted(counts[level], level) for level in ("error", "warning", "note") if counts[level])
    show.section(out, f"Findings: {words}")
    for finding in findings[:MAX_FINDINGS]:
        where = f"{finding.where}: " if finding.where else ""
        show.finding(out, finding.level, where + finding.what, finding.advice, finding.id)
    if len(findings) > MAX_FINDINGS:
        out.print(f"  [dim]and {len(findings) - MAX_FINDINGS} more (--json has them all)[/dim]")


def _print(out: Console, found: MacPackage, options: argparse.Namespace) -> None:
    out.print(f"[bold]{show.clean(found.title or found.identifier or found.file)} {show.clean(found.version)}[/bold]")
    show.grid(
        out,
        [
            ("file", f"{found.file}, a {_FORMS[found.form]} for macOS, {found.signature.words}"),
            *([("chain", " < ".join(found.signature.chain))] if len(found.signature.chain) > 1 else []),
            ("identifier", found.identifier or "none"),
            ("for", ", ".join(found.architectures) or "no processor stated"),
            ("oldest", f"macOS {found.oldest}" if found.oldest else "not stated"),
            *(("checks", text) for text in found.checks),
        ],
        styles=("dim",),
    )
    for component in found.components:
        _component(out, component, everything=options.contents)
    if found.choices:
        show.section(out, "Choices")
        rows = [(one.identifier, one.title, ", ".join(one.packages), one.selected) for one in found.choices]
        show.grid(out, rows, heads=("", "", "installs", "selected"), styles=("cyan", None, None, "dim"))
    _findings(out, found.findings)
    scripts = any(component.scripts for component in found.components)
    more = "yendo read --script shows its scripts; " if scripts else ""
    out.print(f"\n[dim]next:[/dim] {more}yendo draft FOLDER {show.clean(found.file)} carries it in a package of yours")


def _component(out: Console, component: MacComponent, *, everything: bool) -> None:
    show.section(out, f"{show.clean(component.identifier or 'a component')} {show.clean(component.version)}")
    files = [item for item in component.items if item.kind == "file"]
    total = show.size(sum(item.size for item in files))
    show.grid(
        out,
        [
            (
                "payload",
                f"{show.counted(len(files), 'file')}, {total}, into {component.location}"
                if component.items
                else "none",
            ),
            ("runs as", "root" if component.as_root else "who installs it"),
            *([("afterwards", component.restart)] if component.restart else []),
            *(("bundle", f"{one.path}  {one.identifier} {one.version}") for one in component.bundles[:8]),
            *(("launchd", item.path) for item in component.starts),
            *(
                (script.when, f"{script.interpreter or 'no interpreter'}, {len(script.text.splitlines())} lines")
                for script in component.scripts
            ),
            *([("not read", component.trouble)] if component.trouble else []),
        ],
        styles=("dim",),
    )
    shown = component.items if everything else component.items[:MAX_ITEMS]
    show.grid(
        out,
        [
            (
                item.mode,
                f"{item.user}:{item.group}",
                show.size(item.size) if item.kind == "file" else item.kind,
                item.path + (f" -> {item.target}" if item.target else ""),
            )
            for item in shown
        ],
        styles=("dim", "dim", "dim", None),
    )
    if len(component.items) > len(shown):
        out.print(f"  [dim]and {len(component.items) - len(shown)} more (--contents lists them)[/dim]")
