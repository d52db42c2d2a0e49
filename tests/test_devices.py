"""Devices and the drivers that they use: as a rule, on the simulated machine by Windows' own order, and by the runner."""

from __future__ import annotations

import random
import re
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo, parsed
from driver_specimens import contents, folder, signer
from test_drivers import packaged

from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build, carry
from yendo.package import manifest as form
from yendo.plan import read
from yendo.prove.prove import prove
from yendo.terms.rules import DeviceRule, DriverRule, Sight
from yendo.terms.rules import device as known

GAUGE, BUOY = r"USB\VID_FFFE&PID_0021", r"USB\VID_FFFE&PID_0099"
CLASS = r"{4d36e978-e325-11ce-bfc1-08002be10318}\0007"
HEAD = '[package]\nid = "t"\nname = "t"\nversion = "1"\n'


def uses(session: Any, device: str = GAUGE) -> str:
    state = session.state()
    return DeviceRule(device=device).judge(Sight(state, session.surroundings.environment))[1]


def add(session: Any, place: str) -> str:
    ran = session.run(rf'pnputil.exe /add-driver "{place}\*.inf" /subdirs /install', timeout=60)
    assert ran.exit_code in (0, 259)
    return str(ran.output)


def test_the_best_of_the_store_wins(tmp_path: Path) -> None:
    """Signed before newer, newer before older; the next best comes back; what the store never had as well."""
    older = folder(tmp_path / "a", contents(random.Random(1)), who=signer(), version="1.4.0.0", date="01/14/2024")
    newer = folder(tmp_path / "b", contents(random.Random(2)), who=signer(), version="2.1.0.0", date="03/14/2026")
    newest = folder(tmp_path / "c", contents(random.Random(3)), version="3.0.0.0", date="05/14/2026")  # not signed
    with SimulatedMachine().fresh() as session:
        key = known.add(session.own_state, GAUGE)
        for number, inf in enumerate((older, newest, newer)):
            session.bring(inf.parent, rf"C:\d{number}")
        add(session, r"C:\d0")
        assert uses(session) == f"{GAUGE} uses 1.4.0.0 by Tidewell"
        add(session, r"C:\d1")
        assert uses(session) == f"{GAUGE} uses 1.4.0.0 by Tidewell", "signed goes before not signed"
        add(session, r"C:\d2")
        assert uses(session) == f"{GAUGE} uses 2.1.0.0 by Tidewell"
        assert uses(session, BUOY).startswith("no device")
        for gone, left in (("oem3.inf", "1.4.0.0"), ("oem1.inf", "3.0.0.0"), ("oem2.inf", "")):
            assert session.run(f"pnputil.exe /delete-driver {gone} /uninstall", timeout=9).exit_code == 0
            assert uses(session) == (f"{GAUGE} uses {left} by Tidewell" if left else f"{GAUGE} has no driver"), gone
        known.use(session.own_state, key, "Somebody", "2.0")
        add(session, r"C:\d0")
        assert uses(session) == f"{GAUGE} uses 2.0 by Somebody", "an older one does not replace a newer one"
        add(session, r"C:\d2")
        assert uses(session) == f"{GAUGE} uses 2.1.0.0 by Tidewell"
        session.run("pnputil.exe /delete-driver oem2.inf /uninstall", timeout=9)
        assert uses(session) == f"{GAUGE} uses 2.0 by Somebody"


def test_a_package_that_is_detected_by_its_device(tmp_path: Path, yendo: Yendo) -> None:
    """The machine of the proof has the device and an older driver; the package's is used, and taken off again."""
    inf = folder(tmp_path / "d", contents(random.Random(1)), who=signer())
    workspace = tmp_path / "w"
    packaged(workspace, inf, "2.1.0.0")
    plan = workspace / "plan.toml"
    text = plan.read_text("utf-8").replace(
        'kind = "driver"\ninf = "gauge.inf"\n', f"kind = \"device\"\ndevice = '{GAUGE}'\n"
    )
    there = (
        f'\n[proof]\nthere = [{{ kind = "device", device = \'{GAUGE}\', provider = "Somebody", version = "==1.0" }}]\n'
    )
    plan.write_text(text + there, "utf-8")
    for scenario in ("desk", "interrupted"):
        proof = prove(build.build(workspace, read(plan)[0]).folder, _furnished(workspace), scenario=scenario)
        assert proof.passed, [(one.title, one.found, one.details) for one in proof.phases if one.outcome == "failed"]
    with _furnished(workspace).fresh() as session:
        assert uses(session) == f"{GAUGE} uses 1.0.0.0 by Somebody"
    newer = text + there.replace("==1.0", "==9.0")
    plan.write_text(newer, "utf-8")
    yendo("build", workspace, "--although", "driver-fault=a specimen")
    found = parsed(yendo("prove", workspace, "--json", expect=1))
    assert "uses 9.0.0.0 by Somebody" in str(found["phases"]), "a better driver is there, so it is not detected"
    plan.write_text(newer.replace('version = "==2.1.0.0"', 'version = "==2.1.0.0"\nmissing = true'), "utf-8")
    assert read(plan)[0].detect[0].missing


