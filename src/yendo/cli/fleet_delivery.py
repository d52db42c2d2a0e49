"""Deliveries to all machines: begun, decided, put into a signed folder, pushed, collected."""

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
    from yendo.fleet.deliveries import Deliveries, PackageDelivery
    from yendo.fleet.planning import PlannedWave
    from yendo.package.signing import SignerIdentity
    from yendo.plan import Plan


def _as(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--as", dest="who", metavar="NAME", help="who decides (default: the account's name)")


def _who(options: argparse.Namespace) -> str:
    return str(options.who or os.environ.get("SUDO_USER") or getpass.getuser())


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

    from yendo.cli import proving, show
    from yendo.errors import Usage
    from yendo.fleet import waves as file
    from yendo.fleet.deliveries import moment
    from yendo.fleet.planning import planned
    from yendo.prove.prove import digest_of
    from yendo.shelf.shelf import proofs_of

    package = proving.find(options.folder)
    proofs = proofs_of(package, digest_of(package))
    if (proofs.failed or not proofs.passed) and not options.although:
        why = f"failed: {', '.join(proofs.failed[:2])}" if proofs.failed else "nothing has proved these bytes"
        raise Usage(f"{package.name} is not delivered: {why}; yendo prove {options.folder}, or say why: --although")
    given = file.read(options.folder / file.FILE)
    deliveries = fleet_common.deliveries_of(options)
    if options.after and options.verb == "install" and not options.although:
        _way_back(deliveries.one(options.after), package)
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
    proved = "" if proofs.real else ", proved on a simulated machine only"
    name = f"{plan.package.name} {plan.package.version}"
    fleet_common.say(options, f"[bold]delivery {number}[/bold]: {show.clean(name)}, {options.verb}{proved}{begins}")
    if not options.quiet:
        show.grid(show.console(), fleet_common.wave_rows(groups), styles=("bold",))
    fleet_common.say(
        options, "nothing goes out before a wave is opened and an index signed", f"yendo fleet decide {number} open"
    )
    return 0


def _way_back(before: PackageDelivery, package: Path) -> None:
    """Raises Usage where a package follows the removal of a later build of it, and nothing has proved that it can."""
    from yendo.errors import Usage
    from yendo.package import manifest as form
    from yendo.prove.prove import digest_of, kept

    mine = form.read(package)
    if before.verb != "uninstall" or before.package != mine.id:
        return
    folder, wanted = Path(before.folder), digest_of(package)
    if any(one.digest == before.digest and one.earlier == wanted and one.passed for one in kept(folder)):
        return
    raise Usage(
        f"{package.name} is not delivered: nothing has proved the way back to it from {before.name} {before.version}. "
        f'Say back_to = ["{package}"] under [proof] in the plan of {folder.name}, then: yendo prove '
        f"WORKSPACE --scenario back:{mine.version}-{mine.revision}; or say why it goes out without: --although"
    )


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

    deliveries = fleet_common.deliveries_of(options)
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
    fleet_common.say(options, words, following)
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
    from yendo.fleet.index import publish as put_in_place
    from yendo.fleet.planning import take_in_later
    from yendo.package import signing

    folders, who = [DeliveryFolder(path) for path in options.to], _signer(options)
    folder = folders[0]
    stated = folder.signers()
    if stated is None or signing.thumbprint(who) not in stated.signers:
        raise Usage(
            f"{folder.path} does not state this signer, so no computer would believe the index: yendo fleet signers "
            f"{folder.path} CERTIFICATE --identity ROOT"
        )
    deliveries = fleet_common.deliveries_of(options)
    came = take_in_later(deliveries, moment())
    before = folder.index()
    kept = before.reports if before else ""
    script = folder.put(fetcher.script(who=who)) if options.with_fetcher else before.fetcher if before else None
    index = deliveries.index(
        folder, now=moment(), reports=kept if options.reports is None else options.reports, fetcher=script,
        valid=timedelta(days=max(options.days, 1)),
    )  # fmt: skip
    put_in_place(folders, index, who)
    if options.json:
        orders = [{"number": one.number, "package": one.package, "version": one.version} for one in index.orders]
        show.emit({"schema": "yendo.fleet-index/1", "version": index.version, "orders": orders})
    orders_said = ", ".join(f"{one.number} {show.clean(one.name)} {one.version}" for one in index.orders) or "nothing"
    late = f"; {show.counted(came, 'computer')} came later" if came else ""
    fleet_common.say(options, f"index {index.version}, believed until {index.expires:%Y-%m-%d}: {orders_said}{late}")
    fleet_common.say(options, "a computer that has begun goes on; others learn of a stop before they begin")
    return 0


def _signer(options: argparse.Namespace) -> SignerIdentity:
    from yendo.errors import Usage

    if sum(bool(one) for one in (options.identity, options.by, options.request)) != 1:
        raise Usage("say who signs, with --identity FILE, --by COMMAND or --request FOLDER")
    return sign_command.who_signs(options)


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
    fleet_common.say(options, f"list {stated.version}, believed until {stated.expires:%Y-%m-%d}, by the root {root}")
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
    fleet_common.say(options, words, "as administrator on each computer: fetch.cmd -Install")
    return 0


# --- pushed -----------------------------------------------------------------------------------------------------------


def _push(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("number", type=int, metavar="NUMBER")
    parser.add_argument("--folder", type=Path, required=True, metavar="FOLDER", help="the delivery folder, signed")
    fleet_common.over_ssh(parser, "1 h")
    parser.add_argument("--root", required=True, metavar="CERTIFICATE", help="whose list of signers computers believe")
    fleet_common.where(parser)


def push(options: argparse.Namespace) -> int:
    """Carry a delivery to the computers whose turn has come, over SSH. Call it again until everybody has it."""
    from yendo.cli import show
    from yendo.fleet import push as carrying
    from yendo.fleet.index import DeliveryFolder
    from yendo.package import signing

    deliveries = fleet_common.deliveries_of(options)
    (root,) = signing.signers([options.root])
    columns = deliveries.store.load()
    wake = fleet_common.by_computer(columns, "mac")
    way = carrying.WayThere(**fleet_common.reached(options, columns), root=root, wake=wake)
    out = show.console()
    heard = fleet_common.heard(options)
    found = carrying.push(deliveries, DeliveryFolder(options.folder), options.number, way, heard)
    if options.json:
        show.emit({"schema": "yendo.fleet-pushed/1", "computers": nested.builtins(found)})
    elif not options.quiet:
        show.grid(out, [(one.computer, one.became, one.words) for one in found], styles=("bold",))
        said = "nobody's turn has come, or everybody has told the end" if not found else ""
        fleet_common.say(options, said, f"yendo fleet status {options.number}")
    return 0 if all(one.became in ("told", "later") for one in found) else 1


# --- collected and shown ---------------------------------------------------------------------------------------------


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

    deliveries = fleet_common.deliveries_of(options)
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
        fleet_common.say(options, f"{options.admit} may read")
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
    "serve": ("collect reports and show what became of deliveries", _serve, serve),
}
