"""From wishes to transforms: the rows they become, what they do, where they are refused, and how they are carried over."""

from __future__ import annotations

import io
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest
from specimens import Specimen, all_of_them

from yendo.demo.vendor import guid
from yendo.effects import label
from yendo.formats.msi import Column, Database, Summary, transform
from yendo.formats.msi.overlay import Overlay
from yendo.formats.msi.transform import TableChange, Transform
from yendo.installers.msi import changes, combining, describe, engine, fitting, influence, intent, layers, validate
from yendo.platforms.windows.surroundings import windows
from yendo.terms.changes import PlannedChange


def wish(**fields: Any) -> PlannedChange:
    return msgspec.convert(fields, PlannedChange)  # type: ignore[arg-type]


@pytest.fixture
def base(vendor: Path) -> Iterator[Database]:
    with Database(vendor / "lantern-6.2.1.msi") as database:
        yield database


@pytest.fixture
def files(tmp_path: Path) -> Path:
    (tmp_path / "local.lst").write_bytes(b"Marrowby inner harbour\r\n")
    (tmp_path / "charts.lst").write_bytes(b"other charts\r\n")
    return tmp_path


def made(base: Database, files: Path, *wishes: dict[str, Any]) -> Transform:
    """The transform of some wishes, written and read again."""
    found = intent.transform_for(base, [wish(**fields) for fields in wishes], lambda name: files / name)
    out = io.BytesIO()
    transform.write(found, out)
    again = transform.read(io.BytesIO(out.getvalue()), base)
    assert {name: (change.inserted, change.updated, change.deleted) for name, change in found.tables.items()} == {
        name: (change.inserted, change.updated, change.deleted) for name, change in again.tables.items()
    }
    assert fitting.fit(base, again).fits and not fitting.fit(base, again).doubts
    return again


def effects(base: Database, found: Transform) -> influence.PropertyTrial:
    around = windows()
    runs = [
        engine.run(side, around, describe.baseline(around), remember=False) for side in (base, Overlay(base, [found]))
    ]
    return influence.compare_outcomes("", False, *runs)


def names(things: Any) -> list[str]:
    return sorted(label(thing).rpartition("\\")[2] for thing in things)


