"""Looking into databases: queries, links, validation, dialogs, versions that meet, and the commands that show them."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo
from specimens import Specimen, all_of_them

from yendo.demo.vendor import guid
from yendo.errors import Unreadable, Usage
from yendo.formats.msi import Database
from yendo.formats.msi.schema import columns
from yendo.installers.msi import comparing, describe, dialogs, influence, meeting, references, validate


def terms(*texts: str) -> list[references.Term]:
    return [references.Term.parse(text) for text in texts]


@pytest.mark.parametrize(("table", "where", "also", "found"), [
    ("File", ["FileSize>1000"], [], ["lantern.exe", "lanternd.exe", "manual.txt"]),
    ("File", ["FileName~LANTERN", "FileSize<=3584"], [], ["lantern.exe"]),
    ("File", ["Version?"], [], ["charts.lst", "defaults.ini", "manual.txt", "plugin.txt"]),
    ("File", ["Version!?", "Component_!=Service"], [], ["lantern.exe"]),
    ("File", ["Component.Directory_=DATADIR"], ["Component"], ["defaults.ini"]),
    ("Shortcut", ["Component.Directory_=installdir", "Directory_=DesktopFolder"], ["Component"], ["DesktopLantern"]),
    ("File", ["FeatureComponents.Feature_!=Main"], ["FeatureComponents"], ["manual.txt", "plugin.txt"]),
    ("Feature", ["Feature.Level>=3"], [], ["Documentation", "SurveyExport"]),
    ("File", ["FileName!~lan", "FileSize>=86"], [], ["charts.lst", "manual.txt"]),
])  # fmt: skip
def test_queries(vendor: Path, table: str, where: list[str], also: list[str], found: list[str]) -> None:
    with Database(vendor / "lantern-6.2.1.msi") as base:
        got = references.select(base, table, terms(*where), also=also)
        assert sorted(str(row[0]) for row in got.rows) == found


def test_order_and_columns(vendor: Path) -> None:
    with Database(vendor / "lantern-6.2.1.msi") as base:
        got = references.select(base, "File", columns=["FileSize", "File"], order="-FileSize")
        assert got.columns == ("FileSize", "File") and got.rows[0] == (4096, "lanternd.exe")


@pytest.mark.parametrize(("table", "where", "also", "said"), [
    ("Fiel", [], [], "did you mean File"),
    ("File", ["Size>1"], [], "no column Size here; there are: File, Component_"),
    ("File", [], ["Upgrade"], "nothing joins File and Upgrade"),
    ("File", ["FileSize"], [], "is no condition"),
    ("File", ["FileSize?x"], [], "is no condition"),
])  # fmt: skip
def test_queries_that_cannot_be(vendor: Path, table: str, where: list[str], also: list[str], said: str) -> None:
    with Database(vendor / "lantern-6.2.1.msi") as base, pytest.raises(Usage, match=said.replace("?", r"\?")):
        references.select(base, table, terms(*where), also=also)


def test_links_in_both_directions(vendor: Path) -> None:
    with Database(vendor / "lantern-6.2.1.msi") as base:
        by = references.referred_by(base, "File", ("lantern.exe",))
        assert {(link.table, link.column, link.in_text) for link in by} == {
            ("Component", "KeyPath", False), ("Shortcut", "Target", True), ("CustomAction", "Source", False)}  # fmt: skip
        to = references.refers_to(base, "Shortcut", ("MenuLantern",))
        assert {(link.table, link.key, link.in_text) for link in to} == {
            ("Directory", ("MENUDIR",), False), ("Component", ("Program",), False), ("Directory", ("INSTALLDIR",), False), ("File", ("lantern.exe",), True)}  # fmt: skip
        assert references.refers_to(base, "File", ("none",)) == []
        assert {
            link.key for link in references.referred_by(base, "Component", ("Updater",)) if link.table == "Registry"
        } == {("RegUpdate",), ("RegUpdateUrl",)}
        assert {link.table for link in references.refers_to(base, "CustomAction", ("SelfTest",))} == {"File"}


# --- validation -------------------------------------------------------------------------------------------------


def broken(**tables: list[tuple[Any, ...]]) -> Specimen:
    specimen = Specimen("broken").with_file()
    for name, rows in tables.items():
        specimen.add(name, *rows)
    return specimen


def described(*rows: tuple[Any, ...]) -> Specimen:
    return broken(_Validation=list(rows))


CODE = guid("x")
BROKEN = [
    (broken(Component=[("Alone", CODE, "INSTALLDIR", 256, None, None)]), "without-feature", "Component[Alone]"),
    (
        broken(
            Component=[("Twin", guid("broken Program"), "INSTALLDIR", 256, None, None)],
            FeatureComponents=[("Main", "Twin")],
        ),
        "identifier-twice",
        "Component[Twin]",
    ),
    (
        broken(Component=[("Key", CODE, "INSTALLDIR", 256, None, "FProgram")], FeatureComponents=[("Main", "Key")]),
        "key-path",
        "Component[Key]",
    ),
    (
        broken(Component=[("Reg", CODE, "INSTALLDIR", 260, None, "R9")], FeatureComponents=[("Main", "Reg")]),
        "key-path",
        "Component[Reg]",
    ),
    (
        broken(Component=[("low", CODE.lower(), "INSTALLDIR", 256, None, None)], FeatureComponents=[("Main", "low")]),
        "form",
        "Component[low]",
    ),
    (broken(Registry=[("R", 2, "Software\\X", "n", "v", "Nobody")]), "no-such-row", "Registry[R]"),
    (
        broken(Shortcut=[("S" * 80, "INSTALLDIR", "n", "Program", "Main", *[None] * 7)]),
        "too-long",
        f"Shortcut[{'S' * 80}]",
    ),
    (broken(InstallExecuteSequence=[("Unheard", None, 4711)]), "no-such-action", "InstallExecuteSequence[Unheard]"),
    (broken(File=[("F9", "Program", "a.txt", 1, None, None, 0, 99)]), "no-medium", "File[F9]"),
    (
        described(("Property", "Value", "N", None, None, None, None, "Text", "good;better", None)),
        "not-in-set",
        "Property[ProductCode]",
    ),
    (described(("File", "FileSize", "N", 100, 200, None, None, None, None, None)), "out-of-range", "File[FProgram]"),
    (
        described(("Property", "Property", "N", None, None, None, None, "UpperCase", None, None)),
        "form",
        "Property[Manufacturer]",
    ),
    (
        described(("Component", "Condition", "N", None, None, None, None, "Condition", None, None)),
        "null",
        "Component[Program]",
    ),
]


@pytest.mark.parametrize(
    ("specimen", "rule", "where"), BROKEN, ids=[f"{rule}-{at}" for at, (_, rule, _) in enumerate(BROKEN)]
)
def test_broken_rules_are_found_with_their_row(tmp_path: Path, specimen: Specimen, rule: str, where: str) -> None:
    with Database(specimen.ours(tmp_path)) as base:
        found = validate.validate(base)
        assert [finding for finding in found if finding.rule == rule and finding.evidence.where == where], found


@pytest.mark.parametrize("name", all_of_them())
def test_good_databases_break_no_rule(tmp_path: Path, name: str) -> None:
    allowed = {("type-library", "no-such-row"), ("isolated", "many-programs")}
    with Database(all_of_them()[name].ours(tmp_path)) as base:
        assert {(name, finding.rule) for finding in validate.validate(base)} <= allowed


def test_two_components_in_one_place(tmp_path: Path) -> None:
    specimen = Specimen("place").with_file("One", "same.txt").with_file("Two", "SAME.TXT")
    with Database(specimen.ours(tmp_path)) as base:
        assert [finding.rule for finding in validate.validate(base)] == ["same-place"]


# --- dialogs, features, streams, actions --------------------------------------------------------------------------


def test_decisions_of_the_dialogs(vendor: Path) -> None:
    with Database(vendor / "lantern-6.2.1.msi") as base:
        found = {(entry.property, entry.what): entry for entry in dialogs.decisions(base)}
        site = found["SITE", "choose"]
        assert (
            site.switch == "SITE=VALUE"
            and site.label == "Which office is this?"
            and [choice.value for choice in site.choices] == ["Marrowby", "Kettle", "Unassigned"]
        )
        assert (
            found["AUTOUPDATE", "tick"].switch == "AUTOUPDATE=1"
            and found["INSTALLDIR", "choose a folder"].label == "Install Lantern in:"
        )
        licence = found["LicenceAccepted", "tick"]
        assert licence.licence and licence.switch is None and not licence.matters and "private" in licence.remark
        assert found["ADDLOCAL", "choose features"].remark == "features: Main, Documentation, SurveyExport"
        assert dialogs.order(base) == ["LicenceDlg", "SurveyDlg", "PartsDlg"] and dialogs.only_in_dialogs(base) == []


def test_buttons_and_steps_that_only_dialogs_have(tmp_path: Path) -> None:
    specimen = Specimen("asked").with_file()
    specimen.add("Dialog", ("Ask", 50, 50, 100, 100, 3, "Ask", "Go", "Go", "Go"))
    specimen.add(
        "Control",
        ("Ask", "Go", "PushButton", 1, 1, 9, 9, 3, None, "&Go", None, None),
        ("Ask", "In", "Edit", 1, 1, 9, 9, 11, "Way", None, None, None),
    )
    specimen.add("Property", ("Way", "REALWAY"))
    specimen.add(
        "ControlEvent",
        ("Ask", "Go", "[MODE]", "full", "1", 1),
        ("Ask", "Go", "SetInstallLevel", "100", "MODE", 2),
        ("Ask", "Go", "[Hidden]", "{}", "1", 3),
    )
    specimen.add("Registry", ("R", 2, "Software\\X", "Mode", "[MODE][Hidden][REALWAY]", "Program"))
    specimen.add("CustomAction", ("Derive", 51, "MODE", "derived"), ("Look", 1, "B", "entry"))
    specimen.add(
        "InstallUISequence", ("Derive", None, 100), ("Look", None, 110), ("Ask", None, 120), ("AppSearch", None, 50)
    )
    specimen.tables["InstallExecuteSequence"] = [
        row for row in specimen.tables["InstallExecuteSequence"] if row[0] != "AppSearch"
    ]
    with Database(specimen.ours(tmp_path)) as base:
        found = {entry.property: entry for entry in dialogs.decisions(base)}
        assert (
            found["MODE"].switch == "MODE=full"
            and found["INSTALLLEVEL"].switch == "INSTALLLEVEL=100"
            and found["INSTALLLEVEL"].remark == "if MODE"
        )
        assert (
            found["Hidden"].switch is None
            and "a transform can set it" in found["Hidden"].remark
            and found["REALWAY"].what == "type"
        )
        assert [(entry.action, entry.sets) for entry in dialogs.only_in_dialogs(base)] == [
            ("AppSearch", "what it finds"), ("Derive", "MODE = derived"), ("Look", "")]  # fmt: skip


def test_features_streams_and_actions(tmp_path: Path) -> None:
    specimen = all_of_them()["feature-parts"]
    specimen.add(
        "CustomAction",
        ("Script", 38, None, "MsgBox 1\r\nSecret = 2"),
        ("FromStream", 6, "code.vbs", "Main"),
        ("FromProperty", 54, "SCRIPT", None),
    )
    specimen.add("Property", ("SCRIPT", "x = 1")).add("Binary", ("code.vbs", 1)).add(
        "InstallExecuteSequence", ("Script", "NOT Installed", 5001)
    )
    specimen.streams["Binary.code.vbs"] = "Sub Main\r\nEnd Sub\r\n".encode("utf-16")
    with Database(specimen.ours(tmp_path)) as base:
        found = influence.Influences(base)
        tree = comparing.features(base, found.whole)
        assert [(branch.name, branch.depth, branch.installed, branch.files, branch.files_below) for branch in tree] == [
            ("Main", 0, True, 1, 3), ("First", 1, True, 1, 1), ("Second", 1, True, 1, 1), ("Late", 0, False, 1, 1)]  # fmt: skip
        actions = {action.name: action for action in describe.custom_actions(base)}
        assert (
            actions["Script"].script.startswith("MsgBox")
            and actions["Script"].condition == "NOT Installed"
            and not actions["Script"].evaluated
        )
        assert actions["FromStream"].script.startswith("Sub Main") and actions["FromProperty"].script == "x = 1"
        assert actions["FromStream"].when == "not in the silent sequence" and next(iter(actions)) == "Script"
        assert {stream.name: stream.what for stream in comparing.streams(base)}[
            "Binary.code.vbs"
        ] == "row code.vbs of Binary, used by FromStream"


@pytest.mark.parametrize(("name", "safe"), [
    ("Binary.a.dll", "Binary.a.dll"), ("..\\..\\x", "_.._x"), ("/etc/passwd", "_etc_passwd"), ("con", "_con"), ("a:b", "a_b"), ("\x05Sum", "_Sum"), (".", "stream")])  # fmt: skip
def test_names_of_streams_stay_in_their_folder(name: str, safe: str) -> None:
    assert comparing.safe_name(name) == safe


# --- versions meet ------------------------------------------------------------------------------------------------


def release(
    folder: Path, name: str, version: str, *, code: str, rules: list[tuple[Any, ...]] = [], order: int = 1450
) -> Path:
    specimen = Specimen(name, version=version).with_file()
    values = {"ProductCode": guid(code), "UpgradeCode": guid("meeting line")}
    specimen.tables["Property"] = [(key, values.get(key, value)) for key, value in specimen.tables["Property"]]
    specimen.tables["Component"] = [("Program", guid("meeting program"), *specimen.tables["Component"][0][2:])]
    specimen.tables["Directory"] = [
        (*row[:2], "MEET|Meeting") if row[0] == "INSTALLDIR" else row for row in specimen.tables["Directory"]
    ]
    specimen.tables["InstallExecuteSequence"] = [
        (row[0], row[1], order) if row[0] == "RemoveExistingProducts" else row
        for row in specimen.tables["InstallExecuteSequence"]
    ]
    for low, high, flags, action in rules:
        specimen.add("Upgrade", (guid("meeting line"), low, high, None, flags, None, action))
    return specimen.ours(folder)


def test_where_versions_meet(tmp_path: Path) -> None:
    old = release(tmp_path, "old", "1.0.0", code="a")
    again = release(tmp_path, "again", "1.0.0", code="a")
    minor = release(tmp_path, "minor", "1.0.5", code="a")
    major = release(tmp_path, "major", "2.0.0", code="b", rules=[(None, "2.0.0", 0, "OLDER")])
    late = release(tmp_path, "late", "3.0.0", code="c", rules=[(None, "3.0.0", 0, "OLDER")], order=6650)
    beside = release(tmp_path, "beside", "1.5.0", code="d")
    found, meetings = meeting.matrix([tmp_path])
    assert [item.version for item in found] == ["1.0.0", "1.0.0", "1.0.5", "1.5.0", "2.0.0", "3.0.0"]
    met = {(item.there.path, item.new.path): item for item in meetings}
    assert (
        met[old, old].kind == "same"
        and met[old, minor].kind == "minor update"
        and met[old, minor].command == "REINSTALL=ALL REINSTALLMODE=vomus"
    )
    assert met[old, again].kind == "minor update" and "the same version in another package" in met[old, again].text
    assert met[minor, old].kind == "downgrade" and met[minor, old].exit_code == 1638
    assert (
        met[old, major].kind == "upgrade"
        and "before the new one starts" in met[old, major].text
        and not met[old, major].lost
    )
    assert (
        met[old, late].kind == "upgrade"
        and met[old, late].text == "1.0.0 is removed last, when the new one is complete"
    )
    assert (
        met[old, beside].kind == "side by side"
        and "no rule of its own" in met[old, beside].text
        and "1 file is the same" in met[old, beside].text
    )
    with pytest.raises(Unreadable, match=r"holds no \.msi"):
        (tmp_path / "empty").mkdir()
        meeting.matrix([tmp_path / "empty"])


# --- the commands -------------------------------------------------------------------------------------------------


def parsed(done: Any) -> dict[str, Any]:
    return dict(json.loads(done.stdout))


def test_the_commands_that_look(yendo: Yendo, vendor: Path, tmp_path: Path) -> None:
    msi, newer = vendor / "lantern-6.2.1.msi", vendor / "lantern-6.2.3.msi"
    assert (
        "ServiceInstall" in yendo("msi", "tables", msi).stdout
        and len(parsed(yendo("msi", "tables", msi, "--json"))["tables"]) > 20
    )
    page = yendo(
        "msi", "rows", msi, "File", "FileSize>1000", "--with", "Component", "--show", "File,Component.Directory_"
    ).stdout
    assert "DOCDIR" in page and "3 rows" in page and "charts" not in page
    lines = yendo("msi", "rows", msi, "Upgrade", "--csv").stdout.splitlines()
    assert lines[0].startswith("UpgradeCode,VersionMin") and len(lines) == 3
    assert (
        "in its text" in yendo("msi", "links", msi, "File", "lantern.exe").stdout
        and yendo("msi", "links", msi, "Media", "1").stdout
    )
    assert "passed over" in yendo("msi", "sequence", msi, "REMOVE=ALL").stdout
    steps = {
        step["action"]: step
        for step in parsed(yendo("msi", "sequence", msi, "--installed", "REMOVE=ALL", "--json"))["steps"]
    }
    assert (
        steps["RemoveFiles"]["effects"] > 4 and steps["InstallFiles"]["effects"] == 0 and not steps["SelfTest"]["ran"]
    )
    assert "It ends here with 1633" in yendo("msi", "sequence", msi, "--architecture", "x86").stdout
    assert "REMOVE=Documentation: leaves out 1 folder, 1 file" in yendo("msi", "features", msi).stdout
    told = parsed(yendo("msi", "properties", msi, "--json"))["properties"]
    assert {entry["name"]: len(entry["trials"]) for entry in told} == {"AUTOUPDATE": 1, "INSTALLDIR": 1, "SITE": 2}
    assert "changes HKLM" in yendo("msi", "properties", msi, "SITE", "--things").stdout
    assert (
        "Which office is this?" in yendo("msi", "dialogs", msi).stdout
        and yendo("msi", "streams", msi, "--extract", tmp_path / "out").stdout
    )
    assert (tmp_path / "out" / "lantern.cab").read_bytes()[:4] == b"MSCF"
    page = yendo("msi", "compare", msi, newer, "--rows", expect=1).stdout
    assert "adds 1 file" in page and "changes 4 files" in page and "property ProductVersion: 6.2.1 -> 6.2.3" in page
    assert (
        "No row differs" in yendo("msi", "compare", msi, msi).stdout
        and "0 errors" in yendo("msi", "validate", msi).stdout
    )
    page = yendo("msi", "meet", vendor).stdout
    assert "minor update" in page and "A newer Lantern is installed already" in page
    assert "deferred, as the system account" in yendo("msi", "actions", msi).stdout
    assert "6.2.3" in yendo("msi", "rows", msi, "Property", "--patch", vendor / "lantern-6.2.3.msp").stdout


def test_the_commands_for_transforms(yendo: Yendo, vendor: Path, whole: Path, tmp_path: Path) -> None:
    old, new, site = vendor / "lantern-6.2.1.msi", vendor / "lantern-6.2.3.msi", tmp_path / "site.mst"
    yendo("transform", "make", whole, "-o", site)
    page = yendo("transform", "show", site, old).stdout
    assert (
        "fits: 4 of 4" in page
        and "shortcut Lantern in DesktopFolder" in page
        and "leaves out 1 folder, 1 file, 1 shortcut, 2 registry values" in page
    )
    assert parsed(yendo("transform", "show", site, old, "--json"))["fits"] is True
    page = yendo("transform", "fits", site, new, expect=1).stdout
    assert "wants version == 6.2.1, this is 6.2.3" in page and "4 of its 4 changes would have a target" in page
    yendo("transform", "move", site, old, new, "-o", tmp_path / "moved.mst")
    yendo("transform", "fits", tmp_path / "moved.mst", new)
    yendo("transform", "between", old, new, "-o", tmp_path / "update.mst")
    assert (
        parsed(
            yendo(
                "transform",
                "merge",
                old,
                site,
                tmp_path / "update.mst",
                "-o",
                tmp_path / "both.mst",
                "--json",
                expect=0,
            )
        )["kept"]
        > 10
    )
    yendo("transform", "apply", old, site, "-o", tmp_path / "site.msi")
    assert "SurveyExport" in yendo("read", tmp_path / "site.msi").stdout
    with Database(tmp_path / "site.msi") as made, Database(old) as base:
        assert made.summary.revision != base.summary.revision and made["Shortcut"].find("DesktopLantern") is None
        assert made["Property"].find("SITE")["Value"] == "Marrowby"  # type: ignore[index]
    assert "has no transform" not in yendo("msi", "rows", old, "Property", "--transform", site).stdout
    for wrong, code, said in (
        (("show", vendor / "lantern-6.2.3.msp", old), 2, "is a patch"),
        (("show", vendor / "stray.txt", old), 3, "no installer of a known family"),
        (("apply", new, site, "-o", tmp_path / "no.msi"), 2, "does not fit"),
        (("make", whole, "--step", "2", "-o", site), 2, "no install step has changes"),
        (("show", tmp_path / "missing.mst", old), 2, "is not there"),
    ):
        assert said in yendo("transform", *wrong, expect=code).stderr
    assert not (tmp_path / "no.msi").exists() and not list(tmp_path.glob(".no.msi*"))
    for family in ("mst", "msp"):
        path = site if family == "mst" else vendor / "lantern-6.2.3.msp"
        assert "no installer of its own; see `yendo" in yendo("read", path, expect=3).stderr


def test_the_command_for_patches(yendo: Yendo, vendor: Path) -> None:
    page = yendo("patch", "show", vendor / "lantern-6.2.3.msp", vendor / "lantern-6.2.1.msi").stdout
    assert (
        "as a minor update" in page and "yes, by its code" in page and "changes 4 files" in page and "tides.dat" in page
    )
    assert (
        "It does not fit"
        in yendo("patch", "show", vendor / "lantern-6.2.3.msp", vendor / "lantern-6.1.0.msi", expect=1).stdout
    )
    assert (
        parsed(yendo("patch", "show", vendor / "lantern-6.2.3.msp", "--json"))["versions"][0]["new_version"] == "6.2.3"
    )
    assert "not a patch" in yendo("patch", "show", vendor / "lantern-6.2.1.msi", expect=2).stderr


def test_secrets_are_not_shown(yendo: Yendo, tmp_path: Path) -> None:
    specimen = Specimen("secret").with_file().add("Property", ("DB_PASSWORD", "hunted"))
    specimen.add("CustomAction", ("Log", 34, "INSTALLDIR", "tool.exe --password hunted")).add(
        "Registry", ("R", 2, "Software\\X", "P", "[DB_PASSWORD]", "Program")
    )
    path = specimen.ours(tmp_path)
    for words in (
        ("rows", path, "Property"),
        ("rows", path, "Property", "--csv"),
        ("rows", path, "Property", "--json"),
        ("actions", path),
        ("properties", path),
    ):
        assert "hunted" not in yendo("msi", *words).stdout, words


def test_the_demo_draft_with_its_patch(yendo: Yendo, whole: Path, vendor: Path, tmp_path: Path) -> None:
    """Base and patch on a fresh machine, the patch alone on one that has the base, nothing on a newer one."""
    from yendo.machines.simulated.machine import SimulatedMachine
    from yendo.package import build, carry
    from yendo.plan import read

    built = build.build(whole, read(whole / "plan.toml")[0])
    for first, wanted in ((None, []), ("lantern-6.2.1.msi", ["step 1"]), ("lantern-6.2.3.msi", ["step 1", "step 2"])):
        with SimulatedMachine().fresh() as session:
            session.bring(vendor, r"C:\vendor")
            if first:
                assert session.run(rf"msiexec /i C:\vendor\{first} /qn", timeout=9).exit_code == 0
            session.bring(built.folder, r"C:\Hand over")
            ran = carry.carry(
                built.manifest, built.folder, session, "install", folder=r"C:\Hand over", sleep=lambda _: None
            )
            assert ran.exit_code == 0, ran.lines
            skipped = [ran.lines[at - 1][:6] for at, line in enumerate(ran.lines) if line.startswith("not needed here")]
            assert skipped == wanted
            assert next(thing.version for thing in session.state().of("product")) == "6.2.3"
    assert columns("Media")[0] == "DiskId! i2"


ACTIONS: list[tuple[str, str, list[str]]] = [
    ("msi", "tables", ["lantern-6.2.1.msi"]),
    ("msi", "rows", ["lantern-6.2.1.msi", "File"]),
    ("msi", "links", ["lantern-6.2.1.msi", "Media", "1"]),
    ("msi", "sequence", ["lantern-6.2.1.msi"]),
    ("msi", "features", ["lantern-6.2.1.msi"]),
    ("msi", "properties", ["lantern-6.2.1.msi"]),
    ("msi", "dialogs", ["lantern-6.2.1.msi"]),
    ("msi", "actions", ["lantern-6.2.1.msi"]),
    ("msi", "streams", ["lantern-6.2.1.msi"]),
    ("msi", "validate", ["lantern-6.2.1.msi"]),
    ("msi", "meet", ["lantern-6.1.0.msi", "lantern-6.2.1.msi"]),
    ("patch", "show", ["lantern-6.2.3.msp"]),
]


@pytest.mark.parametrize(
    ("command", "action", "words"), ACTIONS, ids=[f"{command}-{action}" for command, action, _ in ACTIONS]
)
def test_every_action_has_an_example_one_object_and_silence(
    yendo: Yendo, vendor: Path, command: str, action: str, words: list[str]
) -> None:
    """``--help`` shows an example, ``--json`` prints one object with its schema, ``--quiet`` nothing; a damaged file is refused with its place."""
    arguments = [vendor / word if (vendor / word).exists() else word for word in words]
    assert (
        f"yendo {command} {action} "
        in yendo(command, action, "--help").stdout.partition("positional arguments")[0].partition("\n\n")[2]
    )
    assert parsed(yendo(command, action, *arguments, "--json"))["schema"].startswith(f"yendo.{command}")
    assert yendo(command, action, *arguments, "--quiet").stdout == ""
    broken = [vendor / "stray.txt" if isinstance(word, Path) and at == 0 else word for at, word in enumerate(arguments)]
    assert "stray.txt" in yendo(command, action, *broken, expect=3).stderr
