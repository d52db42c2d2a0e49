"""A Mac over SSH: a real SSH server with the simulated machine's sandbox behind it. No Mac was at hand."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import json
import os
import plistlib
import shutil
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path

import mac_half_specimens as made
import pytest
from conftest import Yendo, missing, parsed, unix
from test_mac_proof import DO, UNDO, WHOLE

from yendo.effects.things import File, Link, same
from yendo.errors import NoMachine, Usage
from yendo.mac_half import prove, reading
from yendo.mac_half.away import HOW_TO_ALLOW, MacAway
from yendo.mac_half.machine import sandbox
from yendo.mac_half.machine.machine import MacMachine
from yendo.machines.addresses import Address

pytestmark = unix


class Mac:
    """A simulated Mac that answers on a port of the loopback."""

    def __init__(self, folder: Path) -> None:
        import asyncssh

        self.folder, self.machine = folder, MacMachine(folder / "mac", people={"hannah": 501, "emil": 502})
        for name in ("host", "own"):
            key = asyncssh.generate_private_key("ssh-ed25519")
            key.write_private_key(str(folder / name))
            (folder / name).chmod(0o600)
            key.write_public_key(str(folder / f"{name}.pub"))
        with socket.socket() as found:
            found.bind(("127.0.0.1", 0))
            self.port = int(found.getsockname()[1])
        gate = Path(__file__).with_name("mac_gate.py")
        (folder / "sshd_config").write_text(
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nAuthorizedKeysFile {folder}/own.pub\n"
            "StrictModes no\nUsePAM no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nPidFile none\n"
            "Subsystem sftp /usr/lib/openssh/sftp-server\n"
            f"ForceCommand {sys.executable} {gate} {self.machine.tree} {folder}/gate\n",
            "utf-8",
        )
        self.gate = socket.socket(socket.AF_UNIX)
        self.gate.bind(str(folder / "gate"))
        self.gate.listen(8)
        self.gate.settimeout(0.3)
        self.over = threading.Event()
        self.thread = threading.Thread(target=self.answer)
        self.asked: list[str] = []

    def answer(self) -> None:
        while not self.over.is_set():
            try:
                asked, _ = self.gate.accept()
            except OSError:
                continue
            with asked, contextlib.suppress(OSError, ValueError):
                line, given = json.loads(asked.makefile().readline())
                self.asked.append(line)
                self.machine.at("/private/tmp/given").write_bytes(base64.b64decode(given))
                code, said = self.machine.script(f"#!/bin/sh\nexec </private/tmp/given\n{line}\n".encode())
                asked.sendall(json.dumps({"code": code, "output": "".join(f"{one}\n" for one in said)}).encode())

    def address(self, **more: str) -> Address:
        host_key = (self.folder / "host.pub").read_text().strip()
        given = {
            "user": "root",
            "host_key": host_key,
            "key": str(self.folder / "own"),
            "wait": "20 s",
            "system": "macos",
        }
        return Address(address="127.0.0.1", port=self.port, **{**given, **more})  # type: ignore[arg-type]

    def described(self, **more: str) -> str:
        given = {
            "address": "127.0.0.1",
            "user": "root",
            "host_key": (self.folder / "host.pub").read_text().strip(),
            "key": str(self.folder / "own"),
            "system": "macos",
            **more,
        }
        lines = "".join(f'{name} = "{value}"\n' for name, value in given.items())
        return f"[mini]\nport = {self.port}\n{lines}"


@pytest.fixture
def mac(tmp_path: Path) -> Iterator[Mac]:
    pytest.importorskip("asyncssh")
    if not Path("/usr/sbin/sshd").is_file() or sandbox.lacking():
        missing("an SSH server", "apt-get install openssh-server bubblewrap")
    (tmp_path / "line").mkdir()
    found = Mac(tmp_path / "line")
    Path("/run/sshd").mkdir(exist_ok=True)
    with (tmp_path / "sshd.log").open("wb") as log:
        line = ["/usr/sbin/sshd", "-D", "-e", "-f", str(found.folder / "sshd_config")]
        server = subprocess.Popen(line, stderr=log, start_new_session=True)
        found.thread.start()
        try:
            yield found
        finally:
            found.over.set()
            found.thread.join()
            with contextlib.suppress(ProcessLookupError):
                os.killpg(server.pid, signal.SIGKILL)
            server.wait()
            found.gate.close()


def _workspace(folder: Path, do: bytes = DO, undo: bytes = UNDO) -> Path:
    made.workspace(folder, WHOLE, do_sh=do, undo_sh=undo)
    (folder / "extras/site.ini").write_bytes(b"[site]\n")
    return folder


def test_what_is_seen_of_it_is_what_lies_there(mac: Mac) -> None:
    mac.machine.put("/Library/Tidewell/Pegel ß o'clock.txt", b"north\n", 0o640, 0, 80)
    mac.machine.at("/Library/Tidewell/link").symlink_to("Pegel ß o'clock.txt")
    mac.machine.put("/Library/Caches/x/y", b"z")
    with MacAway("mini", mac.address()) as away:
        away.hashed = {"/Library/Tidewell/Pegel ß o'clock.txt"}
        found, there = away.picture(), mac.machine.picture()
        looked = ("/Applications", "/Library", "/usr/local")
        by_itself = ("/Library/Caches", "/Library/Logs", "/Library/Receipts")
        seen = {path for path in there if path.startswith(looked) and not path.startswith(by_itself)}
        assert {path for path in found if path.startswith(looked)} == seen
        for path in seen:
            assert same(found[path], there[path]), (found[path], there[path])
        written = found["/Library/Tidewell/Pegel ß o'clock.txt"]
        assert isinstance(written, File) and (written.mode, written.user, written.group) == (0o640, 0, 80)
        assert written.sha256 == hashlib.sha256(b"north\n").hexdigest()
        assert found["/Library/Tidewell/link"] == Link("/Library/Tidewell/link", "Pegel ß o'clock.txt", 0, 0)
        assert set(away.people) == {"hannah", "emil"} and away.person == "hannah" and away.system == "15.3"
    assert not [one for one in mac.machine.at("/private/tmp").iterdir() if one.name.startswith("yendo-")]


def test_a_package_is_proved_there(mac: Mac, tmp_path: Path, yendo: Yendo) -> None:
    _workspace(tmp_path / "w")
    (tmp_path / "machines.toml").write_text(mac.described(), "utf-8")
    yendo("build", "w", "-q")
    yendo("prove", "w", "--scenario", "twice", "-q")
    said = yendo("prove", "w", "--machine", "ssh:mini").stdout
    assert "proved" in said and "ssh:mini" in said and "No Mac was asked" not in said
    assert any("installer -pkg" in line for line in mac.asked)
    kept = json.loads((tmp_path / "w" / prove.RECORD).read_text("utf-8"))
    assert [(one["scenario"], one["place"]) for one in kept["played"]] == [
        ("twice", "simulated"),
        ("as-it-is", "ssh:mini"),
    ]
    yendo("handover", "w", "-o", "it.html")
    page = (tmp_path / "it.html").read_text("utf-8")
    assert "ssh:mini" in page and "no Mac was asked" not in page
    before = mac.machine.picture()
    assert not [path for path in before if "idewell" in path.lower() and "/Users/" not in path]  # it left nothing


def test_what_is_wrong_there_is_seen(mac: Mac, tmp_path: Path) -> None:
    steps = '[[install]]\nkind = "script"\nfile = "do.sh"\nundo = "undo.sh"\n'
    rules = '[[detect]]\nkind = "file"\npath = "/Library/Tidewell/made"\n'
    folder = made.workspace(tmp_path / "w", steps, rules=rules, media={}, do_sh=DO, undo_sh=b"#!/bin/sh\nexit 0\n")
    made.built(folder)
    plan, _ = reading.read(folder)
    proof = prove.prove_away(folder, plan, "mini", mac.address())
    problems = [problem for one in proof.played for phase in one.phases for problem in phase.problems]
    assert proof.verdict == "failed" and "left behind: /Library/Tidewell/made" in problems


def test_who_is_not_root_or_may_not_look_is_told(mac: Mac, tmp_path: Path, yendo: Yendo) -> None:
    away = MacAway("mini", mac.address())
    try:
        assert away.lacking() == ""
        mac.machine.at("/usr/local/bin").mkdir(parents=True, exist_ok=True)
        ran = away.run
        away.run = lambda *words, **more: (1, b"sudo: a password is required\n")  # type: ignore[method-assign]
        assert "without a password (sudo: a password is required)" in away.lacking()
        refused = (1, b"ls: /Library/Application Support/com.apple.TCC: Operation not permitted\n")
        away.run = lambda *words, **more: refused if words[0] == "/bin/ls" else ran(*words, **more)  # type: ignore[method-assign]
        assert away.lacking() == HOW_TO_ALLOW
        managed = (0, b"Enrolled via DEP: Yes\nMDM enrollment: Yes (User Approved)\n")
        away.run = lambda *words, **more: managed if "enrollment" in words else ran(*words, **more)  # type: ignore[method-assign]
        assert "belongs to somebody" in away.lacking()
    finally:
        away.close()
    (tmp_path / "machines.toml").write_text(mac.described(), "utf-8")
    parts = {part["name"]: part for part in json.loads(yendo("doctor", "--json", expect=None).stdout)["parts"]}
    assert "full access to the disk" in parts["ssh:mini"]["what"] and parts["ssh:mini"]["here"]


def test_what_is_asked_wrongly(mac: Mac, tmp_path: Path, yendo: Yendo) -> None:
    _workspace(tmp_path / "w")
    (tmp_path / "machines.toml").write_text(
        mac.described() + mac.described(system="windows").replace("mini", "w11"), "utf-8"
    )
    yendo("build", "w", "-q")
    for words, said in (
        (("--machine", "ssh:w11"), "is no Mac"),
        (("--machine", "ssh:mini", "--machine", "simulated"), "are proved by themselves"),
        (("--machine", "ssh:mini", "--scenario", "desk"), "taken as it is"),
        (("--machine", "wine"), "on simulated machines, or on Macs over SSH"),
    ):
        assert said in yendo("prove", "w", *words, expect=2).stderr, words
    plan, _ = reading.read(tmp_path / "w")
    wrong = mac.address(host_key=(mac.folder / "own.pub").read_text("utf-8").strip())
    with pytest.raises((NoMachine, Usage), match="host key"):
        prove.prove_away(tmp_path / "w", plan, "mini", wrong)
    with pytest.raises(NoMachine, match="cannot be read"):
        prove.prove_away(tmp_path / "w", plan, "mini", mac.address(host_key="ssh-ed25519 AAAAC3"))
    shutil.rmtree(tmp_path / "w/package")
    with pytest.raises(Usage, match="is not built"):
        prove.prove_away(tmp_path / "w", plan, "mini", mac.address())


WORK = """
mkdir -p '/Library/Tidewell/Charts o/north' /Library/Empty
printf 'north\\n' > '/Library/Tidewell/Charts o/north/a.tide'
printf 'south\\n' > /Library/Tidewell/south.dat
ln -s /Library/Tidewell/south.dat /usr/local/bin/south
defaults write /Library/Preferences/com.tidewell.lantern Updates -bool NO
defaults write /Library/Preferences/com.tidewell.lantern Quays -array north 'south pier'
defaults write /Library/Preferences/com.tidewell.there New -int 7
sudo -u hannah defaults write com.tidewell.lantern Tips -bool NO
printf 'x\\n' >> /Library/Tidewell/old.txt
rm /Library/Tidewell/gone.txt
mkdir -p "/Users/hannah/Library/Application Support/Tidewell" && touch "/Users/hannah/Library/Application Support/Tidewell/own"
"""
JOBS = {
    "com.tidewell.awake": {"ProgramArguments": ["/bin/ls"], "StartOnMount": True},
    "com.tidewell.sync": {
        "ProgramArguments": ["/Applications/Lantern.app/Contents/MacOS/lantern", "--sync"],
        "StartInterval": 3600,
    },
    "com.tidewell.watch": {"ProgramArguments": ["/bin/ls"], "WatchPaths": ["/Library/Tidewell"]},
}


def test_what_was_done_there_becomes_a_half_of_a_package(mac: Mac, tmp_path: Path, yendo: Yendo) -> None:
    package = made.built(_workspace(tmp_path / "vendors", b"#!/bin/sh\nexit 0\n")).package
    mac.machine.put("/Library/Tidewell/old.txt", b"old\n")
    mac.machine.put("/Library/Tidewell/gone.txt", b"gone\n")
    mac.machine.put("/Library/Preferences/com.tidewell.there.plist", plistlib.dumps({"Old": 1}))
    (tmp_path / "machines.toml").write_text(mac.described(), "utf-8")
    lines = [WORK]
    for label, job in JOBS.items():
        text = plistlib.dumps({"Label": label, **job}).decode()
        lines.append(f"cat > /Library/LaunchDaemons/{label}.plist <<'END'\n{text}END\n")
    runs = [word for line in ("/usr/sbin/installer -pkg {setup} -target /", *lines) for word in ("--run", line)]
    told = parsed(yendo("capture", "w", package, "--machine", "ssh:mini", *runs, "--json"))
    plan, _ = reading.read(tmp_path / "w")
    steps = {type(one).__name__: [] for one in plan.install}
    for one in plan.install:
        steps[type(one).__name__].append(one)
    assert [one.source for one in steps["AppStep"]] == ["Lantern.app"]
    laid = {one.to: (tmp_path / "w/media" / one.source) for one in steps["FilesStep"]}
    assert set(laid) == {
        "/Library/Application Support/Tidewell",
        "/Library/Tidewell/Charts o",
        "/Library/Tidewell/south.dat",
        "/Library/LaunchDaemons/com.tidewell.awake.plist",
        "/Library/LaunchDaemons/com.tidewell.watch.plist",
        "/Library/LaunchAgents/com.tidewell.menu.plist",
    } - (
        set()
        if "/Library/LaunchAgents/com.tidewell.menu.plist" in laid
        else {"/Library/LaunchAgents/com.tidewell.menu.plist"}
    )
    assert (laid["/Library/Tidewell/Charts o"] / "north/a.tide").read_bytes() == b"north\n"
    assert {one.path: one.target for one in steps["LinkStep"]}["/usr/local/bin/south"] == "/Library/Tidewell/south.dat"
    settings = {(one.domain, one.whose): one.values for one in steps["SettingsStep"]}
    assert settings["com.tidewell.lantern", "machine"] == {"Updates": False, "Quays": ["north", "south pier"]}
    assert settings["com.tidewell.there", "machine"] == {"New": 7}  # what was there before is nobody's wish
    assert settings["com.tidewell.lantern", "persons"] == {"Tips": False}
    jobs = {one.label: one for one in steps["JobStep"]}
    assert jobs["com.tidewell.sync"].interval == "3600 s"
    open_ones = "\n".join(told["decisions"])
    for words in (
        "/Library/Tidewell/old.txt was there before",
        "/Library/Tidewell/gone.txt went away",
        "/Library/Empty is empty",
        "came into a person's folder",
        "com.tidewell.watch.plist says more than a step can",
        "the vendor's own package example.marrowby.lantern was installed",
    ):
        assert words in open_ones, words
    path = tmp_path / "w/macos.toml"
    text = path.read_text("utf-8")
    path.write_text(
        text.replace(f'identifier = "{plan.package.identifier}"', 'identifier = "example.marrowby.again"'), "utf-8"
    )
    yendo("build", "w", "-q", expect=None)
    proof = yendo("prove", "w", "--scenario", "nobody").stdout
    assert ": proved" in proof, proof
    failing = ("capture", "v", "--machine", "ssh:mini", "--run", "echo no harbour; exit 3")
    assert "ends with 3 there: no harbour" in yendo(*failing, expect=2).stderr
    assert "say what is done there" in yendo("capture", "v", "--machine", "ssh:mini", expect=2).stderr
    assert "over SSH" in yendo("capture", "v", "--machine", "ssh:mini", "--twice", expect=2).stderr


HELPER = (
    """
