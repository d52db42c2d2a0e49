"""The upgrade of the system by the real runner, with a stand-in of the media's setup: that nothing of it ran on a Windows
that was upgraded is said by every proof.
"""

from __future__ import annotations

import re
import shutil
from pathlib import Path
from typing import Any

import pytest
from conftest import compiled
from test_servicing import made_by_wimtools
from test_servicing_upgrade import upgrade_plan

from yendo.package import build
from yendo.plan import read
from yendo.prove.prove import prove

pytestmark = pytest.mark.wine
FOLDER = r"C:\Hand over\windows"
LINE = f'cmd /s /c ""{FOLDER}\\apply.cmd" install"'
LOG = r"C:\ProgramData\Yendo\logs\windows\install.log"


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A package that upgrades the system by media whose setup is the stand-in."""
    place = tmp_path_factory.mktemp("upgrade")
    sources = place / "w" / "extras" / "media" / "sources"
    sources.mkdir(parents=True)
    (place / "i").mkdir()
    shutil.copyfile(made_by_wimtools(place / "i", "none"), sources / "install.wim")
    compiled("system_setup.c", sources.parent / "setup.exe")
    (place / "w" / "plan.toml").write_text(upgrade_plan(), "utf-8")
    return build.build(place / "w", read(place / "w" / "plan.toml")[0]).folder


def _log(real: Any) -> str:
    return (real.read(LOG) or b"").decode()


def _build(real: Any) -> str:
    state = real.state()
    return str(state.get("registry", "hklm/64\\software\\microsoft\\windows nt\\currentversion!currentbuild").data)


CASES = {
    "": (0, r"the system is 10\.0\.26100\.1742 now"),
    "host 3": (0, r"a setup of the system is at work; waiting for it[\s\S]*the system is 10\.0\.26100\.1742 now"),
    "start 6": (0, r"a setup of the system is at work; waiting for it[\s\S]*the system is 10\.0\.26100\.1742 now"),
    "edition": (23, r"the edition was \S+, and is Other now"),
    "back 0x1000D": (-1047527167, r"went back to .*, before the first restart, at: migrating data; 0xC1900101: it went back"),
    "back 0x2000C": (-1047527167, r"went back to .*, in the small system .*, at: laying the image; 0xC1900101"),
    "back 0x30018": (-1047527167, r"went back to .*, at the first start .*, at: making the system the machine's own"),
    "back 0x4001E": (-1047527167, r"went back to .*, at the second start .*, at: before the first questions"),
}  # fmt: skip


@pytest.mark.parametrize("says", CASES)
def test_what_became_of_it(made: Path, shell_wine: Any, says: str) -> None:
    """The first exit code is no verdict: after the restart the build says it, and where it went back the setup's log."""
    code, wanted = CASES[says]
    with shell_wine.fresh() as real:
        real.write(r"C:\setup-says.txt", says.encode())
        real.bring(made, FOLDER)
        before = _build(real)
        ran = real.run(LINE, timeout=120)
        assert ran.exit_code == 1641, ran.output
        assert "the setup is at 50 %" in ran.output and "is 0xC1900210" not in ran.output
        lines = (real.read(r"C:\setup-lines.txt") or b"").decode().splitlines()
        assert len([line for line in lines if "/linger" not in line]) == 2 and "/compat scanonly" in lines[0]
        assert "/auto upgrade /quiet /eula accept /noreboot /bitlocker alwayssuspend" in lines[1]
        real.restart()
        log = _log(real)
        assert re.search(wanted, log), log
        last = log.splitlines()[-1]
        assert last.endswith("done with 0" if code == 0 else f"ended with {code} in step 4"), log
        assert _build(real) == ("26100" if "back" not in says else before)
        assert real.read(r"C:\Program Files\Yendo\state\windows\before.txt") is None
        if not says:  # done on a machine that has it: nothing is begun
            again = real.run(LINE, timeout=60)
            assert again.exit_code == 0 and again.output.count("not needed here") == 3, again.output
            assert len((real.read(r"C:\setup-lines.txt") or b"").decode().splitlines()) == 3
            gone = real.run(LINE.replace("install", "uninstall"), timeout=60)
            assert gone.exit_code == 20 and "cannot be removed: Windows keeps" in gone.output


