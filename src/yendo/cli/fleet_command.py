"""All machines of an office: who has what, who would get a package, and in which order it goes out.

yendo fleet add machines.csv programs.csv devices.csv
yendo fleet look PIER-01 PIER-02 --to seen --user deliver --key ~/.ssh/deliver --known known_hosts
yendo fleet ask 'os = ">=10.0.22000"' --csv newer.csv
yendo fleet ask --driver drivers/tidegauge-2.1
yendo fleet foresee lantern
yendo fleet waves lantern --new
yendo fleet waves lantern --play --picture course.svg
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import nested
from yendo.cli.fleet_common import (
    between,
    deliveries_of,
    foreseen_of,
    heard,
    in_a_sentence,
    over_ssh,
    plan_of,
    reached,
    say,
    store_of,
    wave_rows,
    where,
)

if TYPE_CHECKING:
    from collections.abc import Mapping

    from yendo.fleet.columns import Columns, Truth
    from yendo.fleet.course import Course
    from yendo.fleet.foresee import Foreseen
    from yendo.fleet.planning import PlannedWave
    from yendo.fleet.store import Inventory


def configure(parser: argparse.ArgumentParser) -> None:
    from yendo.cli import fleet_delivery, fleet_status

    nested.actions(parser, {**ACTIONS, **fleet_delivery.ACTIONS, **fleet_status.ACTIONS})


def run(options: argparse.Namespace) -> int:
    return int(options.run_action(options))


# --- machines ---------------------------------------------------------------------------------------------------------


def _add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("files", type=Path, nargs="+", metavar="FILE", help="tables, JSON, or folders of these")
    parser.add_argument("--beside", action="store_true", help="machines that these files do not have stay as they were")
    parser.add_argument(
        "--with-persons", type=int, nargs="?", const=14, metavar="DAYS",
        help="keep columns about people (person, user, owner, mail, email, phone) for so many days (14 if not said); "
        "they are left out otherwise",
    )  # fmt: skip
    where(parser)


def add(options: argparse.Namespace) -> int:
    """Read machines, programs and devices from CSV, JSON and Parquet, in the place of the inventory that was there.

    A table with the column `computer` has a row for each machine; one with `computer` and `program` a row for each
    program, one with `hardware` a row for each device. What `yendo fleet look`, `yendo facts --json` and the runner's
    `facts` tell is taken too.
    """
    from datetime import date, timedelta

    from yendo.cli import show
    from yendo.fleet.incoming import gathered

    store = store_of(options)
    with show.working("reading", quiet=options.quiet or options.json):
        found = gathered(inside(options.files))
        left = [] if options.with_persons else found.without_persons()
        until = date.today() + timedelta(days=options.with_persons) if options.with_persons else None
        columns = store.keep(found, until, others=options.beside)
    if left:
        found.notes.append(f"left out, being about people: {', '.join(left)} (--with-persons keeps them)")
    if options.json:
        show.emit({"schema": "yendo.fleet-added/1", **_counts(columns), "notes": found.notes})
    elif not options.quiet:
        out = show.console()
        counts = _counts(columns)
        out.print(
            f"[bold]{show.clean(store.shown)}[/bold]: {show.counted(counts['machines'], 'machine')}, "
            f"{counts['programs']:,} programs in {counts['versions']:,} versions"
            + (f", {counts['devices']:,} kinds of devices on {counts['fitted']:,}" if counts["fitted"] else "")
        )
        rows = [(name, ", ".join(_shown(column.values))) for name, column in sorted(columns.texts.items())]
        show.grid(out, rows, styles=("dim",))
        for note in found.notes[:20]:
            out.print(f"[yellow]note[/yellow]  {show.clean(note)}")
        if len(found.notes) > 20:
            out.print(f"[dim]and {len(found.notes) - 20} more notes; --json has them all[/dim]")
        out.print("\n[dim]next:[/dim] yendo fleet foresee WORKSPACE")
    return 0


def _counts(columns: Columns) -> dict[str, int]:
    return {
        "machines": len(columns),
        "listed": int(columns.listed.sum()),
        "programs": len({program.name for program in columns.programs}),
        "versions": len(columns.programs),
        "devices": len(columns.devices),
        "fitted": int(columns.fitted.listed.sum()),
    }


def inside(paths: list[Path]) -> list[Path]:
    """The files meant: a folder stands for the tables and JSON texts in it. Raises Usage where it has none."""
    from yendo.errors import Usage

    found: list[Path] = []
    for path in paths:
        kinds = (".csv", ".json", ".txt", ".parquet")
        some = sorted(one for one in path.iterdir() if one.suffix.lower() in kinds) if path.is_dir() else [path]
        if not some:
            raise Usage(f"{path} holds no {', '.join(kinds)}")
        found += some
    return found


def _look(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("computers", nargs="*", metavar="COMPUTER", help="which (default: all of the inventory)")
    parser.add_argument("--to", type=Path, required=True, metavar="FOLDER", help="where NAME.json goes for each")
    over_ssh(parser, "10 min")
    where(parser)


def look(options: argparse.Namespace) -> int:
    """Look at computers over SSH: what each is, its programs, its devices and their drivers. Nothing is changed."""
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.fleet.look import look as looked
    from yendo.fleet.reach import SshReach

    try:
        columns = store_of(options).load()
    except Usage:
        if not options.computers:
            raise
        columns = None
    computers = options.computers or list(columns.computers if columns else ())
    found = looked(computers, SshReach(**reached(options, columns)), options.to, heard(options))
    if options.json:
        show.emit({"schema": "yendo.fleet-looked/1", "computers": nested.builtins(found)})
    elif not options.quiet:
        show.grid(show.console(), [(one.computer, one.became, one.words) for one in found], styles=("bold",))
        show.console().print(f"\n[dim]next:[/dim] yendo fleet add {show.clean(options.to)} --beside")
    return 0 if all(one.became == "told" for one in found) else 1


def _script(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("to", type=Path, metavar="FILE", help="where it is written, as .ps1")


def script(options: argparse.Namespace) -> int:
    """Write the script that `look` brings along, for whatever else starts scripts on computers: -To FILE is where it
    puts its answer. It only reads.
    """
    from yendo import atomic
    from yendo.cli import show
    from yendo.fleet import look as looking

    atomic.write(options.to, looking.script())
    if not options.quiet and not options.json:
        started = f"powershell -NoProfile -ExecutionPolicy Bypass -File {options.to.name} -To SHARE\\NAME.json"
        show.console().print(f"{show.clean(options.to)}; as administrator: {show.clean(started)}")
        show.console().print("[dim]next:[/dim] yendo fleet add SHARE --beside")
    return 0


def _shown(values: tuple[str, ...]) -> list[str]:
    some = sorted(values)
    return some if len(some) <= 6 else [*some[:5], f"... {len(some)} in all"]


# --- questions --------------------------------------------------------------------------------------------------------


def _ask(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "question", metavar="QUESTION", nargs="?",
        help="a run condition as in a plan's [when], or the name of one that was kept",
    )  # fmt: skip
    parser.add_argument("--lacks", type=Path, metavar="WORKSPACE", help="who does not have this package")
    parser.add_argument(
        "--driver", type=Path, metavar="FOLDER", help="on whom a driver of this folder would change a device"
    )
    parser.add_argument("--keep-as", metavar="NAME", help="keep the question by this name")
    parser.add_argument("--csv", type=Path, metavar="FILE", help="write the machines that answer yes as CSV")
    parser.add_argument("--picture", type=Path, metavar="FILE", help="draw the answers by site, as .svg or .png")
    parser.add_argument("--page", type=Path, metavar="FILE", help="write every machine's answer as one HTML page")
    where(parser)


def ask(options: argparse.Namespace) -> int:
    """Ask the inventory, in the language of run conditions: `os = ">=10.0.22000"`, several lines, rules in `holds`."""
    from yendo import atomic
    from yendo.cli import show
    from yendo.errors import Usage

    if sum(bool(one) for one in (options.question, options.lacks, options.driver)) != 1:
        raise Usage("ask one of: a question, --lacks who does not have a package, --driver whom it would change")
    store = store_of(options)
    columns = store.load()
    answer, words, because = _answered(options, store, columns)
    yes = [number for number in range(len(columns)) if answer[number] == 1]
    unknown = int((answer == -1).sum())
    if options.csv:
        atomic.write(options.csv, _table(columns, yes, because))
    if options.picture or options.page:
        _drawn(options, words, columns, [int(one) for one in answer])
    if options.json:
        names = [columns.computers[number] for number in yes]
        body = {"question": words, "yes": len(yes), "unknown": unknown, "no": len(columns) - len(yes) - unknown}
        told = {columns.computers[at]: {"device": one[0], "because": one[1]} for at, one in because.items()}
        extra = {"devices": told} if options.driver else {}
        show.emit({"schema": "yendo.fleet-answer/1", **body, "machines": names, **extra})
    elif not options.quiet:
        show.console().print(
            f"[bold]yes {len(yes):,}[/bold], no {len(columns) - len(yes) - unknown:,}, unknown {unknown:,} "
            f"of {len(columns):,}: {show.clean(words)}"
        )
        _told_of(columns, yes, because, driver=bool(options.driver), unknown=unknown)
    return 0 if yes else 1


def _answered(
    options: argparse.Namespace, store: Inventory, columns: Columns
) -> tuple[Truth, str, Mapping[int, tuple[str, str]]]:
    """The answer for each machine, what was asked in words, and for drivers the device and why by machine."""
    from yendo.fleet.asking import asked, opposite, question

    if options.lacks:
        from yendo.fleet.foresee import presence

        plan = plan_of(options.lacks)
        there, judged = presence(plan, options.lacks, columns)
        return opposite(there), f"lacks {plan.package.name} {plan.package.version}, judged by {judged}", {}
    if options.driver:
        from yendo.fleet.devices import changed_by

        found = changed_by(options.driver, columns)
        return found.whole, f"has a device that would take a driver of {options.driver}", found.because
    text = options.question if "=" in options.question else store.ask_again(options.question)
    answer = asked(question(text), columns).whole
    if options.keep_as:
        store.keep_question(options.keep_as, text)
    return answer, "; ".join(text.split("\n")), {}


def _told_of(
    columns: Columns, yes: list[int], because: Mapping[int, tuple[str, str]], *, driver: bool, unknown: int
) -> None:
    """Some of who says yes, and what unknown means."""
    from yendo.cli import show

    out = show.console()
    show.grid(out, [(columns.computers[at], *_described(columns, at), *because.get(at, ())) for at in yes[:20]])
    if len(yes) > 20:
        out.print(f"[dim]and {len(yes) - 20:,} more; --csv FILE writes them all[/dim]")
    meant = set(yes)
    for at, (device, why) in [one for one in because.items() if one[0] not in meant][:5]:
        out.print(
            f"[yellow]unknown[/yellow]  {show.clean(columns.computers[at])}: {show.clean(device)}: {show.clean(why)}"
        )
    if driver and unknown:
        out.print("[dim]unknown: its devices are not in the inventory (yendo fleet look), or as said above[/dim]")
    elif unknown:
        out.print("[dim]unknown: the inventory has no such fact of them, or no list of programs tells it[/dim]")


def _drawn(options: argparse.Namespace, words: str, columns: Columns, answer: list[int]) -> None:
    """The answers as a picture, and as a page that has it."""
    from yendo import atomic
    from yendo.fleet.page import answers_page
    from yendo.fleet.picture import answers

    if options.picture:
        form = picture_form(options.picture)
        atomic.write(options.picture, answers(columns.sites(), answer, words, form=form))
    if options.page:
        drawn = answers(columns.sites(), answer, words).decode()
        atomic.write(options.page, answers_page(columns, answer, words, drawn).encode())


def picture_form(path: Path) -> str:
    """What kind of picture a file's name asks for. Raises Usage."""
    from yendo.errors import Usage

    form = path.suffix.lower().lstrip(".")
    if form not in ("svg", "png"):
        raise Usage("a picture is .svg or .png")
    return form


