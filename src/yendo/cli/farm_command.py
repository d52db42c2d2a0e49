"""Computers that prove together: one scheduler, workers that say which machines they have, and `prove --farm`.

yendo farm keys farm-keys
yendo farm scheduler --host 10.0.0.5 --keys farm-keys
yendo farm worker tls://10.0.0.5:8786 --keys farm-keys --offers simulated=4,wine=2
yendo farm status tls://10.0.0.5:8786 --keys farm-keys
yendo prove packages --scenario all --farm tls://10.0.0.5:8786 --farm-keys farm-keys
"""

from __future__ import annotations

import argparse
from pathlib import Path

from yendo.cli import machines, nested

PORT = 8786


def configure(parser: argparse.ArgumentParser) -> None:
    nested.actions(parser, ACTIONS)


def run(options: argparse.Namespace) -> int:
    return int(options.run_action(options))


def _keyed(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--keys", type=Path, metavar="FOLDER", help="what `yendo farm keys` made")


def _for_keys(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, metavar="FOLDER", help="a new folder; copy it to each computer")


def _for_scheduler(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--host", default="127.0.0.1", metavar="ADDRESS", help="where it listens (default: this computer only)"
    )
    parser.add_argument("--port", type=int, default=PORT, metavar="N", help=f"(default: {PORT})")
    _keyed(parser)


def _for_worker(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("address", metavar="ADDRESS", help="the scheduler's, as it printed it")
    parser.add_argument(
        "--offers",
        metavar="LIST",
        default="simulated=2",
        help="the machines it has and how many of each at once: simulated=4,wine=2,ssh:w11=1 (default: simulated=2)",
    )
    parser.add_argument("--at-once", type=int, metavar="N", help="how many in all (default: the largest of the offers)")
    machines.add_shell(parser)
    _keyed(parser)


def _for_status(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("address", metavar="ADDRESS", help="the scheduler's")
    _keyed(parser)


def _keys(options: argparse.Namespace) -> int:
    """Make the keys by which the computers of a farm know each other."""
    from yendo.cli import show
    from yendo.farm import keys

    keys.make(options.folder)
    if options.json:
        show.emit({"schema": "yendo.farm-keys/1", "folder": str(options.folder), "days": keys.DAYS})
    elif not options.quiet:
        out = show.console()
        out.print(f"[bold]{show.clean(options.folder)}[/bold]: ca.pem, cert.pem, key.pem, good for a year")
        out.print("Whoever has key.pem can run anything on the workers; give it to the farm's computers only.")
        out.print(f"\n[dim]next:[/dim] yendo farm scheduler --host ADDRESS --keys {show.clean(options.folder)}")
    return 0


def _scheduler(options: argparse.Namespace) -> int:
    """Start the one that knows the workers. It goes on until it is ended."""
    import asyncio
    from importlib.util import find_spec

    from yendo.errors import Usage

    if options.host not in ("127.0.0.1", "localhost", "::1") and not options.keys:
        raise Usage(
            f"at {options.host} anybody who reaches the port could run anything on the workers; make keys first: "
            "yendo farm keys FOLDER, and give it with --keys"
        )
    from yendo.farm import cluster

    cluster.library()
    from distributed import Scheduler

    from yendo.cli import show

    async def serve() -> None:
        scheme = "tls" if options.keys else "tcp"
        page = find_spec("bokeh") is not None
        async with Scheduler(
            host=f"{scheme}://{options.host}",
            port=options.port,
            security=cluster.security(options.keys),
            dashboard=page,
            dashboard_address=f"{options.host}:0",
        ) as scheduler:
            if not options.quiet:
                out = show.console()
                out.print(f"a farm at [bold]{show.clean(scheduler.address)}[/bold]", soft_wrap=True)
                if page:
                    out.print(f"its page: http://{options.host}:{scheduler.http_server.port}/status", soft_wrap=True)
                keys = f" --keys {show.clean(options.keys)}" if options.keys else ""
                out.print(
                    f"\n[dim]next:[/dim] yendo farm worker {show.clean(scheduler.address)}{keys}, on each computer",
                    soft_wrap=True,
                )
            await scheduler.finished()

    asyncio.run(serve())
    return 0


def offers(text: str) -> dict[str, int]:
    """``simulated=4,wine=2`` as what a worker has. Raises Usage."""
    from yendo.errors import Usage
    from yendo.machines.kinds import SSH

    found: dict[str, int] = {}
    for part in text.split(","):
        name, _, count = part.strip().partition("=")
        if name not in machines.NAMES and not (name.startswith(SSH) and name != SSH):
            raise Usage(
                f"{name!r} is no machine that a worker can have; there are {', '.join(machines.NAMES)}, ssh:NAME"
            )
        if not (count or "1").isdigit() or int(count or 1) < 1:
            raise Usage(f"{part.strip()}: how many at once is a number from 1 on")
        found[name] = int(count or 1)
    return found


def _worker(options: argparse.Namespace) -> int:
    """Let this computer play cells. It goes on until it is ended."""
    import asyncio

    from yendo.farm import cluster

    cluster.library()
    from yendo.cli import show
    from yendo.farm import worker
    from yendo.farm.job import Making
    from yendo.machines.kinds import SSH

    has = offers(options.offers)
    for name in has:  # what it says it has, it has
        if name.startswith(SSH):
            from yendo.machines import addresses

            addresses.named(Path(), name.removeprefix(SSH))
        else:
            machines.asked(options, name).surroundings("user")
    making = Making(str(machines.cache()), str(options.powershell or ""), str(Path.cwd()))
    out = show.console()

    def started(one: object) -> None:
        if not options.quiet:
            what = ", ".join(f"{count} {name}" for name, count in has.items())
            out.print(f"working for {show.clean(options.address)}: {what}; Ctrl-C ends it", soft_wrap=True)

    at_once = options.at_once or max(has.values())
    asyncio.run(
        worker.serve(
            options.address,
            has,
            at_once,
            machines.cache() / "farm",
            making,
            security=cluster.security(options.keys),
            started=started,
        )
    )
    return 0


def _status(options: argparse.Namespace) -> int:
    """Show the workers of a farm, and what each has."""
    from yendo.cli import show
    from yendo.farm.cluster import Cluster

    crew = Cluster(options.address, options.keys)
    found = crew.there()
    page = crew.page
    crew.stop()
    if options.json:
        workers = [
            {"worker": name, "machines": offer.machines, "at_once": offer.at_once} for name, offer in found.items()
        ]
        show.emit({"schema": "yendo.farm/1", "workers": workers, "page": page})
        return 0 if found else 1
    if not options.quiet:
        out = show.console()
        rows = [
            (name, ", ".join(f"{count} {one}" for one, count in offer.machines.items()), str(offer.at_once))
            for name, offer in found.items()
        ]
        if rows:
            show.grid(out, rows, heads=("worker", "machines", "at once"), styles=("bold",))
            out.print(f"\nthe cluster's own page: {show.clean(page)}", soft_wrap=True)
        else:
            out.print("no worker is there")
            out.print(f"\n[dim]next:[/dim] yendo farm worker {show.clean(options.address)}", soft_wrap=True)
    return 0 if found else 1


ACTIONS: nested.Actions = {
    "keys": ("make the keys by which the computers of a farm know each other", _for_keys, _keys),
    "scheduler": ("start the one that knows the workers", _for_scheduler, _scheduler),
    "worker": ("let this computer play cells", _for_worker, _worker),
    "status": ("show the workers, and what each has", _for_status, _status),
}
