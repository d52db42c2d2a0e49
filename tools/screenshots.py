"""Makes the pictures in docs/screenshots again, from the demo's data: ``screenshots.py [NAME ...]``.

Each is a terminal window on a screen without a monitor, 1280 by 800. Needs Xvfb, xterm and ImageMagick's import,
and for the page Chromium.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from yendo.demo import story

OUT = Path(__file__).parents[1] / "docs" / "screenshots"
YENDO = Path(sys.executable).with_name("yendo")
PICTURES = {
    "read": "yendo read from-tidewell/lantern-6.2.1.msi",
    "draft": "yendo draft fresh from-tidewell/lantern-6.2.1.msi --with from-tidewell/lantern-6.2.3.msp; "
    "yendo add change property --into fresh --name SITE --value Marrowby; "
    "yendo add step copy --into fresh --from lantern/extras/site.ini --to C:/Marrowby/site.ini",
    "decide": "yendo decide plain; yendo build plain; yendo prove plain",
    "drivers": "yendo read drivers; "
    "yendo read drivers --device 'USB\\VID_FFFE&PID_0021&REV_0200,USB\\VID_FFFE&PID_0021'",
    "macos": "yendo read from-tidewell/lantern-6.2.1.dmg; yendo check lantern-mac; yendo prove lantern-mac",
    "farm": "yendo machines; yendo farm status tcp://127.0.0.1:8786; "
    "yendo prove lantern runtime drafted --scenario all --farm tcp://127.0.0.1:8786",
    "check": "yendo check mistaken",
    "detect": "yendo detect strength drafted; yendo detect derive drafted",
    "matrix": "yendo prove drafted --scenario all; yendo prove lantern --site kettle --scenario starts --scenario media-gone --scenario upgrade:6.1.0 --machine all",  # noqa: E501
    "prove-wine": "yendo prove lantern --site marrowby --machine wine",
    "fleet": "yendo fleet add machines.csv programs.csv devices.csv; yendo fleet report outcomes.csv; "
    "yendo fleet foresee lantern; yendo fleet waves lantern --play",
    "demo": "yendo demo try-out",
    "renewal": "yendo renew renewing from-tidewell-autumn/lantern-6.3.0.msi",
    "try": "yendo draft sounder from-tidewell/sounder-setup.exe --quiet; yendo try from-tidewell/sounder-setup.exe --into sounder",  # noqa: E501
    "capture": "yendo capture sounder-4 from-tidewell/sounder-setup.exe --run '{setup} /unattended' --part settings --run 'reg add HKLM\\Software\\Tidewell\\Sounder /v Updates /t REG_DWORD /d 0 /f' --twice; yendo capture sounder-4 --show",  # noqa: E501
}


# What somebody types into a command that asks.
ANSWERS = {"yendo decide plain": ["Survey office, extension 12", "Tidewell release share", "new", ">=10.0.19041"]}


def type_into(command: str) -> int:
    """Runs a command at a terminal of its own and types the next answer at each of its prompts."""
    import pty

    answers = list(ANSWERS[command])
    process, terminal = pty.fork()
    if process == 0:
        os.execvp("yendo", command.split())
    while True:
        try:
            shown = os.read(terminal, 4096)
        except OSError:
            break
        os.write(1, shown)
        if shown.endswith(b"> ") and answers:
            time.sleep(0.2)
            os.write(terminal, answers.pop(0).encode() + b"\n")
    return os.waitstatus_to_exitcode(os.waitpid(process, 0)[1])


def prepare(folder: Path) -> None:
    """The demo's scene, its finished workspace, and one with mistakes in it."""
    from yendo.machines.simulated.machine import SimulatedMachine

    story.tell(folder, SimulatedMachine())
    for name in ("mistaken", "renewing"):
        shutil.copytree(folder / "lantern", folder / name, ignore=shutil.ignore_patterns("package", ".yendo"))
    apart = folder / "apart"  # where no house says anything
    apart.mkdir()
    shutil.copyfile(folder / "from-tidewell" / "lantern-6.2.1.msi", apart / "lantern-6.2.1.msi")
    (apart / "house.toml").write_text('name = "Marrowby pilot office"\n')
    subprocess.run([YENDO, "draft", "plain", "lantern-6.2.1.msi", "--quiet"], cwd=apart, check=True)
    plan = folder / "mistaken" / "plan.toml"
    text = plan.read_text("utf-8")
    step = 'media = "lantern-6.2.1.msi"\ntimeout = "30 min"'
    mistakes = {
        'name = "SITE"': 'name = "SIET"',
        'name = "DesktopLantern"': 'name = "DesktopLanter"',
        'architecture = ["x64"]': 'os = ">=10.0.17763, <10"\narchitecture = ["x64"]',
        step: "media = \"lantern-6.2.1.msi\"\narguments = 'INSTALLDIR=C:\\Program Files\\Lantern'",
    }
    for old, new in mistakes.items():
        assert old in text, old
        text = text.replace(old, new, 1)
    contradiction = """\n[[detect]]\nkind = "uninstall-entry"\nname = "Lantern"\npublisher = "Tidewell"\nversion = "<6"\nview = "64"\n"""  # noqa: E501
    plan.write_text(text + contradiction, "utf-8")
    subprocess.run(
        [YENDO, "draft", folder / "drafted", folder / "from-tidewell/lantern-6.2.1.msi", "--quiet"], check=True
    )
    drafted = folder / "drafted" / "plan.toml"
    table = "[proof]\nothers = ['../from-tidewell/lantern-6.1.0.msi']\n\n[[install]]"
    text = drafted.read_text("utf-8").replace("[[install]]", table, 1)
    drafted.write_text(text, "utf-8")
    subprocess.run([YENDO, "build", folder / "drafted", "--quiet"], check=True)


