"""What every machine does, whatever kind it is: the simulated one, the layer, a computer over SSH, the one we run on.

Each check gets a session on a machine that was fresh; they may follow one another on the same. A machine that lacks a
capability refuses by name (NotCovered), which ``LACKS`` says beforehand. ``here`` runs them as a Windows process, by
``python machine_conformance.py``; no pytest is needed there.
"""

from __future__ import annotations

import hashlib
import json
import sys
import tempfile
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any

from yendo.effects import difference
from yendo.errors import NotCovered

Check = Callable[[Any, Path], None]
KIT = r"C:\Conformance\of machines"  # the folder above is made for it, and is no change either
CHECKS: dict[str, Check] = {}
# The simulated machine carries out installers, not commands; a computer that Yendo runs on is not started anew by it.
LACKS: dict[str, set[str]] = {"simulated": {"commands", "registry views", "programs"}, "here": {"restart"}}


def check(name: str) -> Callable[[Check], Check]:
    def kept(function: Check) -> Check:
        CHECKS[name] = function
        return function

    return kept


@check("files")
def files(session: Any, installer: Path) -> None:
    data = bytes(range(256)) * 300
    assert session.make_folder(r"C:\Quay") and not session.make_folder(r"C:\Quay") and session.has_folder(r"C:\Quay")
    path = r"C:\Quay\Tide ä 表.bin"
    assert session.read(path) is None and session.digest(path) is None and not session.remove(path)
    session.write(path, data)
    session.append(path, b"more")
    assert session.read(path) == data + b"more"
    assert session.digest(path) == hashlib.sha256(data + b"more").hexdigest()
    session.write(path, b"new")
    assert session.read(path.upper()) == b"new", "names are without regard to case"
    session.write(r"C:\Quay\own.txt", b"secret", private=True)
    assert session.read(r"C:\Quay\own.txt") == b"secret"
    assert sorted(one.lower() for one in session.files_below(r"C:\Quay")) == [r"c:\quay\own.txt", path.lower()]
    assert not session.remove_folder(r"C:\Quay"), "one that is not empty stays"
    assert session.remove(path) and session.remove(r"C:\Quay\own.txt") and session.remove_folder(r"C:\Quay")
    assert not session.has_folder(r"C:\Quay") and not session.remove_folder(r"C:\Quay")
    try:
        session.write(r"C:\Not there\a.txt", b"")
    except OSError:
        return
    raise AssertionError("a file was written into a folder that is not there")


@check("what was brought is no change")
def brought(session: Any, installer: Path) -> None:
    before = session.state()
    session.bring(installer.parent, KIT)
    assert session.digest(rf"{KIT}\{installer.name}") == hashlib.sha256(installer.read_bytes()).hexdigest()
    assert difference(before, session.state()) == []
    session.take_away(KIT)
    assert session.read(rf"{KIT}\{installer.name}") is None


@check("an installation is seen and goes again")
def installed(session: Any, installer: Path) -> None:
    session.bring(installer.parent, KIT)
    before = session.state()
    assert session.run(f'msiexec /i "{KIT}\\{installer.name}" /qn', timeout=600).exit_code == 0
    changed = difference(before, session.state())
    kinds = {effect.kind for effect in changed}
    assert {"file", "folder", "registry", "uninstall"} <= kinds or {"file", "folder", "registry"} <= kinds, kinds
    assert session.run(f'msiexec /x "{KIT}\\{installer.name}" /qn', timeout=600).exit_code == 0
    left = [effect for effect in difference(before, session.state()) if effect.kind == "file"]
    assert left == []
    session.take_away(KIT)


@check("an installer's own exit code")
def codes(session: Any, installer: Path) -> None:
    ran = session.run("msiexec /x {8B3C2F39-7E52-4F0A-9D0B-2B0C7C3B1A11} /qn", timeout=600)
    assert ran.exit_code == 1605, "a product that is not there"
    assert ran.seconds >= 0


