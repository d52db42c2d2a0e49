"""Every rule of ``yendo check``: a plan that it finds, and the good plan in which it finds nothing."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import test_settings
from conftest import Yendo, parsed
from specimens import Specimen
from test_setups import CHANGES as SETUPS

from yendo.check import RULES, Workspace, check
from yendo.demo import drivers
from yendo.demo.patching import write_patch
from yendo.demo.vendor import guid
from yendo.draft import draft
from yendo.formats.msi import Database, overlay, transform
from yendo.formats.msi.transform import TableChange, Transform
from yendo.installers.msi import fitting, validate
from yendo.package import build, delivered
from yendo.plan import read

Change = Callable[[Path], None]


def swap(old: str, new: str) -> Change:
    """Replaces a piece of the plan's text, which must be there."""

    def change(folder: Path) -> None:
        path = folder / "plan.toml"
        text = path.read_text("utf-8")
        assert old in text, old
        path.write_text(text.replace(old, new, 1), "utf-8")

    return change


def append(text: str) -> Change:
    def change(folder: Path) -> None:
        path = folder / "plan.toml"
        path.write_text(path.read_text("utf-8") + text, "utf-8")

    return change


def cut(start: str, end: str) -> Change:
    """Removes from one mark up to another."""

    def change(folder: Path) -> None:
        path = folder / "plan.toml"
        text = path.read_text("utf-8")
        at = text.index(start)
        path.write_text(text[:at] + text[text.index(end, at) :], "utf-8")

    return change


def command(line: str) -> Change:
    """The install step by a command of one's own."""

    def change(folder: Path) -> None:
        cut("[install.properties]", "[[install]]")(folder)
        swap('media = "lantern-6.2.1.msi"', f"command = '{line}'")(folder)

    return change


def handed_over_then(change: Change) -> Change:
    def run(folder: Path) -> None:
        delivered.record(folder, build.build(folder, read(folder / "plan.toml")[0]).folder)
        change(folder)

    return run


def both(*changes: Change) -> Change:
    def run(folder: Path) -> None:
        for change in changes:
            change(folder)

    return run


def new_content(folder: Path) -> None:
    """Another configuration, with its rule's hash following."""
    path = folder / "extras" / "site.ini"
    old = hashlib.sha256(path.read_bytes()).hexdigest()
    path.write_bytes(b"[site]\r\nname = elsewhere\r\n")
    swap(old, hashlib.sha256(path.read_bytes()).hexdigest())(folder)


MSI = 'msiexec /i "{package}\\media\\lantern-6.2.1.msi" /qn /norestart'
REGISTRY = '\n[[detect]]\nkind = "registry"\nkey = \'%s\'\nname = "Site"\n%s\n'

