"""Makes the pictures in docs/screenshots again, from the demo's data: ``screenshots.py [NAME ...]``.

Each is a terminal window on a screen without a monitor, 1280 by 800. Needs Xvfb, xterm and ImageMagick's import.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from yendo.demo import story

OUT = Path(__file__).parents[1] / "docs" / "screenshots"
YENDO = Path(sys.executable).with_name("yendo")
PICTURES = {
    "read": "yendo read from-tidewell/lantern-6.2.1.msi",
    "draft": "yendo draft fresh from-tidewell/lantern-6.2.1.msi --with from-tidewell/lantern-6.2.3.msp",
    "properties": "yendo msi properties from-tidewell/lantern-6.2.1.msi; yendo msi dialogs from-tidewell/lantern-6.2.1.msi",
    "meet": "yendo msi meet from-tidewell; yendo msi compare from-tidewell/lantern-6.1.0.msi from-tidewell/lantern-6.2.3.msi",
    "transform": "yendo transform make lantern -o site.mst; yendo transform show site.mst from-tidewell/lantern-6.2.1.msi; "
    "yendo transform fits site.mst from-tidewell/lantern-6.2.3.msi; "
    "yendo transform move site.mst from-tidewell/lantern-6.2.1.msi from-tidewell/lantern-6.2.3.msi -o site-6.2.3.mst",
    "patch": "yendo patch show from-tidewell/lantern-6.2.3.msp from-tidewell/lantern-6.2.1.msi",
    "rows": "yendo msi rows from-tidewell/lantern-6.2.1.msi File 'FileSize>50' --with Component --show File,FileSize,Component.Directory_; "
    "yendo msi links from-tidewell/lantern-6.2.1.msi Component Program; yendo msi features from-tidewell/lantern-6.2.1.msi",
    "check": "yendo check mistaken",
    "build": "yendo build lantern --archive",
    "prove-simulated": "yendo prove lantern",
    "prove-wine": "yendo prove lantern --machine wine",
    "doctor": "yendo doctor",
    "demo": "yendo demo try-out",
    "facts": "yendo facts; yendo facts --machine wine",
    "read-setup": "yendo read from-tidewell/sounder-setup.exe",
    "try": "yendo draft sounder from-tidewell/sounder-setup.exe --quiet; yendo try from-tidewell/sounder-setup.exe --into sounder",
    "prove-setup": "yendo check sounder; yendo build sounder --quiet; yendo prove sounder; yendo prove sounder --machine wine",
    "catalogue": "yendo read from-tidewell",
}


def prepare(folder: Path) -> None:
    """The demo's scene, its finished workspace, and one with mistakes in it."""
    from yendo.machines.simulated.machine import SimulatedMachine

    story.tell(folder, SimulatedMachine())
    subprocess.run(["cp", "-r", folder / "lantern", folder / "mistaken"], check=True)
    plan = folder / "mistaken" / "plan.toml"
    text = plan.read_text("utf-8")
    step = 'media = "lantern-6.2.1.msi"\ntimeout = "30 min"'
    mistakes = {
        'name = "SITE"': 'name = "SIET"',
        'name = "DesktopLantern"': 'name = "DesktopLanter"',
        'version = ">=6.2.3.0"\n': "",
        'os = ">=10.0.17763"': 'os = ">=10.0.17763, <10"',

        step: "media = \"lantern-6.2.1.msi\"\narguments = 'INSTALLDIR=C:\\Program Files\\Lantern'",
    }
    for old, new in mistakes.items():
        assert old in text, old
        text = text.replace(old, new, 1)
    plan.write_text(text, "utf-8")


def take(name: str, command: str, folder: Path, display: str) -> None:
    done = folder / f".{name}-done"
    script = folder / f".{name}.sh"
    typed = "".join(f"printf '\\033[1m$\\033[0m %s\\n' \"{line}\"\n{line}\n" for line in command.split("; "))
    script.write_text(f'cd {folder}\n{typed}touch {done}\nsleep 60\n')
    environment = {**os.environ, "DISPLAY": display, "PATH": f"{YENDO.parent}:{os.environ['PATH']}", "LC_ALL": "C.UTF-8"}
    window = subprocess.Popen(
        ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "9", "-geometry", "158x52+0+0", "-bg", "#101418", "-fg", "#d8dee4", "-T", name, "-e", "sh", str(script)],
        env=environment)  # fmt: skip
    until = time.monotonic() + 120
    while not done.exists() and time.monotonic() < until:
        time.sleep(0.1)
    time.sleep(0.5)
    subprocess.run(["import", "-window", "root", str(OUT / f"{name}.png")], env=environment, check=True)
    window.terminate()
    window.wait()
    if name == "try":
        shutil.copyfile(folder / "sounder" / "trial" / "run-1-window-1.png", OUT / "try-window.png")


def main() -> int:
    OUT.mkdir(parents=True, exist_ok=True)
    chosen = sys.argv[1:] or list(PICTURES)
    read, write = os.pipe()
    screen = subprocess.Popen(["Xvfb", "-displayfd", str(write), "-screen", "0", "1280x800x24", "-nolisten", "tcp"], pass_fds=[write], stderr=subprocess.DEVNULL)
    display = ":" + os.read(read, 16).decode().strip()
    try:
        with tempfile.TemporaryDirectory(prefix="marrowby-") as folder:
            prepare(Path(folder))
            for name in chosen:
                take(name, PICTURES[name], Path(folder), display)
    finally:
        screen.terminate()
        screen.wait()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
