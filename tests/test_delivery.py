"""Deliveries: a signed index that computers pull from a web server, or that is carried to them over SSH.

The computers are sessions of the layer, with our own script in a PowerShell 7 engine; the task scheduler is a stand-in.
"""

from __future__ import annotations

import contextlib
import hashlib
import http.server
import re
import socket
import threading
import time
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import msgspec
import pytest

for _library in ("sqlalchemy", "numpy", "scipy", "cryptography"):
    pytest.importorskip(_library)

from conftest import Yendo, parsed
from delivery_office import COUNTED, Office, package_of
from test_kit import with_scheduler

from yendo.errors import Unreadable, Usage
from yendo.fleet import fetcher, index, machine_reports, push
from yendo.fleet.deliveries import moment
from yendo.fleet.index import DeliveryFolder, written
from yendo.package import signing

BASE = r"C:\Program Files\Yendo\fetch"
ROUND = rf'powershell -NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "{BASE}\fetch.ps1"'
LOCK = threading.Lock()  # of one office's database, where several computers are looked after at once
RESTART = '\n[[install]]\nkind = "restart"\nwhere = "always"\nnotice = "0 s"\n'


class Computer:
    """A computer that was handed the fetcher."""

    def __init__(
        self, session: Any, name: str, office: Office, source: str, reports: str, place: Path | None = None
    ) -> None:
        self.session, self.name, self.office = session, name, office
        with_scheduler(session, place or office.place)
        self.call()
        done = office.hand_over(session, source, reports, place)
        assert done.exit_code == 0, done.output

    def call(self) -> None:
        """Gives it its name; the layer forgets it whenever it starts."""
        path = r"HKLM\System\CurrentControlSet\Control\ComputerName\ActiveComputerName"
        self.session.run(f'reg add "{path}" /v ComputerName /d {self.name} /f', timeout=60)

    def round(self, *words: str) -> str:
        """One look at the folder, as the task does it; what it said."""
        self.call()
        done = self.session.run(" ".join((ROUND, *words)), timeout=300)
        assert done.exit_code == 0, done.output
        return str(done.output)

    @property
    def counted(self) -> int:
        return (self.session.read(r"C:\counted.txt") or b"").count(b"once")


class Server(http.server.ThreadingHTTPServer):
    """A web server that may be cut off, silent, or lie."""

    def __init__(self, folder: Path) -> None:
        super().__init__(("127.0.0.1", 0), Handler)
        self.folder = folder
        self.cut = 0  # how many more answers are broken off in the middle
        self.lie: bytes | None = None  # what it gives in the place of contents
        self.ranges: list[str] = []
        self.asked: list[str] = []
        self.took: list[bytes] = []
        self.refuses = False
        threading.Thread(target=self.serve_forever, daemon=True).start()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server_address[1]}"


class Handler(http.server.BaseHTTPRequestHandler):
    server: Server

    def log_message(self, *words: Any) -> None:
        pass

    def do_GET(self) -> None:
        if self.server.refuses:
            self.connection.close()
            return
        self.server.asked.append(self.path)
        path = self.server.folder / self.path.lstrip("/")
        if not path.is_file():
            self.send_error(404)
            return
        data = path.read_bytes()
        if self.server.lie is not None and "content" in self.path:
            data = self.server.lie
        begin = 0
        if asked := self.headers.get("Range"):
            self.server.ranges.append(asked)
            begin = int(asked.removeprefix("bytes=").rstrip("-"))
        self.send_response(206 if begin else 200)
        self.send_header("Content-Length", str(len(data) - begin))
        self.end_headers()
        if self.server.cut and "content" in self.path and len(data) > 9000:
            self.server.cut -= 1
            self.wfile.write(data[begin : begin + 9000])
            self.wfile.flush()
            self.connection.close()
            return
        self.wfile.write(data[begin:])

    def do_POST(self) -> None:
        data = self.rfile.read(int(self.headers["Content-Length"]))
        if not self.server.refuses:
            self.server.took.append(data)
        self.send_response(503 if self.server.refuses else 200)
        self.send_header("Content-Length", "0")
        self.end_headers()


