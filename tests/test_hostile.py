"""Names, texts and files that somebody made to do harm, or that are merely odd: each ended as a defect once, or worse."""

from __future__ import annotations

import csv
import io
import os
import re
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
import tomlkit
from conftest import Yendo, parsed, unix
from specimens import Specimen, apart

from yendo.check import Workspace, check
from yendo.demo import office, story
from yendo.draft import draft
from yendo.errors import Usage
from yendo.installers import catalogue
from yendo.plan import PlanError, read_text

ODD = 'Tide\tgauge\r\n[[install]]\nkind = "exe" \x1b[31m # \x85 \u2028'
PLAN = '[package]\nid = "tide"\nname = {name}\nversion = "1"\n[[install]]\nkind = "copy"\nfrom = "extras/a.txt"\nto = \'C:\\Tide\\\'\n[[detect]]\nkind = "file"\npath = \'C:\\Tide\\a.txt\'\n'


# --- names -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "name",
    [
        "../x.msi",
        "/etc/x.msi",
        "C:\\x.msi",
        "a/../../x.msi",
        "..",
        "x.msi\n",
        "con.msi",
        "a//b.msi",
        "a/./b.msi",
        "x.msi ",
        "x.msi.",
        "x:y.msi",
    ],
)
def test_a_medium_that_leads_elsewhere(name: str, yendo: Yendo, tmp_path: Path) -> None:
    """`store bring` wrote wherever it said, over what was there."""
    text = f'[package]\nid = "x"\nname = "x"\nversion = "1"\n[[media]]\nfile = {tomlkit.item(name).as_string()}\nsha256 = "{"0" * 64}"\n[[install]]\nkind = "msi"\nmedia = "x.msi"\n'
    with pytest.raises(PlanError, match="file"):
        read_text(text)
    (tmp_path / "w").mkdir()
    (tmp_path / "w" / "plan.toml").write_text(text, "utf-8", newline="")
    before = sorted(tmp_path.rglob("*"))
    yendo("store", "bring", "w", "--store", "store", expect=None)
    assert [path for path in sorted(tmp_path.rglob("*")) if path not in before and "store" not in path.parts] == []


# --- texts ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("key", ["name", "version", "publisher", "description", "contact"])
def test_texts_of_a_plan_in_several_lines(key: str, tmp_path: Path, yendo: Yendo) -> None:
    """They are refused with their line, or go through every page and script as one text."""
    (tmp_path / "extras").mkdir()
    (tmp_path / "extras" / "a.txt").write_text("a")
    document = tomlkit.parse(PLAN.format(name='"Tide"'))
    document["package"][key] = ODD  # type: ignore[index]
    (tmp_path / "plan.toml").write_text(tomlkit.dumps(document), "utf-8")
    for command in (("check", "."), ("build", "."), ("prove", "."), ("dossier", ".")):
        done = yendo(*command, expect=None)
        assert done.returncode in (0, 1, 2, 3), (command, done.stderr)
        assert "\x1b" not in done.stdout + done.stderr


@pytest.mark.parametrize("table", ["Property", "summary"])
def test_texts_of_an_installer_in_several_lines(table: str, tmp_path: Path, yendo: Yendo) -> None:
    """A product's name with line ends became steps of the plan, with an older library that the bounds admitted."""
    specimen = Specimen("odd").with_file()
    if table == "Property":
        specimen.tables["Property"] = [
            (key, ODD.encode("cp1252", "ignore").decode("cp1252") if key in ("ProductName", "Manufacturer") else value)
            for key, value in specimen.tables["Property"]
        ]
    installer = specimen.ours(tmp_path)
    if table == "summary":
        from yendo.demo.vendor import write_installer

        tables, summary = specimen._finish()
        installer = tmp_path / "odd.msi"
        import msgspec

        write_installer(
            installer, tables, summary=msgspec.structs.replace(summary, subject=ODD, author=ODD, comments=ODD)
        )
    yendo("read", installer)
    yendo("draft", "w", installer)
    plan = tomlkit.parse((tmp_path / "w" / "plan.toml").read_text("utf-8")).unwrap()
    assert [step["kind"] for step in plan["install"]] == ["msi"] and "\x1b" not in (
        tmp_path / "w" / "plan.toml"
    ).read_text("utf-8")
    for command in (("check", "w"), ("build", "w"), ("prove", "w")):
        done = yendo(*command, expect=None)
        assert done.returncode in (0, 1, 2), (command, done.stdout, done.stderr)


