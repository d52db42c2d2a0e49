"""The built program, command by command, as a person meets it."""

from __future__ import annotations

import hashlib
import json
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import Yendo, missing, parsed, unix
from samples import SAMPLES
from specimens import Specimen, apart

from yendo.demo import sounder

COMMANDS = ("read", "draft", "check", "build", "prove", "demo", "doctor")
KEYS = {
    "schema",
    "file",
    "family",
    "says_of_itself",
    "identity",
    "signature",
    "silent",
    "conditions",
    "needs",
    "processes",
    "properties",
    "payload",
    "effects",
    "blind_spots",
}


def test_help_names_every_command_and_code(yendo: Yendo) -> None:
    top = yendo("--help").stdout
    assert all(re.search(rf"^ +{command} ", top, re.M) for command in COMMANDS) and "exit codes:" in top
    for command in COMMANDS:
        page = yendo(command, "--help").stdout
        assert f"yendo {command}" in page and "--json" in page and "--quiet" in page
    assert yendo("--version").stdout.startswith("yendo ") and yendo(expect=2).stdout == top


@pytest.mark.parametrize(
    "arguments",
    [
        ("nosuch",),
        ("read",),
        ("prove", "--machine", "cloud"),
        ("draft", "x"),
        ("read", "no-such-file.msi"),
        ("draft", "x", "a.msi", "--files", "y"),
    ],
)
def test_wrong_usage(yendo: Yendo, arguments: tuple[str, ...]) -> None:
    done = yendo(*arguments, expect=2)
    assert done.stderr.strip() and not done.stdout


# --- read --------------------------------------------------------------------------------------------


def test_read_for_programs(vendor: Path, yendo: Yendo) -> None:
    found = parsed(yendo("read", vendor / "lantern-6.2.1.msi", "--json", "--effects"))
    assert set(found) >= KEYS and found["schema"] == "yendo.read/1" and found["family"] == "msi"
    assert found["identity"] == {
        "name": "Lantern",
        "version": "6.2.1",
        "publisher": "Tidewell",
        "architecture": "x64",
        "language": "en-GB",
        "scope": "machine",
        "product_code": "{4E6AB892-57E7-52F8-B2B2-AB06096EDC9F}",
        "upgrade_code": "{6E1C9C54-83A5-4A0B-9B27-5B7C0F6A1D10}",
        "package_code": found["identity"]["package_code"],
    }
    assert (
        found["file"]["sha256"] is None
        and found["signature"]["signed"] is False
        and found["signature"]["digest_holds"] is None
    )
    assert (
        found["silent"]["install"]["command"] == 'msiexec /i "lantern-6.2.1.msi" /qn /norestart'
        and found["silent"]["install"]["confidence"] == "certain"
    )
    assert {entry["name"]: entry["default"] for entry in found["properties"]} == {
        "AUTOUPDATE": "1",
        "SITE": "Unassigned",
        "INSTALLDIR": None,
    }
    assert found["processes"] == ["lantern.exe"] and found["needs"] == ["Windows for x64"]
    assert [medium["kind"] for medium in found["payload"]["media"]] == ["embedded"]
    assert sum(found["effects"]["counts"].values()) == len(found["effects"]["list"]) == 24
    assert all(effect["evidence"]["where"] for effect in found["effects"]["list"])
    assert [spot["what"] for spot in found["blind_spots"]] == ["custom action SelfTest: program it installs"]
    assert "list" not in parsed(yendo("read", vendor / "lantern-6.2.1.msi", "--json"))["effects"]


def test_read_for_people(vendor: Path, yendo: Yendo) -> None:
    page = yendo("read", vendor / "lantern-6.2.1.msi", "--why", "--effects", "--verify").stdout
    told = " ".join(page.split())  # long paths are broken over lines
    for words in (
        "Lantern 6.2.1 by Tidewell",
        "not signed",
        "64-bit Windows",
        "AUTOUPDATE",
        "left out by default",
        "Property[ProductCode]",
        "File[lantern.exe]",
        "yendo draft",
        hashlib.sha256((vendor / "lantern-6.2.1.msi").read_bytes()).hexdigest(),
    ):
        assert words in page or words in told
    assert "\x1b" not in page and yendo("read", vendor / "lantern-6.2.1.msi", "-q").stdout == ""