WISHES: list[tuple[dict[str, Any], int, dict[str, list[str]]]] = [
    # wish, rows that it takes, what it does to a fresh machine
    ({"kind": "drop", "what": "shortcut", "name": "DesktopLantern"}, 1, {"left_out": ["Lantern.lnk"]}),
    ({"kind": "drop", "what": "shortcut", "name": r"desktopfolder\lantern"}, 1, {"left_out": ["Lantern.lnk"]}),
    ({"kind": "drop", "what": "registry", "name": r"HKLM\Software\Tidewell\Lantern\DepthLimit"}, 1, {"left_out": ["DepthLimit"]}),
    ({"kind": "drop", "what": "registry", "name": "RegDesktop"}, 2, {"left_out": ["DesktopIcon"]}),
    ({"kind": "drop", "what": "file", "name": "charts.lst"}, 1, {"left_out": ["charts.lst"]}),
    ({"kind": "drop", "what": "service", "name": "Lantern tide gauge"}, 2, {"left_out": ["LanternTide"]}),
    ({"kind": "drop", "what": "environment", "name": "lantern_home"}, 1, {"left_out": ["LANTERN_HOME (machine)"]}),
    ({"kind": "drop", "what": "action", "name": "SelfTest"}, 1, {}),
    ({"kind": "drop", "what": "component", "name": "Updater"}, 1, {"left_out": ["Automatic", "Channel"]}),
    ({"kind": "feature", "name": "Manual", "install": False}, 1, {"left_out": ["documents", "manual.txt"]}),
    ({"kind": "feature", "name": "SurveyExport", "install": True}, 1, {"added": ["survey export.txt"]}),
    ({"kind": "property", "name": "SITE", "value": "Marrowby"}, 1, {"changed": ["Site"]}),
    ({"kind": "property", "name": "AUTOUPDATE", "value": 0}, 1, {"left_out": ["Automatic", "Channel"]}),
    ({"kind": "property", "name": "ARPCONTACT"}, 1, {}),
    ({"kind": "property", "name": "OURS", "value": "x"}, 1, {}),
    ({"kind": "registry", "key": r"HKLM\software\tidewell\lantern", "name": "depthlimit", "value": 80}, 1, {"changed": ["DepthLimit"]}),
    ({"kind": "registry", "key": r"HKLM\Software\Marrowby", "name": "Depths", "value": ["1", "2"]}, 3, {"added": ["Depths"]}),
    ({"kind": "registry", "key": r"HKLM\Software\Marrowby", "value": "#7", "feature": "Manual"}, 3, {"added": ["(unnamed)"]}),
    ({"kind": "service", "name": "LanternTide", "start": "auto"}, 1, {"changed": ["LanternTide"]}),
    ({"kind": "environment", "name": "LANTERN_HOME", "value": "C:\\Lantern"}, 1, {"changed": ["LANTERN_HOME (machine)"]}),
    ({"kind": "environment", "name": "MARROWBY", "value": "[DATADIR]"}, 3, {"added": ["MARROWBY (machine)"]}),
    ({"kind": "file", "from": "local.lst", "to": r"[INSTALLDIR]local.lst"}, 5, {"added": ["local.lst"]}),
    ({"kind": "file", "from": "local.lst", "to": "[DATADIR]ours\\"}, 6, {"added": ["local.lst", "ours"]}),
    ({"kind": "file", "from": "charts.lst", "to": "[INSTALLDIR]Charts.lst"}, 3, {"changed": ["charts.lst"]}),
]  # fmt: skip


@pytest.mark.parametrize(
    ("fields", "rows", "done"), WISHES, ids=[f"{fields['kind']}-{at}" for at, (fields, _, _) in enumerate(WISHES)]
)
def test_a_wish_takes_few_rows_and_does_what_it_says(
    base: Database, files: Path, fields: dict[str, Any], rows: int, done: dict[str, list[str]]
) -> None:
    found = made(base, files, fields)
    assert len(found) == rows, changes.in_words(base, found)
    trial = effects(base, found)
    assert {
        kind: names(getattr(trial, kind)) for kind in ("added", "left_out", "changed") if getattr(trial, kind)
    } == done
    assert not [
        finding for finding in validate.broken_by(base, Overlay(base, [found])) if finding.rule != "not-described"
    ]


def test_a_disabled_service_is_not_started(base: Database, tmp_path: Path) -> None:
    """Starting it would fail, and the installation with it."""
    specimen = all_of_them()["service"]
    specimen.tables["ServiceControl"] = [("SC", "TideGauge", 1 | 2 | 128, None, 1, "Program")]
    with Database(specimen.ours(tmp_path)) as other:
        found = made(other, tmp_path, {"kind": "service", "name": "TideGauge", "start": "disabled"})
        assert found.tables["ServiceControl"].updated == {("SC",): {"Event": 130}} and found.tables[
            "ServiceInstall"
        ].updated == {("SI",): {"StartType": 4}}