@check("commands")
def commands(session: Any, installer: Path) -> None:
    for code in (0, 7, 3010, 1641, -1073741819 & 0xFFFFFFFF):
        ran = session.run(f"cmd /d /c exit {code if code < 1 << 31 else code - (1 << 32)}", timeout=120)
        assert ran.exit_code is not None and ran.exit_code & 0xFFFFFFFF == code, (code, ran)
    said = session.run(r'cmd /d /c "echo one& echo two 1>&2& exit 4"', timeout=120)
    assert said.exit_code == 4 and "one" in said.output and "two" in said.output
    many = session.run(r'cmd /d /c "for /l %i in (1,1,20000) do @echo line %i of very many"', timeout=300)
    assert many.exit_code == 0 and "line 20000 of" in many.output and len(many.output) > 400_000
    slow = session.run(r'cmd /d /c "for /l %i in (1,0,2) do @rem"', timeout=4)
    assert slow.exit_code is None and 3 < slow.seconds < 60, slow
    assert session.run("cmd /d /c exit 0", timeout=120).exit_code == 0, "it goes on behind one that was stopped"
    session.make_folder(r"C:\Quay")
    assert session.run(r'cmd /d /c "echo here> made.txt"', timeout=120, folder=r"C:\Quay").exit_code == 0
    assert (session.read(r"C:\Quay\made.txt") or b"").strip() == b"here"
    session.remove(r"C:\Quay\made.txt")
    session.remove_folder(r"C:\Quay")


@check("programs")
def programs(session: Any, installer: Path) -> None:
    assert not session.is_running("conhost-of-nobody") and not session.close_program("conhost-of-nobody")
    session.run(r'cmd /d /c "start /b ping -n 120 127.0.0.1 >nul"', timeout=60)
    assert session.is_running("ping") and session.is_running("PING")
    session.end_programs("ping")
    assert not session.is_running("ping")


@check("registry views")
def registry(session: Any, installer: Path) -> None:
    before = session.state()
    for view in (32, 64):
        line = rf"reg add HKLM\Software\Marrowby /v Bits /t REG_DWORD /d {view} /f /reg:{view}"
        assert session.run(line, timeout=120).exit_code == 0
    session.run(r"reg add HKCU\Software\Marrowby /v Text /t REG_SZ /d quay /f", timeout=120)
    found = {
        (effect.thing.hive, effect.thing.view, effect.thing.key.lower()): effect.thing.data
        for effect in difference(before, session.state())
        if effect.kind == "registry" and effect.thing.name
    }
    key = r"software\marrowby"
    seen = {at: data for at, data in found.items() if at[2].endswith("marrowby")}
    assert sorted(data for (hive, _, _), data in seen.items() if hive == "HKLM") == [32, 64], found
    assert [data for (hive, _, where), data in seen.items() if hive == "HKCU" and where == key] == ["quay"], found
    for line in (
        r"HKLM\Software\Marrowby /f /reg:32",
        r"HKLM\Software\Marrowby /f /reg:64",
        r"HKCU\Software\Marrowby /f",
    ):
        assert session.run(f"reg delete {line}", timeout=120).exit_code == 0


@check("restart")
def restart(session: Any, installer: Path) -> None:
    session.write(r"C:\stays.txt", b"stays")
    session.restart()
    assert session.read(r"C:\stays.txt") == b"stays"
    session.remove(r"C:\stays.txt")


@check("what it says of itself")
def itself(session: Any, installer: Path) -> None:
    around = session.surroundings
    assert around.windows.count(".") == 2 and around.environment["ProgramFiles"].lower().startswith("c:\\")
    assert session.facts.computer == around.computer


def lacks(name: str, kind: str) -> bool:
    return name in LACKS.get(kind, set())


def conform(name: str, kind: str, session: Any, installer: Path) -> None:
    """Holds a machine to one check; one that it lacks has to be refused by name. Raises AssertionError."""
    if not lacks(name, kind):
        CHECKS[name](session, installer)
        return
    try:
        CHECKS[name](session, installer)
    except NotCovered:
        return
    raise AssertionError(f"{kind} does {name} after all; take it out of LACKS")


def everything(machine: Any, kind: str, installer: Path, account: str = "system") -> dict[str, str]:
    """Every check on one session; what went wrong, by its name."""
    wrong = {}
    with machine.fresh(account) as session:
        if machine.evidence != (session.staging is None) or (not machine.evidence and not machine.not_windows):
            wrong["what it is"] = "what can be put into any state is no evidence, and says that it is no Windows"
        for name in CHECKS:
            try:
                conform(name, kind, session, installer)
            except Exception:
                wrong[name] = traceback.format_exc(limit=4)
    return wrong


def main() -> int:
    """On the computer that this runs on: its installer is the argument."""
    from yendo.prove.attended import here

    with tempfile.TemporaryDirectory():
        found = everything(here("", lambda text: None, idle=0), "here", Path(sys.argv[1]))
    print(json.dumps({"checks": list(CHECKS), "wrong": found}))
    return 1 if found else 0


if __name__ == "__main__":
    raise SystemExit(main())
