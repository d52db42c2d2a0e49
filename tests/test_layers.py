"""Transforms and patches through the whole house: command lines, the simulated machine, plans, drafts and packages."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo
from specimens import Specimen, all_of_them

from yendo import atomic, digest
from yendo.cli import nested
from yendo.demo.patching import write_patch
from yendo.demo.vendor import guid
from yendo.detect.evaluate import judge, seen
from yendo.effects import File, Product
from yendo.errors import Unreadable, Usage
from yendo.formats.msi import Database, transform
from yendo.installers.msi import commandline, intent, layers
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.package import build, carry
from yendo.package import manifest as form
from yendo.plan import MsiProductRule, MsiStep, PlanError, read, read_text
from yendo.steps import transforms
from yendo.terms.changes import DropChange, FileChange, PlannedChange, PropertyChange
from yendo.terms.rules import FileListRule

V = r"C:\vendor"
EXE = r"C:\Program Files\Tidewell\Lantern\lantern.exe"


@pytest.fixture
def share(vendor: Path, tmp_path: Path) -> Path:
    """The vendor's files with a transform for 6.2.1 beside them."""
    folder = Path(shutil.copytree(vendor, tmp_path / "share"))
    (folder / "added.txt").write_bytes(b"added")
    wanted: list[PlannedChange] = [
        DropChange(what="shortcut", name="DesktopLantern"),
        PropertyChange(name="SITE", value="Marrowby"),
        FileChange(source="added.txt", to="[INSTALLDIR]added.txt"),
    ]
    with Database(folder / "lantern-6.2.1.msi") as base, (folder / "site.mst").open("wb") as file:
        transform.write(intent.transform_for(base, wanted, lambda name: folder / name), file)
    return folder


@pytest.fixture
def session(share: Path) -> SimulatedSession:
    with SimulatedMachine().fresh() as found:
        found.bring(share, V)
        return found


def code(session: SimulatedSession, line: str) -> int | None:
    return session.run(line, timeout=9).exit_code


def product(session: SimulatedSession) -> list[str | None]:
    return [thing.version for thing in session.state().of("product") if isinstance(thing, Product)]


# --- the simulated machine -------------------------------------------------------------------------------------


def test_what_an_installation_was_made_of_is_kept(session: SimulatedSession) -> None:
    """Repair and removal know the transform and the patch, without being told again."""
    before = session.state()
    assert code(session, rf"msiexec /i {V}\lantern-6.2.1.msi /qn TRANSFORMS={V}\site.mst") == 0
    added = r"C:\Program Files\Tidewell\Lantern\added.txt"
    assert session.read(added) == b"added" and not [
        thing for thing in session.state().of("shortcut") if "Desktop" in thing.identity
    ]
    assert code(session, rf"msiexec /p {V}\lantern-6.2.3.msp /qn") == 0 and product(session) == ["6.2.3"]
    assert code(session, rf"msiexec /p {V}\lantern-6.2.3.msp /qn") == 0  # there already
    session.remove(added), session.remove(EXE)
    assert code(session, f"msiexec /i {guid('lantern 6.2.1')} /qn REINSTALL=ALL REINSTALLMODE=omus") == 0
    there = session.state().get("file", EXE)
    assert session.read(added) == b"added" and isinstance(there, File) and there.version == "6.2.3.0"
    assert code(session, f"msiexec /x {guid('lantern 6.2.1')} /qn") == 0
    from yendo.effects import difference

    assert difference(before, session.state()) == []


@pytest.mark.parametrize(("line", "expected"), [
    (rf"msiexec /i {V}\lantern-6.1.0.msi /qn TRANSFORMS={V}\site.mst", 1624),
    (rf"msiexec /i {V}\lantern-6.2.1.msi /qn TRANSFORMS={V}\none.mst", 1624),
    (rf"msiexec /i {V}\lantern-6.2.1.msi /qn TRANSFORMS={V}\stray.txt", 1624),
    (rf"msiexec /i {V}\lantern-6.2.1.msi /qn TRANSFORMS=:inside", 1624),
    (rf"msiexec /p {V}\none.msp /qn", 1635),
    (rf"msiexec /p {V}\lantern-6.2.3.msp /qn", 1642),
    (rf"msiexec /i {V}\lantern-6.1.0.msi /qn PATCH={V}\lantern-6.2.3.msp", 1642),
    (rf"msiexec /i {V}\lantern-6.2.1.msi /qn PATCH={V}\none.msp", 1635),
    (rf"msiexec /p {V}\stray.txt /qn", 1620),
])  # fmt: skip
def test_refusals_have_the_installers_codes(session: SimulatedSession, line: str, expected: int) -> None:
    before = len(session.state())
    assert code(session, line) == expected and len(session.state()) == before