def test_what_the_base_does_not_run_is_scheduled(tmp_path: Path) -> None:
    """A base that writes no registry value and places no file needs the actions, and the tables."""
    specimen = Specimen("bare").component("Folder").add("CreateFolder", ("INSTALLDIR", "Folder"))
    specimen.tables["InstallExecuteSequence"] = [
        row
        for row in specimen.tables["InstallExecuteSequence"]
        if row[0] not in ("WriteRegistryValues", "RemoveRegistryValues", "InstallFiles", "RemoveFiles")
    ]
    (tmp_path / "a.txt").write_bytes(b"a")
    with Database(specimen.ours(tmp_path)) as base:
        found = made(
            base,
            tmp_path,
            {"kind": "registry", "key": r"HKLM\Software\Ours", "name": "n", "value": 1},
            {"kind": "file", "from": "a.txt", "to": "[INSTALLDIR]a.txt"},
        )
        assert found.tables["Registry"].created and found.tables["MsiFileHash"].created
        assert {key[0]: cells[2] for key, cells in found.tables["InstallExecuteSequence"].inserted.items()} == {
            "WriteRegistryValues": 5000, "RemoveRegistryValues": 2600, "InstallFiles": 4000, "RemoveFiles": 3500}  # fmt: skip
        assert names(effects(base, found).added) == ["a.txt", "n"]


def test_the_same_addition_is_the_same_component(vendor: Path, files: Path) -> None:
    """So that an upgrade knows what the version before brought."""
    fields = {"kind": "registry", "key": r"HKLM\Software\Marrowby", "name": "Depth", "value": 1}
    codes = set()
    for version in ("6.1.0", "6.2.1", "6.2.3"):
        with Database(vendor / f"lantern-{version}.msi") as base:
            (cells,) = made(base, files, fields).tables["Component"].inserted.values()
            codes.add(cells[1])
    assert len(codes) == 1


REFUSED = [
    ({"kind": "drop", "what": "shortcut", "name": "Lantern"}, "2 rows of Shortcut are called 'Lantern'", "MenuLantern, DesktopLantern"),
    ({"kind": "drop", "what": "shortcut", "name": "DesktopLanter"}, "no shortcut 'DesktopLanter'", "did you mean DesktopLantern"),
    ({"kind": "drop", "what": "file", "name": "lantern.exe"}, "the shortcut Lantern points to lantern.exe", "drop the shortcut as well"),
    ({"kind": "drop", "what": "file", "name": "lanternd.exe"}, "the service LanternTide runs lanternd.exe", "drop the service as well"),
    ({"kind": "drop", "what": "action", "name": "InstallFiles"}, "InstallFiles is a standard action", "drop the rows"),
    ({"kind": "feature", "name": "Mian", "install": False}, "no feature 'Mian'", "did you mean Main"),
    ({"kind": "property", "name": "AUTOUPDAT"}, "no property AUTOUPDAT", "AUTOUPDATE"),
    ({"kind": "registry", "key": r"HKXX\Software", "value": 1}, "begins with none of HKLM", "HKLM"),
    ({"kind": "registry", "key": r"HKLM\Software\X", "value": "seven", "type": "dword"}, "'seven' is no dword", "a number"),
    ({"kind": "registry", "key": r"HKLM\Software\X", "value": "\u4e00"}, "cannot be written in the installer's code page 1252", "characters of that code page"),
    ({"kind": "environment", "name": "N" * 300, "value": "x"}, "has 303 characters, the column takes 255", "shorten it"),
    ({"kind": "file", "from": "nothing.txt", "to": "[INSTALLDIR]x"}, "nothing.txt is not there", "extras/"),
    ({"kind": "file", "from": "local.lst", "to": "[INSTALDIR]x"}, "no folder INSTALDIR", "did you mean INSTALLDIR"),
    ({"kind": "file", "from": "local.lst", "to": "[INSTALLDIR]a?b"}, "is no place for a file", "[INSTALLDIR]"),
    ({"kind": "service", "name": "Lantern", "start": "auto"}, "no service 'Lantern'", "LanternTide"),
]  # fmt: skip


@pytest.mark.parametrize(("fields", "message", "remedy"), REFUSED, ids=range(len(REFUSED)))
def test_a_wish_without_a_target(
    base: Database, files: Path, fields: dict[str, Any], message: str, remedy: str
) -> None:
    with pytest.raises(intent.IntentError) as caught:
        intent.transform_for(
            base, [wish(kind="property", name="SITE", value="x"), wish(**fields)], lambda name: files / name
        )
    (misfit,) = caught.value.misfits
    assert misfit.position == 1 and message in misfit.message and remedy in misfit.remedy, misfit


