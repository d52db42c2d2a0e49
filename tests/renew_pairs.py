"""Pairs of a vendor's versions made up by a seed, a packager's edits of a plan for the older, and which of them the newer leaves without ground."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import tomlkit
from specimens import Specimen

from yendo.demo.vendor import PROGRAMS, guid
from yendo.draft import draft, writing

OLD, NEW = "6.2.1", "6.2.3"
DATA = ("tide", "chart", "depth", "buoy")
DRAWN = ("file gone", "file new", "file renamed", "service gone", "service new", "property gone", "property renamed", "property default",
         "feature gone", "feature new", "condition new", "value changed", "same code", "no upgrade rule", "same name")  # fmt: skip


class Pair(msgspec.Struct):
    """Two installers, what happened between them, and a workspace for the older with a packager's edits: ``label -> (text that must be
    somewhere, whether it must be listed as a conflict)``."""

    old: Path
    new: Path
    happened: set[str]
    workspace: Path
    edits: dict[str, tuple[str, bool]]


def specimen(seed: int, version: str, happened: set[str]) -> Specimen:
    later = version == NEW
    with_ = {one for one in happened if later}
    found = Specimen(f"pair{seed}" if "same name" in happened else f"pair{seed} {version}", version=version)
    code = guid(f"pair{seed} product" if "same code" in happened else f"pair{seed} product {version}")
    fixed = {"ProductCode": code, "ProductName": f"Harbour pair{seed}", "UpgradeCode": guid(f"pair{seed} line")}
    properties = [(key, fixed.get(key, value)) for key, value in found.tables["Property"]]
    office = "BERTH" if "property renamed" in with_ else "QUAY"
    default = "unknown" if "property default" in with_ else "none"
    properties += [(office, default), ("SecureCustomProperties", "OLDERFOUND")]
    if "property gone" not in with_:
        properties.append(("LOGLEVEL", "1"))
    found.tables["Property"] = properties
    found.tables["Directory"][-1] = ("INSTALLDIR", "ProgramFiles64Folder", f"PAIR{seed}|Harbour pair{seed}")
    if "no upgrade rule" not in happened:
        found.add("Upgrade", (guid(f"pair{seed} line"), None, version, None, 1, None, "OLDERFOUND"))

    def component(name: str, key: str | None, feature: str = "Main", more: int = 0) -> None:
        found.add("Component", (name, guid(f"pair{seed} {name}"), "INSTALLDIR", found.attributes | more, None, key))
        found.add("FeatureComponents", (feature, name))

    component("Program", "FProgram")
    found.file("Program", "FProgram", "sound.exe", (PROGRAMS / f"lantern-{version}.exe").read_bytes(), f"{version}.0")
    for word in DATA:
        name = f"{word}s.dat" if word == "tide" and "file renamed" in with_ else f"{word}.dat"
        if not (word == "chart" and "file gone" in with_):
            component(f"C{word}", f"F{word}")
            found.file(f"C{word}", f"F{word}", name, f"{word} {version}\r\n".encode() * 40)
    if "file new" in with_:
        component("Cwreck", "Fwreck")
        found.file("Cwreck", "Fwreck", "wreck.dat", b"wrecks\r\n" * 900)
    for name, there in (("Gauge", "service gone" not in with_), ("Sync", "service new" in with_)):
        if there:
            component(name, f"F{name}")
            found.file(
                name,
                f"F{name}",
                f"{name.lower()}.exe",
                (PROGRAMS / f"lanternd-{version}.exe").read_bytes(),
                f"{version}.0",
            )
            found.add(
                "ServiceInstall",
                (
                    f"SI{name}",
                    f"{name}{seed}",
                    f"{name} of pair{seed}",
                    16,
                    3,
                    1,
                    None,
                    None,
                    None,
                    None,
                    None,
                    name,
                    None,
                ),
            )
            found.add("ServiceControl", (f"SC{name}", f"{name}{seed}", 128 | 32 | 2, None, 1, name))
    component("Values", "RQuay", more=4)
    key = rf"Software\Tidewell\pair{seed}"
    found.add("Registry", ("RQuay", 2, key, "Quay", f"[{office}]", "Values"))
    found.add("Registry", ("RLimit", 2, key, "Limit", "#300" if "value changed" in with_ else "#120", "Values"))
    if "property gone" not in with_:
        found.add("Registry", ("RLog", 2, key, "Log", "[LOGLEVEL]", "Values"))
    for name, there in (("Manual", "feature gone" not in with_), ("Export", "feature new" in with_)):
        if there:
            found.add("Feature", (name, "Main", name, None, 3, 1, None, 0))
            component(f"C{name}", f"F{name}", name)
            found.file(f"C{name}", f"F{name}", f"{name.lower()}.txt", f"{name}\r\n".encode() * 20)
    found.add("LaunchCondition", ("VersionNT64", "64-bit only."))
    if "condition new" in with_:
        found.add("LaunchCondition", ("Installed OR VersionNT >= 603", "Needs a later Windows."))
    return found


def make(folder: Path, seed: int) -> Pair:
    """The pair of a seed; one without any conflict for every third."""
    chance = random.Random(seed)
    happened = {one for one in DRAWN if chance.random() < 0.35}
    if seed % 3 == 0:  # nothing that a person could have touched
        happened -= {
            "file gone",
            "file renamed",
            "service gone",
            "property gone",
            "property renamed",
            "property default",
            "feature gone",
            "value changed",
        }
    installers = []
    for version in (OLD, NEW):
        share = folder / version
        share.mkdir(parents=True)
        installers.append(specimen(seed, version, happened).ours(share))
    workspace = folder / "work"
    draft.from_installer(workspace, installers[0])
    return Pair(*installers, happened, workspace, _edit(workspace, seed, happened, chance))


def _edit(workspace: Path, seed: int, happened: set[str], chance: random.Random) -> dict[str, tuple[str, bool]]:
    """Writes a packager's edits into the plan."""
    path = workspace / "plan.toml"
    document: Any = tomlkit.parse(path.read_text("utf-8"))
    step = document["install"][0]
    edits: dict[str, tuple[str, bool]] = {}

    def wish(label: str, text: str, conflict: bool, **fields: Any) -> None:
        if "change" not in step:
            step.add("change", tomlkit.aot())
        table = tomlkit.table()
        for key, value in fields.items():
            table.add(key, writing.literal(value) if isinstance(value, str) else value)
        step["change"].append(table)
        edits[label] = text, conflict

    def rule(label: str, text: str, conflict: bool, **fields: Any) -> None:
        table = tomlkit.table()
        for key, value in fields.items():
            table.add(key, writing.literal(value) if isinstance(value, str) else value)
        document["detect"].append(table)
        edits[label] = text, conflict

    def contact() -> None:
        document["package"]["contact"] = "harbour desk"
        edits["contact"] = "harbour desk", False

    def limit() -> None:
        step["timeout"] = "47 min"
        edits["timeout"] = "47 min", False

    def own_step() -> None:
        table = tomlkit.table()
        for key, value in (("kind", "registry"), ("key", rf"HKLM\Software\Marrowby\pair{seed}"), ("timeout", "1 min")):
            table.add(key, writing.literal(value))
        table.add("values", {"Office": "quay 3"})
        document["install"].append(table)
        back = tomlkit.table()
        back.add("kind", "take-back")
        document["uninstall"].insert(0, back)
        edits["own step"] = "quay 3", False

    def quay() -> None:
        step["properties"]["QUAY"] = "quay 7"
        edits["QUAY"] = "quay 7", bool({"property renamed", "property default"} & happened)

    def log_level() -> None:
        wish("LOGLEVEL", "LOGLEVEL", "property gone" in happened, kind="property", name="LOGLEVEL", value="4")

    def manual() -> None:
        wish("Manual", "Manual", "feature gone" in happened, kind="feature", name="Manual", install=False)

    def service() -> None:
        wish(
            f"Gauge{seed}",
            f"Gauge{seed}",
            "service gone" in happened,
            kind="service",
            name=f"Gauge{seed}",
            start="disabled",
        )

    def value() -> None:
        wish(
            "Limit",
            "777",
            "value changed" in happened,
            kind="registry",
            key=rf"HKLM\Software\Tidewell\pair{seed}",
            name="Limit",
            value=777,
        )

    def chart() -> None:
        place = rf"%ProgramFiles%\Harbour pair{seed}\chart.dat"
        rule("chart.dat", "chart.dat", "file gone" in happened, kind="file", path=place)

    def tide() -> None:
        place = rf"%ProgramFiles%\Harbour pair{seed}\tide.dat"
        rule("tide.dat", "tide.dat", "file renamed" in happened, kind="file", path=place)

    every: list[Callable[[], None]] = [contact, limit, own_step, quay, log_level, manual, service, value, chart, tide]
    for one in chance.sample(every, chance.randint(3, 7)):
        one()
    path.write_text(writing.spaced(tomlkit.dumps(document)), "utf-8")
    return edits