# rule, what is done to the good plan, a piece of the finding's message, the text of the line it must stand at
PROGRAM = "[[detect]]\nkind = \"file\"\npath = '%ProgramFiles%\\Tidewell\\Lantern\\lantern.exe'\n"
FIRES = [
    (
        "media-changed",
        lambda folder: (folder / "media/lantern-6.2.1.msi").write_bytes(b"other"),
        "has changed",
        "sha256 =",
    ),
    ("media-changed", lambda folder: (folder / "media/lantern-6.2.1.msi").unlink(), "is not there", "sha256 ="),
    (
        "open-conflict",
        append("# CONFLICT: install, property SITE: it is gone. What stood there, by your hand:\n"),
        "it is gone",
        "# CONFLICT",
    ),
    ("missing-file", swap("extras/site.ini", "extras/sight.ini"), "is not there", "from ="),
    ("missing-file", swap("extras/site.ini", "../site.ini"), "not below extras", "from ="),
    (
        "missing-file",
        swap('media = "lantern-6.2.1.msi"', 'media = "lantern-6.2.0.msi"'),
        "not one of the [[media]]",
        'media = "lantern',
    ),
    ("missing-file", command(MSI.replace("6.2.1", "6.2.9")), "names media\\lantern-6.2.9.msi", "command ="),
    (
        "unquoted-space",
        swap('timeout = "30 min"', "timeout = \"30 min\"\narguments = 'INSTALLDIR=C:\\Program Files\\Lantern'"),
        "Files\\Lantern",
        "arguments =",
    ),
    (
        "bad-command",
        swap('timeout = "30 min"', 'timeout = "30 min"\narguments = "/nosuch"'),
        "/nosuch is no option",
        "arguments =",
    ),
    ("bad-command", command('msiexec /i "{package}\\media\\lantern-6.2.1.msi /qn'), "quote is opened", "command ="),
    ("not-silent", command(MSI.replace("/qn", "/qb")), "shows windows", "command ="),
    (
        "restart-not-suppressed",
        swap('timeout = "30 min"', 'timeout = "30 min"\nrestart = "allow"'),
        "may restart",
        "restart =",
    ),
    ("restart-not-suppressed", command(MSI.replace(" /norestart", "")), "may restart", "command ="),
    ("log-folder", command(MSI + ' /l*v "C:\\Logs of ours\\x.log"'), "may not exist", "command ="),
    ("unknown-property", swap("\nSITE =", "\nSIET ="), "knows no property SIET", "SIET ="),
    ("private-property", swap("\nSITE =", "\nSite ="), "not public", "Site ="),
    ("clear-secret", swap("\nSITE =", '\nDBPASSWORD = "tide123"\nSITE ='), "DBPASSWORD holds a secret", "DBPASSWORD ="),
    (
        "no-uninstall",
        both(cut("[[uninstall]]", "[[repair]]"), cut("[[install]]", "[[repair]]"), swap("[[repair]]", "[[install]]")),
        "none follows from the steps",
        "[[install]]",
    ),
    (
        "uninstall-does-nothing",
        swap(
            'product = "{4E6AB892',
            'command = "' + MSI.replace('"', "'").replace("\\", "/").replace("'", "") + '" # {4E6',
        ),
        "the uninstall installs",
        "command =",
    ),
    (
        "uninstall-does-nothing",
        swap("{4E6AB892-", "{5E6AB892-"),
        "not a product that this package installs",
        "product =",
    ),
    (
        "uninstall-does-nothing",
        cut('[[uninstall]]\nkind = "msi"', "[[repair]]"),
        "nothing removes the product",
        "[[uninstall]]",
    ),
    (
        "uninstall-does-nothing",
        cut('[[uninstall]]\nkind = "take-back"', '[[uninstall]]\nkind = "msi"'),
        "nothing takes back",
        "[[uninstall]]",
    ),
    ("no-timeout", swap('timeout = "30 min"\n', ""), "install step 1 has no timeout", 'kind = "msi"'),
    ("architecture-missing", cut("architecture = [", "#"), "installer is for x64", "[when]"),
    ("no-detection", lambda folder: cut_to_end(folder, "[[detect]]"), "no [[detect]]", "[[install]]"),
    ("existence-only", append(PROGRAM), "only the existence", "path ="),
    ("existence-only", swap('version = "==6.2.1"\n', ""), "any version", "code ="),
    (
        "per-user-detection",
        append("[[detect]]\nkind = \"file\"\npath = '%LocalAppData%\\Tidewell\\lantern.exe'\n"),
        "user's own folder",
        "path =",
    ),
    ("per-user-detection", append(REGISTRY % (r"HKCU\Software\Tidewell\Lantern", "")), "user's own part", "key ="),
    (
        "registry-view",
        append(REGISTRY % (r"HKLM\Software\Tidewell\Lantern", 'view = "32"')),
        "64-bit view",
        'view = "32"',
    ),
    ("registry-view", append(REGISTRY % (r"HKLM\Software\Wow6432Node\Tidewell\Lantern", "")), "spelt out", "key ="),
    (
        "extra-not-detected",
        lambda folder: cut_to_end(folder, "[[detect]]", last=True),
        "nothing detects %ProgramData%",
        "to =",
    ),
    (
        "unlisted-media",
        lambda folder: (folder / "media/odd.txt").write_bytes(b"odd"),
        "media/odd.txt is not in the plan",
        "[[media]]",
    ),
    ("wrong-content", lambda folder: (folder / "extras/site.ini").write_bytes(b"changed"), "another hash", "sha256 ="),
    (
        "stale-detection",
        handed_over_then(swap('SITE = "Marrowby"', 'SITE = "Kettle bank"')),
        "content has changed since revision 1 was handed over",
        "[[detect]]",
    ),
    (
        "contradiction",
        append(
            '[[detect]]\nkind = "file"\npath = \'C:\\Program Files\\Tidewell\\Lantern\\lantern.exe\'\nversion = "<6"\n'
        ),
        "never hold together",
        "kind =",
    ),
    (
        "contradiction",
        append(
            '[[detect]]\nkind = "none"\nof = [{ kind = "folder", path = \'C:\\a\' }]\n[[detect]]\nkind = "folder"\npath = \'C:\\a\'\n'
        ),
        "forbids",
        "kind =",
    ),
    (
        "true-on-fresh",
        lambda folder: (
            cut_to_end(folder, "[[detect]]"),
            append("\n[[detect]]\nkind = \"file\"\npath = '%SystemRoot%\\System32\\msiexec.exe'\n")(folder),
        ),
        "hold on a fresh machine: C:\\Windows\\System32\\msiexec.exe is there",
        "kind =",
    ),
    ("undecided", append("\n# DECIDE: is this all\n"), "is this all", "# DECIDE"),
]


