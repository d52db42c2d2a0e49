"""Keep vendor files once, by their content: add, list, verify, bring into a workspace, purge what no plan uses.

yendo store add lantern-6.2.1.msi --origin "Tidewell release share"
yendo store list
yendo store bring lantern
yendo store purge --plans packages
"""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import nested

if TYPE_CHECKING:
    from yendo.store import Store


def configure(parser: argparse.ArgumentParser) -> None:
    nested.actions(parser, ACTIONS)


def run(options: argparse.Namespace) -> int:
    return int(options.run_action(options))


def opened(named: Path | None, near: Path = Path()) -> Store:
    """The store that was named, that the environment or the house names, or the user's own."""
    from yendo.cli import machines
    from yendo.plan import house
    from yendo.store import Store

    if named or os.environ.get("YENDO_STORE"):
        return Store(named or Path(os.environ["YENDO_STORE"]))
    file = house.find(near)
    office = house.read(file)[0] if file else None
    if file and office and office.store:
        return Store(file.parent / office.store)
    return Store(machines.cache() / "media")


def _which(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--store",
        type=Path,
        metavar="DIR",
        help="the store's folder (default: YENDO_STORE, the house file's, or the user's cache)",
    )


def _add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("files", type=Path, nargs="+", metavar="FILE")
    parser.add_argument("--origin", default="", metavar="TEXT", help="where it came from")
    _which(parser)


def add(options: argparse.Namespace) -> int:
    from yendo.cli import show

    store = opened(options.store)
    found = [store.add(path, origin=options.origin) for path in options.files]
    if options.json:
        show.emit({"schema": "yendo.store.add/1", "store": str(store.folder), "items": found})
    elif not options.quiet:
        out = show.console()
        show.grid(
            out,
            [(path.name, show.size(item.size), item.sha256) for path, item in zip(options.files, found, strict=True)],
            styles=(None, "dim", "dim"),
        )
        out.print(f"in {show.clean(store.folder)}")
    return 0


def _list(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--plans",
        type=Path,
        action="append",
        default=[],
        metavar="DIR",
        help="also tell which plans below this folder use each",
    )
    _which(parser)


def list_(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.store.store import wanted_by

    store = opened(options.store)
    found = list(store.items())
    users = wanted_by(options.plans)
    if options.json:
        show.emit(
            {
                "schema": "yendo.store.list/1",
                "store": str(store.folder),
                "items": found,
                "users": {item.sha256: users.get(item.sha256, []) for item in found} if options.plans else {},
            }
        )
    elif not options.quiet:
        out = show.console()
        rows = []
        for item in found:
            last = item.notes[-1] if item.notes else None
            used = [show.counted(len(users.get(item.sha256, [])), "plan")] if options.plans else []
            rows.append(
                (
                    item.name,
                    show.size(item.size),
                    item.sha256[:12],
                    *used,
                    last.added[:10] if last else "",
                    last.origin if last else "",
                )
            )
        show.grid(
            out,
            rows,
            heads=("name", "size", "content", *(["used by"] if options.plans else []), "added", "from"),
            styles=(None, None, "dim"),
        )
        out.print(
            f"{show.counted(len(found), 'file')}, {show.size(sum(item.size for item in found))} in "
            f"{show.clean(store.folder)}"
        )
    return 0


def verify(options: argparse.Namespace) -> int:
    from yendo.cli import show

    store = opened(options.store)
    with show.working("reading every file", quiet=options.quiet or options.json):
        found = list(store.verify())
    bad = [one for one in found if not one.holds]
    if options.json:
        show.emit({"schema": "yendo.store.verify/1", "store": str(store.folder), "files": len(found), "damaged": bad})
    elif not options.quiet:
        out = show.console()
        for one in bad:
            out.print(
                f"[bold red]damaged[/bold red] {show.clean(one.item.name)}: its content is {one.found[:12]}…, not "
                f"{one.item.sha256[:12]}…"
            )
        out.print(
            f"{show.counted(len(found), 'file')} read, "
            f"{show.counted(len(bad), 'of them')[:-1] if len(bad) == 1 else f'{len(bad)} of them'} damaged"
            if bad
            else f"{show.counted(len(found), 'file')} read, all of them whole"
        )
        if bad:
            out.print(
                f"[dim]next:[/dim] take those out of {show.clean(store.folder)} and add them again from where they came"
            )
    return 1 if bad else 0


def _bring(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder", type=Path, nargs="?", default=Path(), metavar="FOLDER", help="a workspace (default: this folder)"
    )
    _which(parser)


def bring(options: argparse.Namespace) -> int:
    from yendo import digest
    from yendo.cli import show
    from yendo.plan import read

    store = opened(options.store, options.folder)
    plan, _ = read(options.folder / "plan.toml")
    brought, missing = [], []
    for medium in plan.media:
        target = options.folder / "media" / medium.file
        if target.is_file() and digest.of_file(target) == medium.sha256:
            continue
        if store.has(medium.sha256):
            store.take(medium.sha256, target)
            brought.append(medium.file)
        else:
            missing.append(medium.file)
    if options.json:
        show.emit({"schema": "yendo.store.bring/1", "store": str(store.folder), "brought": brought, "missing": missing})
    elif not options.quiet:
        out = show.console()
        for name in brought:
            out.print(f"brought  {show.clean(name)}")
        for name in missing:
            out.print(
                f"[bold red]missing[/bold red]  {show.clean(name)}: the store in {show.clean(store.folder)} does not "
                "have it"
            )
        if not brought and not missing:
            out.print("everything that the plan names is there already")
    return 1 if missing else 0


def _purge(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--plans",
        type=Path,
        action="append",
        required=True,
        metavar="DIR",
        help="plans below this folder keep what they name; give every folder that has some",
    )
    parser.add_argument("--yes", action="store_true", help="really take them out; else they are only listed")
    _which(parser)


def purge(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.store.store import wanted_by

    store = opened(options.store)
    for folder in options.plans:
        if not folder.is_dir():
            raise Usage(f"{folder} is no folder")
    wanted = wanted_by(options.plans)
    found = store.unused(wanted)
    freed = store.purge(found, wanted) if options.yes else 0
    if options.json:
        show.emit(
            {
                "schema": "yendo.store.purge/1",
                "store": str(store.folder),
                "unused": found,
                "freed": freed,
                "done": options.yes,
            }
        )
    elif not options.quiet:
        out = show.console()
        show.grid(
            out, [(item.name, show.size(item.size), item.sha256[:12]) for item in found], styles=(None, None, "dim")
        )
        total = show.size(sum(item.size for item in found))
        plans = len({plan for plans in wanted.values() for plan in plans})
        said = f"{show.counted(len(found), 'file')}, {total}, used by none of {show.counted(plans, 'plan')}"
        out.print(
            f"{said}: taken out"
            if options.yes
            else f"{said}; [dim]next:[/dim] the same with --yes takes them out"
            if found
            else f"nothing that {show.counted(plans, 'plan')} would not use; files added within the last hour are left"
        )
    return 0


ACTIONS: nested.Actions = {
    "add": ("keep a copy of files", _add, add),
    "list": ("what is in it", _list, list_),
    "verify": ("read every file, and hold it against its name", _which, verify),
    "bring": ("put what a plan names into its workspace", _bring, bring),
    "purge": ("take out what no plan uses", _purge, purge),
}
