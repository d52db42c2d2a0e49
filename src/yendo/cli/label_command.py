"""Say something of drivers of a share, and put them into sets; kept beside them in labels.toml.

yendo label drivers tidegauge-2.1/tidegauge.inf --say "approved, Ada" --set slate --set image
yendo label drivers --newer pass
yendo read drivers --in slate
"""

from __future__ import annotations

import argparse
from pathlib import Path


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("share", type=Path, metavar="SHARE")
    parser.add_argument("drivers", nargs="*", metavar="DRIVER", help="its .inf, as yendo read SHARE shows it")
    parser.add_argument("--say", action="append", default=[], metavar="TEXT", help="what is to be said of them")
    parser.add_argument("--set", action="append", default=[], metavar="NAME", help="a set that they stand in")
    parser.add_argument("--without", action="append", default=[], metavar="TEXT", help="a text or set that goes")
    parser.add_argument(
        "--newer", choices=("merge", "leave", "overwrite", "pass"),
        help="what becomes of labels when the vendor's next version comes: put to its own, left behind, put in place "
        "of its own, or nothing, and it stays out of every set until somebody labels it (default: merge)",
    )  # fmt: skip


def run(options: argparse.Namespace) -> int:
    import msgspec

    from yendo.cli import show
    from yendo.drivers import labels
    from yendo.errors import Usage

    given = options.say or options.set or options.without
    if bool(options.drivers) != bool(given) or not (given or options.newer):
        raise Usage("name drivers, and what is to be said of them: --say, --set, --without; or --newer alone")
    found = labels.change(
        options.share, options.drivers, words=options.say, sets=options.set, without=options.without,
        newer=options.newer,
    )  # fmt: skip
    if options.json:
        show.emit({"schema": "yendo.driver-labels/1", **msgspec.to_builtins(found)})
    elif not options.quiet:
        out = show.console()
        rows = [(path, ", ".join(one.sets), "; ".join(one.words)) for path, one in sorted(found.driver.items())]
        show.grid(out, rows, heads=("driver", "sets", "said"), styles=("cyan", "bold"))
        out.print(f"[dim]a newer version: {found.newer}[/dim]")
        name = next((one.sets[0] for one in found.driver.values() if one.sets), "")
        out.print(
            f"[dim]next:[/dim] yendo read {show.clean(options.share)}{f' --in {show.clean(name)}' if name else ''}"
        )
    return 0
