"""Show what run conditions see on a machine.

yendo facts
yendo facts --machine wine
"""

from __future__ import annotations

import argparse

from yendo.cli import machines


def configure(parser: argparse.ArgumentParser) -> None:
    machines.add_options(parser)


def run(options: argparse.Namespace) -> int:
    from yendo.cli import show
    from yendo.package.look import facts_of
    from yendo.terms.when import FACTS

    machine = machines.asked(options, options.machine)
    found = facts_of(machine)
    if options.json:
        show.emit(
            {
                "schema": "yendo.facts/1",
                "machine": machine.name,
                "label": machine.label,
                "facts": {name: found.get(name) for name in FACTS},
            }
        )
    elif not options.quiet:
        out = show.console()
        out.print(machine.label)
        rows = [(name, _words(name, found.get(name)), FACTS[name]) for name in FACTS]
        show.grid(out, rows, heads=("fact", "here", "asked by"))
    return 0


def _words(name: str, value: str | None) -> str:
    from yendo.cli import show

    if value is None:
        return "not told by this machine"
    if name in ("memory", "disk C"):
        return show.size(int(value))
    return value or "none"