def test_comments_are_cleaned_by_us() -> None:
    from yendo.draft import writing

    assert "\n" not in writing.remark(ODD) and "\x1b" not in writing.remark(ODD) and "\u2028" not in writing.remark(ODD)


# --- one of many -------------------------------------------------------------------------------------------------------


@unix
def test_one_odd_file_does_not_stop_a_share(tmp_path: Path, yendo: Yendo) -> None:
    Specimen("good").with_file().ours(tmp_path)
    (tmp_path / os.fsdecode(b"b\xffd.exe")).write_bytes(b"MZ not really")
    (tmp_path / "tab\t=1.msi").write_bytes(b"nothing")
    os.mkfifo(tmp_path / "pipe.exe")
    found = parsed(yendo("read", tmp_path, "--json", expect=None))
    assert {row["family"] for row in found["rows"]} >= {"msi"} and len(found["rows"]) == 3
    done = yendo("read", tmp_path, "--csv", tmp_path / "x.csv", expect=None)
    assert done.returncode in (0, 1) and "\t" not in done.stdout
    rows = list(csv.reader(io.StringIO((tmp_path / "x.csv").read_text("utf-8"))))
    assert len(rows) == 4


def test_one_unreadable_workspace_does_not_stop_a_shelf(tmp_path: Path, yendo: Yendo) -> None:
    for name in ("good", "bad-record", "bad-house", "bad-plan"):
        (tmp_path / name / "extras").mkdir(parents=True)
        (tmp_path / name / "extras" / "a.txt").write_text("a")
        (tmp_path / name / "plan.toml").write_text(PLAN.format(name=f'"{name}"').replace('"tide"', f'"{name}"'))
        yendo("build", tmp_path / name)
    (tmp_path / "bad-record" / ".yendo" / "built.json").write_bytes(b"\xff\xfe{")
    (tmp_path / "bad-house" / "house.toml").write_bytes(b"name = \xff")
    (tmp_path / "bad-plan" / "plan.toml").write_bytes(b"\xff\xfe")
    found = parsed(yendo("shelf", tmp_path, "--json", expect=None))
    assert {row["path"] for row in found["workspaces"]} == {"good", "bad-record", "bad-house", "bad-plan"}
    assert yendo("shelf", tmp_path, expect=None).returncode in (0, 1)


def test_cells_that_a_table_program_would_run() -> None:
    from yendo.cli import nested

    for text in ("=1+1", "+1", "-1", "@x", "\t=1", "\r=1", "\n=1"):
        assert str(nested.safe_cell(text)).startswith("'"), text


def test_a_standing_step_before_a_setup(tmp_path: Path, yendo: Yendo) -> None:
    """The house's steps shift the numbers of the plan's own."""
    story.scene(tmp_path)
    office.furnish(tmp_path)
    draft.from_installer(tmp_path / "sounder", tmp_path / "from-tidewell" / story.SETUP)
    assert check(Workspace(tmp_path / "sounder"))
    yendo("check", tmp_path / "sounder", expect=None)


# --- links and pipes ------------------------------------------------------------------------------------------------------


@unix
@pytest.mark.parametrize("what", ["cabinet", "loose file", "installer", "folder"])
def test_links_are_not_packed(what: str, tmp_path: Path, yendo: Yendo) -> None:
    """A link beside a database, in the place of its cabinet or of a loose file, packed what it led to."""
    from yendo.formats import cab

    secret = tmp_path / "secret.txt"
    secret.write_bytes(b"tide and time\r\n")
    share = apart(tmp_path / "share")
    (share / "apart.cab").write_bytes(cab.build([("FProgram", b"content\r\n")]))
    (share / "Specimen apart" / "loose.txt").write_bytes(b"content\r\n")
    place = {
        "cabinet": share / "apart.cab",
        "loose file": share / "Specimen apart" / "loose.txt",
        "folder": share / "Specimen apart",
        "installer": share / "apart.msi",
    }[what]
    moved = tmp_path / "elsewhere"
    shutil.move(place, moved)
    if what in ("cabinet", "loose file"):
        place.symlink_to(secret)
    else:
        place.symlink_to(moved)
    done = yendo("draft", "w", share / "apart.msi", expect=None)
    packed = [path for path in (tmp_path / "w").rglob("*") if path.is_file() and b"tide and time" in path.read_bytes()]
    assert packed == [] and done.returncode == (0 if what == "installer" else 2), done.stderr
    assert not any(path.is_symlink() for path in (tmp_path / "w").rglob("*"))


