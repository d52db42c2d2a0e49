"""What became of deliveries: all of them, one of them, one computer."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import fleet_common, nested

if TYPE_CHECKING:
    from collections.abc import Sequence

    from yendo.fleet.columns import Columns
    from yendo.fleet.deliveries import Deliveries
    from yendo.fleet.happened import Happened, StateRow


def _status(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("number", type=int, nargs="?", metavar="NUMBER", help="a delivery (default: a line for each)")
    parser.add_argument("--computer", metavar="NAME", help="what one computer has told")
    parser.add_argument("--page", type=Path, metavar="FILE", help="write it as one HTML page")
    parser.add_argument("--csv", type=Path, metavar="FILE", help="write every computer's state")
    fleet_common.where(parser)


def status(options: argparse.Namespace) -> int:
    """Say what became of deliveries: by wave, site and cause, who is silent, what has gone again, what comes next."""
    from yendo.cli import show
    from yendo.errors import Usage

    deliveries = fleet_common.deliveries_of(options)
    if options.computer:
        return _history(options, deliveries)
    if options.number is None:
        if options.page or options.csv:
            raise Usage("say which delivery: yendo fleet status NUMBER")
        known = deliveries.all()
        if options.json:
            show.emit({"schema": "yendo.fleet-deliveries/1", "deliveries": nested.builtins(known)})
        elif not options.quiet:
            rows = [(one.number, one.state, f"{one.name} {one.version}", one.verb, one.opened[:10]) for one in known]
            show.grid(show.console(), rows, styles=("bold",))
            if not known:
                fleet_common.say(options, "nothing was delivered yet", "yendo fleet deliver WORKSPACE")
        return 0
    return _one(options, deliveries)


def _history(options: argparse.Namespace, deliveries: Deliveries) -> int:
    from yendo.cli import show

    told = deliveries.history(options.computer)
    if options.json:
        show.emit({"schema": "yendo.fleet-history/1", "computer": options.computer, "told": nested.builtins(told)})
    elif not options.quiet:
        rows = [
            (one.told.replace("T", " ").rstrip("Z"), one.sort, one.delivery or "", one.text or one.cause, one.line)
            for one in told
        ]
        show.grid(show.console(), rows, styles=("dim", "bold"))
        if not told:
            fleet_common.say(options, f"{show.clean(options.computer)} has told nothing")
    return 0 if told else 1


def _one(options: argparse.Namespace, deliveries: Deliveries) -> int:
    from yendo import atomic
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.fleet.deliveries import moment
    from yendo.fleet.happened import happened
    from yendo.fleet.page import page

    now = moment()
    figures = deliveries.judge(options.number, now)
    try:
        columns: Columns | None = deliveries.store.load()
    except Usage:
        columns = None
    said = happened(deliveries, options.number, now, columns, figures)
    if options.page:
        atomic.write(options.page, page(said, picture=_drawn(said)).encode())
    if options.csv:
        rows = [
            (one.shown, one.site, one.wave, said.state(one), one.code, one.cause, one.line, one.ended, one.there)
            for one in said.places
        ]
        names = ["computer", "site", "wave", "state", "code", "cause", "line", "ended", "there"]
        atomic.write(options.csv, nested.spreadsheet(names, rows))
    if options.json:
        told = {name: part for name, part in nested.builtins(said).items() if name not in ("places", "now", "late")}
        body = {**told, "sentence": said.sentence}
        show.emit({"schema": "yendo.fleet-status/1", **body})
    elif not options.quiet:
        _shown(said)
    return 0 if said.delivery.state == "open" and not said.figures.stops else 1


def _drawn(said: Happened) -> str:
    """How it went, as a picture; empty where nothing has happened yet."""
    from yendo.fleet.picture import went

    return went(said).decode() if said.days else ""


def _shown(said: Happened) -> None:
    from yendo.cli import show

    out, one = show.console(), said.delivery
    style = {"open": "green", "stopped": "red"}.get(one.state, "yellow")
    name = f"[bold]{show.clean(one.name)} {one.version}[/bold], {one.verb}, [{style}]{one.state}[/{style}]"
    out.print(f"{name}: {show.clean(said.sentence)}")
    for title, rows in (("Waves", said.waves), ("Sites", said.sites)):
        show.section(out, title)
        show.grid(out, state_rows(rows), styles=("bold",))
    if said.causes:
        show.section(out, "Why it failed")
        for cause in said.causes[:6]:
            out.print(f"  [bold]{cause.count}[/bold]  {show.clean(cause.cause)}")
            out.print(f"     [dim]{show.clean(cause.line)}; {show.clean(', '.join(cause.computers[:4]))}[/dim]")
    for words, some in (("gone again", said.gone), ("silent", said.silent)):
        if some:
            out.print(
                f"[yellow]{words}[/yellow]: {show.clean(', '.join(some[:8]))}{' and more' if len(some) > 8 else ''}"
            )
    for words in said.overdue:
        out.print(f"[yellow]late[/yellow]: {show.clean(words)}")
    for text, count in said.troubles[:4]:
        out.print(f"[yellow]{count} computers[/yellow] could not begin: {show.clean(text)}")
    figures = said.figures
    if figures.ended:
        limit = one.waves.stop.limit
        out.print(
            f"\n{figures.failed} of {figures.ended} have failed, at most {limit} may; "
            f"evidence that more would: {figures.evidence:g}, and the rule stops it at {figures.stops_at:g}"
        )
    if figures.next:
        hindered = f"not before: {'; '.join(said.hindrances)}" if said.hindrances else ""
        following = show.clean(hindered or f"yendo fleet decide {one.number} open")
        out.print(f"[dim]next:[/dim] {following} (the wave {show.clean(figures.next)})")


def state_rows(rows: Sequence[StateRow]) -> list[tuple[str, ...]]:
    """Computers by state, without states that nobody is in."""
    from yendo.fleet.happened import STATES

    return [
        (row.name, *(f"{count:,} {state}" for state, count in zip(STATES, row.counts, strict=True) if count))
        for row in rows
    ]


ACTIONS: nested.Actions = {"status": ("say what became of deliveries", _status, status)}
