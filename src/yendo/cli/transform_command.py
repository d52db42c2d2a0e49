"""Read, judge, make and carry over transforms.

yendo transform show site.mst lantern-6.2.1.msi
yendo transform make lantern -o site.mst
yendo transform move site.mst lantern-6.2.1.msi lantern-6.2.3.msi -o site-6.2.3.mst
"""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import nested
from yendo.cli.nested import existing

if TYPE_CHECKING:
    from yendo.formats.msi import Database
    from yendo.formats.msi.transform import Transform
    from yendo.installers.msi.combining import Combined


def configure(parser: argparse.ArgumentParser) -> None:
    nested.actions(parser, ACTIONS)


def run(options: argparse.Namespace) -> int:
    return int(options.run_action(options))


@contextmanager
def _base(path: Path) -> Iterator[Database]:
    from yendo.formats.msi import Database

    existing(path)
    with Database(path) as database:
        yield database


def _read(path: Path, base: Database) -> Transform:
    from yendo.errors import Usage
    from yendo.formats.msi import transform
    from yendo.installers.recognise import recognise

    existing(path)
    family = recognise(path)
    if family == "msi-patch":
        raise Usage(f"{path.name} is a patch; see `yendo patch show {path}`")
    return transform.read(path, base)


def _save(transform: Transform, target: Path) -> None:
    from yendo import atomic
    from yendo.errors import Usage
    from yendo.formats.msi import transform as form

    try:
        with atomic.writing(target) as file:
            form.write(transform, file)
    except ValueError as error:
        raise Usage(f"{target.name} cannot be written: {error}") from error