def test_media_beside_the_installer(tmp_path: Path, yendo: Yendo) -> None:
    """An external cabinet and a loose file: there, then missing, and only what is needed comes along."""
    from yendo.formats import cab

    share = apart(tmp_path / "share")

    def media() -> dict[str, bool]:
        listed = parsed(yendo("read", share / "apart.msi", "--json"))["payload"]["media"]
        return {medium["name"]: medium["present"] for medium in listed}

    assert media() == {"apart.cab": False, "loose.txt": False}
    assert "apart.cab is missing" in yendo("read", share / "apart.msi").stdout
    assert "MISSING" in yendo("draft", "incomplete", share / "apart.msi").stdout
    (share / "APART.CAB").write_bytes(cab.build([("FProgram", b"content\r\n")]))
    (share / "Specimen apart" / "loose.txt").write_bytes(b"content\r\n")
    (share / "holiday.jpg").write_bytes(b"x")
    assert media() == {"apart.cab": True, "loose.txt": True}
    done = parsed(yendo("draft", "w", share / "apart.msi", "--json"))
    assert done["strays"] == ["holiday.jpg"] and sorted(name.lower() for name in done["media"]) == [
        "apart.cab",
        "apart.msi",
        "specimen apart/loose.txt",
    ]
    yendo("build", "w")
    assert parsed(yendo("prove", "w", "--json"))["passed"]


def test_signed_installers(vendor: Path, tmp_path: Path, yendo: Yendo) -> None:
    """A signature of our own making: who signed, and whether the digest holds, before and after a change."""
    from signing import sign

    path = sign(vendor / "lantern-6.2.1.msi", tmp_path / "signed.msi", "Tidewell release signing")
    quick = parsed(yendo("read", path, "--json"))["signature"]
    assert quick["signed"] and quick["signer"] == "Tidewell release signing" and quick["digest_holds"] is None
    assert parsed(yendo("read", path, "--json", "--verify"))["signature"]["digest_holds"] is True
    data = path.read_bytes()
    at = data.index(b"MSCF") + 100
    path.write_bytes(data[:at] + b"\xff" + data[at + 1 :])
    assert parsed(yendo("read", path, "--json", "--verify"))["signature"]["digest_holds"] is False
    assert "CHANGED SINCE" in yendo("read", path, "--verify").stdout


@pytest.mark.parametrize(
    ("name", "content", "code", "words"),
    [
        ("empty.msi", b"", 3, "the file is empty"),
        ("text.msi", b"just words", 3, "no installer of a known family"),
        ("setup.exe", b"MZ" + bytes(100), 3, "a Windows program"),
        ("files.cab", b"MSCF" + bytes(100), 3, "cabinet"),
        ("cut.msi", b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(100), 3, "not a compound file"),
    ],
)
def test_what_is_no_installer(tmp_path: Path, yendo: Yendo, name: str, content: bytes, code: int, words: str) -> None:
    (tmp_path / name).write_bytes(content)
    assert words in yendo("read", name, expect=code).stderr
    assert parsed(yendo("read", name, "--json", expect=code))["exit_code"] == code


def test_a_document_is_no_installer(yendo: Yendo, tmp_path: Path) -> None:
    from yendo.formats import cfb

    with (tmp_path / "report.doc").open("wb") as file:
        cfb.write(file, cfb.Storage({"WordDocument": b"x" * 5000}))
    assert "not an installer database" in yendo("read", "report.doc", expect=3).stderr


def test_names_that_drive_a_terminal(tmp_path: Path, yendo: Yendo) -> None:
    specimen = Specimen("escape").with_file()
    specimen.tables["Property"] = [
        (name, "evil\x1b[31m [bold]name" if name == "ProductName" else value)
        for name, value in specimen.tables["Property"]
    ]
    page = yendo("read", specimen.ours(tmp_path)).stdout
    assert "\x1b" not in page and "[bold]name" in page


def test_a_real_installer(yendo: Yendo, tmp_path: Path, shell_wine: object) -> None:
    """A setup program of Debian's test files leaves the database it carries behind; nobody here made that."""
    source = SAMPLES / "clam_ISmsi_int.exe"
    if not source.exists():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "setup.exe").write_bytes(source.read_bytes())
    with shell_wine.fresh() as session:  # type: ignore[attr-defined]
        if "32" not in shell_wine.widths:  # type: ignore[attr-defined]
            missing("a wine for 32-bit programs", "apt-get install wine32")
        session.bring(tmp_path / "in", r"C:\in")
        session.run(r'C:\in\setup.exe /s /v"/qn"', timeout=120)
        found = list((session.copy.root / "drive_c/users").rglob("*.msi"))
        assert found
        (tmp_path / "real.msi").write_bytes(found[0].read_bytes())
    told = parsed(yendo("read", "real.msi", "--json"))
    assert (
        told["identity"]["architecture"] == "x86"
        and told["identity"]["product_code"]
        and told["effects"]["counts"]["file"] == 2
    )
    assert any("library in the database" in spot["what"] for spot in told["blind_spots"])
    yendo("draft", "w", "real.msi")
    yendo("check", "w")
    yendo("build", "w")
    proof = parsed(yendo("prove", "w", "--machine", "wine", "--json", expect=None))
    assert proof["passed"] and proof["comparison"]["recall"] >= 0.98 and not proof["comparison"]["false"], proof[
        "comparison"
    ]