# --- words, risks, fit ----------------------------------------------------------------------------------------

COMPONENT, PROPERTY = (
    ("Component", "ComponentId", "Directory_", "Attributes", "Condition", "KeyPath"),
    ("Property", "Value"),
)


def by_hand(base: Database, **tables: dict[str, Any]) -> Transform:
    found = {name: TableChange(list(base.schema[name]), **change) for name, change in tables.items()}
    return Transform(found, summary=fitting.summary_for(base))


RISKY = [
    ({"Property": {"updated": {("ProductCode",): {"Value": guid("other")}}}}, "it becomes another product"),
    ({"Property": {"inserted": {("DB_PASSWORD",): ("DB_PASSWORD", "tide")}}}, "a secret in clear text"),
    ({"Component": {"updated": {("Program",): {"ComponentId": guid("x")}}}}, "a component rule is broken"),
    ({"Component": {"deleted": [("Charts",)]}}, "a component is gone"),
    ({"File": {"deleted": [("charts.lst",)]}}, "a file leaves a component"),
    (
        {"Registry": {"inserted": {("R",): ("R", 2, "Software\\X", "n", "1", "Program")}}},
        "adds to the vendor's component Program",
    ),
    (
        {"CustomAction": {"inserted": {("A",): ("A", 34 | 0xC00, "INSTALLDIR", "cmd")}}},
        "runs code as the system account",
    ),
    ({"LaunchCondition": {"deleted": [("VersionNT64",)]}}, "installs where the vendor refuses"),
    ({"InstallExecuteSequence": {"deleted": [("InstallFiles",)]}}, "a standard action no longer runs"),
    ({"Media": {"inserted": {(9,): (9, 99, None, "#none.cab", None, None)}}}, "its cabinet is neither"),
]


@pytest.mark.parametrize(("tables", "risk"), RISKY, ids=range(len(RISKY)))
def test_risky_changes_are_told(base: Database, tables: dict[str, Any], risk: str) -> None:
    told = changes.in_words(base, by_hand(base, **tables))
    assert [change for change in told if change.risk and risk in change.risk], told
    assert "tide" not in str([change.text for change in told])


def test_words(base: Database, files: Path) -> None:
    fields = [
        {"kind": "property", "name": "SITE", "value": "Marrowby"},
        {"kind": "feature", "name": "Documentation", "install": False},
        {"kind": "service", "name": "LanternTide", "start": "disabled"},
        {"kind": "registry", "key": r"HKLM\Software\Marrowby", "name": "Depth", "value": 7},
    ]
    told = changes.in_words(base, made(base, files, *fields))
    assert {change.text for change in told if not change.goes_along} == {
        "property SITE: Unassigned -> Marrowby",
        "feature Documentation is never installed (level 3 -> 0)",
        "service LanternTide: StartType demand -> disabled",
        r"registry value HKLM\Software\Marrowby\Depth = #7",
    }


def test_long_lists_are_shortened(tmp_path: Path) -> None:
    with Database(all_of_them()["many-files"].ours(tmp_path)) as base:
        told = changes.in_words(base, by_hand(base, File={"deleted": [(f"F{at}",) for at in range(40)]}))
        assert len(told) == changes.MANY + 1 and "28 more rows of File" in told[-1].text and told[-1].rows == 28