# Rules on transforms and patches: in the demo's own workspace.
MST = "transforms = ['extras/theirs.mst']\n"


def theirs(name: str, **tables: dict[str, Any]) -> Change:
    """A transform of somebody else's lies below extras/ and is named by the first step."""

    def change(folder: Path) -> None:
        with Database(folder / "media/lantern-6.2.1.msi") as base, (folder / "extras" / name).open("wb") as file:
            found = Transform({table: TableChange(list(base.schema[table]), **rows) for table, rows in tables.items()})
            found.summary = fitting.summary_for(base)
            transform.write(found, file)
        swap('media = "lantern-6.2.1.msi"\n', 'media = "lantern-6.2.1.msi"\n' + MST)(folder)

    return change


def more_change(text: str) -> Change:
    return swap('[[install.change]]\nkind = "drop"', f'[[install.change]]\n{text}\n\n[[install.change]]\nkind = "drop"')


def other_patch(folder: Path) -> None:
    """A patch for another product in the place of the vendor's."""
    old, new = Specimen("other"), Specimen("other", version="1.2.4")
    for specimen in (old, new):
        specimen.with_file()
    (folder / "old").mkdir(), (folder / "new").mkdir()
    write_patch(
        folder / "media/lantern-6.2.3.msp", old.ours(folder / "old"), new.ours(folder / "new"), guid("other patch")
    )


FIRES_WHOLE: list[tuple[str, Change, str, str]] = [
    ("property-twice", swap("[install.properties]", '[install.properties]\nSITE = "Kettle"'), "sets it to 'Marrowby'", "SITE ="),
    ("missing-file", swap('patch = "lantern-6.2.3.msp"', 'patch = "lantern-6.2.4.msp"'), "is not one of the [[media]]", "patch ="),
    ("missing-file", swap('media = "lantern-6.2.1.msi"\n', 'media = "lantern-6.2.1.msi"\n' + MST), "theirs.mst is not there", "transforms ="),
    ("change-misfit", swap("DesktopLantern", "DesktopLanter"), "no shortcut 'DesktopLanter'", "[[install.change]]"),
    ("change-misfit", more_change('kind = "file"\nfrom = "extras/none.txt"\nto = "[INSTALLDIR]none.txt"'), "none.txt is not there", "[[install.change]]"),
    ("unknown-property", swap('name = "SITE"', 'name = "SIET"'), "knows no property SIET", "name ="),
    ("clear-secret", more_change('kind = "property"\nname = "DB_PASSWORD"\nvalue = "x"'), "DB_PASSWORD holds a secret", "name ="),
    ("transform-misfit", theirs("theirs.mst", Shortcut={"deleted": [("Nowhere",)]}), "1 of 1 changes has no target", "transforms ="),
    ("transform-misfit", both(theirs("theirs.mst"), lambda folder: (folder / "extras/theirs.mst").write_bytes(b"none") and None), "theirs.mst", "transforms ="),
    ("transform-risk", theirs("theirs.mst", LaunchCondition={"deleted": [("VersionNT64",)]}), "installs where the vendor refuses", "transforms ="),
    ("component-rule", theirs("theirs.mst", Component={"deleted": [("Charts",)]}), "FeatureComponents[Main, Charts]: names 'Charts'", "transforms ="),
    ("patch-misfit", other_patch, "does not fit lantern-6.2.1.msi: it is for", "patch ="),
    ("patch-misfit", both(cut("[[install]]", "[[install]]\nkind = \"msi\"\npatch"), cut("unless = [", "[[install]]\nkind = \"copy\"")), "nothing before it installs", "patch ="),
]  # fmt: skip


