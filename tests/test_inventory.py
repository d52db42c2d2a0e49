"""What computers are, looked at by a script: programs and devices; and which of them a driver would change."""

from __future__ import annotations

import json
import random
import re
from datetime import date
from itertools import product
from pathlib import Path
from typing import Any

import msgspec
import pytest
from conftest import Yendo, parsed
from hypothesis import given, settings
from hypothesis import strategies as st

np = pytest.importorskip("numpy")
pytest.importorskip("sqlalchemy")

from yendo.demo import drivers as demo_drivers
from yendo.drivers import share
from yendo.drivers.ranking import DeviceIdentifiers, UsedDriver, beats, rank
from yendo.drivers.target import DriverTarget
from yendo.effects import RegistryValue, State
from yendo.fleet import look
from yendo.fleet.asking import holding
from yendo.fleet.columns import NO, UNKNOWN, YES, Columns, ListedDevice, ListedProgram, columns_of, joined
from yendo.fleet.devices import changed_by
from yendo.fleet.incoming import gathered
from yendo.fleet.reach import SshReach
from yendo.fleet.store import Inventory
from yendo.steps.system_upgrade import there
from yendo.terms.rules import DeviceRule, RegistryRule, Sight
from yendo.terms.rules import device as known_devices

GAUGE = ("USB\\VID_FFFE&PID_0021&REV_0200", "USB\\VID_FFFE&PID_0021")
SIGNED = 0x00FF0000
RUN = r"powershell -NoProfile -ExecutionPolicy Bypass -File C:\inventory.ps1 -To C:\seen.json"


