"""Detection for macOS: measured in states that are made on a simulated machine, derived, and said in OVAL.

Another interpreter judges OVAL's form; files and digests are asked by it as well, the rest only a Mac could.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path

import mac_half_specimens as made
import pytest
from conftest import Yendo, missing, parsed, unix

from yendo.demo import half
from yendo.errors import Usage
from yendo.mac_half import check, model, oval, reading, sources, strength
from yendo.mac_half.machine import sandbox
from yendo.mac_half.machine.machine import MacMachine
from yendo.mac_half.work import Workshop
from yendo.package.code_signing import sign_code

pytestmark = unix
STEPS = """
[[install]]
kind = "app"
source = "Lantern.app"

[[install]]
kind = "settings"
domain = "com.tidewell.lantern"
values = { Updates = false }

[[install]]
kind = "copy"
source = "charts"
to = "/Library/Tidewell Charts"

[[install]]
kind = "launchd"
label = "com.tidewell.sync"
program = ["/Applications/Lantern.app/Contents/MacOS/lantern", "--sync"]
"""
WEAK = '[[detect]]\nkind = "receipt"\nidentifier = "example.marrowby.lantern"\n'


@pytest.fixture
def workspace(tmp_path: Path) -> Path:
    """A sealed bundle that can be sealed again, as an update is, files, a setting and a daemon; the rule is a weak one."""
    if why := sandbox.lacking():
        missing(why, sandbox.HOW_TO_GET)
    folder = tmp_path / "w"
    app = half.app(folder / "media" / "Lantern.app")
    (app / "Contents/Resources/quays.txt").write_bytes(b"north\n")
    sign_code(app, None)
    for number in range(5):
        place = folder / f"extras/charts/{number} o'clock.tide"
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(f"{number}\n".encode())
    media = f'[[media]]\nfile = "Lantern.app"\nsha256 = "{sources.digest_of(app)}"\n'
    text = made.PLAN.format(media=media, steps=STEPS, rules=WEAK, processors='"arm64", "x86_64"')
    (folder / "macos.toml").write_text(text, "utf-8")
    return folder


def test_rules_are_measured_and_better_ones_derived(workspace: Path, yendo: Yendo) -> None:
    assert "is not built" in yendo("detect", "strength", "w", expect=2).stderr
    yendo("build", "w", "-q")
    told = parsed(yendo("detect", "derive", "w", "--write", "--json"))
    assert told["strength"]["score"] >= 0.95 and not told["strength"]["false_absent"], told["strength"]
    assert told["now"]["score"] < 0.5
    kinds = {rule["kind"] for rule, _ in told["rules"]}
    assert {"bundle", "folder", "setting", "daemon"} <= kinds
    assert any(rule.get("intact") for rule, _ in told["rules"])
    yendo("build", "w", "-q")  # what was written can be built and proved
    assert yendo("prove", "w", "--scenario", "states", "--scenario", "volume", "-q").stdout == ""
    assert "half for Windows" in yendo("detect", "strength", "w", "--site", "x", expect=2).stderr
    assert (
        "no workspace with a half for macOS" in yendo("detect", "strength", ".", "--system", "macos", expect=2).stderr
    )


def test_what_weak_rules_miss_is_told(workspace: Path, yendo: Yendo) -> None:
    path = workspace / "macos.toml"
    text = path.read_text("utf-8")
    first, second = text.index('[[install]]\nkind = "settings"'), text.index("[[detect]]")
    path.write_text(text[:first] + text[second:], "utf-8")  # the bundle alone
    yendo("build", "w", "-q")
    weak = yendo("detect", "strength", "w", expect=1).stdout
    assert "Lantern.app lies in the bin" in weak and "No Mac was asked" in weak
    found = {
        row["sort"]: row for row in parsed(yendo("detect", "strength", "w", "--json", expect=1))["strength"]["rows"]
    }
    assert found["nothing"]["wrong"] == ["only its receipts are left"] and not found["installed"]["wrong"]


@pytest.mark.skipif(not os.environ.get("YENDO_THOROUGH"), reason="takes a minute: YENDO_THOROUGH=1")
def test_rules_that_do_not_look_there_say_what_they_said(workspace: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    made.built(workspace)
    plan, _ = reading.read(workspace)
    quick = strength._asked(workspace, plan, 1, strength._Ground.candidates)
    monkeypatch.setattr(strength._Ground, "sees", lambda self, rule, touched: True)
    assert strength._asked(workspace, plan, 1, strength._Ground.candidates) == quick


def test_an_update_by_somebody_who_is_not_at_hand_is_said(workspace: Path) -> None:
    """A bundle with code that cannot be signed here: what its update would look like is not made up."""
    app = made.app(workspace / "media" / "Other.app")
    sealed = workspace / "media" / "Lantern.app/Contents/_CodeSignature"
    shutil.copytree(sealed, app / "Contents/_CodeSignature")
    assert strength.remade.not_by_us(app, workspace) == ""  # broken as it is: its update is too
    shutil.rmtree(app / "Contents/_CodeSignature")
    assert strength.remade.not_by_us(app, workspace) == ""  # was never sealed


def test_a_folder_s_rule_is_what_the_package_lays(workspace: Path) -> None:
    rules = '[[detect]]\nkind = "folder"\npath = "/Library/Tidewell Charts"\n'
    path = workspace / "macos.toml"
    path.write_text(path.read_text("utf-8").replace(WEAK, rules), "utf-8")
    built = made.built(workspace)
    machine = MacMachine(workspace.parent / "mac")
    assert machine.install(built.package).code == 0
    asked = (built.folder / "detect.sh").read_bytes()
    file = machine.at("/Library/Tidewell Charts/3 o'clock.tide")
    assert machine.script(asked)[0] == 0
    (file.parent / "4 more.tide").write_bytes(b"what people put beside it\n")
    assert machine.script(asked)[0] == 0
    file.write_bytes(b"another\n")
    assert machine.script(asked)[0] == 1
    file.unlink()
    assert machine.script(asked)[0] == 1
    text = path.read_text("utf-8").replace(rules, rules.replace("Tidewell Charts", "Nowhere"))
    path.write_text(text, "utf-8")
    with pytest.raises(Usage, match="/Library/Nowhere: this package lays no file in it"):
        made.built(workspace)
    assert "cannot-be-built" in made.names(check.check(workspace))


RULES = """
[[detect]]
kind = "bundle"
identifier = "com.tidewell.lantern"
path = "/Applications/Lantern.app"
version = "6.2.1"
team = "TIDE123456"
intact = true