@contextlib.contextmanager
def served(office: Office) -> Iterator[Server]:
    server = Server(office.folder.path)
    try:
        yield server
    finally:
        server.shutdown()
        server.server_close()


def waited(what: Callable[[], bool], seconds: float = 60) -> bool:
    until = time.monotonic() + seconds
    while not what() and time.monotonic() < until:
        time.sleep(0.1)
    return what()


def taken(office: Office, server: Server) -> list[str]:
    told = [office.deliveries.arrive(data, moment()) for data in server.took]
    server.took.clear()
    return told


# --- pulled -----------------------------------------------------------------------------------------------------------


def test_pulled_over_a_line_that_breaks(tmp_path: Path, open_wine: Any) -> None:
    """Fetched in parts, carried out once, told, looked at again; the second of an order waits for the first."""
    office = Office(tmp_path / "office")
    with open_wine.fresh("system") as session, served(office) as server:
        computer = Computer(session, "PIER-03", office, server.url, server.url + "/reports")
        first = office.deliver(package_of(tmp_path / "a", steps=COUNTED), ["PIER-03", "PIER-04"])
        second = office.deliver(package_of(tmp_path / "b", "sounder"), ["PIER-03"], after=first)
        office.deliver(package_of(tmp_path / "c", "gauge"), ["PIER-04"])
        office.publish()
        server.cut = 1
        assert "order 1: " in computer.round() and computer.counted == 0
        assert office.deliveries.places(first)[0].state == "waiting"
        said = computer.round()
        assert "order 1, tide install: 0, done" in said and "order 2, sounder install: 0, done" in said
        assert any(int(one.removeprefix("bytes=").rstrip("-")) for one in server.ranges), "it went on where it was"
        server.asked.clear()
        said = computer.round()
        assert "begins" not in said and computer.counted == 1
        assert server.asked == ["/signers.txt", "/index.txt"], "what it has it does not fetch again"
        assert session.read(r"C:\Program Files\Tidewell\gauge\tide.ini") is None, "what is another's is not taken"
        for name in ("tide", "sounder"):
            placed = session.read(rf"C:\Program Files\Tidewell\{name}\tide.ini") or b""
            assert placed.startswith(b"[Tide]\r\nSite=Pier"), "the person got what was decided"
        assert set(taken(office, server)) == {"new"}
        by_name = {one.computer: one for one in office.deliveries.places(first)}
        assert by_name["pier-03"].state == "done" and by_name["pier-03"].there == "there"
        assert by_name["pier-04"].state == "waiting"
        assert office.deliveries.places(second)[0].state == "done"
        outcomes = office.deliveries.store.outcomes()
        assert {(one.package, one.computer, one.failed) for one in outcomes} == {
            ("tide", "pier-03", False), ("sounder", "pier-03", False)
        }  # fmt: skip
        # gone by somebody's hand: told at the next look
        doorway = r"C:\Program Files\Yendo\packages\tide\apply.cmd"
        assert session.run(rf'cmd /d /s /c ""{doorway}" uninstall"', timeout=300).exit_code == 0
        looked = session.host(rf"{BASE}\looked.txt")
        looked.write_text(re.sub(r"\d{4}-\d\d-\d\d", "2026-01-01", looked.read_text()))
        computer.round()
        assert taken(office, server) == ["new"]
        assert office.deliveries.places(first)[0].there == "gone"
        # and taken away again
        assert session.run(ROUND + " -Remove", timeout=60).exit_code == 0
        assert not session.has_folder(BASE)