@pytest.mark.parametrize(
    ("rule", "change", "message", "line"),
    FIRES_WHOLE,
    ids=[f"{rule}-{at}" for at, (rule, *_) in enumerate(FIRES_WHOLE)],
)
def test_a_rule_on_transforms_and_patches_fires(
    whole: Path, rule: str, change: Change, message: str, line: str
) -> None:
    assert [finding for finding in check(Workspace(whole)) if finding.severity == "error"] == []
    change(whole)
    found = [finding for finding in check(Workspace(whole)) if finding.rule == rule and message in finding.message]
    assert len(found) == 1, [(finding.rule, finding.line, finding.message) for finding in check(Workspace(whole))]
    assert line in (whole / "plan.toml").read_text("utf-8").splitlines()[found[0].line - 1]


def test_a_component_rule_broken_by_an_addition(whole: Path) -> None:
    """A vendor's file that several components install cannot be told apart from a new one in the same place."""
    with Database(whole / "media/lantern-6.2.1.msi") as base:
        after = overlay.Overlay(base, [])
        cells = next(cells for cells in base["File"].cells if cells[0] == "charts.lst")
        after.replace("File", [*base["File"].cells, ("twice", "Manual", *cells[2:])])
        after.replace(
            "Component",
            [(*row[:2], "INSTALLDIR", *row[3:]) if row[0] == "Manual" else row for row in base["Component"].cells],
        )
        assert {finding.rule for finding in validate.broken_by(base, after)} == {"same-place"}


def cut_to_end(folder: Path, mark: str, *, last: bool = False) -> None:
    path = folder / "plan.toml"
    text = path.read_text("utf-8")
    path.write_text(text[: text.rindex(mark) if last else text.index(mark)], "utf-8")


def unsigned(folder: Path) -> None:
    (folder / "extras" / "mark.ps1").write_text("exit 0\n")
    swap("[package]", "only_signed = true\n[package]")(folder)
    append(
        '\n[[install]]\nkind = "script"\nrun = "extras/mark.ps1"\nprobe = [{ kind = "folder", path = \'C:\\Tide\' }]\n'
    )(folder)


def driver(number: int) -> Change:
    def change(folder: Path) -> None:
        drivers.put(drivers.SHARE[number], folder / "extras" / "gauge")
        append('\n[[install]]\nkind = "driver"\nfrom = "extras/gauge"\n')(folder)

    return change


