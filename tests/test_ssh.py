"""A Windows over SSH: a real SSH server whose shell is the layer's, a scheduler that is a stand-in, restarts, cut lines."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import random
import select
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo, missing
from test_kit import RESTART, made, with_scheduler

from yendo.errors import NoMachine, Usage
from yendo.machines import addresses
from yendo.machines.addresses import Address
from yendo.machines.live import ssh
from yendo.prove import attended, kit, remote
from yendo.prove.prove import prove
from yendo.prove.scenarios import SCENARIOS

ROUNDS = int(os.environ.get("YENDO_SSH_ROUNDS", "1"))


class Office:
    """A computer that answers on a port of the loopback, until somebody cuts the line or it starts anew."""

    def __init__(self, machine: Any, folder: Path, named: str = "") -> None:
        self.machine, self.folder, self.named = machine, folder, named
        self.visit = contextlib.ExitStack()
        self.session: Any = None
        self.drive = folder / "drive"  # leads to the drive of whichever machine is behind the port now
        self.fresh()
        self.port = _free_port()
        self.over = threading.Event()
        self.task: threading.Thread | None = None
        self.restarts = self.cuts = self.dropped = self.reverts = 0
        self.server: subprocess.Popen[bytes] | None = None
        self.door = threading.Lock()  # who starts anew and who cuts lines come to it from two threads
        import asyncssh

        for name in ("host", "own", "other"):
            key = asyncssh.generate_private_key("ssh-ed25519")
            key.write_private_key(str(folder / name))
            (folder / name).chmod(0o600)
            key.write_public_key(str(folder / f"{name}.pub"))
        gate = Path(__file__).with_name("ssh_gate.py")
        (folder / "sshd_config").write_text(
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nAuthorizedKeysFile {folder}/own.pub\n"
            "StrictModes no\nUsePAM no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nPidFile none\n"
            f"Subsystem sftp /usr/lib/openssh/sftp-server\nForceCommand {sys.executable} {gate} {self.drive} {folder}/gate\n"
        )
        self.gate = socket.socket(socket.AF_UNIX)
        self.gate.bind(str(folder / "gate"))
        self.gate.listen(8)
        self.gate.settimeout(0.3)
        self.threads = [threading.Thread(target=one) for one in (self.answer, self.look_after)]

    def fresh(self) -> None:
        """Another machine is behind the port: fresh, with the stand-in of the task scheduler."""
        self.visit.close()
        self.session = self.visit.enter_context(self.machine.fresh("system"))
        with_scheduler(self.session, self.folder, hosted=True)
        self.drive.unlink(missing_ok=True)
        self.drive.symlink_to(self.session.host("C:"))

    def put_back(self) -> None:
        """What ``revert`` asks for."""
        self.reverts += 1
        self.hang_up()
        self.session.end_programs("powershell")
        if self.task:
            self.task.join()
        self.fresh()
        self.listen()

    @property
    def revert(self) -> tuple[str, ...]:
        """A command on this computer that puts the other one back."""
        code = (
            "import socket\nwith socket.socket(socket.AF_UNIX) as gate:\n"
            f"    gate.connect({str(self.folder / 'gate')!r})\n    gate.sendall(b'\"put back\"\\n')\n"
            "    exit(0 if gate.recv(9) else 1)"
        )
        return (sys.executable, "-c", code)

    def address(self, **more: Any) -> Address:
        host_key = (self.folder / "host.pub").read_text().strip()
        given = {
            "user": "root",
            "port": self.port,
            "host_key": host_key,
            "key": str(self.folder / "own"),
            "wait": "60 s",
        }
        return Address(address="127.0.0.1", **{**given, **more})

    def listen(self) -> None:
        Path("/run/sshd").mkdir(exist_ok=True)
        # with a plain shell: what a person's own shell does when it begins is no part of this, and is cut off with it
        entries = [one.split(":") for one in Path("/etc/passwd").read_text().splitlines()]
        plain = self.folder / "passwd"
        plain.write_text("".join(":".join([*one[:-1], "/bin/sh"]) + "\n" for one in entries))
        line = ["bwrap", "--dev-bind", "/", "/", "--ro-bind", str(plain), "/etc/passwd", "--cap-add", "ALL"]
        line += ["/usr/sbin/sshd", "-D", "-e", "-f", str(self.folder / "sshd_config")]
        with self.door:
            if self.server is None or self.server.poll() is not None:
                log = (self.folder / "sshd.log").open("ab")
                self.server = subprocess.Popen(line, stderr=log, start_new_session=True)

    def hang_up(self) -> None:
        """Ends the server and every connection at once."""
        with self.door:
            if self.server:
                children = _children(self.server.pid)
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(self.server.pid, signal.SIGKILL)
                for child in children:
                    with contextlib.suppress(ProcessLookupError):
                        os.kill(child, signal.SIGKILL)
                self.server.wait()

    def answer(self) -> None:
        """Carries out what sessions ask for."""
        while not self.over.is_set():
            try:
                asked, _ = self.gate.accept()
            except OSError:
                continue
            with asked, contextlib.suppress(OSError, ValueError):
                line = json.loads(asked.makefile().readline())
                if line == "put back":
                    self.put_back()
                    asked.sendall(b"done")
                    continue
                told: list[Any] = []
                work = threading.Thread(target=self.carry_out, args=(line, told))
                work.start()
                while work.is_alive():
                    # a session that is gone takes along what it has started
                    if select.select([asked], [], [], 0.2)[0] and not (self.task and self.task.is_alive()):
                        self.dropped += 1
                        self.session.end_programs("powershell")
                        break
                work.join()
                if told:
                    asked.sendall(json.dumps({"code": told[0].exit_code, "output": told[0].output}).encode())

    def call(self) -> None:
        """Gives it its name; the layer forgets it whenever it starts."""
        if self.named:
            key = r"HKLM\System\CurrentControlSet\Control\ComputerName\ActiveComputerName"
            self.session.run(f'reg add "{key}" /v ComputerName /d {self.named} /f', timeout=60)

    def carry_out(self, line: str, told: list[Any]) -> None:
        self.call()
        told.append(self.session.run(line, timeout=300))

    def look_after(self) -> None:
        """The scheduler: starts the task that somebody asked for; and the machine that starts anew, with its tasks."""
        while not self.over.wait(0.3):
            if self.session.read(r"C:\task-run.txt") is not None:
                self.session.remove(r"C:\task-run.txt")
                if not (self.task and self.task.is_alive()):  # one that runs is not started again
                    self.begin()
            # a computer with a name keeps its task, and does not start anew when it is over
            elif not self.named and self.task and not self.task.is_alive() and self.session.read(r"C:\task.txt"):
                self.restarts += 1
                self.hang_up()
                self.session.restart()
                self.listen()
                self.begin()

    def begin(self) -> None:
        line = (self.session.read(r"C:\task.txt") or b"").decode()
        self.call()
        self.task = threading.Thread(target=lambda: self.session.run(line, timeout=900))
        self.task.start()

    def cut_now_and_then(self, seed: int) -> None:
        """Cuts every line at moments nobody knows; the machine itself goes on."""
        moments = random.Random(seed)
        while not self.over.wait(moments.uniform(2, 9)):
            self.cuts += 1
            self.hang_up()
            time.sleep(moments.uniform(0, 2))
            self.listen()


def _free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


def _children(parent: int) -> list[int]:
    import psutil

    try:
        return [one.pid for one in psutil.Process(parent).children(recursive=True)]
    except psutil.NoSuchProcess:
        return []


@contextlib.contextmanager
def office(machine: Any, folder: Path, named: str = "") -> Iterator[Office]:
    if not Path("/usr/sbin/sshd").is_file() or not shutil.which("bwrap"):
        missing("an SSH server", "apt-get install openssh-server bubblewrap")
    found = Office(machine, folder, named)
    found.listen()
    for thread in found.threads:
        thread.start()
    try:
        yield found
    finally:
        found.over.set()
        for thread in found.threads:
            thread.join()
        found.hang_up()
        if found.task:
            found.task.join()
        found.gate.close()
        found.visit.close()


# --- what is written down ---------------------------------------------------------------------------------


GOOD = 'address = "w11"\nuser = "prove"\nhost_key = "ssh-ed25519 AAAAC3"\n'


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[w11]\n" + GOOD + 'password = "x"\n', "a password does not belong in a file"),
        ("[w11]\n" + GOOD + 'pass_word = "x"\n', "a password does not belong"),
        ('[w11]\naddress = "w11"\nuser = "prove"\n', "host_key"),
        ("[w11]\n" + GOOD + 'revert = ["virsh start w11"]\n', "revert"),
        ("[w11]\n" + GOOD + 'wait = "soon"\n', "soon"),
        ("[w11]\n" + GOOD + "color = 1\n", "color"),
        ('["a/b"]\n' + GOOD, "no name for a machine"),
        ("[w11\n", "cannot be read"),
    ],
)
def test_bad_addresses(tmp_path: Path, text: str, words: str) -> None:
    (tmp_path / "machines.toml").write_text(text)
    with pytest.raises(Usage, match=words):
        addresses.read(tmp_path / "machines.toml")


def test_found_beside_or_above(tmp_path: Path, yendo: Yendo) -> None:
    package = made(tmp_path / "w")
    assert "there is none" in yendo("prove", package, "--machine", "ssh:w11", expect=4).stderr
    (tmp_path / "machines.toml").write_text("[w11]\n" + GOOD)
    assert addresses.named(tmp_path / "w", "w11").user == "prove"
    assert "it has: w11" in yendo("prove", package, "--machine", "ssh:w10", expect=4).stderr
    assert "invalid choice: 'ssj'" in yendo("prove", package, "--machine", "ssj", expect=2).stderr
    refused = yendo("prove", package, "--machine", "ssh:w11", "--scenario", "desk", expect=2)
    assert "needs a person's session" in refused.stderr


def test_a_machine_that_cannot_be_put_back() -> None:
    fails = Address(
        address="x", user="x", host_key="ssh-ed25519 A", revert=((sys.executable, "-c", "exit('no snapshot')"),)
    )
    with pytest.raises(NoMachine, match=r"could not be put back.*no snapshot"):
        ssh.revert("w11", fails)
    with pytest.raises(NoMachine, match="could not be put back"):
        ssh.revert("w11", Address(address="x", user="x", host_key="ssh-ed25519 A", revert=(("no-such-program",),)))


def test_one_that_never_answers(tmp_path: Path) -> None:
    package = made(tmp_path / "w")
    gone = Address(address="127.0.0.1", port=_free_port(), user="x", host_key=_key(tmp_path), wait="3 s")
    with pytest.raises(NoMachine, match="does not answer within 3 s"):
        remote.play(package, "w11", gone, "", lambda text: None)


def _key(folder: Path) -> str:
    asyncssh = pytest.importorskip("asyncssh")

    return asyncssh.generate_private_key("ssh-ed25519").export_public_key().decode().strip()


# --- played ----------------------------------------------------------------------------------------------


@pytest.mark.wine
def test_who_is_not_believed(tmp_path: Path, shell_wine: Any) -> None:
    """Another host key, a key that is not let in, a full disk, somebody else at work, a computer that belongs to
    somebody: nothing is begun.
    """
    package = made(tmp_path / "w")
    with office(shell_wine, tmp_path) as there:
        other = (tmp_path / "other.pub").read_text().strip()
        for more, words in (
            ({"host_key": other}, "another host key"),
            ({"key": str(tmp_path / "other")}, "does not let root in"),
        ):
            with pytest.raises(NoMachine, match=words):
                remote.play(package, "w11", there.address(**more), "", lambda text: None, idle=0)
        (tmp_path / "full").touch()
        with pytest.raises(NoMachine, match="is its disk full"):
            remote.play(package, "w11", there.address(), "", lambda text: None, idle=0)
        (tmp_path / "full").unlink()
        there.session.write(r"C:\task.txt", b"somebody's")
        for begins in (
            lambda: remote.play(package, "w11", there.address(), "", lambda text: None, idle=0),
            lambda: attended.over_ssh("w11", there.address(), lambda text: None, idle=0).surroundings("system"),
        ):
            with pytest.raises(Usage, match="another proof is under way"):
                begins()
        there.session.remove(r"C:\task.txt")
        key = r"HKLM\System\CurrentControlSet\Services\Tcpip\Parameters"
        there.session.run(f'reg add {key} /v "NV Domain" /d marrowby.example /f', timeout=60)
        with pytest.raises(Usage, match=r"in the domain marrowby\.example"):
            remote.play(package, "w11", there.address(), "", lambda text: None, idle=0)
        assert not there.session.has_folder(r"C:\Program Files\Yendo proof") and there.task is None


@pytest.mark.thorough
@pytest.mark.wine
@pytest.mark.parametrize("seed", range(ROUNDS))
def test_a_restart_and_lines_that_are_cut(tmp_path: Path, shell_wine: Any, seed: int) -> None:
    """Proved over SSH with restarts in its middle, while every connection is cut now and then."""
    package = made(tmp_path / "w", steps=RESTART)
    said: list[str] = []
    with office(shell_wine, tmp_path) as there:
        cutter = threading.Thread(target=there.cut_now_and_then, args=(seed,))
        cutter.start()
        try:
            result = remote.play(package, "w11", there.address(), "", said.append, idle=0)
        finally:
            there.over.set()
            cutter.join()
        assert there.restarts == 2 and there.cuts > 3  # installed, and installed again
    proof = prove(package, result.machine, scenario="system")
    assert proof.passed, [(phase.title, phase.found, phase.details) for phase in proof.phases]
    assert proof.machine == "ssh-w11" and proof.place == "API layer"


@pytest.mark.thorough
@pytest.mark.wine
def test_nothing_stays_there(tmp_path: Path, shell_wine: Any) -> None:
    package = made(tmp_path / "w")
    kit.write(package, tmp_path / "k.zip", SCENARIOS["system"])
    carried = kit.note_of(package, "system", "").read_bytes()
    with office(shell_wine, tmp_path) as there:
        remote.play(package, "w11", there.address(), "", lambda text: None, idle=0)
        assert there.task is not None
        there.task.join()
        left = [path for path in there.session.files_below("C:") if "yendo" in path.lower()]
        assert not [path for path in left if not path.lower().startswith("c:\\programdata\\yendo\\logs")]
    assert kit.note_of(package, "system", "").read_bytes() == carried, "one that was carried away is judged as before"


def test_doctor_shows_them(tmp_path: Path, yendo: Yendo) -> None:
    (tmp_path / "machines.toml").write_text("[w11]\n" + GOOD + 'key = "not-there"\n')
    pytest.importorskip("asyncssh")  # without it that is what doctor says
    parts = {part["name"]: part for part in json.loads(yendo("doctor", "--json", expect=None).stdout)["parts"]}
    assert not parts["ssh:w11"]["here"] and "not-there is not there" in parts["ssh:w11"]["what"]
    (tmp_path / "machines.toml").write_text("[w11]\n" + GOOD + 'password = "x"\n')
    parts = {part["name"]: part for part in json.loads(yendo("doctor", "--json", expect=None).stdout)["parts"]}
    assert "does not belong in a file" in parts["machines over SSH"]["what"]


def test_keys_that_somebody_vouches_for(tmp_path: Path) -> None:
    """A computer's key by the office's own authority, and a person's by a certificate that ends: a real server."""
    asyncssh = pytest.importorskip("asyncssh")
    if not Path("/usr/sbin/sshd").is_file():
        missing("an SSH server", "apt-get install openssh-server")
    for name in ("hosts", "people", "host", "own", "stranger"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(tmp_path / name)], check=True)

    def vouch(by: str, whom: str, *more: str) -> None:
        line = ["ssh-keygen", "-q", "-s", str(tmp_path / by), "-I", whom, "-V", "-1m:+5m", *more]
        subprocess.run([*line, str(tmp_path / f"{whom}.pub")], check=True)

    vouch("hosts", "host", "-h", "-n", "127.0.0.1")
    vouch("people", "own", "-n", "root")
    port = _free_port()
    (tmp_path / "sshd_config").write_text(
        f"Port {port}\nListenAddress 127.0.0.1\nHostKey {tmp_path}/host\nHostCertificate {tmp_path}/host-cert.pub\n"
        f"TrustedUserCAKeys {tmp_path}/people.pub\nAuthorizedKeysFile none\nStrictModes no\nUsePAM no\n"
        "PasswordAuthentication no\nKbdInteractiveAuthentication no\nPidFile none\n"
    )
    Path("/run/sshd").mkdir(exist_ok=True)
    server = subprocess.Popen(
        ["/usr/sbin/sshd", "-D", "-e", "-f", str(tmp_path / "sshd_config")], stderr=subprocess.DEVNULL
    )

    async def reached(key: str, authority: str) -> None:
        (tmp_path / "known").write_text(f"@cert-authority * {(tmp_path / authority).read_text()}")
        given = Address(address="127.0.0.1", port=port, user="root", known=str(tmp_path / "known"),
                        key=str(tmp_path / key), wait="20 s")  # fmt: skip
        line = ssh.SshLine("w11", given, str, 20)
        await line.answering(10)
        line.lose()

    try:
        asyncio.run(reached("own", "hosts.pub"))
        with pytest.raises(NoMachine, match="another host key"):
            asyncio.run(reached("own", "people.pub"))
        with pytest.raises(NoMachine, match="does not let root in"):
            asyncio.run(reached("stranger", "hosts.pub"))
        assert asyncssh
    finally:
        server.terminate()
        server.wait()