# --- draft -----------------------------------------------------------------------------------------------


def test_draft_refuses_to_overwrite_edits(vendor: Path, yendo: Yendo, tmp_path: Path) -> None:
    yendo("draft", "w", vendor / "lantern-6.2.1.msi")
    yendo("draft", "w", vendor / "lantern-6.1.0.msi")  # nobody has touched it yet
    plan = tmp_path / "w" / "plan.toml"
    assert "6.1.0" in plan.read_text()
    plan.write_text(plan.read_text().replace('contact = ""', 'contact = "me"'))
    assert "edited since" in yendo("draft", "w", vendor / "lantern-6.2.1.msi", expect=2).stderr
    assert 'contact = "me"' in plan.read_text()
    evidence = json.loads((tmp_path / "w" / "evidence.json").read_text())
    assert (
        evidence["installer"] == "lantern-6.1.0.msi"
        and evidence["why"]["identity.version"]["where"] == "Property[ProductVersion]"
    )


def test_draft_keeps_media_as_it_came(vendor: Path, yendo: Yendo, tmp_path: Path) -> None:
    done = parsed(yendo("draft", "w", vendor / "lantern-6.2.1.msi", "--json"))
    assert (tmp_path / "w/media/lantern-6.2.1.msi").read_bytes() == (vendor / "lantern-6.2.1.msi").read_bytes()
    assert done["strays"] == ["lantern-6.1.0.msi", "lantern-6.2.3.msi", "lantern-6.2.3.msp", "stray.txt"] and not list(
        (tmp_path / "w/media").glob("stray*")
    )
    assert done["defaults"] == ["AUTOUPDATE: 1", "SITE: Unassigned"] and not any(
        "SITE" in decision for decision in done["decisions"]
    )


def test_draft_of_files_alone(yendo: Yendo, tmp_path: Path) -> None:
    (tmp_path / "charts/deep").mkdir(parents=True)
    (tmp_path / "charts/a.txt").write_text("a"), (tmp_path / "charts/deep/b.txt").write_text("b")
    links = os.name != "nt"  # they need a right there that few have
    if links:
        (tmp_path / "charts/link").symlink_to("/etc/passwd")
    done = yendo("draft", "w", "--files", "charts", "--to", r"%ProgramData%\Tidewell\charts")
    assert ("link" in done.stdout) == links and not (tmp_path / "w/extras/charts/link").exists()
    yendo("check", "w")
    yendo("build", "w")
    assert parsed(yendo("prove", "w", "--json"))["passed"]
    assert "lies inside" in yendo("draft", "charts/w", "--files", "charts", expect=2).stderr
    (tmp_path / "hollow").mkdir()
    assert "holds no files" in yendo("draft", "v", "--files", "hollow", expect=2).stderr


# --- demo, doctor, edges ------------------------------------------------------------------------------------


def _holds_both_programs(share: Path, told: str, yendo: Yendo) -> None:
    setup = Path(sounder.__file__).with_name("sounder-setup.exe")
    assert "sounder-setup.exe" in told and (share / setup.name).read_bytes() == setup.read_bytes()
    found = json.loads(yendo("read", share, "--json").stdout)
    assert found["summary"]["families"] == {"msi": 3, "msi-patch": 1, "flat-pkg": 1, "disk-image": 1, "plain-exe": 1}
    rows = {row["path"]: row for row in found["rows"]}
    assert rows["sounder-setup.exe"]["signed"] is False and rows["lantern-6.2.3.msp"]["signed"] is None
    assert rows["sounder-setup.exe"]["confidence"] == "to be tried"
    assert rows["lantern-6.2.1.msi"]["confidence"] == "certain"