def page(folder: Path) -> None:
    """The dossier in a browser, with proofs from a real machine too where there is one; and the shelf."""
    subprocess.run(
        [
            YENDO,
            "prove",
            folder / "lantern",
            "--scenario",
            "desk",
            "--scenario",
            "system",
            "--machine",
            "wine",
            "--quiet",
        ],
        check=False,
    )
    subprocess.run([YENDO, "dossier", folder / "lantern", "-o", folder / "dossier.html", "--quiet"], check=True)
    subprocess.run([YENDO, "handover", folder / "lantern", "-o", folder / "sheet.html", "--quiet"], check=True)
    call = [
        "chromium",
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
    ]
    call += ["--disable-sync", f"--user-data-dir={folder}/profile"]
    office = folder / "office"
    for name in ("lantern", "lantern-next", "runtime", "sounder"):
        if (folder / name).is_dir():
            shutil.copytree(folder / name, office / name)
    for name in ("house.toml", "office.png"):
        shutil.copyfile(folder / name, office / name)
    subprocess.run(
        [YENDO, "draft", office / "sounder", folder / "from-tidewell/sounder-setup.exe", "--quiet"], check=True
    )
    subprocess.run([YENDO, "build", office / "runtime", "--quiet"], check=True)
    subprocess.run([YENDO, "build", office / "lantern", "--quiet"], check=True)
    (office / "lantern-next" / "extras" / "site.ini").write_text("[site]\r\n", "utf-8")
    subprocess.run([YENDO, "shelf", office, "--html", folder / "shelf.html", "--quiet"], check=True)
    for name, height in (("dossier", 1500), ("sheet", 1500), ("shelf", 800), ("delivery", 800)):
        shot = [f"--window-size=1280,{height}", f"--screenshot={OUT / f'{name}.png'}"]
        subprocess.run([*call, *shot, (folder / f"{name}.html").as_uri()], check=True, capture_output=True)


def take(name: str, command: str, folder: Path, display: str) -> None:
    done = folder / f".{name}-done"
    script = folder / f".{name}.sh"
    run = {line: f"{sys.executable} {Path(__file__).resolve()} --type '{line}'" for line in ANSWERS}
    lines = command.split("; ")
    typed = "".join(f"printf '\\033[1m$\\033[0m %s\\n' \"{line}\"\n{run.get(line, line)}\n" for line in lines)
    where = folder / "apart" if name == "decide" else folder
    script.write_text(f"cd {where}\n{typed}touch {done}\nsleep 60\n")
    environment = {
        **os.environ,
        "DISPLAY": display,
        "PATH": f"{YENDO.parent}:{os.environ['PATH']}",
        "LC_ALL": "C.UTF-8",
    }
    window = subprocess.Popen(
        ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "9", "-geometry", "158x52+0+0", "-bg", "#101418", "-fg", "#d8dee4", "-T", name, "-e", "sh", str(script)],  # noqa: E501
        env=environment)  # fmt: skip
    until = time.monotonic() + 120
    while not done.exists() and time.monotonic() < until:
        time.sleep(0.1)
    time.sleep(0.5)
    subprocess.run(["import", "-window", "root", str(OUT / f"{name}.png")], env=environment, check=True)
    window.terminate()
    window.wait()


@contextlib.contextmanager
def farm(folder: Path) -> Iterator[None]:
    """A scheduler and two workers on this computer, and a Windows that the office describes."""
    (folder / "machines.toml").write_text(
        '[harbour-w11]\naddress = "w11.survey.marrowby.example"\nuser = "prove"\n'
        'host_key = "ssh-ed25519 AAAAC3Nza"\nrevert = [["virsh", "snapshot-revert", "w11", "clean"]]\n'
    )
    calls = [["scheduler"], *[["worker", "tcp://127.0.0.1:8786", "--offers", "simulated=1"]] * 2]
    started = []
    for call in calls:
        started.append(subprocess.Popen([YENDO, "farm", *call, "--quiet"], cwd=folder))
        time.sleep(3)
    try:
        yield
    finally:
        for process in reversed(started):
            process.terminate()
            process.wait()


def main() -> int:
    if sys.argv[1:2] == ["--type"]:
        return type_into(sys.argv[2])
    OUT.mkdir(parents=True, exist_ok=True)
    chosen = sys.argv[1:] or [*PICTURES, "pages"]
    read, write = os.pipe()
    screen = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
        pass_fds=[write],
        stderr=subprocess.DEVNULL,
    )
    display = ":" + os.read(read, 16).decode().strip()
    try:
        with tempfile.TemporaryDirectory(prefix="marrowby-") as folder:
            prepare(Path(folder))
            if "pages" in chosen:
                page(Path(folder))
            for name in [name for name in chosen if name != "pages"]:
                with farm(Path(folder)) if name == "farm" else contextlib.nullcontext():
                    take(name, PICTURES[name], Path(folder), display)
    finally:
        screen.terminate()
        screen.wait()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
