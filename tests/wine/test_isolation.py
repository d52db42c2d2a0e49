"""A proof's machine is a sandbox: each of these was possible once, on a real layer, and passed as "0 left behind"."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psutil
import pytest
from conftest import Yendo
from specimens import Specimen

from yendo.draft import draft
from yendo.errors import NoMachine
from yendo.machines.wine import layer as layers
from yendo.machines.wine import sandbox
from yendo.machines.wine.machine import WineMachine

UNIX = r"start /wait /unix "


def windows(path: Path) -> str:
    return "Z:" + str(path).replace("/", "\\")


def runs(machine: WineMachine) -> list[Path]:
    return [path for path in (machine.cache / "wine" / "runs").glob("run-*") if path.is_dir()]


def below(root: Path) -> list[psutil.Process]:
    """Whatever still runs in any of the prefixes below a folder."""
    found = []
    for process in psutil.process_iter():
        with contextlib.suppress(psutil.Error):
            if process.environ().get("WINEPREFIX", "").startswith(str(root)):
                found.append(process)
    return found


def test_the_hosts_files_are_not_there(wine: Any, tmp_path: Path) -> None:
    """Neither by the drive to the root nor by Unix paths; and what is written there is written nowhere."""
    secret, left = tmp_path / "secret.txt", tmp_path / "left.txt"
    secret.write_text("tide and time")
    with wine.fresh() as session:
        assert session.run(f'type "{windows(secret)}"', timeout=60).exit_code != 0
        session.run(f'copy C:\\windows\\win.ini "{windows(left)}"', timeout=60)
        session.run(
            rf'{UNIX}/bin/sh -c "cat {secret} /etc/shadow > {session.copy.root}/drive_c/found.txt; echo x > {left}; echo x > /usr/x"',
            timeout=60,
        )
        assert not session.read(r"C:\found.txt")
    assert not left.exists() and not Path("/usr/x").exists()


def test_nothing_of_the_host_is_reached_over_the_network(shell_wine: Any) -> None:
    with socket.create_server(("127.0.0.1", 0)) as server, shell_wine.fresh() as session:
        server.settimeout(0.2)
        connect = f"[Net.Sockets.TcpClient]::new().Connect('127.0.0.1', {server.getsockname()[1]})"
        assert session.run(f'powershell -Command "{connect}"', timeout=60).exit_code != 0
        with pytest.raises(TimeoutError):
            server.accept()
        # a loopback of its own is there, as programs expect it
        own = "$l = [Net.Sockets.TcpListener]::new([Net.IPAddress]::Loopback, 0); $l.Start(); [Net.Sockets.TcpClient]::new().Connect('127.0.0.1', $l.LocalEndpoint.Port)"
        assert session.run(f'powershell -Command "{own}"', timeout=60).exit_code == 0


def test_nothing_outlives_the_session(wine: Any) -> None:
    with wine.fresh() as session:
        session.run(r"start /unix /usr/bin/env -i /usr/bin/setsid /bin/sleep 987654", timeout=60)
        started: list[psutil.Process] = []
        until = time.monotonic() + 20  # the layer has handed it on, and does not wait until it runs
        while not started and time.monotonic() < until:
            time.sleep(0.1)
            started = [
                process
                for process in psutil.process_iter(["cmdline"])
                if (process.info["cmdline"] or [])[-1:] == ["987654"]
            ]
        assert started
    assert not any(process.is_running() and process.status() != psutil.STATUS_ZOMBIE for process in started)


def test_programs_have_no_rights(wine: Any) -> None:
    with wine.fresh() as session:
        out = f"{session.copy.root}/drive_c/status.txt"
        session.run(
            rf'{UNIX}/bin/sh -c "cat /proc/self/status > {out}; echo 1 > /proc/sys/kernel/ns_last_pid; mount -o remount,rw /usr 2>&1 >> {out}"',
            timeout=60,
        )
        status = (session.read(r"C:\status.txt") or b"").decode()
    lines = dict(line.split(":\t", 1) for line in status.splitlines() if ":\t" in line)
    assert {lines[name] for name in ("CapEff", "CapPrm", "CapBnd")} == {"0" * 16} and lines["NoNewPrivs"] == "1"


@pytest.mark.parametrize(("limits", "line", "words"), [
    (sandbox.Limits(processes=40), "for i in $(seq 200); do sleep 60 & done; wait", "processes at once"),
    (sandbox.Limits(memory=400 << 20), "head -c 1500000000 /dev/zero | tail", "MB of memory"),
    (sandbox.Limits(disk=200 << 20), "head -c 900000000 /dev/zero > $OUT/drive_c/big; sleep 20", "MB written"),
])  # fmt: skip
def test_a_run_that_takes_too_much_is_ended(
    wine: Any, monkeypatch: pytest.MonkeyPatch, limits: sandbox.Limits, line: str, words: str
) -> None:
    monkeypatch.setattr(sandbox.Sandbox.__init__, "__defaults__", (limits,))
    with wine.fresh() as session:
        script = session.asked / "greedy.sh"
        script.write_text(line.replace("$OUT", str(session.copy.root)))
        until = time.monotonic() + 30
        with pytest.raises(NoMachine, match=words):
            session.run(f"{UNIX}/bin/sh {script}", timeout=60)
            while time.monotonic() < until:
                session.run("cmd /c exit", timeout=60)
                time.sleep(0.5)


@contextlib.contextmanager
def working(machine: WineMachine, tmp_path: Path) -> Iterator[subprocess.Popen[bytes]]:
    """Another Yendo in the middle of a run."""
    code = f"""