@pytest.mark.skipif(
    os.name == "nt", reason="the dossier's drawing needs NumPy, whose library calls what the layer lacks"
)
def test_demo(yendo: Yendo, tmp_path: Path) -> None:
    page = yendo("demo", "here").stdout
    assert (
        "Proved" in page
        and "8 prove" in page
        and "In every scenario" in page
        and "What detection catches" in page
        and (tmp_path / "here/lantern/package/tidewell-lantern-6.2.3-r1/apply.ps1").exists()
    )
    _holds_both_programs(tmp_path / "here" / "from-tidewell", page, yendo)
    derived = parsed(yendo("detect", "derive", "here/lantern", "--most", "99", "--json"))
    asked = " ".join(str(one["rule"]) for one in derived["rules"] + derived["further"])
    assert "lantern.exe" in asked  # and never what the runtime brings, or every package of the office's
    assert "tide-runtime.dat" not in asked and "Help" not in asked
    assert yendo("demo", "here", "--json").stdout  # again, over its own work
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine/thesis.txt").write_text("x")
    assert "not empty" in yendo("demo", "mine", expect=2).stderr


def test_completion(yendo: Yendo) -> None:
    said = parsed(yendo("completion", "bash", "--json"))
    assert said["shell"] == "bash" and "complete" in said["script"]
    assert yendo("completion", "bash", "--quiet").stdout == ""
    yendo("completion", "other", expect=2)


def test_doctor(yendo: Yendo) -> None:
    parts = {part["name"]: part for part in parsed(yendo("doctor", "--json"))["parts"]}
    assert parts["simulated machine"]["here"] and {"wine", "Xvfb", "PowerShell for wine"} <= set(parts)
    assert ("7-Zip" if os.name == "nt" else "libarchive") in parts
    bare = yendo("doctor", environment={"PATH": "/nowhere"}).stdout
    assert "apt-get install wine" in bare and "missing" in bare


@unix
def test_a_broken_pipe_is_quiet(vendor: Path) -> None:
    program = Path(sys.executable).with_name("yendo")
    done = subprocess.run(
        f"{program} read {vendor / 'lantern-6.2.1.msi'} | head -1",
        shell=True,
        capture_output=True,
        text=True,
        check=False,
    )
    assert "Traceback" not in done.stderr and done.stdout.count("\n") == 1


@unix
def test_colour_only_on_a_terminal(vendor: Path, tmp_path: Path) -> None:
    import pty

    program = Path(sys.executable).with_name("yendo")

    def on_a_terminal(**more: str) -> bytes:
        child, terminal = pty.fork()
        if not child:
            os.environ.update(TERM="xterm-256color", COLUMNS="120", **more)
            os.execv(program, ["yendo", "read", str(vendor / "lantern-6.2.1.msi")])
        out = b""
        while True:
            try:
                piece = os.read(terminal, 65536)
            except OSError:
                break
            if not piece:
                break
            out += piece
        os.waitpid(child, 0)
        return out

    assert b"\x1b[" in on_a_terminal() and b"\x1b[3" not in on_a_terminal(NO_COLOR="1")


def test_a_defect_leaves_a_report(vendor: Path, tmp_path: Path) -> None:
    code = (
        "import sys, yendo.installers.recognise as r\ndef broken(*a, **k): raise RuntimeError('inner')\nr.read = broken\n"
        "from yendo.cli.main import main\nsys.exit(main(['read', sys.argv[1]]))"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, str(vendor / "lantern-6.2.1.msi")],
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "TMPDIR": str(tmp_path)},
    )
    assert done.returncode == 70 and "a defect in Yendo" in done.stderr and "Traceback" not in done.stderr
    assert "RuntimeError: inner" in next(tmp_path.glob("yendo-defect-*")).read_text()


def test_programs_are_rebuilt_to_the_same_bytes(tmp_path: Path) -> None:
    import shutil

    from yendo.demo.vendor import PROGRAMS

    if not shutil.which("x86_64-w64-mingw32-gcc"):
        missing("the cross compiler", "apt-get install gcc-mingw-w64-x86-64")
    subprocess.run([str(PROGRAMS / "build"), str(tmp_path)], check=True, capture_output=True)
    shipped = sorted(PROGRAMS.glob("*.exe"))
    assert len(shipped) == 8
    for path in shipped:
        assert (tmp_path / path.name).read_bytes() == path.read_bytes() and path.stat().st_size < 65536


def test_layers_hold() -> None:
    """No printing and no interface below the command line; the arrows are import-linter's in CI."""
    root = Path(__file__).parents[1] / "src" / "yendo"
    for path in root.rglob("*.py"):
        if "cli" not in path.parts:
            assert not re.search(r"^\s*print\(|import argparse|from rich", path.read_text("utf-8"), re.M), path
