"""Deliveries to all machines: begun, decided, put into a signed folder, pushed, and what became of them."""

from __future__ import annotations

import argparse
import getpass
import os
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.cli import fleet_common, nested, sign_command

if TYPE_CHECKING:
    from collections.abc import Sequence

    from yendo.fleet.columns import Columns
    from yendo.fleet.deliveries import Deliveries
    from yendo.fleet.happened import Happened, StateRow
    from yendo.fleet.planning import PlannedWave
    from yendo.package.signing import SignerIdentity
    from yendo.plan import Plan


def _deliveries(options: argparse.Namespace) -> Deliveries:
    store = fleet_common.store_of(options)
    from yendo.fleet.deliveries import Deliveries

    return Deliveries(store)


def _as(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--as", dest="who", metavar="NAME", help="who decides (default: the account's name)")


def _who(options: argparse.Namespace) -> str:
    return str(options.who or os.environ.get("SUDO_USER") or getpass.getuser())


def _say(options: argparse.Namespace, text: str, following: str = "") -> None:
    from yendo.cli import show

    if options.quiet or options.json:
        return
    out = show.console()
    out.print(text)
    if following:
        out.print(f"[dim]next:[/dim] {show.clean(following)}")


# --- to begin ---------------------------------------------------------------------------------------------------------


def _deliver(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, metavar="WORKSPACE")
    parser.add_argument("--verb", choices=("install", "uninstall", "repair"), default="install")
    parser.add_argument(
        "--after", type=int, default=0, metavar="NUMBER", help="only where this delivery has ended well"
    )
    parser.add_argument(
        "--of", type=int, metavar="NUMBER", help="only computers on which this delivery has ended well, whatever the "
        "inventory says of them: to go back, or further"
    )  # fmt: skip
    parser.add_argument("--although", default="", metavar="TEXT", help="why it goes out without a proof of these bytes")
    _as(parser)
    fleet_common.where(parser)


def deliver(options: argparse.Namespace) -> int:
    """Begin to deliver a built package by the waves of its waves.toml: which computers each wave has is fixed now."""
    from datetime import date
    from hashlib import sha256

    from yendo.cli import proving, show
    from yendo.errors import Usage
    from yendo.fleet import waves as file
    from yendo.fleet.deliveries import moment
    from yendo.fleet.planning import planned
    from yendo.shelf.shelf import proofs_of

    package = proving.find(options.folder)
    passed, failed, _ = proofs_of(package, sha256((package / "manifest.json").read_bytes()).hexdigest())
    if (failed or not passed) and not options.although:
        why = f"failed: {', '.join(failed[:2])}" if failed else "nothing has proved these bytes"
        raise Usage(f"{package.name} is not delivered: {why}; yendo prove {options.folder}, or say why: --although")
    given = file.read(options.folder / file.FILE)
    deliveries = _deliveries(options)
    columns, plan = deliveries.store.load(), fleet_common.plan_of(options.folder)
    found = fleet_common.foreseen_of(plan, options.folder, deliveries.store, columns)
    some = _meant(options, deliveries, plan, columns, found.gets)
    import msgspec

    groups = planned(given, msgspec.structs.replace(found, gets=some), plan, columns, options.folder)
    sites = columns.sites()
    number = deliveries.begin(
        package, given,
        [(one.wave, [(columns.computers[at], sites[at]) for at in one.machines]) for one in groups],
        who=_who(options), now=moment(), verb=options.verb, after=options.after,
    )  # fmt: skip
    if options.json:
        body = {"number": number, "package": plan.package.id, "verb": options.verb, "waves": _counts(groups, columns)}
        show.emit({"schema": "yendo.fleet-delivery/1", **body})
        return 0
    begins = "" if given.begin <= date.today() else f"; it begins on {given.begin}"
    proved = "" if any(not one.endswith("on simulated") for one in passed) else ", proved on a simulated machine only"
    name = f"{plan.package.name} {plan.package.version}"
    _say(options, f"[bold]delivery {number}[/bold]: {show.clean(name)}, {options.verb}{proved}{begins}")
    if not options.quiet:
        show.grid(show.console(), fleet_common.wave_rows(groups), styles=("bold",))
    _say(options, "nothing goes out before a wave is opened and an index signed", f"yendo fleet decide {number} open")
    return 0


def _meant(
    options: argparse.Namespace, deliveries: Deliveries, plan: Plan, columns: Columns, gets: tuple[int, ...]
) -> tuple[int, ...]:
    """The computers that a delivery may have, by number."""
    from yendo.fleet.foresee import presence

    if options.of:
        deliveries.one(options.of)
        ended = {one.computer for one in deliveries.places(options.of) if one.state == "done"}
        return tuple(at for at, name in enumerate(columns.computers) if name.lower() in ended)
    if options.verb == "install":
        return gets
    there, _ = presence(plan, options.folder, columns)
    return tuple(at for at in range(len(columns)) if there[at] == 1)


def _counts(groups: Sequence[PlannedWave], columns: Columns) -> list[dict[str, object]]:
    return [
        {"name": one.wave.name, "machines": [columns.computers[number] for number in one.machines]} for one in groups
    ]


# --- to decide --------------------------------------------------------------------------------------------------------


def _decide(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("number", type=int, metavar="NUMBER")
    parser.add_argument("what", choices=("open", "stop", "go-on", "withdraw"), help="open the next wave, or ...")
    parser.add_argument("--why", default="", metavar="TEXT")
    parser.add_argument("--although", default="", metavar="TEXT", help="open a wave before its time, and why")
    _as(parser)
    fleet_common.where(parser)


def decide(options: argparse.Namespace) -> int:
    """Open the next wave of a delivery, stop it, go on, or withdraw it. Each decision is kept with its reason."""
    from yendo.cli import show
    from yendo.fleet.deliveries import moment

    deliveries = _deliveries(options)
    following = "yendo fleet publish FOLDER, so that computers learn of it"
    if options.what == "open":
        became, wave = deliveries.open_next(
            options.number, who=_who(options), why=options.why, although=options.although, now=moment()
        )
        words = f"the wave [bold]{show.clean(wave)}[/bold] is open"
        if became == "asked":
            words, following = f"{show.clean(wave)} opens once somebody else agrees", "the same call by a second person"
    else:
        deliveries.decide(options.number, options.what, who=_who(options), why=options.why, now=moment())
        words = f"delivery {options.number} is {deliveries.one(options.number).state}"
    if options.json:
        one = deliveries.one(options.number)
        body = {"number": one.number, "state": one.state, "open": deliveries.open_waves(one.number)}
        show.emit({"schema": "yendo.fleet-decision/1", **body})
    _say(options, words, following)
    return 0


# --- what goes out ----------------------------------------------------------------------------------------------------


def _publish(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "to", type=Path, nargs="+", metavar="FOLDER",
        help="what a web server or a share gives to the computers; more of them for other sites, which are complete "
        "before any of them has the index",
    )  # fmt: skip
    parser.add_argument("--reports", metavar="ADDRESS", help="where computers leave reports: https://..., or a folder")
    parser.add_argument("--days", type=int, default=7, metavar="N", help="how long the index is believed (default: 7)")
    parser.add_argument("--with-fetcher", action="store_true", help="let computers take this version of the fetcher")
    sign_command.signer(parser)
    fleet_common.where(parser)


def publish(options: argparse.Namespace) -> int:
    """Sign the index of all that is open, and put it into the delivery folder with everything that it names."""
    from datetime import timedelta

    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.fleet import fetcher
    from yendo.fleet.deliveries import moment
    from yendo.fleet.index import DeliveryFolder
    from yendo.package import signing

    folder, *others = [DeliveryFolder(path) for path in options.to]
    who = _signer(options)
    stated = folder.signers()
    if stated is None or signing.thumbprint(who) not in stated.signers:
        raise Usage(
            f"{folder.path} does not state this signer, so no computer would believe the index: yendo fleet signers "
            f"{folder.path} CERTIFICATE --identity ROOT"
        )
    deliveries = _deliveries(options)
    came = _stand_in(deliveries)
    before = folder.index()
    kept = before.reports if before else ""
    script = folder.put(fetcher.script(who=who)) if options.with_fetcher else before.fetcher if before else None
    index = deliveries.index(
        folder, now=moment(), reports=kept if options.reports is None else options.reports, fetcher=script,
        valid=timedelta(days=max(options.days, 1)),
    )  # fmt: skip
    for other in others:
        other.take_over(folder, index)
    folder.publish(index, who)
    for one in (folder, *others):
        if one is not folder:
            one.name_it(folder)
        one.tidy(index)
    if options.json:
        orders = [{"number": one.number, "package": one.package, "version": one.version} for one in index.orders]
        show.emit({"schema": "yendo.fleet-index/1", "version": index.version, "orders": orders})
    orders_said = ", ".join(f"{one.number} {show.clean(one.name)} {one.version}" for one in index.orders) or "nothing"
    late = f"; {show.counted(came, 'computer')} came later" if came else ""
    _say(options, f"index {index.version}, believed until {index.expires:%Y-%m-%d}: {orders_said}{late}")
    _say(options, "a computer that has begun goes on; others learn of a stop before they begin")
    return 0


def _signer(options: argparse.Namespace) -> SignerIdentity:
    from yendo.errors import Usage

    if sum(bool(one) for one in (options.identity, options.by, options.request)) != 1:
        raise Usage("say who signs, with --identity FILE, --by COMMAND or --request FOLDER")
    return sign_command.who_signs(options)


def _stand_in(deliveries: Deliveries) -> int:
    """Takes computers that came later into standing waves; how many."""
    from yendo.errors import Usage
    from yendo.fleet.deliveries import moment
    from yendo.fleet.planning import tagged

    came = 0
    for one in deliveries.all():
        standing = [wave for wave in one.waves.wave if wave.standing]
        if one.state != "open" or not standing:
            continue
        try:
            columns = deliveries.store.load()
        except Usage:
            return came
        sites = columns.sites()
        for wave in standing:
            some = tagged(wave, columns, Path(one.folder).parent.parent)
            came += deliveries.take_in(
                one.number, wave, [(columns.computers[at], sites[at]) for at in some], now=moment()
            )
    return came


def _signers(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("to", type=Path, metavar="FOLDER")
    parser.add_argument("certificates", nargs="+", metavar="CERTIFICATE", help="who may sign: a file, or a thumbprint")
    parser.add_argument(
        "--days", type=int, default=180, metavar="N", help="how long the list is believed (default: 180)"
    )
    parser.add_argument(
        "--next-root", action="append", default=[], metavar="CERTIFICATE", help="who may sign the next one"
    )
    sign_command.signer(parser)


def signers(options: argparse.Namespace) -> int:
    """State who may sign indexes and packages, by the root's key, which lies offline otherwise."""
    from datetime import timedelta

    from yendo import atomic
    from yendo.cli import show
    from yendo.fleet import index
    from yendo.fleet.deliveries import moment
    from yendo.package import signing

    folder, who = index.DeliveryFolder(options.to), _signer(options)
    before, now = folder.signers(), moment()
    stated = index.SignersList(
        version=(before.version if before else 0) + 1, made=now, expires=now + timedelta(days=max(options.days, 1)),
        signers=tuple(sorted(signing.signers(options.certificates))),
        roots=tuple(sorted(signing.signers(options.next_root))),
    )  # fmt: skip
    options.to.mkdir(parents=True, exist_ok=True)
    atomic.write(options.to / index.SIGNERS, index.signed(index.signers_text(stated), who, index.SIGNERS))
    root = signing.thumbprint(who)
    if options.json:
        show.emit(
            {"schema": "yendo.fleet-signers/1", "version": stated.version, "root": root, "signers": stated.signers}
        )
    _say(options, f"list {stated.version}, believed until {stated.expires:%Y-%m-%d}, by the root {root}")
    return 0


def _fetcher(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("to", type=Path, metavar="FOLDER", help="where fetch.ps1 and fetch.cmd are written")
    parser.add_argument(
        "--from", dest="source", required=True, metavar="ADDRESS", help="the folder: https://..., or a share"
    )
    parser.add_argument("--root", required=True, metavar="CERTIFICATE", help="whose list of signers is believed")
    parser.add_argument("--reports", default="", metavar="ADDRESS", help="until an index says where reports go")
    parser.add_argument(
        "--pace", type=int, default=0, metavar="KB", help="kilobytes a second at most (default: no limit)"
    )
    parser.add_argument("--every", type=int, default=30, metavar="MINUTES", help="how often it looks (default: 30)")
    sign_command.signer(parser)


def fetcher(options: argparse.Namespace) -> int:
    """Write the script that takes what a delivery folder has for a computer, to be started there as administrator."""
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.fleet import fetcher as made
    from yendo.package import signing

    if '"' in options.source + options.reports or "%" in options.source + options.reports:
        raise Usage("an address with a quotation mark or a per cent sign cannot stand in a command line")
    if not 1 <= options.every <= 1439:
        raise Usage("it looks at least once a day: --every 1 to 1439")
    who = _signer(options) if options.identity or options.by or options.request else None
    (root,) = signing.signers([options.root])
    made.write(
        options.to, options.source, root, reports=options.reports, pace=options.pace, every=options.every, who=who
    )
    if options.json:
        show.emit(
            {"schema": "yendo.fleet-fetcher/1", "folder": str(options.to), "root": root, "signed": who is not None}
        )
    words = f"{show.clean(options.to)}: {made.NAME}, {made.DOORWAY}; it believes what the root {root[:12]}... states"
    _say(options, words, "as administrator on each computer: fetch.cmd -Install")
    return 0


# --- pushed -----------------------------------------------------------------------------------------------------------


def _push(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("number", type=int, metavar="NUMBER")
    parser.add_argument("--folder", type=Path, required=True, metavar="FOLDER", help="the delivery folder, signed")
    parser.add_argument("--user", required=True, metavar="NAME", help="an administrator there")
    parser.add_argument(
        "--key", type=Path, required=True, metavar="FILE", help="private key; FILE-cert.pub beside it counts"
    )
    parser.add_argument(
        "--known",
        type=Path,
        required=True,
        metavar="FILE",
        help="the computers' keys (known_hosts), or who vouches for them",
    )
    parser.add_argument("--root", required=True, metavar="CERTIFICATE", help="whose list of signers computers believe")
    parser.add_argument("--port", type=int, default=22)
    parser.add_argument("--at-once", type=int, default=8, metavar="N", help="computers at once (default: 8)")
    parser.add_argument("--patience", default="1 h", metavar="TIME", help="how long one may take (default: 1 h)")
    fleet_common.where(parser)


def push(options: argparse.Namespace) -> int:
    """Carry a delivery to the computers whose turn has come, over SSH. Call it again until everybody has it."""
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.fleet import push as carrying
    from yendo.fleet.index import DeliveryFolder
    from yendo.package import signing
    from yendo.terms.amounts import seconds

    for path in (options.key, options.known):
        if not path.is_file():
            raise Usage(f"{path} is not there")
    deliveries = _deliveries(options)
    (root,) = signing.signers([options.root])
    addresses, wake = _reached(deliveries, options.port)
    way = carrying.WayThere(
        user=options.user, key=options.key, known=options.known, root=root, port=options.port,
        at_once=max(options.at_once, 1), patience=seconds(options.patience), addresses=addresses, wake=wake,
    )  # fmt: skip
    out = show.console()

    def heard(name: str, text: str) -> None:
        if not options.quiet and not options.json:
            out.print(f"[dim]{show.clean(name)}: {show.clean(text)}[/dim]")

    found = carrying.push(deliveries, DeliveryFolder(options.folder), options.number, way, heard)
    if options.json:
        show.emit({"schema": "yendo.fleet-pushed/1", "computers": nested.builtins(found)})
    elif not options.quiet:
        show.grid(out, [(one.computer, one.became, one.words) for one in found], styles=("bold",))
        said = "nobody's turn has come, or everybody has told the end" if not found else ""
        _say(options, said, f"yendo fleet status {options.number}")
    return 0 if all(one.became in ("told", "later") for one in found) else 1


def _reached(deliveries: Deliveries, port: int) -> tuple[dict[str, tuple[str, int]], dict[str, str]]:
    """Addresses and hardware addresses by computer, as far as the inventory has the columns address and mac."""
    columns = deliveries.store.load()
    found: list[dict[str, str]] = []
    for name in ("address", "mac"):
        column = columns.texts.get(name)
        given = {} if column is None else {
            computer.lower(): text for at, computer in enumerate(columns.computers) if (text := column.at(at))
        }  # fmt: skip
        found.append(given)
    return {name: (text, port) for name, text in found[0].items()}, found[1]


# --- what became of it ------------------------------------------------------------------------------------------------


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

    deliveries = _deliveries(options)
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
                _say(options, "nothing was delivered yet", "yendo fleet deliver WORKSPACE")
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
            _say(options, f"{show.clean(options.computer)} has told nothing")
    return 0 if told else 1


def _one(options: argparse.Namespace, deliveries: Deliveries) -> int:
    from datetime import timedelta

    from yendo import atomic
    from yendo.cli import show
    from yendo.errors import Usage
    from yendo.fleet.deliveries import moment
    from yendo.fleet.happened import happened, state_of
    from yendo.fleet.index import written
    from yendo.fleet.page import page
    from yendo.terms.amounts import seconds

    now = moment()
    deliveries.one(options.number)
    deliveries.judge(options.number, now)
    try:
        columns: Columns | None = deliveries.store.load()
    except Usage:
        columns = None
    said = happened(deliveries, options.number, now, columns)
    late = now - timedelta(seconds=seconds(said.delivery.waves.stop.within))
    places = deliveries.places(options.number)
    if options.page:
        atomic.write(options.page, page(said, places, now, late, picture=_drawn(said)).encode())
    if options.csv:
        rows = [
            (
                one.shown,
                one.site,
                one.wave,
                state_of(one, written(late)),
                one.code,
                one.cause,
                one.line,
                one.ended,
                one.there,
            )
            for one in places
        ]
        names = ["computer", "site", "wave", "state", "code", "cause", "line", "ended", "there"]
        atomic.write(options.csv, nested.spreadsheet(names, rows))
    if options.json:
        body = {**nested.builtins(said), "sentence": said.sentence}
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
    for text, count in said.troubles[:4]:
        out.print(f"[yellow]{count} computers[/yellow] could not begin: {show.clean(text)}")
    figures = said.figures
    if figures.ended:
        limit, sure = one.waves.stop.limit, f"{figures.evidence:g} of the {figures.stops_at:g} that it asks"
        out.print(
            f"\n{figures.failed} of {figures.ended} have failed, at most {limit} may; the rule that stops has {sure}"
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


def _serve(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--host", default="127.0.0.1", help="where it listens (default: this computer only)")
    parser.add_argument("--port", type=int, default=8460)
    parser.add_argument("--folder", type=Path, metavar="FOLDER", help="give a delivery folder out as well")
    parser.add_argument(
        "--admit", metavar="NAME", help="let somebody read, by the password in YENDO_PASSWORD; then leave"
    )
    parser.add_argument(
        "--proxy", metavar="HEADER@HOST", help="the office's own sign-on says who reads, in this header, from this host"
    )
    parser.add_argument("--certificate", type=Path, metavar="FILE", help="for https, as PEM")
    parser.add_argument("--certificate-key", type=Path, metavar="FILE")
    fleet_common.where(parser)


def serve(options: argparse.Namespace) -> int:
    """Collect what computers tell, and show what became of deliveries. It can change nothing on any computer."""
    from yendo.errors import Usage

    deliveries = _deliveries(options)
    try:
        import uvicorn

        from yendo.fleet.serving import Proxy, Serving, application
    except ImportError as error:
        raise Usage("serving needs more libraries: pip install 'yendo[fleet,serve]'") from error
    if options.admit:
        password = os.environ.get("YENDO_PASSWORD", "")
        if len(password) < 12:
            raise Usage("the password is in YENDO_PASSWORD, and has at least 12 characters")
        Serving(deliveries).admit(options.admit, password)
        _say(options, f"{options.admit} may read")
        return 0
    proxy = None
    if options.proxy:
        header, at, host = options.proxy.partition("@")
        if not (header and at and host):
            raise Usage("--proxy HEADER@HOST: for instance X-Remote-User@127.0.0.1")
        proxy = Proxy(header, host)
    if bool(options.certificate) != bool(options.certificate_key):
        raise Usage("--certificate and --certificate-key go together")
    if options.host not in ("127.0.0.1", "::1", "localhost") and not options.certificate and not proxy:
        raise Usage("others would read passwords on the way: give --certificate, or let a proxy stand before it")
    with deliveries.store.opened():
        pass  # the tables are there before anybody asks
    uvicorn.run(
        application(deliveries, folder=options.folder, proxy=proxy), host=options.host, port=options.port,
        ssl_certfile=options.certificate, ssl_keyfile=options.certificate_key, log_level="warning",
        server_header=False, proxy_headers=False,
    )  # fmt: skip
    return 0


ACTIONS: nested.Actions = {
    "deliver": ("begin to deliver a proved package by its waves", _deliver, deliver),
    "decide": ("open the next wave, stop, go on, or withdraw", _decide, decide),
    "publish": ("sign what is open into a folder that computers pull from", _publish, publish),
    "signers": ("state who may sign, by the root's key", _signers, signers),
    "fetcher": ("write the script that pulls on a computer", _fetcher, fetcher),
    "push": ("carry a delivery to computers over SSH", _push, push),
    "status": ("say what became of deliveries", _status, status),
    "serve": ("collect reports and show what became of deliveries", _serve, serve),
}