def test_at_once_and_one_after_the_other_end_alike(share: Path) -> None:
    states = []
    for lines in (
        [rf'msiexec /i {V}\lantern-6.2.1.msi /qn TRANSFORMS="{V}\site.mst" PATCH="{V}\lantern-6.2.3.msp"'],
        [rf"msiexec /i {V}\lantern-6.2.1.msi /qn TRANSFORMS={V}\site.mst", rf"msiexec /p {V}\lantern-6.2.3.msp /qn"],
    ):
        with SimulatedMachine().fresh() as found:
            found.bring(share, V)
            assert [code(found, line) for line in lines] == [0] * len(lines)
            states.append({thing for thing in found.state() if "Windows\\Installer" not in thing.identity})
    assert states[0] == states[1]


def test_a_patch_reaches_every_product_that_it_is_for(session: SimulatedSession, share: Path, tmp_path: Path) -> None:
    """And none that it is not for."""
    assert (
        code(session, rf"msiexec /i {V}\lantern-6.1.0.msi /qn") == 0
        and code(session, rf"msiexec /p {V}\lantern-6.2.3.msp /qn") == 1642
    )
    assert product(session) == ["6.1.0"]
    assert (
        code(session, rf"msiexec /i {V}\lantern-6.2.1.msi /qn") == 0
        and code(session, rf"msiexec /p {V}\lantern-6.2.3.msp /qn") == 0
    )
    assert product(session) == ["6.2.3"]  # the older one was upgraded, and what took its place patched
    assert code(session, rf"msiexec /i {V}\lantern-6.2.3.msi /qn") == 1638


def test_embedded_transforms(tmp_path: Path) -> None:
    """One that lies inside the database is named with a colon."""
    from yendo.formats.msi import DatabaseWriter
    from yendo.formats.msi.transform import TableChange, Transform, storage_of

    path = Specimen("inside").with_file().ours(tmp_path)
    with Database(path) as base:
        found = Transform(
            {"Property": TableChange(list(base.schema["Property"]), updated={("Manufacturer",): {"Value": "Marrowby"}})}
        )
        writer = DatabaseWriter(summary=base.summary)
        for name in base.tables:
            writer.table(name, base[name].columns, base[name].cells)
        writer.stream("media.cab", base.stream("media.cab").read())
        writer.storages["ours"] = storage_of(found)
        with (tmp_path / "with.msi").open("wb") as file:
            writer.write(file)
    with Database(tmp_path / "with.msi") as base:
        laid = layers.apply_transforms(base, ["ours"])
        assert laid["Property"].find("Manufacturer")["Value"] == "Marrowby"  # type: ignore[index]
        with pytest.raises(Unreadable, match="no transform 'theirs'"):
            layers.embedded(base, "theirs")


# --- command lines, plans ----------------------------------------------------------------------------------------


def test_command_lines() -> None:
    assert (
        commandline.patch("a b.msp", transforms=["{package}\\t.mst"])
        == 'msiexec /p "a b.msp" /qn /norestart REINSTALL=ALL REINSTALLMODE=omus TRANSFORMS="{package}\\t.mst"'
    )
    line = commandline.install("x.msi", properties={"A": "%TEMP%"}, transforms=["one.mst", ":two"])
    assert line.endswith('A="%TEMP%" TRANSFORMS=one.mst;:two')
    parsed = commandline.parse(line)
    assert (
        parsed.properties["TRANSFORMS"] == "one.mst;:two"
        and commandline.parse("msiexec /p x.msp /qn").action == "patch"
    )
    given, patches = layers.named({"TRANSFORMS": "@a.mst;:inside", "PATCH": "p.msp;q.msp"}, lambda name: Path(name))
    assert given == [Path("a.mst"), "inside"] and patches == [Path("p.msp"), Path("q.msp")]


PLAN = """
[package]
id = "x"
name = "X"
version = "1"

[[install]]
kind = "msi"
%s
"""


@pytest.mark.parametrize(("step", "said"), [
    ('product = "{4E6AB892-57E7-52F8-B2B2-AB06096EDC9F}"\ntransforms = ["extras/a.mst"]', "belong to a step that installs media"),
    ('patch = "a.msp"\nmedia = "a.msi"', "exactly one of media, product, patch and command, not media and patch"),
    ('media = "a.msi"\n[[install.change]]\nkind = "shortcut"\nname = "x"', "'shortcut' is no kind of change"),
    ('media = "a.msi"\n[[install.change]]\nkind = "drop"\nwhat = "shortcuts"\nname = "x"', "[install 1.change 1.what]"),
    ('media = "a.msi"\n[[install.change]]\nkind = "drop"\nwaht = "shortcut"\nname = "x"', "did you mean 'what'"),
    ('media = "a.msi"\n[[install.change]]\nkind = "file"\nfrom = "extras/x"\nto = "C:\\\\x"', "[install 1.change 1.to]"),
    ('media = "a.msi"\nunless = [{ kind = "msi-produkt", code = "x" }]', "'msi-produkt' is no kind of rule"),
    ('media = "a.msi"\nunless = [{ kind = "file", path = "x", version = "new" }]', "no version bound"),
])  # fmt: skip
def test_mistakes_in_plans_are_placed(step: str, said: str) -> None:
    with pytest.raises(PlanError) as caught:
        read_text(PLAN % step)
    assert said in str(caught.value)