@pytest.mark.parametrize(("summary", "said"), [
    ({"revision": f"{guid('x')}1.0;{guid('x')}1.0", "characters": fitting.PRODUCT << 16}, "it is for the product"),
    ({"revision": None}, ""),
    ({"template": "Intel;2057", "characters": fitting.PLATFORM << 16}, "it is for x86, this is for x64"),
    ({"template": "x64;1031", "characters": fitting.LANGUAGE << 16}, "it is for language 1031"),
    ({"characters": (fitting.MAJOR | fitting.LESS) << 16}, "it wants version < 6, this is 6.2.1"),
    ({"characters": (fitting.UPDATE | fitting.GREATER_EQUAL) << 16}, ""),
])  # fmt: skip
def test_what_it_was_made_for(base: Database, summary: dict[str, Any], said: str) -> None:
    found = by_hand(base, Property={"updated": {("SITE",): {"Value": "x"}}})
    found.summary = msgspec.structs.replace(found.summary, **summary)
    fit = fitting.fit(base, found)
    assert fit.fits == (said == "") and said in fit.in_words
    if summary.get("revision", "x") is None:
        assert "does not say what it was made for" in fit.doubts[0]


def test_the_installer_refuses_as_it_would(base: Database, vendor: Path, files: Path, tmp_path: Path) -> None:
    found = made(
        base,
        files,
        {"kind": "property", "name": "SITE", "value": "x"},
        {"kind": "drop", "what": "shortcut", "name": "DesktopLantern"},
    )
    with (tmp_path / "site.mst").open("wb") as file:
        transform.write(found, file)
    with Database(vendor / "lantern-6.1.0.msi") as other:
        with pytest.raises(layers.Refused, match="does not fit") as caught:
            layers.apply_transforms(other, [tmp_path / "site.mst"])
        assert caught.value.code == 1624
    twice = layers.apply_transforms(base, [tmp_path / "site.mst"])
    with pytest.raises(layers.Refused, match="row to delete is missing"):
        layers.apply_transforms(twice, [tmp_path / "site.mst"])
    (tmp_path / "bad.mst").write_bytes(b"none")
    with pytest.raises(layers.Refused, match="cannot be read"):
        layers.apply_transforms(base, [tmp_path / "bad.mst"])
    with pytest.raises(layers.Refused, match="holds no transform"):
        layers.apply_transforms(base, ["embedded"])


# --- merged and moved -----------------------------------------------------------------------------------------


def test_merging(base: Database, files: Path) -> None:
    one = made(
        base,
        files,
        {"kind": "property", "name": "SITE", "value": "Marrowby"},
        {"kind": "drop", "what": "shortcut", "name": "DesktopLantern"},
    )
    two = made(base, files, {"kind": "property", "name": "SITE", "value": "Kettle"}, {"kind": "feature", "name": "Documentation", "install": False},
               {"kind": "file", "from": "local.lst", "to": "[INSTALLDIR]local.lst"})  # fmt: skip
    both = combining.merge(base, one, two)
    (conflict,) = both.conflicts
    assert (
        "both change the property SITE: Value = Marrowby, and Value = Kettle" in conflict.message
        and conflict.outcome == "the second is taken"
    )
    trial = effects(base, both.transform)
    assert (
        names(trial.left_out) == ["Lantern.lnk", "documents", "manual.txt"]
        and names(trial.added) == ["local.lst"]
        and names(trial.changed) == ["Site"]
    )
    assert not combining.merge(base, one, one).conflicts and combining.merge(base, one, one).kept == 2
    clash = combining.merge(
        base,
        by_hand(base, Shortcut={"deleted": [("DesktopLantern",)]}),
        by_hand(base, Shortcut={"updated": {("DesktopLantern",): {"Name": "L"}}}),
    )
    assert len(clash.conflicts) == 1 and "it is dropped, and Name = L" in clash.conflicts[0].message