def _described(columns: Columns, number: int) -> tuple[str, ...]:
    names = [name for name in ("site", "model", "windows", "language") if name in columns.texts]
    return tuple(columns.texts[name].at(number) or "" for name in names)


def _table(columns: Columns, some: list[int], because: Mapping[int, tuple[str, str]]) -> bytes:
    names = sorted(columns.texts)
    more = ["device", "because"] if because else []
    rows = (
        [columns.computers[at], *(columns.texts[name].at(at) for name in names), *because.get(at, ())] for at in some
    )
    return nested.spreadsheet(["computer", *names, *more], rows)


# --- outcomes ---------------------------------------------------------------------------------------------------------


def _report(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "files", type=Path, nargs="*", metavar="FILE",
        help="logs of the runner (.jsonl), tables, or what computers have left (.txt), or folders of these",
    )  # fmt: skip
    parser.add_argument("--take-away", action="store_true", help="delete what computers have left once it is kept")
    parser.add_argument("--forget", metavar="NAME", help="forget the key of a computer that was set up anew")
    where(parser)


def report(options: argparse.Namespace) -> int:
    """Take over how packages ended: logs of the runner as COMPUTER/install.jsonl, tables with computer, package,
    version and code, and what computers themselves have left in a folder. The same report counts once.
    """
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.fleet.reports import outcomes_of

    if not options.files and not options.forget:
        raise Usage("say what is to be taken over")
    deliveries = deliveries_of(options)
    from yendo.fleet.deliveries import moment

    if options.forget:
        known = deliveries.forget(options.forget)
        say(options, f"{show.clean(options.forget)} {'may tell another key now' if known else 'had told none'}")
    inside = [one for given in options.files for one in (sorted(given.rglob("*")) if given.is_dir() else [given])]
    left = [path for path in inside if path.suffix.lower() == ".txt"]
    found = outcomes_of([path for path in options.files if path not in left], _sites(deliveries.store))
    new = deliveries.store.report(found)
    failed = sum(one.failed for one in found)
    counts, refused = deliveries.collect(left, moment(), take_away=options.take_away)
    if options.json:
        body = {"read": len(found), "new": new, "failed": failed, "left": counts, "refused": refused}
        show.emit({"schema": "yendo.fleet-reported/1", **body})
    elif not options.quiet:
        if found or not left:
            show.console().print(f"{len(found):,} outcomes read, {new:,} of them new; {failed:,} failed")
        if left:
            _collected(counts, refused)
    return 1 if refused else 0