SEQUENCES = [
    ("driver-fault", driver(3), "tidegauge.inf has no catalogue", "from ="),
    (
        "trust-undecided",
        append('\n[[install]]\nkind = "certificate"\nfrom = "extras/x.cer"\nstore = "Root" # DECIDE: is it?\n'),
        "nobody has said yet that extras/x.cer",
        "store =",
    ),
    ("driver-doubt", driver(0), "Tidewell signed it, not Microsoft", "from ="),
    ("unsigned-script", unsigned, "mark.ps1 has no signature", "run ="),
    (
        "step-mistake",
        append("\n[[install]]\nkind = 'delete'\npath = 'C:\\\\x\\\\*.log'\n".replace("\\\\\\\\", "\\")),
        "a pattern is not expanded",
        "path =",
    ),
    ("script-unproved", append('\n[[install]]\nkind = "script"\nrun = "extras/x.cmd"\n'), "nobody can tell", "run ="),
    ("never-holds", swap('os = ">=10.0.17763"', 'os = ">=10.0.17763, <10"'), "no version is", "[when]"),
    (
        "never-holds",
        append('\n[[repair]]\nkind = "wait"\ntime = "1 s"\nwhen = { any = [{ os = "<10" }, { os = "<6.1" }] }\n'),
        "no version is",
        "when =",
    ),
    (
        "never-holds",
        append('\n[[repair]]\nkind = "wait"\ntime = "1 s"\nwhen = { architecture = ["arm64"] }\n'),
        "for x64 only",
        "when =",
    ),
    (
        "never-holds",
        append('\n[[repair]]\nkind = "wait"\ntime = "1 s"\nwhen = { after = 2026-12-01, before = 2026-11-01 }\n'),
        "no day is",
        "when =",
    ),
    (
        "unreachable-step",
        append(
            '\n[[repair]]\nkind = "wait"\ntime = "1 s"\nunless = [{ kind = "folder", path = "C:/x" }]\nwhen = { holds = [{ kind = "folder", path = "C:/x" }] }\n'
        ),
        "to hold and not to hold",
        "unless =",
    ),
    (
        "restart-without-resume",
        both(
            swap("[package]", 'keep = "scripts"\n[package]'),
            append('\n[[install]]\nkind = "restart"\n[[install]]\nkind = "wait"\ntime = "1 s"\n'),
        ),
        "may be gone",
        "keep =",
    ),
    (
        "restart-without-resume",
        swap('timeout = "30 min"', 'timeout = "30 min"\nrestart = "allow"'),
        "with steps behind it",
        "restart =",
    ),
    (
        "nobody-to-read",
        append('\n[[install]]\nkind = "sign-out"\n[[install]]\nkind = "tell"\ntext = { en = "x" }\n'),
        "signed out before",
        "text =",
    ),
    (
        "nobody-to-read",
        append('\n[[install]]\nkind = "tell"\ntext = { en = "x" }\nwhen = { people = "none" }\n'),
        "wants nobody",
        "text =",
    ),
    ("nobody-to-read", swap("[in_the_way]", "[in_the_way]\nask = true"), "without a word", "ask ="),
    (
        "needs-network",
        append("\n[[install]]\nkind = 'exe'\nprogram = '\\\\\\\\office\\\\share\\\\x.exe'\n".replace("\\\\", "\\")),
        "over the network",
        "program =",
    ),
    ("needs-network", append('\n[[install]]\nkind = "feature"\nname = "NetFx3"\n'), "may be fetched", "name ="),
    (
        "users-own",
        append(
            "\n[[install]]\nkind = 'registry'\nkey = 'HKCU\\\\Software\\\\x'\nvalues = { a = 1 }\n".replace(
                "\\\\", "\\"
            )
        ),
        "of the system account",
        "key =",
    ),
    (
        "users-own",
        append('\n[[install]]\nkind = "environment"\nname = "A"\nvalue = "b"\nscope = "user"\n'),
        "of the system account",
        "scope =",
    ),
    (
        "users-own",
        append('\n[[install]]\nkind = "exe"\nprogram = "C:/x.exe"\nrun_as = "person"\n'),
        "somebody who is logged on",
        "run_as =",
    ),
    (
        "users-own",
        append('\n[[install]]\nkind = "exe"\nprogram = "C:/x.exe"\nwindow = true\n'),
        "nobody sees",
        "window =",
    ),
    (
        "once-without-probe",
        append('\n[[install]]\nkind = "exe"\nprogram = "C:/x.exe"\nonce = true\n'),
        "only once",
        "once =",
    ),
    (
        "cannot-undo",
        both(cut("[[uninstall]]", "[[repair]]"), append('\n[[install]]\nkind = "exe"\nprogram = "C:/x.exe"\n')),
        "(exe) is not taken back",
        "kind =",
    ),
    (
        "cannot-undo",
        both(
            cut('[[uninstall]]\nkind = "take-back"', '[[uninstall]]\nkind = "msi"'),
            append('\n[[install]]\nkind = "font"\nfrom = "extras/x.ttf"\n'),
        ),
        "(font)",
        "[[uninstall]]",
    ),
    ("need-conflict", append('\n[[need]]\npackage = "tidewell-lantern"\n'), "needs itself", "package ="),
    (
        "need-conflict",
        append('\n[[need]]\npackage = "runtime"\nversion = ">=2"\n[[need]]\npackage = "runtime"\nversion = "<2"\n'),
        "no version of runtime",
        "[[need]]",
    ),
    ("need-conflict", append('\n[[need]]\npackage = "runtime"\nfrom = "extras/none"\n'), "no built package", "from ="),
]