def test_moving(vendor: Path, files: Path) -> None:
    with Database(vendor / "lantern-6.2.1.msi") as old, Database(vendor / "lantern-6.2.3.msi") as new:
        plain = made(
            old,
            files,
            {"kind": "property", "name": "SITE", "value": "Marrowby"},
            {"kind": "file", "from": "local.lst", "to": "[INSTALLDIR]local.lst"},
        )
        moved = combining.move(plain, old, new)
        assert moved.kept == moved.total == 6 and not moved.conflicts and fitting.fit(new, moved.transform).fits
        assert effects(new, moved.transform).added == effects(old, plain).added
        hand = by_hand(
            old,
            File={"updated": {("lantern.exe",): {"Version": "9.9.9.9"}}},
            Shortcut={"deleted": [("Nothing",)], "updated": {("Missing",): {"Name": "x"}}},
            Component={"inserted": {("Tides",): ("Tides", guid("mine"), "INSTALLDIR", 256, None, None)}},
            Media={"inserted": {(1,): (1, 99, None, "#mine.cab", None, None)}},
        )
        moved = combining.move(hand, old, new)
        said = [conflict.message for conflict in moved.conflicts]
        assert any(
            "the vendor changed Version of the file lantern.exe too: 6.2.1.0 -> 6.2.3.0" in text for text in said
        )
        assert sum("gone from the new version" in text for text in said) == 2 and any(
            "has the component Tides itself now, and another one" in text for text in said
        )
        assert list(moved.transform.tables["Media"].inserted) == [(2,)]


# --- what properties change: the quick way against the whole way -------------------------------------------------


@pytest.mark.parametrize(
    "name", ["conditions", "features", "quoting", "actions", "com-class", "search", "feature-parts", "isolated"]
)
def test_influences_agree_with_whole_predictions(tmp_path: Path, name: str) -> None:
    """Carrying out only the rows that could differ tells the same as carrying out everything."""
    specimen = all_of_them()[name]
    specimen.add("Property", *((f"P{at}", "0") for at in range(4)))
    specimen.with_file("Extra0", "extra0.txt", condition="P0=1").with_file(
        "Extra1", "extra1.txt", condition='P1="yes" OR P0=1'
    )
    specimen.add(
        "Registry",
        ("PR", 2, r"Software\Tidewell\P", "P2", "<[P2]>", "Extra0"),
        ("PS", 2, r"Software\Tidewell\P", "Two", "[P2][P3]", "Program"),
    )
    specimen.add("Condition", ("Main", 0, "P3=9"))
    specimen.add("CustomAction", ("Derive", 51, "P2", "derived from [P1]")).add(
        "InstallExecuteSequence", ("Derive", "P1", 110)
    )
    around = windows()
    with Database(specimen.ours(tmp_path)) as base:
        found = influence.Influences(base)
        told = found.properties()
        assert {"P0", "P1", "P2", "P3"} <= {entry.name for entry in told}
        whole = engine.run(base, around, describe.baseline(around), remember=False)
        for entry in told:
            for trial in entry.trials:
                outcome = engine.run(base, around, describe.baseline(around), {entry.name: trial.value}, remember=False)
                expected = influence.compare_outcomes(trial.value, trial.made_up, whole, outcome)
                for kind in ("added", "left_out", "changed", "actions"):
                    assert set(getattr(trial, kind)) == set(getattr(expected, kind)), (entry.name, trial.value, kind)
                assert len(trial.moved) == len(expected.moved) and trial.refused == expected.refused
        for feature in found.features():
            key, _, value = feature.words.partition("=")
            outcome = engine.run(base, around, describe.baseline(around), {key: value}, remember=False)
            expected = influence.compare_outcomes(value, False, whole, outcome)
            assert (set(feature.trial.added), set(feature.trial.left_out)) == (
                set(expected.added),
                set(expected.left_out),
            ), feature.name


def test_summaries_say_what_must_agree(base: Database) -> None:
    target = fitting.made_for(fitting.summary_for(base))
    assert (
        target
        and target.version == "6.2.1"
        and target.platform == "x64"
        and target.validates & fitting.UPDATE
        and target.upgrade_code
    )
    assert fitting.made_for(Summary()) is None and Column.parse("A s1").idt == "s1"