def test_what_is_not_believed(tmp_path: Path, open_wine: Any) -> None:
    """Nothing is done for an index or a content that is not as it must be, and it is told why, once a day."""
    office = Office(tmp_path / "office")
    place = office.folder.path
    with open_wine.fresh("system") as session, served(office) as server:
        computer = Computer(session, "PIER-03", office, server.url, server.url + "/reports")
        package = package_of(tmp_path / "a", steps=COUNTED)
        office.deliver(package, ["PIER-03"])
        good = office.publish()
        whole = (place / index.INDEX).read_bytes()

        def refused(words: str) -> None:
            said = computer.round()
            assert words in said and computer.counted == 0, said

        office.publish(by=office.stranger)
        refused("nobody vouched for here")
        (place / index.INDEX).write_bytes(index.index_text(good))
        refused("is not signed")
        changed = whole.replace(b"required", b"offered ", 1)
        (place / index.INDEX).write_bytes(changed)
        refused("hash value is not correct")
        (place / index.INDEX).write_bytes(b"x" * (9 << 20))
        refused("longer than the 8388608 bytes")
        office.publish(now=moment() - timedelta(days=9))
        refused("is out of date since")
        office.publish(now=moment() + timedelta(days=3))
        refused("the clock of this computer is behind")
        office.publish()  # so that a newer one was seen
        server.lie = b"@echo something else\r\n" * 4000
        refused("longer than the")
        server.lie = b""
        refused("is something else")
        server.lie = None
        office.state_signers(office.stranger, by=office.stranger)
        refused("signers.txt is signed by a certificate that nobody vouched for here")
        office.state_signers(office.stranger)  # the signer was revoked by the root
        refused("index.txt is signed by a certificate that nobody vouched for here")
        # the root hands over to another one, which states the signer again
        new = office.stranger
        office.state_signers(office.signer, roots=(signing.thumbprint(new),))
        said = computer.round()
        assert "order 1, tide install: 0, done" in said and computer.counted == 1
        office.state_signers(office.signer, by=new)
        assert "vouched" not in computer.round()
        office.state_signers(office.signer)
        assert "nobody vouched for here" in computer.round(), "the old root is none any more"
        office.state_signers(office.signer, by=new)
        # an older index does not come back
        (place / index.INDEX).write_bytes(whole)
        assert "is older than one that was here" in computer.round()
        assert set(taken(office, server)) == {"new"}
        told = [one.text for one in office.deliveries.troubles(moment() - timedelta(days=1))]
        assert len(told) >= 9 and len(told) == len(set(told)), "each trouble once"