@unix
def test_a_pipe_is_no_file_to_read(tmp_path: Path, yendo: Yendo) -> None:
    os.mkfifo(tmp_path / "setup.exe")
    begun = time.monotonic()
    assert "pipe" in yendo("read", tmp_path / "setup.exe", expect=2).stderr and time.monotonic() - begun < 20
    yendo("draft", "w", tmp_path / "setup.exe", expect=2)


# --- what the system says --------------------------------------------------------------------------------------------------------


@unix
def test_ordinary_errors_are_told_as_such(tmp_path: Path, yendo: Yendo) -> None:
    installer = Specimen("good").with_file().ours(tmp_path)
    long = yendo("draft", "x" * 300, installer, expect=2).stderr
    assert "name too long" in long and "defect" not in long
    under = yendo("draft", installer / "w", installer, expect=2).stderr
    assert "defect" not in under
    small = tmp_path / "small"
    small.mkdir()
    if subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=8k", "tmpfs", small], check=False, capture_output=True
    ).returncode:
        return
    try:
        full = yendo("draft", small / "w", installer, expect=2).stderr
        assert "no space left" in full and "make room" in full
        subprocess.run(["mount", "-o", "remount,ro", small], check=True)
        sealed = yendo("draft", small / "v", installer, expect=2).stderr
        assert "read-only" in sealed
    finally:
        subprocess.run(["umount", "-l", small], check=True)