[[detect]]
kind = "receipt"
identifier = "example.marrowby.lantern"
version = "6.2"

[[detect]]
kind = "file"
path = "/Library/Tidewell Charts/1 o'clock.tide"

[[detect]]
kind = "folder"
path = "/Library/Tidewell Charts"

[[detect]]
kind = "setting"
domain = "com.tidewell.lantern"
key = "Updates"
value = "0"

[[detect]]
kind = "daemon"
label = "com.tidewell.sync"
"""


def _oscap(*arguments: str | Path) -> subprocess.CompletedProcess[str]:
    if not shutil.which("oscap"):
        missing("oscap", "apt-get install openscap-scanner openscap-common")
    return subprocess.run(["oscap", "oval", *arguments], capture_output=True, text=True, check=False, timeout=120)


def test_every_rule_is_said_in_oval_and_what_it_cannot_say_is_told(workspace: Path, yendo: Yendo) -> None:
    path = workspace / "macos.toml"
    path.write_text(path.read_text("utf-8").replace(WEAK, RULES), "utf-8")
    plan, _ = reading.read(workspace)
    assert {type(rule) for rule in plan.detect} == set(model.AnyMacRule.__args__)
    told = yendo("detect", "export", "w", "-o", "it.xml").stderr.splitlines()
    assert len(told) == 3 and all(line.startswith("weaker in this form: ") for line in told)
    done = _oscap("validate", workspace.parent / "it.xml")
    assert done.returncode == 0, done.stdout + done.stderr
    assert yendo("detect", "export", "w", "--as", "script").stdout.startswith("#!/bin/sh")
    rules = json.loads(yendo("detect", "export", "w", "--as", "json").stdout)["all"]
    assert [rule["kind"] for rule in rules] == ["bundle", "receipt", "file", "folder", "setting", "daemon"]


def test_files_are_found_by_another_interpreter(workspace: Path) -> None:
    """Where nothing but files is asked for, it answers on this computer too."""
    place = workspace.parent / "disk"
    shutil.copytree(workspace / "extras" / "charts", place)
    text = (workspace / "macos.toml").read_text("utf-8").replace("/Library/Tidewell Charts", str(place))
    rules = f'[[detect]]\nkind = "folder"\npath = "{place}"\n\n[[detect]]\nkind = "file"\npath = "{place}/2 o\'clock.tide"\n'
    (workspace / "macos.toml").write_text(text.replace(WEAK, rules), "utf-8")
    plan, _ = reading.read(workspace)
    (workspace / "taken").mkdir()
    done = oval.document(plan, Workshop(workspace, plan, workspace / "taken").done.items)
    assert done.weaker == ()
    (workspace / "it.xml").write_bytes(done.data)

    def answer() -> str:
        return _oscap("eval", workspace / "it.xml").stdout

    assert "def:1: true" in answer()
    (place / "4 o'clock.tide").write_bytes(b"another\n")
    assert "def:1: false" in answer()
    (place / "4 o'clock.tide").write_bytes(b"4\n")
    (place / "2 o'clock.tide").unlink()
    assert "def:1: false" in answer()