def test_lines_of_changes() -> None:
    plan, lines = read_text(
        PLAN
        % 'media = "a.msi"\n\n[[install.change]]\nkind = "property"\nname = "A"\n\n[[install.change]]\nkind = "feature"\nname = "F"\ninstall = true'
    )
    assert (
        lines["install", 0, "change", 1, "name"] == 17
        and isinstance(plan.install[0], MsiStep)
        and len(plan.install[0].change) == 2
    )


# --- drafts and packages ---------------------------------------------------------------------------------------------


def test_a_draft_with_everything(yendo: Yendo, share: Path, tmp_path: Path) -> None:
    yendo(
        "draft", "w", share / "lantern-6.2.1.msi", "--with", share / "site.mst", "--with", share / "lantern-6.2.3.msp"
    )
    plan, _ = read(tmp_path / "w" / "plan.toml")
    base, patch = plan.install
    assert (
        isinstance(base, MsiStep)
        and base.transforms == ("extras/site.mst",)
        and isinstance(patch, MsiStep)
        and patch.patch == "lantern-6.2.3.msp"
    )
    assert plan.package.version == "6.2.3" and base.unless[0] == MsiProductRule(
        code=guid("lantern 6.2.1"), version=">=6.2.1"
    )
    files = next(rule for rule in plan.detect if isinstance(rule, FileListRule))
    assert files.files["Lantern\\lantern.exe"] == "==6.2.3.0"
    assert MsiProductRule(code=guid("lantern 6.2.1"), version="==6.2.3") in plan.detect
    yendo("check", "w"), yendo("build", "w")
    assert "Proved" in yendo("prove", "w").stdout
    again = yendo("build", "w", "--json").stdout
    assert again == yendo("build", "w", "--json").stdout  # the same bytes, transforms and all


@pytest.mark.parametrize(("installer", "along", "said"), [
    ("lantern-6.1.0.msi", ["site.mst"], "does not fit"),
    ("lantern-6.1.0.msi", ["lantern-6.2.3.msp"], "it is for"),
    ("lantern-6.2.1.msi", ["lantern-6.2.3.msi"], "is of family msi"),
    ("lantern-6.2.1.msi", ["lantern-6.2.3.msp", "lantern-6.2.3.msp"], "wants version == 6.2.1, this is 6.2.3"),
])  # fmt: skip
def test_a_draft_refuses_what_does_not_fit(
    yendo: Yendo, share: Path, installer: str, along: list[str], said: str, tmp_path: Path
) -> None:
    words = [word for name in along for word in ("--with", share / name)]
    assert (
        said in yendo("draft", "w", share / installer, *words, expect=2).stderr
        and not (tmp_path / "w" / "plan.toml").exists()
    )


def test_a_package_with_a_transform_of_somebody_else(whole: Path, share: Path) -> None:
    shutil.copy(share / "site.mst", whole / "extras" / "theirs.mst")
    text = (
        (whole / "plan.toml")
        .read_text("utf-8")
        .replace('media = "lantern-6.2.1.msi"\n', 'media = "lantern-6.2.1.msi"\ntransforms = ["extras/theirs.mst"]\n')
    )
    (whole / "plan.toml").write_text(
        text.replace(
            'kind = "drop"\nwhat = "shortcut"\nname = "DesktopLantern"',
            'kind = "drop"\nwhat = "environment"\nname = "LANTERN_HOME"',
        )
    )
    plan, _ = read(whole / "plan.toml")
    built = build.build(whole, plan)
    install, patch, _ = built.manifest.install
    assert (
        r'TRANSFORMS="{package}\extras\theirs.mst;{package}\transforms\install-1.mst"' in install.command
        and "extras\\theirs.mst" in patch.command
    )
    assert {"extras/theirs.mst", "transforms/install-1.mst"} <= {file.path for file in built.manifest.files}
    with SimulatedMachine().fresh() as found:
        found.bring(built.folder, r"C:\Hand over")
        ran = carry.carry(built.manifest, built.folder, found, "install", folder=r"C:\Hand over", sleep=lambda _: None)
        assert ran.exit_code == 0, ran.lines
        state = found.state()
        assert not [thing for thing in state.of("environment") if "lantern" in thing.identity]
        assert (
            found.read(r"C:\Program Files\Tidewell\Lantern\added.txt") == b"added"
            and state.get("file", EXE).version == "6.2.3.0"
        )  # type: ignore[union-attr]
        (built.folder / "transforms/install-1.mst").write_bytes(b"changed")
        assert (
            carry.carry(built.manifest, built.folder, found, "install", folder=r"C:\Hand over").exit_code
            == form.DAMAGED
        )