def _collected(counts: Mapping[str, int], refused: Mapping[str, str]) -> None:
    """What became of the reports that computers had left."""
    from yendo.cli import show

    out = show.console()
    out.print(f"{counts['new']:,} reports of computers, {counts['known']:,} known before, {len(refused):,} refused")
    show.grid(out, [(name, why) for name, why in list(refused.items())[:10]], styles=("yellow",))


def _sites(store: Inventory) -> dict[str, str]:
    """The site of each machine by its name in small letters; nothing where there is no inventory yet."""
    from yendo.errors import Usage

    try:
        columns = store.load()
    except Usage:
        return {}
    return dict(zip((name.lower() for name in columns.computers), columns.sites(), strict=True))


# --- foreseeing -------------------------------------------------------------------------------------------------------


def _foresee(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, nargs="?", default=Path(), metavar="WORKSPACE")
    where(parser)


def foresee(options: argparse.Namespace) -> int:
    """Say what a package would meet: who has it, who gets it, who is refused and by what, how many would fail."""
    import msgspec

    from yendo.cli import show

    store = store_of(options)
    plan = plan_of(options.folder)
    found = foreseen_of(plan, options.folder, store, store.load())
    if options.json:
        show.emit({"schema": "yendo.fleet-foreseen/1", "package": plan.package.id, **msgspec.to_builtins(found)})
    elif not options.quiet:
        out = show.console()
        out.print(f"[bold]{show.clean(plan.package.name)} {plan.package.version}[/bold]: {in_a_sentence(found)}")
        rows: list[tuple[object, ...]] = [("has it already", f"{found.there:,}", f"judged by {found.judged}")]
        rows += [("gets it", f"{len(found.gets):,}", "")]
        rows += [("refused", f"{count:,}", words) for words, count in found.refused]
        rows += [("unknown", f"{count:,}", words) for words, count in found.unknown]
        whole = f"{show.size(found.to_each * len(found.gets))} in all"
        rows += [
            ("to each", show.size(found.to_each), whole if found.built else f"{whole}; its files alone, not built")
        ]
        if found.seconds:
            rows.append(("takes", f"{found.seconds / 60:.1f} min", "the usual time, from earlier outcomes"))
        show.grid(out, rows, styles=("dim", "bold"))
        if found.failures:
            causes = [(f"{share:.0%}", name) for name, share in found.failures.causes[:6]]
            if causes:
                show.section(out, "Why, where it failed so far")
                show.grid(out, causes)
        out.print("\n[dim]next:[/dim] yendo fleet waves " + show.clean(options.folder))
    return 0


