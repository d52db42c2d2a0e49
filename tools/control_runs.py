"""Makes the list of what the Windows API layer writes by itself: ``control_runs.py [-o noise.json]``.

Each control run starts from a fresh copy and does something that installs nothing of a package's
own: boots and idles, starts a shell, installs and removes an empty product. Whatever changed is the
platform's. Names of the control products and everything that varies between machines become ``*``.
Run it once with the ``--cache`` of an earlier day: the layer dates its screen driver anew each day,
which no run on the day of its template shows.
"""

from __future__ import annotations

import argparse
import json
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from yendo.demo.patching import write_patch
from yendo.demo.vendor import SEQUENCE, guid, write_installer
from yendo.effects import difference
from yendo.effects.things import kind_of
from yendo.formats import cab
from yendo.formats.msi import Summary
from yendo.machines.wine import noise
from yendo.machines.wine.machine import WineMachine, powershell_source
from yendo.machines.wine.session import WineSession

TAG = "yendocontrol"


def product(
    folder: Path, name: str, template: str, everyone: bool, *, program: bool = False, version: str = "1.0.0"
) -> Path:
    """A product with one feature and one component; with ``program`` its custom action starts one that does nothing."""
    target = folder / (f"{name}.msi" if version == "1.0.0" else f"{name}-{version}.msi")
    write_installer(
        target,
        {
            "Property": [
                ("ProductCode", guid(name)),
                ("ProductName", TAG),
                ("ProductVersion", version),
                ("Manufacturer", TAG),
                ("ProductLanguage", "1033"),
                ("UpgradeCode", guid(name + " line")),
                *([("ALLUSERS", "1")] if everyone else []),
            ],
            "Directory": [
                ("TARGETDIR", None, "SourceDir"),
                ("ProgramFilesFolder", "TARGETDIR", "."),
                ("D", "ProgramFilesFolder", TAG),
            ],
            "Component": [("C", guid(name + " c"), "D", 0, None, None)],
            "Feature": [(TAG, None, TAG, TAG, 1, 1, None, 0)],
            "FeatureComponents": [(TAG, "C")],
            "CreateFolder": [("D", "C")],
            "File": [("F", "C", f"{TAG}.txt", 1, None, None, 512, 1)],
            "Media": [(1, 1, None, "#c.cab", None, None)],
            "CustomAction": [("Nothing", 34 | 0x400 | 0x800, "D", "[WindowsFolder]system32\\cmd.exe /c exit")]
            if program
            else [],
            "InstallExecuteSequence": [*SEQUENCE, *([("Nothing", None, 5500)] if program else [])],
        },
        cabinets={"c.cab": cab.build([("F", b"x")])},
        summary=Summary(template=template, revision=guid(f"{name} package {version}"), pages=200, words=2),
    )
    return target


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("-o", "--output", type=Path, default=Path("src/yendo/machines/wine/noise.json"))
    parser.add_argument(
        "--anew", action="store_true", help="forget what earlier runs and other versions of the layer showed"
    )
    parser.add_argument("--cache", type=Path, default=Path(tempfile.gettempdir()) / "yendo-control")
    arguments = parser.parse_args()
    machine = WineMachine(arguments.cache, powershell_source())
    noise.entries = lambda: ()  # type: ignore[assignment]  # observe everything
    found: dict[tuple[str, str], set[str]] = {}
    with tempfile.TemporaryDirectory() as folder:
        packages = {
            f"{width} {'everyone' if everyone else 'one user'}": product(
                Path(folder), f"c{width}{everyone}", f"{width};1033", everyone
            )
            for width in ("x64", "Intel")
            for everyone in (True, False)
        }

        packages["x64 with a program"] = product(Path(folder), "cprogram", "x64;1033", True, program=True)

        def install(name: str) -> Callable[[WineSession], None]:
            def run(session: WineSession) -> None:
                session.bring(Path(folder), r"C:\Hand over")
                ran = session.run(rf'msiexec /i "C:\Hand over\{packages[name].name}" /qn', timeout=120)
                assert ran.exit_code == 0, (name, ran)

            return run

        for everyone in (True, False):
            name = f"cx64{everyone}"
            newer = product(Path(folder), name, "x64;1033", everyone, version="1.0.1")
            write_patch(Path(folder) / f"{name}.msp", Path(folder) / f"{name}.msi", newer, guid(f"{name} patch"))

        def patch(name: str, *, then_remove: bool) -> Callable[[WineSession], None]:
            def run(session: WineSession) -> None:
                install(name)(session)
                file = packages[name].with_suffix(".msp").name
                ran = session.run(
                    rf'msiexec /p "C:\Hand over\{file}" /qn REINSTALL=ALL REINSTALLMODE=omus', timeout=120
                )
                assert ran.exit_code == 0, (name, ran)
                if then_remove:
                    session.state()
                    assert (
                        session.run(rf'msiexec /x "C:\Hand over\{packages[name].name}" /qn', timeout=120).exit_code == 0
                    )

            return run

        def remove(name: str) -> Callable[[WineSession], None]:
            def run(session: WineSession) -> None:
                install(name)(session)
                session.state()
                assert session.run(rf'msiexec /x "C:\Hand over\{packages[name].name}" /qn', timeout=120).exit_code == 0

            return run

        runs: dict[str, Callable[[WineSession], object]] = {
            "boot": lambda session: session.run("exit", timeout=60),
            "boot twice": lambda session: (
                session.run("ver", timeout=60),
                session.state(),
                session.run("ver", timeout=60),
            ),
            "screen": lambda session: session.run("wineboot", timeout=60),
            **{f"install an empty product, {name}": install(name) for name in packages},
            **{f"install and remove an empty product, {name}": remove(name) for name in packages},
            **{
                f"patch an empty product, {name}": patch(name, then_remove=False)
                for name in ("x64 everyone", "x64 one user")
            },
            **{
                f"patch and remove an empty product, {name}": patch(name, then_remove=True)
                for name in ("x64 everyone", "x64 one user")
            },
        }
        if machine.has_powershell:

            def shell(session: WineSession) -> None:
                assert session.run('powershell -NoProfile -Command "exit 7"', timeout=60).exit_code == 7

            def shell_installs(session: WineSession) -> None:
                session.bring(Path(folder), r"C:\Hand over")
                line = """$p = [Diagnostics.Process]::Start('msiexec', '/qn /i "C:\\Hand over\\cprogram.msi"'); $p.WaitForExit(); exit $p.ExitCode"""  # noqa: E501
                script = session.host(r"C:\Hand over") / "start.ps1"
                script.write_text(line, "utf-8")
                ran = session.run(r'powershell -NoProfile -File "C:\Hand over\start.ps1"', timeout=120)
                assert ran.exit_code == 0, ran

            runs["shell"] = shell
            runs["a shell installs a product that starts a program"] = shell_installs
        for account in ("user", "system"):
            for name, act in runs.items():
                with machine.fresh(account) as session:  # type: ignore[arg-type]
                    act(session)
                    for effect in difference(machine.baseline(account), session.state()):  # type: ignore[arg-type]
                        identity = noise.generalise(effect.thing.identity)
                        own = "\\installer\\" in identity
                        if kind_of(effect.thing) in ("product", "uninstall-entry") or (TAG in identity and not own):
                            continue
                        found.setdefault((kind_of(effect.thing), identity.replace(TAG, "*")), set()).add(
                            f"{machine.layer.version}: {name}" + (", system" if account == "system" else "")
                        )
                print(f"{account}: {name}: {len(found)} entries so far", file=sys.stderr)
    if (
        arguments.output.exists() and not arguments.anew
    ):  # what was seen once is the platform's, also when it takes its time to come again
        for entry in json.loads(arguments.output.read_text("utf-8"))["entries"]:
            found.setdefault((entry["kind"], entry["identity"]), set()).update(entry["runs"])
    entries = [
        {"kind": kind, "identity": identity, "runs": sorted(runs_of)}
        for (kind, identity), runs_of in sorted(found.items())
    ]
    arguments.output.write_text(
        json.dumps({"made_by": "tools/control_runs.py", "entries": entries}, indent=1) + "\n", "utf-8"
    )
    print(f"{len(entries)} entries in {arguments.output}", file=sys.stderr)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