def test_a_build_without_a_target_writes_nothing(yendo: Yendo, whole: Path) -> None:
    plan = whole / "plan.toml"
    plan.write_text(plan.read_text("utf-8").replace("DesktopLantern", "DesktopLanter"))
    done = yendo("build", whole, expect=None)
    assert done.returncode == 1 and "did you mean DesktopLantern" in done.stdout and not list(whole.glob("package/*"))


@pytest.mark.parametrize(("name", "said"), [("../plan.toml", "is not below extras/ or media/"), ("extras/none.mst", "is not there"), ("/etc/passwd", "is not below")])  # fmt: skip
def test_transforms_stay_in_the_workspace(whole: Path, name: str, said: str) -> None:
    with pytest.raises(Usage, match=said):
        transforms.below(whole, name, "extras", "media")


def test_rules_under_which_a_step_is_passed_over(whole: Path) -> None:
    """Any one that holds is enough; what is older or other does not count."""
    step = read(whole / "plan.toml")[0].install[0]
    with SimulatedMachine().fresh() as found:
        environment = found.surroundings.environment
        assert [judge(rule, seen(found.state(), environment)).holds for rule in step.unless] == [False, False]
        for version, held in (("6.2.0", [False, False]), ("6.2.1", [True, False]), ("7.0", [True, False])):
            state = found.state()
            state.add(Product(guid("lantern 6.2.1"), "Lantern", version))
            assert [judge(rule, seen(state, environment)).holds for rule in step.unless] == held


# --- what they stand on ------------------------------------------------------------------------------------------------


def test_a_file_is_whole_or_not_there(tmp_path: Path) -> None:
    target = tmp_path / "out.bin"
    target.write_bytes(b"old")
    with pytest.raises(RuntimeError), atomic.writing(target) as file:
        file.write(b"half")
        raise RuntimeError("stopped")
    assert target.read_bytes() == b"old" and [path.name for path in tmp_path.iterdir()] == ["out.bin"]
    with atomic.writing(target) as file:
        file.write(b"new")
    assert target.read_bytes() == b"new"


def test_hashes_of_the_installer() -> None:
    """MD5 as four numbers, as MsiGetFileHash gives it."""
    assert digest.of_installer(b"") == (-645128748, 78774415, -1744207639, 2118318316)


@pytest.mark.parametrize(
    ("cell", "written"), [("=1+1", "'=1+1"), ("@x", "'@x"), ("-", "-"), ("plain", "plain"), (7, 7), (-7, -7)]
)
def test_tables_do_not_become_formulas(cell: Any, written: Any) -> None:
    assert nested.safe_cell(cell) == written


@pytest.mark.parametrize("words", [["NOTHING"], ["=x"], ["A B=c"]])
def test_words_that_are_no_properties(words: list[str]) -> None:
    assert nested.assignments(["A=b", "C.D="]) == {"A": "b", "C.D": ""}
    with pytest.raises(Usage, match="is no property"):
        nested.assignments(words)


def test_patches_of_specimens(tmp_path: Path) -> None:
    """Whole files, a new component, and a file that only its hash tells apart."""
    old, new = all_of_them()["one-file"], all_of_them()["one-file"]
    new.tables["Property"] = [
        (key, "1.2.4" if key == "ProductVersion" else value) for key, value in new.tables["Property"]
    ]
    new.version, new.contents["FProgram"] = "1.2.4", b"changed\r\n"
    new.with_file("More", "more.txt")
    (tmp_path / "old").mkdir(), (tmp_path / "new").mkdir()
    write_patch(tmp_path / "p.msp", old.ours(tmp_path / "old"), new.ours(tmp_path / "new"), guid("p"))
    with SimulatedMachine().fresh() as found:
        found.bring(tmp_path, V)
        assert (
            code(found, rf"msiexec /i {V}\old\one-file.msi /qn") == 0 and code(found, rf"msiexec /p {V}\p.msp /qn") == 0
        )
        folder = r"C:\Program Files\Specimen one-file"
        assert (
            found.read(rf"{folder}\program.txt") == b"changed\r\n"
            and found.read(rf"{folder}\more.txt")
            and product(found) == ["1.2.4"]
        )