import sys
from pathlib import Path
from yendo.machines.wine.machine import WineMachine
with WineMachine(Path({str(machine.cache)!r})).fresh() as session:
    Path({str(tmp_path / "at")!r}).write_text(str(session.work) + " " + str(session.display))
    session.run("ping -n 600 127.0.0.1", timeout=900)
"""
    process = subprocess.Popen([sys.executable, "-c", code], start_new_session=True)
    try:
        until = time.monotonic() + 120
        while not (tmp_path / "at").exists() or not below(Path((tmp_path / "at").read_text().split(" ")[0] or "?")):
            assert time.monotonic() < until and process.poll() is None
            time.sleep(0.2)
        yield process
    finally:
        if process.poll() is None:
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()


def test_a_killed_run_leaves_nothing(wine: Any, tmp_path: Path) -> None:
    """Processes and screen die with it; its mount and folder go with the next start."""
    with working(wine, tmp_path) as process:
        work, display = (tmp_path / "at").read_text().split(" ")
        there = below(Path(work))
        screens = [
            one
            for one in psutil.process_iter(["cmdline"])
            if "Xvfb" in " ".join(one.info["cmdline"] or []) and one.ppid() == process.pid
        ]
        assert there and screens and display
        process.kill()
        process.wait()
        _, alive = psutil.wait_procs([*there, *screens], timeout=10)
        assert not [one for one in alive if one.status() != psutil.STATUS_ZOMBIE]
    with wine.fresh():
        assert Path(work) not in runs(wine) and not os.path.ismount(f"{work}/copy/prefix")


def test_a_closed_terminal_is_like_ctrl_c(wine: Any, yendo: Yendo, tmp_path: Path) -> None:
    own = tmp_path / "cache"  # runs of its own, on the same template
    (own / "wine").mkdir(parents=True)
    (own / "wine" / wine.template.name).symlink_to(wine.template)
    draft.from_installer(tmp_path / "w", Specimen("hang-up").with_file().ours(tmp_path))
    yendo("build", "w")
    program = Path(sys.executable).with_name("yendo")
    process = subprocess.Popen(
        [str(program), "prove", "w", "--machine", "wine"], cwd=tmp_path, env={**os.environ, "YENDO_CACHE": str(own), "YENDO_POWERSHELL": str(wine.powershell or "")}, start_new_session=True,
        preexec_fn=lambda: signal.signal(signal.SIGHUP, signal.SIG_DFL),  # whatever started the tests may ignore it
        stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
    )  # fmt: skip
    until = time.monotonic() + 120
    while not below(own / "wine" / "runs"):
        assert time.monotonic() < until and process.poll() is None
        time.sleep(0.05)
    process.send_signal(signal.SIGHUP)
    _, said = process.communicate(timeout=60)
    assert process.returncode == 130 and b"stopped" in said and not below(own / "wine" / "runs")


def test_without_isolation_only_when_asked(
    wine: Any, monkeypatch: pytest.MonkeyPatch, yendo: Yendo, tmp_path: Path
) -> None:
    monkeypatch.setattr(sandbox, "lacking", lambda: "bwrap not found")
    with pytest.raises(NoMachine, match="--unconfined"):
        WineMachine(wine.cache, wine.powershell)
    bare = WineMachine(wine.cache, wine.powershell, unconfined=True)
    with bare.fresh() as session:
        assert session.run("cmd /c exit 7", timeout=60).exit_code == 7 and session.box is None
    assert "UNCONFINED" in bare.label and "UNCONFINED" not in wine.label


def test_a_layer_that_lies_in_the_system(wine: Any, tmp_path: Path) -> None:
    """The same for a wine of this system's own: only programs and fonts of the system are seen, no home, no settings beyond."""
    found = layers.find()
    plain = layers.Layer(found.version, "/usr/bin/env", "/usr/bin/env")
    (tmp_path / "in").mkdir()
    (tmp_path / "asked").mkdir()
    box = sandbox.Sandbox(plain, [tmp_path / "in"], [tmp_path / "asked"], None)
    try:
        line = "cat /etc/shadow /etc/passwd; ls /etc /home /; echo x > " + str(tmp_path / "in" / "x")
        said = subprocess.run(
            [*box.entering({"PATH": "/usr/bin:/bin"}), "/bin/sh", "-c", line],
            capture_output=True,
            text=True,
            check=False,
        ).stdout
        assert (
            "shadow" not in said
            and "root:x" not in said
            and "work" not in said.split()
            and (tmp_path / "in" / "x").exists()
        )
    finally:
        box.close()