# --- waves ------------------------------------------------------------------------------------------------------------


def _waves(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, nargs="?", default=Path(), metavar="WORKSPACE")
    parser.add_argument("--new", action="store_true", help="write a waves.toml to begin with")
    parser.add_argument("--play", action="store_true", help="play the whole delivery before the first machine")
    parser.add_argument("--courses", type=int, default=20, metavar="N", help="how often it is played (default: 20)")
    parser.add_argument("--picture", type=Path, metavar="FILE", help="draw the first course, as .svg or .png")
    parser.add_argument("--of", type=int, metavar="NUMBER", help="with --picture: draw how this delivery went over it")
    parser.add_argument("--csv", type=Path, metavar="FILE", help="write which machine is in which wave")
    where(parser)


def waves(options: argparse.Namespace) -> int:
    """Say which machines each wave of waves.toml has, what the first covers, and how the whole would go."""
    from datetime import date, timedelta

    from yendo import atomic
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.fleet import waves as file

    path = options.folder / file.FILE
    if options.new:
        if path.exists():
            raise Usage(f"{path} is there already; change it, or take it away first")
        begin = date.today() + timedelta(days=(7 - date.today().weekday()) % 7 or 7)
        atomic.write(path, file.BEGIN.format(begin=begin.isoformat()).encode())
        if not options.quiet and not options.json:
            show.console().print(f"{show.clean(path)} to begin with; [dim]next:[/dim] change it, then leave --new out")
        return 0
    from yendo.fleet.course import Habits
    from yendo.fleet.planning import as_persons_may, courses_of, planned

    given = file.read(path)
    store = store_of(options)
    columns = store.load()
    plan = plan_of(options.folder)
    found = foreseen_of(plan, options.folder, store, columns)
    groups = planned(given, found, plan, columns, options.folder)
    courses: list[Course] = []
    if options.play or options.picture:
        with show.working("playing", quiet=options.quiet or options.json):
            courses = courses_of(
                as_persons_may(given, plan), groups, columns, found.failures, Habits(), max(options.courses, 1)
            )
    if options.csv:
        atomic.write(options.csv, _of_waves(columns, groups))
    if options.picture:
        from yendo.fleet.picture import picture

        form = picture_form(options.picture)
        title = f"{plan.package.name} {plan.package.version}, as it would go"
        real = _really(store, options.of) if options.of else ()
        atomic.write(options.picture, picture(courses[0], title, form=form, real=real))
    if options.json:
        _emit(groups, courses, columns)
    elif not options.quiet:
        _told(groups, courses, found)
    return 0


