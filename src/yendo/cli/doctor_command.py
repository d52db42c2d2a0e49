"""Show which machines and helpers are here, and how to get the rest.

yendo doctor
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yendo.cli import machines

if TYPE_CHECKING:
    from collections.abc import Callable


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--powershell",
        type=Path,
        metavar="PATH",
        help="a zip or folder with a PowerShell to look at (or YENDO_POWERSHELL)",
    )


def run(options: argparse.Namespace) -> int:
    from yendo.cli import show

    found = survey(options.powershell)
    if options.json:
        show.emit({"schema": "yendo.doctor/1", "parts": found})
    elif not options.quiet:
        from rich.text import Text

        out = show.console()
        show.grid(
            out,
            [
                (
                    Text("here", "green") if part["here"] else Text("missing", "yellow"),
                    part["name"],
                    part["what"] if part["here"] else f"{part['what']}; to get it: {part['how']}",
                )
                for part in found
            ],
            heads=("", "part", ""),
        )
        missing = {part["name"] for part in found if not part["here"]}
        if not missing:
            last = "Everything is here."
        elif "isolation" in missing:
            last = "Without isolation nothing runs on wine (or only with --unconfined); all else works without these."
        else:
            last = "Yendo works without these; a proof says what was not executed."
        out.print(f"\n{last}")
    return 0


def survey(powershell: Path | None) -> list[dict[str, Any]]:
    """One entry a part: its name, whether it is here, what it is or is for, and how to get it."""
    import shutil

    from yendo import host_os
    from yendo.formats import libarchive, seven_zip

    parts: list[dict[str, Any]] = [
        {"name": "simulated machine", "here": True, "what": machines.make("simulated").label, "how": ""}
    ]

    def add(name: str, here: bool, what: str, how: str) -> None:
        parts.append({"name": name, "here": here, "what": what, "how": how})

    _layer(add, powershell)
    from yendo.machines.wine import sandbox

    why = sandbox.lacking()
    add("isolation", not why, why or sandbox.held(), sandbox.HOW_TO_GET)
    add(
        "Xvfb",
        shutil.which("Xvfb") is not None,
        "a screen without a monitor, so that no window goes unnoticed",
        "apt-get install xvfb",
    )
    _addresses(add)
    if host_os.WINDOWS:
        what = "reads 7z and rar; cabinets are read by Windows' own library"
        add("7-Zip", seven_zip.program() is not None, what, seven_zip.HOW_TO_GET)
    else:
        there = libarchive.load() is not None
        add("libarchive", there, "reads 7z, rar and cabinets packed with LZX", libarchive.HOW_TO_GET)
    _mac(add)
    return parts


def _layer(add: Callable[[str, bool, str, str], None], powershell: Path | None) -> None:
    """The Windows API layer, and what it needs."""
    from yendo.errors import YendoError
    from yendo.machines.wine import layer

    try:
        found = layer.find()
        add("wine", True, found.version, layer.HOW_TO_GET)
        machine = machines.make("wine", powershell)
        widths = _widths(machine)
        add(
            "32-bit programs",
            "32" in widths if widths else False,
            "wine runs them"
            if "32" in widths
            else "not known until the first proof"
            if not widths
            else "this wine runs 64-bit programs only",
            "apt-get install wine32, or a wine for both widths first on PATH",
        )
        add(
            "PowerShell for wine",
            machine.has_powershell,
            "the package's own runner is executed" if machine.has_powershell else "executes the package's own runner",
            "download a portable PowerShell for Windows x64 and name its zip or folder in YENDO_POWERSHELL or "
            "--powershell",
        )
    except YendoError as error:
        add("wine", False, "real machines on this system", layer.HOW_TO_GET)
        add("PowerShell for wine", False, str(error).partition(":")[0], "wine first")


def _mac(add: Callable[[str, bool, str, str], None]) -> None:
    """What a proof for macOS has here."""
    from importlib.util import find_spec

    from yendo.mac_half.machine import sandbox

    why = sandbox.lacking()
    scripts = "a shell of this system carries scripts out, against stand-ins of the system's programs; no Mac is asked"
    add("scripts for macOS", not why, why or scripts, sandbox.HOW_TO_GET)
    engine = find_spec("quickjs") is not None
    add("choices for macOS", engine, "which parts of a package apply on a machine", "pip install 'yendo[mac]'")


def _addresses(add: Callable[[str, bool, str, str], None]) -> None:
    """The computers over SSH that are described here: whether what a visit needs is there; none is visited."""
    from importlib.util import find_spec

    from yendo.errors import Usage
    from yendo.machines import addresses

    path = addresses.find(Path())
    if path is None:
        return
    try:
        known = addresses.read(path)
    except Usage as error:
        add("machines over SSH", False, str(error), "mend the file")
        return
    library = find_spec("asyncssh") is not None
    for name, one in known.items():
        key = Path(one.key).expanduser() if one.key else None
        lacking = "" if library else "the library is missing"
        if not lacking and key is not None and not key.is_file():
            lacking = f"{one.key} is not there"
        what = f"{one.user}@{one.address}" + ("" if one.revert else ", never put back: it has no revert")
        if one.system == "macos":
            what += ", macOS: its SSH server needs full access to the disk, its person sudo without a password"
        how = "pip install 'yendo[ssh]'" if not library else "name the private key's file with `key`"
        add(f"ssh:{name}", not lacking, f"{what}, {lacking}" if lacking else what, how)


def _widths(machine: Any) -> list[str]:
    import json

    ready = machine.cache / "wine" / machine._key / "ready.json"
    return list(json.loads(ready.read_text("utf-8"))["widths"]) if ready.exists() else []