def brought(folder: Path, identifier: str, needs: str = "") -> Path:
    """A built package below extras."""
    inner = folder / "extras" / identifier
    work = folder.parent / f"{identifier}-work"
    (work / "extras").mkdir(parents=True)
    (work / "extras" / "a.txt").write_text("a")
    path = r"C:\Windows\a.txt"
    (work / "plan.toml").write_text(
        f'[package]\nid = "{identifier}"\nname = "x"\nversion = "1.5"\n{needs}\n'
        f"[[install]]\nkind = 'copy'\nfrom = 'extras/a.txt'\nto = '{path}'\n[[detect]]\nkind = 'file'\npath = '{path}'\n"
    )
    build.build(work, read(work / "plan.toml")[0]).folder.rename(inner)
    return inner


def test_prerequisites_that_cannot_be_met(workspace: Path) -> None:
    brought(workspace, "runtime", '[[need]]\npackage = "tidewell-lantern"\n')
    append(
        '\n[[need]]\npackage = "runtime"\nfrom = "extras/runtime"\nversion = ">=2"\n[[uninstall]]\nkind = "include"\npackage = "extras/runtime"\n'
    )(workspace)
    found = {
        finding.rule: finding.message
        for finding in check(Workspace(workspace))
        if finding.rule in ("need-conflict", "removes-shared")
    }
    messages = " ".join(finding.message for finding in check(Workspace(workspace)))
    assert "tidewell-lantern needs runtime needs tidewell-lantern" in messages and "is 1.5, wanted is >=2" in messages
    assert "removes the prerequisite runtime" in found["removes-shared"]


FIRES += SEQUENCES


@pytest.mark.parametrize(
    ("rule", "change", "message", "line"), FIRES, ids=[f"{rule}-{at}" for at, (rule, *_) in enumerate(FIRES)]
)
def test_a_rule_fires(workspace: Path, rule: str, change: Change, message: str, line: str) -> None:
    assert [finding for finding in check(Workspace(workspace)) if finding.rule == rule] == []
    change(workspace)
    found = [finding for finding in check(Workspace(workspace)) if finding.rule == rule and message in finding.message]
    assert len(found) == 1, [(finding.rule, finding.line, finding.message) for finding in check(Workspace(workspace))]
    text = (workspace / "plan.toml").read_text("utf-8").splitlines()[found[0].line - 1]
    assert line in text, text
    assert rule != "unknown-property" or "SITE" in found[0].remedy
    assert found[0].why and found[0].remedy and found[0].severity == RULES[rule].severity


def test_every_rule_has_a_plan_that_it_finds() -> None:
    of_setups = {rule for _, _, rule in SETUPS.values()} | {"setup-not-silent"}
    assert {rule for rule, *_ in [*FIRES, *FIRES_WHOLE]} | {
        "per-user-msi",
        "removes-shared",
        "refused-everywhere",
    } | of_setups | set(test_settings.RULES_HERE) == set(RULES)


def test_an_installer_that_no_windows_suits(tmp_path: Path) -> None:
    """Said as what it is, with the vendor's own words; one that some Windows suits is no error."""
    for condition, rules in (
        ("VersionNT >= 9999", {"refused-everywhere", "no-detection"}),
        ("VersionNT >= 603", set()),
    ):
        specimen = Specimen("hard").with_file().add("LaunchCondition", (condition, "Not on this one."))
        folder = tmp_path / str(len(rules))
        (folder / "from").mkdir(parents=True)
        draft.from_installer(folder / "w", specimen.ours(folder / "from"))
        found = [one for one in check(Workspace(folder / "w")) if one.severity == "error"]
        assert {one.rule for one in found} == rules
        assert not rules or "refuses every Windows that is known here: Not on this one." in found[0].message