@pytest.fixture(scope="module")
def drivers(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return demo_drivers.share(tmp_path_factory.mktemp("share"))


@pytest.mark.parametrize(
    ("used", "takes", "words"),
    [
        (UsedDriver(), True, "no driver yet"),
        (UsedDriver("oem7.inf", "Tidewell", "2026-03-14", "2.1.0.0", GAUGE[0], SIGNED), False, "uses this one"),
        (UsedDriver("oem7.inf", "tidewell", "", "2.1", "", -1), False, "uses this one"),
        (UsedDriver("oem4.inf", "Tidewell", "2022-05-02", "1.4.2.0", GAUGE[0], SIGNED), True, "is newer"),
        (UsedDriver("oem4.inf", "Tidewell", "2027-05-02", "1.4.2.0", GAUGE[0], SIGNED), False, "is not newer"),
        (UsedDriver("oem4.inf", "Tidewell", "2026-03-14", "2.0.0.0", GAUGE[0], SIGNED), True, "is newer"),
        (UsedDriver("oem4.inf", "Tidewell", "2027-05-02", "9.0.0.0", GAUGE[0], 0x80FF0000), True, "matches better"),
        (UsedDriver("usb.inf", "Microsoft", "2027-05-02", "10.0.0.0", GAUGE[1], 0x00FF1001), True, "matches better"),
        (UsedDriver("oem4.inf", "Tidewell", "2020-05-02", "1.0.0.0", GAUGE[0], 0x00010000), False, "matches worse"),
        (UsedDriver("oem4.inf", "Tidewell", "2022-05-02", "1.4.2.0", GAUGE[0], -1), None, "is not told"),
        (
            UsedDriver("oem4.inf", "Tidewell", "2022-05-02", "1.4.2.0", "USB\\OTHER", SIGNED),
            None,
            "none of the device's",
        ),
        (UsedDriver("oem4.inf", "Tidewell", "", "1.4.2.0", GAUGE[0], SIGNED), None, "is not told"),
    ],
)
def test_in_the_place_of_what_is_used(drivers: Path, used: UsedDriver, takes: bool | None, words: str) -> None:
    device = DeviceIdentifiers(GAUGE)
    (found,) = share.read(drivers / "tidegauge-2.1").drivers.values()
    says, why = beats(rank([found], device).base[0], used, device)
    assert says is takes and words in why, why


def some_columns(chance: random.Random, names: list[str]) -> dict[str, Any]:
    """Machines as plain data."""
    whole: dict[str, Any] = {}
    for name in names:
        devices = None
        if chance.random() < 0.8:
            devices = set()
            for hardware in (GAUGE, GAUGE[1:], ("PCI\\VEN_1",)):
                if chance.random() < 0.5:
                    used = chance.choice(
                        [
                            UsedDriver(),
                            UsedDriver("oem4.inf", "Tidewell", "2022-05-02", "1.4.2.0", hardware[0], SIGNED),
                            UsedDriver("oem7.inf", "Tidewell", "2026-03-14", "2.1.0.0", hardware[0], SIGNED),
                            UsedDriver("oem9.inf", "Other", "2026-08-14", "0.1", hardware[0], SIGNED),
                            UsedDriver("oem9.inf", "Other", "2026-08-14", "0.1", hardware[0], -1),
                        ]
                    )
                    devices.add(ListedDevice(hardware, (), "gauge", used))
        whole[name] = {
            "windows": chance.choice(("10.0.19045.1", "10.0.26100.2", None)),
            "architecture": chance.choice(("x64", "x64", "arm64", "x86")),
            "site": chance.choice((None, "quay")),
            "memory": chance.choice((None, 1 << 30)),
            "programs": {ListedProgram(one) for one in "abc" if chance.random() < 0.4}
            if chance.random() < 0.7
            else None,
            "devices": devices,
        }
    return whole


def of(plain: dict[str, Any]) -> Columns:
    """The same as columns, by the plain way."""
    names, rows = list(plain), list(plain.values())

    def lists(key: str) -> dict[Any, list[int]]:
        found: dict[Any, list[int]] = {}
        for at, row in enumerate(rows):
            for thing in row[key] or ():
                found.setdefault(thing, []).append(at)
        return found

    return columns_of(
        names, {key: [row[key] for row in rows] for key in ("windows", "architecture", "site")},
        {"memory": [row["memory"] for row in rows]}, lists("programs"),
        [at for at, row in enumerate(rows) if row["programs"] is not None], lists("devices"),
        [at for at, row in enumerate(rows) if row["devices"] is not None],
    )  # fmt: skip


def plainly(columns: Columns) -> dict[str, Any]:
    """Columns as plain data again."""
    found: dict[str, Any] = {}
    for at, name in enumerate(columns.computers):
        memory = int(columns.numbers["memory"][at])
        found[name] = {
            **{key: columns.texts[key].at(at) for key in ("windows", "architecture", "site")},
            "memory": None if memory < 0 else memory,
            "programs": {one for i, one in enumerate(columns.programs) if at in columns.having(i)}
            if columns.listed[at] else None,
            "devices": {one for i, one in enumerate(columns.devices) if at in columns.fitted.having(i)}
            if columns.fitted.listed[at] else None,
        }  # fmt: skip
    return found


def test_some_stay_and_others_come() -> None:
    for seed in range(40):
        chance = random.Random(seed)
        old = some_columns(chance, [f"m{number}" for number in range(chance.randrange(1, 12))])
        new = some_columns(chance, [f"n{number}" for number in range(chance.randrange(0, 6))])
        stays = np.array([chance.random() < 0.6 for _ in old], np.bool_)
        kept = {name: row for (name, row), stay in zip(old.items(), stays, strict=True) if stay}
        # some of the new ones are old ones that were looked at again: what is not told anew stays
        gone = [at for at, stay in enumerate(stays) if not stay]
        was = np.array([gone.pop() if gone and chance.random() < 0.7 else -1 for _ in new], np.int64)
        whole = joined(of(old), stays, of(new), was)
        rows = list(old.values())
        wanted = {
            name: {key: rows[at][key] if at >= 0 and one is None else one for key, one in row.items()}
            for (name, row), at in zip(new.items(), was, strict=True)
        }
        assert plainly(whole) == kept | wanted
        assert whole.programs == tuple(sorted(whole.programs)) and all(
            len(whole.having(i)) for i in range(len(whole.programs))
        )


def test_whom_a_driver_changes(drivers: Path) -> None:
    """Against a plain loop that asks each machine by itself."""
    plain = some_columns(random.Random(5), [f"m{number}" for number in range(300)])
    found = changed_by(drivers, of(plain))
    known: dict[tuple[str, str], list[Any]] = {}
    for build, processor in product((19045, 26100), ("x64", "arm64", "x86")):
        read = share.read(drivers, DriverTarget((10, 0, build), processor))
        known[f"10.0.{build}", processor] = list(read.drivers.values())

    def one(row: dict[str, Any]) -> int:
        if row["windows"] is None or row["devices"] is None:
            return UNKNOWN
        answers = set()
        for device in row["devices"]:
            base = rank(
                known[row["windows"].rpartition(".")[0], row["architecture"]], DeviceIdentifiers(device.hardware)
            ).base
            answers.add(beats(base[0], device.used, DeviceIdentifiers(device.hardware))[0] if base else False)
        return YES if True in answers else UNKNOWN if None in answers else NO

    wanted = [one(row) for row in plain.values()]
    assert [int(answer) for answer in found.whole] == wanted and len(set(wanted)) == 3
    told = {
        at for at, row in enumerate(plain.values()) if wanted[at] == YES or (wanted[at] == UNKNOWN and row["devices"])
    }
    assert set(found.because) <= told and all(at in found.because for at, one in enumerate(wanted) if one == YES)


def test_from_tables_to_the_answer(tmp_path: Path, drivers: Path, yendo: Yendo) -> None:
    (tmp_path / "m.csv").write_text(
        "computer;identity;windows;architecture;site\nPIER-01;a;10.0.19045.1;x64;quay\nPIER-02;b;10.0.19045.1;x64;quay\n"
        "PIER-03;c;10.0.19045.1;x64;quay\n"
    )
    gauge = ";".join(GAUGE)
    (tmp_path / "d.csv").write_text(
        "computer,device,hardware,inf,provider,date,version,matching,rank\n"
        f"PIER-01,Gauge,{gauge},oem4.inf,Tidewell,2022-05-02,1.4.2.0,{GAUGE[0]},{SIGNED}\n"
        "PIER-02,Card,PCI\\VEN_1,net.inf,Other,2022-05-02,1.0,PCI\\VEN_1,0\n"
    )
    added = parsed(yendo("fleet", "add", tmp_path / "m.csv", tmp_path / "d.csv", "--json"))
    assert (added["machines"], added["devices"], added["fitted"]) == (3, 2, 2)
    answer = parsed(yendo("fleet", "ask", "--driver", drivers / "tidegauge-2.1", "--json"))
    assert (answer["machines"], answer["no"], answer["unknown"]) == (["PIER-01"], 1, 1)
    assert "2.1.0.0 of 2026-03-14 is newer than 1.4.2.0" in answer["devices"]["PIER-01"]["because"]
    told = yendo("fleet", "ask", "--driver", drivers / "tidegauge-2.1").stdout
    assert "PIER-01" in told and "yendo fleet look" in told
    assert "holds no driver" in yendo("fleet", "ask", "--driver", tmp_path, expect=2).stderr
    assert "one of" in yendo("fleet", "ask", "--driver", drivers, 'os = ">=10"', expect=2).stderr
    # one that was looked at again, one that is called otherwise now, one that is new; the others stay
    seen = tmp_path / "seen"
    seen.mkdir()
    for name, identity in (("PIER-01", "a"), ("PIER-22", "b"), ("PIER-04", "d")):
        facts = {"windows": "10.0.26100.1", "architecture": "x64"}
        body = {"computer": name, "identity": identity, "facts": facts, "programs": [], "devices": []}
        (seen / f"{name}.json").write_text(json.dumps(body))
    yendo("fleet", "add", seen, "--beside")
    columns = Inventory(tmp_path / "fleet.db").load()
    assert sorted(columns.computers) == ["PIER-01", "PIER-03", "PIER-04", "PIER-22"]
    windows = {name: columns.texts["windows"].at(at) for at, name in enumerate(columns.computers)}
    assert windows["PIER-01"] == "10.0.26100.1" and windows["PIER-03"] == "10.0.19045.1"
    sites = {name: columns.texts["site"].at(at) for at, name in enumerate(columns.computers)}
    assert sites == {"PIER-01": "quay", "PIER-22": "quay", "PIER-03": "quay", "PIER-04": None}, (
        "the site is not told anew"
    )
    (tmp_path / "none").mkdir()
    assert "holds no .csv" in yendo("fleet", "add", tmp_path / "none", expect=2).stderr
    yendo("fleet", "inventory-script", tmp_path / "i.ps1")
    assert (tmp_path / "i.ps1").read_bytes() == look.script()


def test_people_are_forgotten_all_the_same(tmp_path: Path) -> None:
    """Machines that are added beside others do not put off the day on which nothing is kept of people."""
    (tmp_path / "a.csv").write_text("computer,person\nPIER-01,Ada\n")
    (tmp_path / "b.csv").write_text("computer,site\nPIER-02,quay\n")
    store = Inventory(tmp_path / "fleet.db")
    store.keep(gathered([tmp_path / "a.csv"]), date(2026, 1, 1))
    store.keep(gathered([tmp_path / "b.csv"]), others=True)
    columns = Inventory(tmp_path / "fleet.db").load()
    assert sorted(columns.computers) == ["PIER-01", "PIER-02"] and "person" not in columns.texts


def test_what_the_runner_says_of_one_package(tmp_path: Path) -> None:
    """It is there; of others nothing is known by that."""
    said = "computer: {0}\r\npackage: lantern\r\ninstalled: {1}\r\nrecorded changes: 4\r\n"
    for name, installed in (("PIER-01", "version 6.2.3"), ("PIER-02", "no")):
        (tmp_path / f"{name}.txt").write_text(said.format(name, installed))
    columns = gathered(sorted(tmp_path.iterdir())).columns()
    assert columns.programs == (ListedProgram("lantern", "6.2.3", sort="package"),)
    assert list(columns.having(0)) == [0] and not columns.listed.any()


@pytest.mark.wine
def test_what_the_layer_has(tmp_path: Path, shell_wine: Any) -> None:
    """The script against what lies in the layer's registry, read by another reader."""
    with shell_wine.fresh("system") as session:
        session.write(r"C:\inventory.ps1", look.script())
        uninstall = r"HKLM\Software\Microsoft\Windows\CurrentVersion\Uninstall\Tide"
        for width, version in (("64", "1.0"), ("32", "2.0")):
            for name, text in (("DisplayName", "Tide"), ("DisplayVersion", version)):
                session.run(f'reg add "{uninstall}{width}" /v {name} /d "{text}" /reg:{width} /f', timeout=60)
        session.run('cmd /c mkdir "C:\\Program Files\\Yendo\\installed"', timeout=60)
        session.write(r"C:\Program Files\Yendo\installed\lantern.txt", b"6.2.3\r\n")
        ran = session.run(RUN, timeout=120)
        assert ran.exit_code == 0, ran.output
        data = session.read(r"C:\seen.json")
        checked = session.run(r'powershell -Check51 -File "C:\inventory.ps1"', timeout=60)
        asked = session.run(r"reg query HKLM\System\CurrentControlSet\Enum /s /v HardwareID", timeout=60)
    path = tmp_path / "seen.json"
    path.write_bytes(data)
    (machine,) = gathered([path]).machines.values()
    programs = {(one.name, one.version, one.sort) for one in machine.programs or ()}
    assert {("Tide", "1.0", "entry"), ("Tide", "2.0", "entry"), ("lantern", "6.2.3", "package")} <= programs
    lists = re.findall(r"HardwareID\s+REG_MULTI_SZ\s+(.+)", asked.output)
    there = {tuple(text.strip().removesuffix("\\0").removesuffix("\\0").split("\\0")) for text in lists}
    mine = {one.hardware for one in machine.devices or ()}
    assert mine and mine <= there, (mine - there, there)
    assert {one.used.inf for one in machine.devices or ()} >= {"winebus.inf"}
    assert machine.texts["windows"].startswith("10.0.") and machine.numbers["memory"] > 1 << 28
    assert checked.exit_code == 0, "Windows PowerShell 5.1 reads it"


@pytest.mark.wine
def test_over_ssh(tmp_path: Path, open_wine: Any, yendo: Yendo) -> None:
    """Through a real server: what is told is written, nothing is left there; who is off or another one is told."""
    pytest.importorskip("asyncssh")
    from test_delivery import Office, offices, way_to

    with offices(open_wine, tmp_path / "computers", 2) as computers:
        way = way_to(computers, Office(tmp_path / "office"), tmp_path, patience=200.0)
        lines = way.known.read_text().splitlines()
        other = (computers[0].folder / "host.pub").read_text().strip()
        way.known.write_text(f"{lines[0]}\n[127.0.0.1]:{computers[1].port} {other}\n")
        reach = SshReach(
            user=way.user, key=way.key, known=way.known, patience=200.0,
            addresses={**way.addresses, "pier-97": ("127.0.0.1", 1)},
        )  # fmt: skip
        names = [one.named for one in computers]
        found = {one.computer: one for one in look.look([*names, "PIER-97"], reach, tmp_path / "seen")}
        assert computers[0].session.files_below(look.THERE) == []
        # the same from the command line, where the inventory says how a computer is reached
        (tmp_path / "m.csv").write_text(f"computer,address\n{names[0]},127.0.0.1\nPIER-97,127.0.0.1\n")
        yendo("fleet", "add", tmp_path / "m.csv")
        line = ("--to", tmp_path / "again", "--user", way.user, "--key", way.key, "--known", way.known)
        told = yendo("fleet", "look", names[0], *line, "--port", computers[0].port).stdout
        assert re.search(rf"{names[0]}\s+told\s+(calls itself .*; )?\d+ programs, \d+ devices", told), told
        assert "yendo fleet add" in told
        missed = yendo("fleet", "look", "PIER-97", *line, "--port", 1, expect=1).stdout
        assert "its port does not answer" in missed
        assert "is not there" in yendo("fleet", "look", *line[:-1], tmp_path / "nowhere", expect=2).stderr
        yendo("fleet", "add", tmp_path / "again", "--beside")
        assert "in a domain" not in yendo("fleet", "ask", 'architecture = ["x64"]').stdout
    assert {name: one.became for name, one in found.items()} == {
        names[0]: "told", names[1]: "refused", "PIER-97": "missed"
    }, found  # fmt: skip
    assert "another host key" in found[names[1]].words
    assert [path.name for path in (tmp_path / "seen").iterdir()] == [f"{names[0]}.json"]
    told = msgspec.json.decode((tmp_path / "seen" / f"{names[0]}.json").read_bytes())
    assert told["devices"] and told["facts"]["architecture"] == "x64"


_IDS = (r"USB\VID_FFFE&PID_0021", r"USB\VID_FFFE&PID_0099", r"USB\CLASS_FF")
_DEVICES = st.lists(
    st.tuples(st.sampled_from(_IDS), st.sampled_from(["", "Tidewell", "Somebody"]), st.sampled_from(["1.4", "2.1.0.0"])),
    max_size=3,
)  # fmt: skip
_OF_DEVICES = st.builds(
    lambda one, provider, version, missing: DeviceRule(device=one, provider=provider, version=version, missing=missing),
    st.sampled_from(_IDS), st.sampled_from(["", "tidewell"]), st.sampled_from([None, ">=2", "<2"]), st.booleans(),
)  # fmt: skip


@settings(max_examples=200, deadline=None)
@given(st.lists(_DEVICES, min_size=1, max_size=6), _OF_DEVICES)
def test_rules_about_devices_answer_as_on_each_machine(
    machines: list[list[tuple[str, str, str]]], rule: DeviceRule
) -> None:
    """Against a plain loop: each machine's devices as its registry would have them. One without a provider has no driver."""
    devices: dict[ListedDevice, list[int]] = {}
    for number, some in enumerate(machines):
        for one, provider, version in some:
            used = UsedDriver("oem1.inf", provider, "", version) if provider else UsedDriver()
            devices.setdefault(ListedDevice((one + "&X", one), ("USB\\OTHER",), "", used), []).append(number)
    names = [f"m{at}" for at in range(len(machines) + 1)]
    columns = columns_of(names, {}, {}, {}, devices=devices, fitted=range(len(machines)))
    found = holding(rule, columns)
    assert found[len(machines)] == UNKNOWN
    for number, some in enumerate(machines):
        state = State()
        for at, (one, provider, version) in enumerate(some):
            key = rf"{known_devices.ENUM}\USB\{at}\1"
            state.add(RegistryValue("HKLM", key, "HardwareID", "multi", (one + "&X", one), "64"))
            if provider:
                known_devices.use(state, key, provider, version)
        assert found[number] == (YES if rule.judge(Sight(state, {}))[0] else NO), (some, rule)


def test_who_has_the_build(tmp_path: Path) -> None:
    """The rule of an upgrade is answered by the fact that tells the same; where it is not told, by unknown."""
    columns = columns_of(
        ["a", "b", "c"],
        {"windows": ["10.0.26100.1742", "10.0.19045.1", None], "edition": ["Core", None, "Core"]},
        {},
        {},
    )
    current = r"HKLM\Software\Microsoft\Windows NT\CurrentVersion"
    for rule, answers in (
        (there("26100"), [YES, NO, UNKNOWN]),
        (RegistryRule(key=current, name="EditionID", equals="Core"), [YES, UNKNOWN, YES]),
        (RegistryRule(key=current, name="ProductName"), [UNKNOWN] * 3),
    ):
        assert list(holding(rule, columns)) == answers, rule