def _furnished(workspace: Path) -> Any:
    from yendo.prove.furnished import simulated_for

    return simulated_for(read(workspace / "plan.toml")[0], workspace)


def test_it_stays_for_another_device(tmp_path: Path) -> None:
    """Simulated: what another device uses is left; the devices that are named may lose it."""
    inf = folder(tmp_path / "d", contents(random.Random(1)), devices=f"{GAUGE}\n%dev% = inst, {BUOY}")
    removal = f'[[install]]\nkind = "remove-driver"\ninf = "gauge.inf"\ndevices = [\'{GAUGE.lower()}\']\n'
    (tmp_path / "w").mkdir()
    (tmp_path / "w" / "plan.toml").write_text(HEAD + removal, "utf-8")
    package = build.build(tmp_path / "w", read(tmp_path / "w" / "plan.toml")[0]).folder
    for other in (True, False):
        with SimulatedMachine().fresh() as session:
            session.bring(inf.parent, r"C:\d")
            session.bring(package, r"C:\t")
            add(session, r"C:\d")
            keys = [known.add(session.own_state, GAUGE)] + ([known.add(session.own_state, BUOY)] if other else [])
            for key in keys:
                known.use(session.own_state, key, "Tidewell", "2.1.0.0", InfPath="oem1.inf")
            carried = carry.carry(form.read(package), package, session, "install", folder=r"C:\t")
            assert carried.exit_code == 0
            assert ("left, another device uses it: oem1.inf" in carried.lines) is other, carried.lines
            there = DriverRule(inf="gauge.inf").judge(Sight(session.state(), session.surroundings.environment))[0]
            assert there is other


@pytest.mark.wine
def test_it_stays_for_another_device_by_the_runner(tmp_path: Path, shell_wine: Any) -> None:
    """The same by the runner, with devices in the layer's own list; and the rule by its detection script."""
    inf = folder(tmp_path / "d", contents(random.Random(1)), who=signer())
    removal = f'[[install]]\nkind = "remove-driver"\ninf = "gauge.inf"\ndevices = [\'{GAUGE}\']\n'
    rule = f'[[detect]]\nkind = "device"\ndevice = \'{BUOY}\'\nprovider = "tidewell"\nversion = ">=2"\n'
    (tmp_path / "w").mkdir()
    (tmp_path / "w" / "plan.toml").write_text(HEAD + removal + rule, "utf-8")
    package = build.build(tmp_path / "w", read(tmp_path / "w" / "plan.toml")[0]).folder
    with shell_wine.fresh() as session:
        session.bring(inf.parent, r"C:\d")
        session.bring(package, r"C:\t")
        name = re.findall(r"oem\d+\.inf", add(session, r"C:\d"))[0]
        class_key = rf"HKLM\System\CurrentControlSet\Control\Class\{CLASS}"
        device = rf"HKLM\System\CurrentControlSet\Enum\{BUOY}\5"

        def put(key: str, value: str, text: str, kind: str = "REG_SZ") -> None:
            line = f'reg add "{key}" /v {value} /t {kind} /d "{text}" /f'
            assert session.run(line, timeout=60).exit_code == 0

        put(class_key, "InfPath", name)
        put(class_key, "ProviderName", "Tidewell")
        put(class_key, "DriverVersion", "2.1.0.0")
        put(device, "Driver", CLASS)
        put(device, "HardwareID", rf"{BUOY}\0{BUOY}&X", "REG_MULTI_SZ")
        line = r'cmd /s /c ""C:\t\apply.cmd" {}"'
        ran = session.run(line.format("install"), timeout=120)
        assert ran.exit_code == 0 and f"left, another device uses it: {name}" in ran.output, ran.output
        assert uses(session, BUOY + "&X") == f"{BUOY}&X uses 2.1.0.0 by Tidewell"
        put(device, "CompatibleIDs", GAUGE, "REG_MULTI_SZ")
        ran = session.run(line.format("repair").replace("repair", "detect"), timeout=60)
        assert ran.exit_code == 0 and "uses 2.1.0.0 by Tidewell" in ran.output, ran.output
        ran = session.run(line.format("install"), timeout=120)
        assert f"pnputil.exe /delete-driver {name} /uninstall" in ran.output, ran.output
        there = DriverRule(inf="gauge.inf").judge(Sight(session.state(), session.surroundings.environment))[0]
        assert not there