def test_an_installer_for_one_user(tmp_path: Path) -> None:
    specimen = Specimen("one-user", everyone=False).with_file()
    draft.from_installer(tmp_path / "w", specimen.ours(tmp_path))
    plan = tmp_path / "w" / "plan.toml"
    plan.write_text(plan.read_text("utf-8").replace('scope = "user"', 'scope = "machine"'), "utf-8")
    assert [finding.rule for finding in check(Workspace(tmp_path / "w")) if finding.severity == "error"] == [
        "per-user-msi"
    ]
    plan.write_text(
        plan.read_text("utf-8").replace("[install.properties]", '[install.properties]\nALLUSERS = "1"'), "utf-8"
    )
    assert not [finding for finding in check(Workspace(tmp_path / "w")) if finding.severity == "error"]


@pytest.mark.parametrize(
    "change",
    [
        handed_over_then(new_content),
        swap('["lantern.exe"]', '["LANTERN.EXE"]'),
        swap('SITE = "Marrowby"', 'SITE = "Outer harbour, quay 3"'),
        command(MSI + ' /l*v "{logs}\\x.log"'),
        command(MSI.replace("/qn", "-QN").replace("/norestart", "REBOOT=ReallySuppress")),
        swap('timeout = "30 min"', 'timeout = "30 min"\narguments = \'INSTALLDIR="C:\\Program Files\\Lantern"\''),
    ],
)
def test_harmless_spellings_are_not_scolded(workspace: Path, change: Change) -> None:
    change(workspace)
    assert [(finding.rule, finding.message) for finding in check(Workspace(workspace))] == []


def test_the_command(workspace: Path, yendo: Yendo, tmp_path: Path) -> None:
    assert "nothing found" in yendo("check", workspace).stdout
    swap("\nSITE =", "\nSite =")(workspace)
    done = yendo("check", workspace, "--json", "--sarif", tmp_path / "f.sarif", expect=1)
    findings = parsed(done)["findings"]
    assert findings[0]["rule"] == "private-property" and findings[0]["line"] > 1
    sarif = json.loads((tmp_path / "f.sarif").read_text())
    result = sarif["runs"][0]["results"][0]
    assert sarif["version"] == "2.1.0" and result["ruleId"] == "private-property" and result["level"] == "error"
    driver = sarif["runs"][0]["tool"]["driver"]
    assert driver["rules"][result["ruleIndex"]]["id"] == "private-property"
    assert result["locations"][0]["physicalLocation"]["region"]["startLine"] == findings[0]["line"]
    assert (
        "private-property" in yendo("check", workspace, expect=1).stdout
        and yendo("check", workspace, "--quiet", expect=1).stdout == ""
    )


def test_a_plan_that_cannot_be_read(workspace: Path, yendo: Yendo, tmp_path: Path) -> None:
    swap("revision = 1", "revison = 1")(workspace)
    done = yendo("check", workspace, "--sarif", tmp_path / "f.sarif", expect=3)
    assert "did you mean 'revision'" in " ".join(done.stdout.split()) and "plan.toml:" in done.stdout
    assert json.loads((tmp_path / "f.sarif").read_text())["runs"][0]["results"][0]["ruleId"] == "unreadable-plan"


def test_secrets_are_masked(workspace: Path, yendo: Yendo) -> None:
    swap("\nSITE =", '\nDBPASSWORD = "tide-and-time"\nSITE =')(workspace)
    assert "tide-and-time" not in yendo("check", workspace, expect=1).stdout
    yendo("build", workspace, "--although", "clear-secret=to see that no page shows it")
    done = yendo("prove", workspace, "--json", expect=None)
    log = json.loads(done.stdout)
    assert "tide-and-time" not in json.dumps(log["phases"])