@unix
def test_without_a_home(tmp_path: Path) -> None:
    installer = Specimen("good").with_file().ours(tmp_path)
    program = Path(sys.executable).with_name("yendo")
    done = subprocess.run(
        [program, "read", installer], env={"PATH": os.environ["PATH"]}, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr


@unix
def test_the_persons_mask_is_kept(tmp_path: Path) -> None:
    installer = Specimen("good").with_file().ours(tmp_path)
    program = Path(sys.executable).with_name("yendo")
    line = (
        f"umask 077; {program} draft w {installer} && {program} build w --archive && {program} shelf . --csv shelf.csv"
    )
    subprocess.run(["sh", "-c", line], cwd=tmp_path, check=True, capture_output=True)
    open_to_others = [
        path for path in [*(tmp_path / "w").rglob("*"), tmp_path / "shelf.csv"] if path.stat().st_mode & 0o077
    ]
    assert open_to_others == []


@unix
def test_leftovers_of_a_killed_build_are_swept(tmp_path: Path, yendo: Yendo) -> None:
    installer = Specimen("good").with_file().ours(tmp_path)
    draft.from_installer(tmp_path / "w", installer)
    big = tmp_path / "w" / "extras" / "big.bin"
    with big.open("wb") as file:
        file.truncate(600 << 20)
    with (tmp_path / "w" / "plan.toml").open("a") as file:
        file.write('\n[[install]]\nkind = "copy"\nfrom = "extras/big.bin"\nto = \'C:\\Tide\\\'\ntimeout = "1 min"\n')
    program = Path(sys.executable).with_name("yendo")
    process = subprocess.Popen(
        [program, "build", "w", "--archive", "--although", "uninstall-does-nothing=a stand-in"],
        cwd=tmp_path,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    until = time.monotonic() + 30
    while time.monotonic() < until and not [
        path
        for path in (tmp_path / "w" / "package").glob(".*")
        if path.name.endswith(str(process.pid)) or "zip" in path.name
    ]:
        time.sleep(0.01)
    process.kill()
    process.wait()
    assert list((tmp_path / "w" / "package").glob(".*"))
    big.unlink()
    big.write_bytes(b"small")
    yendo("build", "w", "--archive", "--although", "uninstall-does-nothing=a stand-in")
    assert list((tmp_path / "w" / "package").glob(".*")) == []


@unix
def test_two_commands_on_one_workspace(tmp_path: Path, yendo: Yendo) -> None:
    """The second waits, or says who is at work; nothing is half of one and half of the other."""
    installer = Specimen("good").with_file().ours(tmp_path)
    draft.from_installer(tmp_path / "w", installer)
    program = Path(sys.executable).with_name("yendo")
    runs = [
        subprocess.Popen(
            [program, "build", "w", "--archive", "--although", "uninstall-does-nothing=a stand-in"],
            cwd=tmp_path,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        for _ in range(4)
    ]
    for run in runs:
        _, said = run.communicate(timeout=60)
        assert run.returncode == 0, said
    yendo("prove", "w")


@unix
def test_the_first_moments_can_be_interrupted(tmp_path: Path) -> None:
    program = Path(sys.executable).with_name("yendo")
    for wait in (0.0, 0.02, 0.05, 0.1, 0.15, 0.2, 0.3):
        process = subprocess.Popen([program, "doctor"], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        time.sleep(wait)
        process.send_signal(signal.SIGINT)
        _, said = process.communicate(timeout=60)
        assert process.returncode != -signal.SIGSEGV
        assert "Traceback" not in said or "yendo/cli" not in said, (
            said
        )  # what the interpreter and pip do before us is theirs


def test_pages_say_what_installers_say_as_text(tmp_path: Path, yendo: Yendo) -> None:
    """Names with markup stay words in notes and hand-over texts."""
    specimen = Specimen("odd").with_file()
    name = "Tide](https://x.example) <img src=x onerror=y> **bold** `code` | cell\n# heading"
    specimen.tables["Property"] = [
        (key, name if key == "ProductName" else value) for key, value in specimen.tables["Property"]
    ]
    yendo("draft", "w", specimen.ours(tmp_path))
    yendo("build", "w")
    for page in [tmp_path / "w" / "notes.md", *(tmp_path / "w" / "package").rglob("handover.md")]:
        text = page.read_text("utf-8")
        assert (
            "<img" not in text and "\n# heading" not in text and "](https://x.example)" not in text.replace("\\](", "")
        ), text


def test_items_fail_alone_and_the_exit_code_says_so(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    Specimen("good").with_file().ours(tmp_path)
    Specimen("other").with_file().ours(tmp_path)
    real = catalogue.recognise.read

    def broken(path: Path) -> object:
        if path.name.startswith("other"):
            raise ValueError("a reader's own mistake")
        return real(path)

    monkeypatch.setattr(catalogue.recognise, "read", broken)
    rows = [catalogue._job((str(path), str(tmp_path))) for path in catalogue.files(tmp_path)]
    assert [bool(row.trouble) for row in rows] == [False, True] and "mistake" in (rows[1].trouble or "")


def test_usage_is_no_plan() -> None:
    with pytest.raises((PlanError, Usage)):
        read_text("\x00")


@unix
def test_an_archive_with_very_many_files(tmp_path: Path) -> None:
    """What it states is looked at before the library reads the whole list, in ordinary and in large archives."""
    import resource
    import zipfile

    from yendo.errors import Unreadable
    from yendo.formats import archives

    path = tmp_path / "many.zip"
    with zipfile.ZipFile(path, "w") as archive:
        for number in range(300_000):
            archive.writestr(zipfile.ZipInfo(f"{number}"), b"")
    before, begun = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, time.monotonic()
    with path.open("rb") as file, pytest.raises(Unreadable, match="states 300000 files"):
        archives.members(file, "zip")
    assert time.monotonic() - begun < 5 and resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 150_000


def test_the_list_of_cases_names_tests_that_there_are() -> None:
    root = Path(__file__).parents[1]
    named = re.findall(r"\| (tests/\S+)::(\w+) \|", (root / "docs" / "cases.md").read_text("utf-8"))
    assert len(named) > 40
    for file, name in named:
        assert f"\ndef {name}(" in (root / file).read_text("utf-8"), name