mkdir -p '/Library/Application Support/Tide Helper' "/Users/hannah/Library/Application Support/Tidewell" /usr/local/tide
printf 'x\\n' > '/Library/Application Support/Tide Helper/updater'
printf 'x\\n' > /private/etc/tide.conf
cat > /Library/LaunchDaemons/com.tidewell.updater.plist <<'END'
"""
    + plistlib.dumps({"Label": "com.tidewell.updater", "ProgramArguments": ["/bin/ls"]}).decode()
    + """END
launchctl bootstrap system /Library/LaunchDaemons/com.tidewell.updater.plist
sudo -u hannah defaults write com.tidewell.lantern Window -string 1,2
"""
)


def test_what_the_first_start_made_goes_with_the_package(mac: Mac, tmp_path: Path, yendo: Yendo) -> None:
    folder = _workspace(tmp_path / "w", DO, UNDO)
    (tmp_path / "machines.toml").write_text(mac.described(), "utf-8")
    said = yendo("capture", "w", "--machine", "ssh:mini", "--run", HELPER, expect=2).stderr
    assert "is not built" in said
    yendo("build", "w", "-q")
    told = yendo("capture", "w", "--machine", "ssh:mini", "--run", HELPER).stdout
    plan, _ = reading.read(folder)
    assert set(plan.made_later) == {
        "/Library/Application Support/Tide Helper",
        "/Library/LaunchDaemons/com.tidewell.updater.plist",
        "/usr/local/tide",
    }
    assert "/private/etc/tide.conf" in told and "com.tidewell.lantern" in told
    package = made.built(folder)
    assert mac.machine.install(package.removal).code == 0  # there, as its program left it
    for path in plan.made_later:
        assert not os.path.lexists(mac.machine.at(path)), path
    assert not mac.machine.has_job("system/com.tidewell.updater")
    assert mac.machine.at("/private/etc/tide.conf").is_file()
    proof = prove.prove(folder, plan, ("made-later",))
    assert proof.verdict == "proved", [phase.problems for one in proof.played for phase in one.phases]
    assert "has its half already" in yendo("capture", "w", package.package, "--machine", "ssh:mini", expect=2).stderr