def test_restarted_killed_put_off(tmp_path: Path, open_wine: Any) -> None:
    """A restart in the middle, a run that is killed, one that is offered, one that is stopped before it begins, one that
    fails, one that has to wait: each is carried out once or not at all, and told as what it was.
    """
    office = Office(tmp_path / "office")
    with open_wine.fresh("system") as session, served(office) as server:
        computer = Computer(session, "PIER-03", office, server.url, "")
        deliver = office.deliver
        restarting = deliver(package_of(tmp_path / "a", "tide", steps=COUNTED + RESTART), ["PIER-03"])
        office.publish(reports=server.url + "/reports")  # where reports go is in the index as well
        computer.round()
        assert computer.counted == 1 and not [one for one in server.took if b'"ended"' in one], "it is not over yet"
        session.restart()
        assert f"order {restarting}, tide install: 0, done" in computer.round() and computer.counted == 1

        failing = '\n[[install]]\nkind = "edit"\nfile = \'C:\\not\\there.ini\'\nformat = "ini"\nset = { "a/b" = "c" }\n'
        fails = deliver(package_of(tmp_path / "b", "gauge", steps=failing), ["PIER-03"])
        waits = deliver(package_of(tmp_path / "c", "buoy", more='[when]\nafter = "2099-01-01"\n'), ["PIER-03"])
        refuses = deliver(package_of(tmp_path / "d", "quay", more='[when]\nos = ">=99"\n'), ["PIER-03"])
        offered = deliver(package_of(tmp_path / "e", "sounder"), ["PIER-03"], offered=True)
        stopped = deliver(package_of(tmp_path / "f", "stop"), ["PIER-03"])
        office.publish(reports=server.url + "/reports")
        office.deliveries.decide(stopped, "stop", who="Ada", why="the vendor called", now=moment())
        office.publish(reports=server.url + "/reports")
        computer.round()
        said = computer.round()
        assert "begins: gauge" not in said and "begins: buoy" in said, "what failed is over, what waits is asked again"
        assert session.read(r"C:\Program Files\Tidewell\sounder\tide.ini") is None
        assert session.read(r"C:\Program Files\Tidewell\stop\tide.ini") is None
        menu = session.host(r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs\On offer")
        (link,) = menu.glob("*.lnk")
        there = r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs\On offer"
        session.run(rf'cmd /c start /wait "ask" "{there}\{link.name}"', timeout=60)
        wish = session.host(rf"C:\ProgramData\Yendo\wishes\{offered}")
        assert waited(wish.is_file), "what the shortcut leaves is all that it can do"
        assert f"order {offered}, sounder install: 0, done" in computer.round()
        assert not menu.exists(), "what was taken is offered no longer"

        # the package would ask whoever works here, but this wave lets nobody say later
        asks = '[in_the_way]\nprograms = ["notepad.exe"]\nask = true\nwait = "10 s"\n'
        closing = deliver(package_of(tmp_path / "h", "lead", more=asks), ["PIER-03"], put_off=0)
        office.publish(reports=server.url + "/reports")
        session.run('cmd /c start "" explorer.exe /desktop=pier & start "" notepad.exe', timeout=60)
        assert waited(lambda: session.is_running("notepad") and session.is_running("explorer"))
        assert f"order {closing}, lead install: 0, done" in computer.round()
        assert not session.is_running("notepad")
        told = (session.read(r"C:\ProgramData\Yendo\logs\lead\install.jsonl") or b"").decode()
        assert '"postponed-enough"' in told and '"person-agreed"' not in told

        # killed while it works: the next look goes on behind the last step that ended
        cut = deliver(
            package_of(tmp_path / "g", "mole", steps='\n[[install]]\nkind = "wait"\ntime = "20 s"\n'), ["PIER-03"]
        )
        office.publish(reports=server.url + "/reports")
        worker = threading.Thread(target=lambda: session.run(ROUND, timeout=300))
        computer.call()
        worker.start()
        journal = r"C:\Program Files\Yendo\state\mole\journal.txt"
        assert waited(lambda: b"done\t2" in (session.read(journal) or b""))
        session.end_programs("powershell")
        worker.join()
        assert f"order {cut}, mole install: 0, done" in computer.round()
        taken(office, server)
        states = {
            number: office.deliveries.places(number)[0] for number in (restarting, fails, waits, refuses, offered, cut)
        }
        assert [states[one].state for one in (restarting, fails, waits, refuses, offered, cut)] == [
            "done", "failed", "later", "refused", "done", "done"
        ]  # fmt: skip
        assert "there.ini" in states[fails].line and states[fails].cause, states[fails]
        told = [one for one in office.deliveries.history("pier-03") if one.delivery]
        assert len([one for one in told if one.sort == "ended"]) == 6, "each told once"


def test_its_own_next_version(tmp_path: Path, open_wine: Any) -> None:
    """The script is replaced by what the signed index names, and by nothing that is no script."""
    office = Office(tmp_path / "office")
    with open_wine.fresh("system") as session, served(office) as server:
        computer = Computer(session, "PIER-03", office, server.url, server.url + "/reports")
        broken = office.folder.put(b"function {")
        office.publish(fetcher=broken)
        assert "Missing" in computer.round()
        newer = fetcher.script().rstrip() + b"\r\n# the next version\r\n"
        office.publish(fetcher=office.folder.put(newer))
        assert "this script is another version now" in computer.round()
        assert session.read(rf"{BASE}\fetch.ps1") == newer
        assert computer.round() == ""
        checked = session.run(rf'powershell -Check51 -File "{BASE}\fetch.ps1"', timeout=60)
        assert checked.exit_code == 0, "Windows PowerShell 5.1 reads it"
        called = {line.removeprefix("calls ") for line in checked.output.splitlines() if line}
        own = set(re.findall(r"(?m)^ *function ([\w-]+)", newer.decode("utf-8-sig")))
        assert called - own <= {"ForEach-Object", "Where-Object"}, called - own


# --- pushed -----------------------------------------------------------------------------------------------------------


@contextlib.contextmanager
def offices(machine: Any, folder: Path, count: int, first: int = 0) -> Iterator[list[Any]]:
    """Computers behind SSH servers of their own, whose tasks run as somebody's."""
    import test_ssh

    with contextlib.ExitStack() as stack:
        found = []
        for number in range(count):
            place = folder / f"computer-{number}"
            place.mkdir(parents=True)
            one = stack.enter_context(test_ssh.office(machine, place, named=f"PIER-{first + number:02}"))
            found.append(one)
        yield found


def way_to(computers: list[Any], office: Office, place: Path, **more: Any) -> push.WayThere:
    """One key to all of them, and a file of the keys that they show."""
    import asyncssh

    own = asyncssh.generate_private_key("ssh-ed25519")
    own.write_private_key(str(place / "push"))
    (place / "push").chmod(0o600)
    lines = []
    for one in computers:
        own.write_public_key(str(one.folder / "own.pub"))
        lines.append(f"[127.0.0.1]:{one.port} {(one.folder / 'host.pub').read_text().strip()}")
    (place / "known").write_text("\n".join(lines) + "\n")
    addresses = {one.named.lower(): ("127.0.0.1", one.port) for one in computers}
    return push.WayThere(
        user="root", key=place / "push", known=place / "known", root=office.thumbprint, addresses=addresses, **more
    )


def test_pushed_through_cut_lines(tmp_path: Path, open_wine: Any) -> None:
    """Carried to computers over SSH, whose lines are cut: once each, told once; who is off is missed and tried again,
    who shows another key is refused.
    """
    pytest.importorskip("asyncssh")
    office = Office(tmp_path / "office")
    with offices(open_wine, tmp_path / "computers", 2) as computers:
        way = way_to(computers, office, tmp_path, patience=400.0)
        names = [one.named for one in computers]
        number = office.deliver(package_of(tmp_path / "p", steps=COUNTED), [*names, "PIER-97", "PIER-98"])
        office.publish()
        own = computers[0].folder / "other.pub"
        known = way.known.read_text().splitlines()
        way.known.write_text(
            "\n".join([*known[:1], f"[127.0.0.1]:{computers[1].port} {own.read_text().strip()}"]) + "\n"
        )
        way = msgspec.structs.replace(
            way, addresses={**way.addresses, "pier-97": ("127.0.0.1", 1), "pier-98": ("127.0.0.1", 1)}
        )
        breaker = threading.Thread(target=computers[0].cut_now_and_then, args=(3,))
        breaker.start()
        try:
            told = {one.computer: one for one in push.push(office.deliveries, office.folder, number, way)}
        finally:
            computers[0].over.set()
            breaker.join()
        assert {name: one.became for name, one in told.items()} == {
            names[0]: "told", names[1]: "refused", "PIER-97": "missed", "PIER-98": "missed"
        }, told  # fmt: skip
        assert computers[0].cuts > 0
        assert (computers[0].session.read(r"C:\counted.txt") or b"").count(b"once") == 1
        assert computers[1].session.read(r"C:\counted.txt") is None
        assert "another host key" in told[names[1]].words
        places = {one.shown: one for one in office.deliveries.places(number)}
        assert places[names[0]].state == "done" and places["PIER-97"].tries == 1 and places["PIER-97"].next
        # the next push reaches only whom it has to: the missed ones have their pause
        way.known.write_text("\n".join(known) + "\n")
        (again,) = push.push(office.deliveries, office.folder, number, way)
        assert again.computer == names[1] and again.became == "told"
        assert push.push(office.deliveries, office.folder, number, way) == []
        assert [one.state for one in office.deliveries.places(number)] == ["done", "done", "waiting", "waiting"]


def test_whoever_goes_on_has_seen_what_failed(tmp_path: Path) -> None:
    """The rule stops it; after "go on" it begins anew, and stops it again by what fails afterwards alone."""
    office = Office(tmp_path / "office")
    names = [f"pier-{number:03}" for number in range(120)]
    number = office.deliver(package_of(tmp_path / "p"), names)
    deliveries = office.deliveries

    def fail(some: list[str], at: datetime, ended: datetime | None = None) -> str:
        for name in some:
            for sort, more in (
                ("joined", {"key": "a" * 64}),
                ("ended", {"order": number, "code": 22, "ended": written(ended or at)}),
            ):
                identifier = hashlib.sha256(f"{name} {sort}".encode()).hexdigest()[:32]
                given = {"v": 1, "id": identifier, "computer": name, "told": written(at), "sort": sort, **more}
                report = msgspec.convert(given, machine_reports.MachineReport)
                deliveries.arrive(machine_reports.sealed(report, "a" * 64), at)
        deliveries.judge(number, at)
        return deliveries.one(number).state

    begun = moment()
    assert fail(names[:1], begun) == "open" and fail(names[1:20], begun) == "stopped"
    deliveries.decide(number, "go-on", who="Ada", why="a known fault of those", now=begun + timedelta(minutes=1))
    later = begun + timedelta(minutes=5)
    deliveries.judge(number, later)
    assert deliveries.one(number).state == "open", "what was seen already does not stop it again"
    found = deliveries.figures(number)
    assert (found.failed, found.ended, found.stops) == (20, 20, False)
    # they failed before that, and nobody knew: their reports come now
    assert fail(names[20:40], later, begun) == "stopped" and deliveries.figures(number).failed == 40


def test_the_packet_that_wakes() -> None:
    assert push.magic("02:00:5e:10:00:01") == b"\xff" * 6 + bytes.fromhex("02005e100001") * 16
    with pytest.raises(Usage, match="six pairs"):
        push.magic("02:00:5e")
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as there:
        there.bind(("127.0.0.1", 0))
        there.settimeout(5)
        push.wake("02-00-5E-10-00-01", "127.0.0.1", there.getsockname()[1])
        assert there.recv(200) == push.magic("02005e100001")


# --- the office's side ------------------------------------------------------------------------------------------------


def test_from_the_command_line(drafted: Path, vendor: Path, tmp_path: Path, yendo: Yendo) -> None:
    """Begun, opened by two, signed, told, stopped, withdrawn, gone back; what is not allowed is refused with what to do."""
    import shutil

    from cryptography.hazmat.primitives import serialization

    from yendo.demo import all_machines

    office = Office(tmp_path / "office")
    paths = {}
    for name, who in (("root", office.root), ("signer", office.signer)):
        key = who.key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )
        cert = who.certificates[0].public_bytes(serialization.Encoding.PEM)
        paths[name] = tmp_path / f"{name}.pem"
        paths[name].write_bytes(key + cert)
        (tmp_path / f"{name}.cer").write_bytes(cert)
    machines, programs, _ = all_machines.write(tmp_path)
    workspace = Path(shutil.copytree(drafted, tmp_path / "lantern"))
    fleet = ("fleet",)
    yendo(*fleet, "add", machines, programs)
    yendo("build", workspace)
    (workspace / "waves.toml").write_text('begin = 2026-01-01\n[[wave]]\nname = "all"\nsize = "rest"\n')
    names = parsed(yendo(*fleet, "waves", workspace, "--json"))["waves"][0]["machines"]
    one, two, three, four = names[:2] + names[-2:]
    (workspace / "waves.toml").write_text(
        'begin = 2026-01-01\n[stop]\ntwo_persons = true\n[[wave]]\nname = "first"\ncomputers = '
        f'["{one}", "{two}", "PIER-99"]\n'
        'pause = "1 day"\n[[wave]]\nname = "new"\nlisted = "new.csv"\nstanding = true\n'
    )
    (workspace / "new.csv").write_text(f"computer\n{three}\n")
    assert "nothing has proved these bytes" in yendo(*fleet, "deliver", workspace, expect=2).stderr
    assert "named and not meant: pier-99" in yendo(*fleet, "waves", workspace).stdout
    begun = parsed(yendo(*fleet, "deliver", workspace, "--although", "a trial", "--as", "Ada", "--json"))
    assert begun["number"] == 1 and [len(one["machines"]) for one in begun["waves"]] == [2, 1]
    assert "opens once somebody else agrees" in yendo(*fleet, "decide", 1, "open", "--as", "Ada").stdout
    assert "opens once somebody else agrees" in yendo(*fleet, "decide", 1, "open", "--as", "Ada").stdout
    assert "is open" in yendo(*fleet, "decide", 1, "open", "--as", "Bea").stdout
    folder = tmp_path / "out"
    publish = (*fleet, "publish", folder, "--identity", paths["signer"])
    assert "yendo fleet signers" in yendo(*publish, expect=2).stderr
    yendo(*fleet, "signers", folder, tmp_path / "signer.cer", "--identity", paths["root"])
    assert "1 Lantern" in yendo(*publish, "--reports", r"\\pier\reports").stdout
    found = index.read_index((folder / "index.txt").read_bytes(), frozenset({signing.thumbprint(office.signer)}))
    assert found.orders[0].package and found.reports == r"\\pier\reports"
    listed = DeliveryFolder(folder).get(found.orders[0].machines).decode()
    assert sorted(line.split("\t")[0] for line in listed.splitlines()) == sorted((one.lower(), two.lower()))
    assert {name for _, name in DeliveryFolder(folder).files(found.orders[0].files)} >= {"apply.ps1", "manifest.json"}
    # another site's folder has everything before the index is in either of them
    yendo(*publish[:3], tmp_path / "station", *publish[3:])
    station = DeliveryFolder(tmp_path / "station")
    assert station.incomplete(station.index()) == [] and station.index() == DeliveryFolder(folder).index()  # type: ignore[arg-type]
    assert station.signers() == DeliveryFolder(folder).signers()
    # too early, then although; who comes later is taken in
    assert "rests until" in yendo(*fleet, "decide", 1, "open", expect=2).stderr
    yendo(*fleet, "decide", 1, "open", "--although", "the vendor is in a hurry", "--as", "Ada")
    yendo(*fleet, "decide", 1, "open", "--although", "yes", "--as", "Bea")
    (workspace / "new.csv").write_text(f"computer\n{three}\n{four}\n")
    assert "1 computer came later" in yendo(*publish).stdout
    # what computers have left; somebody speaks in another's name
    left = tmp_path / "left"
    left.mkdir()

    def say(number: int, computer: str, own: str, **more: Any) -> None:
        stamp = written(moment())
        given = {
            "v": 1,
            "id": f"{number:032x}",
            "computer": computer,
            "told": stamp,
            "began": stamp,
            "ended": stamp,
            **more,
        }
        report = msgspec.convert(given, machine_reports.MachineReport)
        (left / f"{computer}-{number}.txt").write_bytes(machine_reports.sealed(report, own))

    say(1, one.lower(), "a" * 64, sort="joined", key="a" * 64)
    say(2, one.lower(), "a" * 64, sort="ended", order=1, code=0, package="tidewell-lantern", version="6.2.3")
    say(3, two.lower(), "b" * 64, sort="joined", key="b" * 64)
    say(4, two.lower(), "a" * 64, sort="ended", order=1, code=23)
    told = yendo(*fleet, "report", left, "--take-away", expect=1).stdout
    assert "3 reports of computers, 0 known before, 1 refused" in told and f"{two.lower()}-4.txt" in told
    assert [path.name for path in left.iterdir()] == [f"{two.lower()}-4.txt"]
    assert "may tell another key now" in yendo(*fleet, "report", "--forget", two).stdout
    shelf = parsed(yendo("shelf", tmp_path, "--json"))["delivered"]
    assert [*shelf.values()] == ["delivery 1 open: 1 of 4"], shelf
    status = parsed(yendo(*fleet, "status", 1, "--json"))
    assert status["sentence"].startswith("of 4 computers 1 have it") and status["delivery"]["state"] == "open"
    assert "install" in yendo(*fleet, "status").stdout and "ended" in yendo(*fleet, "status", "--computer", one).stdout
    # stopped: nothing is in the index any more; withdrawn; and taken back where it is
    assert "--why" in yendo(*fleet, "decide", 1, "stop", expect=2).stderr
    yendo(*fleet, "decide", 1, "stop", "--why", "the vendor called")
    assert "nothing" in yendo(*publish).stdout and not DeliveryFolder(folder).index().orders  # type: ignore[union-attr]
    yendo(*fleet, "decide", 1, "withdraw", "--why", "a better one comes")
    assert "withdrawn already" in yendo(*fleet, "decide", 1, "go-on", "--why", "x", expect=2).stderr
    back = parsed(yendo(*fleet, "deliver", workspace, "--verb", "uninstall", "--of", 1, "--although", "t", "--json"))
    assert [one["machines"] for one in back["waves"]] == [[one], []]
    # the version before follows it only where that way back was proved
    earlier = tmp_path / "earlier"
    yendo("draft", earlier, vendor / "lantern-6.1.0.msi")
    plan = earlier / "plan.toml"
    own = re.search(r'(?m)^id = "(.*)"$', (workspace / "plan.toml").read_text("utf-8"))
    assert own
    plan.write_text(re.sub(r'(?m)^id = ".*"$', own[0], plan.read_text("utf-8"), count=1), "utf-8")
    yendo("build", earlier)
    yendo("prove", earlier)
    (earlier / "waves.toml").write_text('begin = 2026-01-01\n[[wave]]\nname = "all"\nsize = "rest"\n')
    follow = (*fleet, "deliver", earlier, "--of", 1, "--after", back["number"])
    refused = yendo(*follow, expect=2).stderr
    assert "nothing has proved the way back" in refused and "--scenario back:6.1.0-1" in refused
    package = next(path.parent for path in (earlier / "package").glob("*/manifest.json"))
    text = (workspace / "plan.toml").read_text("utf-8")
    (workspace / "plan.toml").write_text(f"{text}\n[proof]\nback_to = ['{package}']\n", "utf-8")
    yendo("prove", workspace, "--scenario", "back:6.1.0-1")
    assert "delivery 3" in yendo(*follow).stdout
    # a wave that is late
    (earlier / "waves.toml").write_text('begin = 2026-01-01\n[[wave]]\nname = "all"\nsize = "rest"\nby = 2026-01-02\n')
    yendo(*follow)
    assert "all had to be done by 2026-01-02: 1 computers are not" in yendo(*fleet, "status", 4).stdout
    assert "no delivery 9" in yendo(*fleet, "status", 9, expect=2).stderr


def test_lists_of_a_directory(tmp_path: Path) -> None:
    """What another program wrote as LDIF is read, and what is none is told."""
    pytest.importorskip("ldap3")
    from ldap3.protocol import rfc2849

    from yendo.fleet.lists import computers_in

    long = "-with-a-long-name-so-that-the-line-is-folded"
    given = [(f"PIER-{number:02}{long * (number % 3)}", ["top", "computer"]) for number in range(40)]
    entries = [
        {"type": "searchResEntry", "dn": f"CN={name},OU=Geräte,DC=marrowby",
         "raw_attributes": {"objectClass": [one.encode() for one in classes], "cn": [name.encode()]}}
        for name, classes in [*given, ("Ada", ["person"]), ("é-quay", ["computer"])]
    ]  # fmt: skip
    path = tmp_path / "pier.ldif"
    path.write_text("\n".join(rfc2849.operation_to_ldif("searchResponse", entries)), "utf-8")
    found = computers_in(path)
    assert len(found) == 41 and "Ada" not in found and "é-quay" in found and len(max(found, key=len)) > 80
    path.write_text("this is a letter\n")
    with pytest.raises(Unreadable, match="no LDIF"):
        computers_in(path)