@pytest.mark.parametrize(
    ("says", "code", "wanted"),
    [
        ("held", -1047526904, "in the way of the upgrade: Tidewell Disk Guard"),
        ("code C190020E", -1047526898, "the setup says 0xC190020E: there is too little free space"),
        ("code C1900555", -1047526059, "the setup says 0xC1900555: a code that is not known here"),
    ],
)
def test_what_stops_it_before(made: Path, shell_wine: Any, says: str, code: int, wanted: str) -> None:
    with shell_wine.fresh() as real:
        real.write(r"C:\setup-says.txt", says.encode())
        real.bring(made, FOLDER)
        ran = real.run(LINE, timeout=120)
        assert ran.exit_code == code & 0xFFFFFFFF or ran.exit_code == code, ran
        assert wanted in ran.output and "restarting the machine" not in ran.output, ran.output


def test_the_setup_is_never_ended(made: Path, shell_wine: Any, tmp_path: Path) -> None:
    """Over its time the waiting ends, with "try later"; what comes next waits for the same setup and starts none."""
    short = tmp_path / "short"
    shutil.copytree(made, short)
    text = (short / "apply.ps1").read_text("utf-8-sig")
    assert text.count("'timeout' = 21600") >= 3
    (short / "apply.ps1").write_text(text.replace("'timeout' = 21600", "'timeout' = 6"), "utf-8-sig", newline="")
    with shell_wine.fresh() as real:
        real.write(r"C:\setup-says.txt", b"slow 12")
        real.bring(short, FOLDER)
        ran = real.run(LINE, timeout=120)
        assert ran.exit_code == 1618 and "still at work after 6 seconds: it goes on" in ran.output, ran.output
        assert real.is_running("setup")
    with shell_wine.fresh() as real:
        real.write(r"C:\setup-says.txt", b"host 16")
        real.bring(short, FOLDER)
        codes = [real.run(LINE, timeout=120).exit_code]
        while codes[-1] == 1618 and len(codes) < 6:
            codes.append(real.run(LINE, timeout=120).exit_code)
        assert codes[0] == 1618 and codes[-1] == 1641, codes
        lines = (real.read(r"C:\setup-lines.txt") or b"").decode().splitlines()
        assert sum("/noreboot" in line for line in lines) == 1, "no second setup is started beside it"
        real.restart()
        assert "the system is 10.0.26100.1742 now" in _log(real), _log(real)


def test_power_cut_while_it_works(made: Path, shell_wine: Any) -> None:
    """The setup is begun anew behind the trial, and the machine is upgraded."""
    with shell_wine.fresh() as real:
        real.write(r"C:\setup-says.txt", b"slow 60")
        real.bring(made, FOLDER)
        assert real.run(LINE, timeout=25).exit_code is None
        real.write(r"C:\setup-says.txt", b"")
        real.restart()
        ran = real.run(LINE, timeout=120)
        assert ran.exit_code == 1641 and "going on with an unfinished install: 1 steps are done" in ran.output, ran
        real.restart()
        assert "the system is 10.0.26100.1742 now" in _log(real), _log(real)


def test_the_proof_on_the_layer(made: Path, shell_wine: Any) -> None:
    """What Windows itself changes is no mistake of the package's; that no real setup ran is said."""
    proof = prove(made, shell_wine)
    assert proof.passed, [(one.title, one.found, one.details) for one in proof.phases if one.outcome == "failed"]
    said = {one.id: one.found for one in proof.phases}
    assert said["system-setup"] == "the API layer is no Windows"
    assert said["stays"] == "exit code 20, 0 effects"


def test_a_log_that_somebody_else_has_put_there_is_not_read(made: Path, shell_wine: Any) -> None:
    """By its owner, which a function of the runner's tells here: the layer makes owners from Unix accounts."""
    package = made.parent / "strange"
    shutil.copytree(made, package)
    text = (package / "apply.ps1").read_text("utf-8-sig")
    asked = "[string]$owner = (Get-Rights $File)[0]"
    assert text.count(asked) == 1
    (package / "apply.ps1").write_text(text.replace(asked, "[string]$owner = 'S-1-5-21-9'"), "utf-8-sig", newline="")
    with shell_wine.fresh() as real:
        real.write(r"C:\setup-says.txt", b"held")
        real.bring(package, FOLDER)
        ran = real.run(LINE, timeout=120)
        assert ran.exit_code == -1047526904 & 0xFFFFFFFF and "the setup says 0xC1900208" in ran.output
        assert "not believed: C:\\$WINDOWS.~BT" in ran.output and "it belongs to S-1-5-21-9" in ran.output, ran.output
        assert "Tidewell Disk Guard" not in ran.output