def _really(store: Inventory, number: int) -> list[tuple[str, int, int]]:
    """How many had ended well, and failed, at the end of each day of a delivery. Raises Usage."""
    from yendo.fleet.deliveries import Deliveries, moment
    from yendo.fleet.happened import happened

    return [(one.day, one.done, one.failed) for one in happened(Deliveries(store), number, moment()).days]


def _emit(groups: list[PlannedWave], courses: list[Course], columns: Columns) -> None:
    import msgspec

    from yendo.cli import show

    rows = [
        {
            "name": one.wave.name,
            "machines": [columns.computers[number] for number in one.machines],
            "covered": one.covering.covered if one.covering else None,
            "missing": one.covering.missing if one.covering else [],
        }
        for one in groups
    ]
    show.emit({"schema": "yendo.fleet-waves/1", "waves": rows, "courses": msgspec.to_builtins(courses)})


def _told(groups: list[PlannedWave], courses: list[Course], found: Foreseen) -> None:
    from yendo.cli import show

    out = show.console()
    out.print(in_a_sentence(found))
    show.grid(out, wave_rows(groups), styles=("bold",))
    left = len(found.gets) - sum(len(one.machines) for one in groups)
    if left:
        out.print(f"[yellow]{left:,} machines are in no wave[/yellow]")
    for one in groups:
        if one.covering and one.covering.missing:
            show.section(out, f"What {show.clean(one.wave.name)} does not cover")
            show.grid(
                out, [(name, value, show.counted(count, "machine")) for name, value, count in one.covering.missing[:8]]
            )
    if not courses:
        out.print("\n[dim]next:[/dim] the same with --play, to see how it would go")
        return
    show.section(out, f"Played {show.counted(len(courses), 'time')}")
    ends: dict[str, list[Course]] = {}
    for course in courses:
        ends.setdefault(course.ended, []).append(course)
    lines = []
    for why, some in sorted(ends.items(), key=lambda item: -len(item[1])):
        days = sorted(len(course.days) for course in some)
        failed = sorted(course.failed for course in some)
        late = sorted(course.left for course in some)
        where = "" if why == "done" else f" in {some[0].wave}"
        lines.append(
            (
                why + where,
                f"{len(some)} of {len(courses)}",
                f"after {between(days)} days",
                f"{between(failed)} failed",
                f"{between(late)} not reached",
            )
        )
    show.grid(out, lines, styles=("bold",))


def _of_waves(columns: Columns, groups: list[PlannedWave]) -> bytes:
    rows = ((one.wave.name, columns.computers[number]) for one in groups for number in one.machines)
    return nested.spreadsheet(["wave", "computer"], rows)


ACTIONS: nested.Actions = {
    "add": ("read machines and their programs from files", _add, add),
    "look": ("look at computers over SSH: facts, programs, devices", _look, look),
    "inventory-script": ("write the script that looks, to be started by anything", _script, script),
    "ask": ("ask who is like this, in the language of run conditions", _ask, ask),
    "report": ("take over how packages ended on machines", _report, report),
    "foresee": ("say what a package would meet", _foresee, foresee),
    "waves": ("say which machines each wave has, and how it would go", _waves, waves),
}
