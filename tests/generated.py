"""Packages made up by a seed: a vendor's product in an older, this and a newer version, drafted and built."""

from __future__ import annotations

import random
from pathlib import Path

from specimens import Specimen

from yendo.demo.vendor import PROGRAMS, guid
from yendo.draft import draft
from yendo.package import build
from yendo.plan import read

VERSIONS = ("6.1.0", "6.2.1", "6.2.3")  # those of the programs that are at hand with a version in them
WORDS = ("tide", "chart", "depth", "buoy", "pilot", "quay", "shoal", "gauge", "wreck", "light")


def specimen(seed: int, version: str) -> Specimen:
    """The same product in a version: what it consists of depends on the seed, what is in its files on the version too."""
    chance = random.Random(seed)
    name = f"generated{seed}"
    found = Specimen(f"{name} {version}", version=version)
    found.tables["Property"] = [
        (key, {"ProductName": f"Harbour {name}", "UpgradeCode": guid(f"{name} line")}.get(key, value))
        for key, value in found.tables["Property"]
    ]
    found.tables["Directory"][-1] = ("INSTALLDIR", "ProgramFiles64Folder", f"GEN{seed}|Harbour {name}")
    found.add("Upgrade", (guid(f"{name} line"), None, version, None, 1, None, "OLDERFOUND"))
    found.tables["Property"].append(("SecureCustomProperties", "OLDERFOUND"))
    at = VERSIONS.index(version)
    folders = ["INSTALLDIR"]
    for number in range(chance.randint(0, 2)):
        folders.append(f"DIR{number}")
        found.add("Directory", (f"DIR{number}", "INSTALLDIR", f"D{number}|{WORDS[number]}s"))
    first = True
    for number in range(chance.randint(2, 12)):
        word = f"{WORDS[number % len(WORDS)]}{number}"
        component, folder = f"C{number}", "INSTALLDIR" if first else chance.choice(folders)
        program = first or chance.random() < 0.35
        found.component(component, key=f"F{number}", folder=folder)
        if program:
            content = (PROGRAMS / f"lantern-{version}.exe").read_bytes()
            found.file(component, f"F{number}", f"{word}.exe", content, f"{version}.0")
        else:
            changed = version if chance.random() < 0.7 else "the same"
            ending = chance.choice([".dat", ".lst", ".bin", ".ini"])
            found.file(component, f"F{number}", f"{word}{ending}", f"{word} {changed}\r\n".encode() * (1 + number * 7))
        for value in range(chance.randint(0, 3) if chance.random() < 0.4 else 0):
            data = chance.choice([f"{word} {value}", f"#{value}", version])
            found.add(
                "Registry", (f"R{number}x{value}", 2, rf"Software\Tidewell\{name}", f"{word}{value}", data, component)
            )
        first = False
    if chance.random() < 0.5:
        found.add(
            "Shortcut",
            ("S1", "INSTALLDIR", "Take soundings", "C0", "[#F0]", None, None, None, None, None, None, "INSTALLDIR"),
        )
    if chance.random() < 0.4:
        found.add("Environment", ("E1", f"=-*{name.upper()}_HOME", "[INSTALLDIR]", "C0"))
    if chance.random() < 0.3:
        found.component("Service", key="FService").file(
            "Service",
            "FService",
            f"{WORDS[at]}d.exe",
            (PROGRAMS / f"lanternd-{version}.exe").read_bytes(),
            f"{version}.0",
        )
        found.add(
            "ServiceInstall", ("SI", f"Svc{seed}", "A service", 16, 3, 1, None, None, None, None, None, "Service", None)
        )
    return found


def package(folder: Path, seed: int, *, updates: bool = False) -> tuple[Path, Path, list[Path]]:
    """``(workspace, built package, the vendor's other versions)``."""
    share = folder / "share"
    share.mkdir(parents=True)
    installers = [specimen(seed, version).ours(share) for version in VERSIONS]
    workspace = folder / "work"
    draft.from_installer(workspace, installers[1])
    if updates:
        text = (workspace / "plan.toml").read_text("utf-8")
        (workspace / "plan.toml").write_text(
            text.replace("[[install]]", "[proof]\nupdates_itself = true\n\n[[install]]", 1), "utf-8"
        )
    return workspace, build.build(workspace, read(workspace / "plan.toml")[0]).folder, [installers[0], installers[2]]