def _two(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mst", type=Path, metavar="MST", help="the transform")
    parser.add_argument("file", type=Path, metavar="MSI", help="the installer it goes onto")


def _show_options(parser: argparse.ArgumentParser) -> None:
    _two(parser)
    parser.add_argument("--all", action="store_true", help="rows that only go along with others, too")
    parser.add_argument("--why", action="store_true", help="the table and key of each")


def show_(options: argparse.Namespace) -> int:
    """Say in words what a transform changes, whether it fits, what is risky, and what it does to a machine.

    yendo transform show site.mst lantern-6.2.1.msi
    """
    from yendo.cli import show
    from yendo.formats.msi.overlay import Overlay
    from yendo.installers.msi import changes, describe, engine, fitting, influence
    from yendo.platforms.windows.surroundings import windows

    with _base(options.file) as base:
        found = _read(options.mst, base)
        told, fit, target = changes.in_words(base, found), fitting.fit(base, found), fitting.made_for(found.summary)
        around = windows()
        runs = [
            engine.run(side, around, describe.baseline(around), remember=False)
            for side in (base, Overlay(base, [found]))
        ]
        effects = influence.compare_outcomes("", False, runs[0], runs[1])
    if options.json:
        show.emit(
            {
                "schema": "yendo.transform/1",
                "made_for": nested.builtins(target),
                "fits": fit.fits,
                "fit": {
                    "refused": fit.refused,
                    "problems": [str(problem) for problem in fit.problems],
                    "doubts": fit.doubts,
                    "undecoded": dict(fit.undecoded),
                },
                "changes": nested.builtins(told),
                "effects": nested.builtins(effects),
                "streams": {name: stream.size for name, stream in found.streams.items()},
            }
        )
    elif not options.quiet:
        out = show.console()
        made = f"made for {target.product} {target.version}" if target else "does not say what it was made for"
        out.print(
            f"[bold]{show.clean(options.mst.name)}[/bold] on {show.clean(options.file.name)}: "
            f"{show.clean(fit.in_words)}  [dim]({made})[/dim]"
        )
        for doubt in fit.doubts:
            out.print(f"  [yellow]{show.clean(doubt)}[/yellow]")
        show.section(out, "What it changes")
        nested.change_rows(out, told, everything=options.all, why=options.why)
        show.section(out, "On a fresh machine it")
        out.print(f"   {show.clean(nested.effect_words(effects))}")
        for verb, some in (("adds", effects.added), ("leaves out", effects.left_out), ("changes", effects.changed)):
            if some:
                show.grid(out, [(verb, nested.things(some, 6))], styles=("dim",))
    return 0 if fit.fits else 1


def fits(options: argparse.Namespace) -> int:
    """Judge whether a transform goes onto an installer, and which of its changes have no target.

    yendo transform fits site.mst lantern-6.2.3.msi
    """
    from yendo.cli import show
    from yendo.installers.msi import fitting

    with _base(options.file) as base:
        found = _read(options.mst, base)
        fit = fitting.fit(base, found)
    lost = [str(problem) for problem in fit.problems] + [f"{table}: {why}" for table, why in fit.undecoded.items()]
    if options.json:
        show.emit(
            {
                "schema": "yendo.transform.fits/1",
                "fits": fit.fits,
                "refused": fit.refused,
                "without_target": lost,
                "doubts": fit.doubts,
                "changes": fit.changes,
            }
        )
    elif not options.quiet:
        out = show.console()
        out.print(show.clean(fit.in_words))
        if fit.refused:
            still = fit.changes - len(lost)
            out.print(
                f"   {still} of its {fit.changes} changes would have a target; the Windows Installer refuses it all "
                "the same, with 1624"
            )
        show.grid(out, [("no target", text) for text in lost], styles=("red",))
        show.grid(out, [("look", text) for text in fit.doubts], styles=("yellow",))
        if not fit.fits:
            out.print(
                f"\n[dim]next:[/dim] yendo transform move {show.clean(options.mst)} OLD.msi "
                f"{show.clean(options.file)} -o NEW.mst"
            )
    return 0 if fit.fits else 1


def _output(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("-o", "--output", type=Path, required=True, metavar="FILE", help="the file to write")


def _make_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("workspace", type=Path, metavar="WORKSPACE", help="a workspace whose plan has changes")
    parser.add_argument("--step", type=int, metavar="N", help="which install step, where several have changes (from 1)")
    _output(parser)


def make(options: argparse.Namespace) -> int:
    """Write the transform of a plan's changes, as a build does.

    yendo transform make lantern -o site.mst
    """
    from yendo import atomic
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.plan import MsiStep, read
    from yendo.steps import transforms

    plan, _ = read(options.workspace / "plan.toml")
    steps = {at: step for at, step in enumerate(plan.install, 1) if isinstance(step, MsiStep) and step.change}
    if options.step is not None:
        steps = {at: step for at, step in steps.items() if at == options.step}
    if len(steps) != 1:
        raise Usage(
            f"{'no install step has' if not steps else 'several install steps have'} changes; "
            + ("add [[install.change]] to one" if not steps else f"choose one by --step: {', '.join(map(str, steps))}")
        )
    data = transforms.made(options.workspace.resolve(), next(iter(steps.values())))
    atomic.write(options.output, data)
    if options.json:
        show.emit({"schema": "yendo.transform.make/1", "written": str(options.output), "size": len(data)})
    elif not options.quiet:
        step = next(iter(steps.values()))
        show.console().print(
            f"[bold]{show.clean(options.output)}[/bold] written, {show.size(len(data))}, for {show.clean(step.media)}"
        )
    return 0


def _apply_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", type=Path, metavar="MSI")
    parser.add_argument("mst", type=Path, nargs="+", metavar="MST", help="one or more, in order")
    _output(parser)


def apply(options: argparse.Namespace) -> int:
    """Make a new installer with transforms in it. It gets a package code of its own; a signature would no longer hold
    and is left out.

    yendo transform apply lantern-6.2.1.msi site.mst -o site.msi
    """
    import uuid

    from yendo import atomic, digest
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.formats.msi import overlay
    from yendo.installers.msi import layers

    existing(options.file, *options.mst)
    hashes = "".join(digest.of_file(path) for path in (options.file, *options.mst))
    revision = "{" + str(uuid.uuid5(uuid.NAMESPACE_OID, hashes)).upper() + "}"
    with _base(options.file) as base:
        try:
            found = layers.apply_transforms(base, options.mst)
        except layers.Refused as refused:
            raise Usage(refused.message) from refused
        with atomic.writing(options.output) as target:
            unsigned = overlay.write(found, target, revision=revision)
    if options.json:
        show.emit(
            {
                "schema": "yendo.transform.apply/1",
                "written": str(options.output),
                "package_code": revision,
                "signature_dropped": unsigned,
            }
        )
    elif not options.quiet:
        out = show.console()
        out.print(f"[bold]{show.clean(options.output)}[/bold] written, package code {revision}")
        if unsigned:
            out.print("  [yellow]the vendor's signature does not cover it and was left out[/yellow]")
    return 0


def _between_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", type=Path, metavar="OLD", help="the installer it goes onto")
    parser.add_argument("other", type=Path, metavar="NEW", help="what it makes of it")
    _output(parser)


def between(options: argparse.Namespace) -> int:
    """Write the transform that makes one installer out of another.

    yendo transform between lantern-6.2.1.msi lantern-6.2.3.msi -o update.mst
    """
    from yendo.cli import show
    from yendo.formats.msi.overlay import difference
    from yendo.installers.msi import fitting

    with _base(options.file) as one, _base(options.other) as other:
        found = difference(one, other)
        found.summary = fitting.summary_for(one, other)
        _save(found, options.output)
        count = len(found)
    if options.json:
        show.emit({"schema": "yendo.transform.between/1", "written": str(options.output), "rows": count})
    elif not options.quiet:
        show.console().print(f"[bold]{show.clean(options.output)}[/bold] written: {show.counted(count, 'row')}")
    return 0


def _combined(options: argparse.Namespace, found: Combined, schema: str) -> int:
    from yendo.cli import show

    _save(found.transform, options.output)
    if options.json:
        show.emit(
            {
                "schema": schema,
                "written": str(options.output),
                "kept": found.kept,
                "total": found.total,
                "conflicts": nested.builtins(found.conflicts),
            }
        )
    elif not options.quiet:
        out = show.console()
        said = show.counted(len(found.conflicts), "conflict")
        out.print(f"[bold]{show.clean(options.output)}[/bold] written: {found.kept} of {found.total} changes, {said}")
        show.grid(
            out,
            [(conflict.evidence.where, conflict.message, conflict.outcome) for conflict in found.conflicts],
            styles=("dim", "yellow", None),
        )
    return 1 if found.conflicts else 0


def _merge_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", type=Path, metavar="MSI", help="the installer both go onto")
    parser.add_argument("mst", type=Path, metavar="MST")
    parser.add_argument("second", type=Path, metavar="MST", help="has its way where they disagree")
    _output(parser)


def merge(options: argparse.Namespace) -> int:
    """Make one transform of two, and name where they disagree.

    yendo transform merge lantern-6.2.1.msi one.mst two.mst -o both.mst
    """
    from yendo.installers.msi import combining

    with _base(options.file) as base:
        found = combining.merge(base, _read(options.mst, base), _read(options.second, base))
        return _combined(options, found, "yendo.transform.merge/1")


def _move_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mst", type=Path, metavar="MST")
    parser.add_argument("file", type=Path, metavar="OLD", help="the installer it was made for")
    parser.add_argument("other", type=Path, metavar="NEW", help="the installer it should go onto")
    _output(parser)


def move(options: argparse.Namespace) -> int:
    """Carry a transform over to another version of its installer, and name what has no target any more.

    yendo transform move site.mst lantern-6.2.1.msi lantern-6.2.3.msi -o site-6.2.3.mst
    """
    from yendo.installers.msi import combining

    with _base(options.file) as old, _base(options.other) as new:
        return _combined(options, combining.move(_read(options.mst, old), old, new), "yendo.transform.move/1")


ACTIONS: nested.Actions = {
    "show": ("what a transform changes, in words", _show_options, show_),
    "fits": ("whether it goes onto an installer", _two, fits),
    "make": ("write the one that a plan's changes ask for", _make_options, make),
    "apply": ("make a new installer with it", _apply_options, apply),
    "between": ("write the difference of two installers", _between_options, between),
    "merge": ("make one of two", _merge_options, merge),
    "move": ("carry one over to another version", _move_options, move),
}
