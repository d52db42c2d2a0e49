"""Renewal: what follows, what stays, what conflicts; on generated pairs, on the demo, and what is refused."""

from __future__ import annotations

import hashlib
import shutil
from pathlib import Path
from typing import Any

import msgspec
import pytest
import renew_pairs
import tomlkit
from conftest import Yendo, parsed
from hypothesis import given
from hypothesis import strategies as st

from yendo.demo import vendor as tidewell
from yendo.draft import draft, proposing
from yendo.draft.office import Office
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import read
from yendo.prove import scenarios
from yendo.prove.prove import prove
from yendo.renew import merge
from yendo.renew.renew import Renewal, renew


def tree(folder: Path) -> dict[str, str]:
    return {
        path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    }


def judged(pair: renew_pairs.Pair, found: Renewal) -> list[str]:
    """What is wrong with a renewal: an edit that is lost, a conflict that is missing, one that is none."""
    text = (pair.workspace / "plan.toml").read_text("utf-8")
    listed = " ".join(
        f"{one.place} {one.yours} {one.theirs} {one.why_theirs} {one.taken_out}" for one in found.conflicts
    )
    wrong = []
    for label, (words, conflict) in pair.edits.items():
        if words not in text and words not in listed:
            wrong.append(f"lost: {label}")
        if conflict != (label in listed):
            wrong.append(f"{'not listed' if conflict else 'listed for nothing'}: {label}")
    wanted = sum(conflict for _, conflict in pair.edits.values())
    return [*wrong, *([f"{len(found.conflicts)} conflicts, {wanted} wanted"] if len(found.conflicts) != wanted else [])]


def proved(workspace: Path) -> list[str]:
    """Builds and proves a workspace simulated, also over what was there before; what failed."""
    plan, _ = read(workspace / "plan.toml")
    package = build.build(workspace, plan).folder
    known = scenarios.with_others([workspace / name for name in plan.proof.others], package)
    failed = []
    for name in ["desk", *[name for name in known if name.startswith("upgrade:")]]:
        proof = prove(package, SimulatedMachine(), scenario=known[name])
        failed += [
            f"{name}: {phase.title}: {phase.found} {phase.details}"
            for phase in proof.phases
            if phase.outcome == "failed"
        ]
    return failed


@pytest.mark.parametrize("seed", range(25))
def test_generated_pairs(tmp_path: Path, seed: int) -> None:
    """Where nothing conflicts, renew, build and prove pass without a hand; every conflict is found, and no edit is lost."""
    pair = renew_pairs.make(tmp_path, seed)
    before = tree(pair.workspace)
    dry = renew(pair.workspace, pair.new, dry=True)
    assert tree(pair.workspace) == before
    found = renew(pair.workspace, pair.new)
    assert (dry.plan, dry.conflicts) == (found.plan, found.conflicts)
    assert judged(pair, found) == [], (pair.happened, found.conflicts)
    if not found.conflicts:
        assert proved(pair.workspace) == [], pair.happened
    elif not any(one.outcome.startswith("yours") for one in found.conflicts):
        build.build(pair.workspace, read(pair.workspace / "plan.toml")[0])
    assert any(name.startswith(f"earlier/{renew_pairs.OLD}/") for name in tree(pair.workspace))


@pytest.fixture
def share(vendor: Path, tmp_path: Path) -> Path:
    folder = Path(shutil.copytree(vendor, tmp_path / "share"))
    tidewell.lantern(folder, "6.3.0")
    return folder


def test_the_demo_is_renewed(whole: Path, share: Path, yendo: Yendo) -> None:
    """With its transform and patch: the wish without a target is listed with both reasons, the rest is proved, also over 6.2.1."""
    plan = whole / "plan.toml"
    text = plan.read_text("utf-8").replace('value = "Marrowby"', 'value = "{setting.office}"')
    plan.write_text(
        text
        + '\n[settings.office]\nmeaning = "the office"\ndefault = "Marrowby"\n\n[site.kettle]\noffice = "Kettle"\n',
        "utf-8",
    )
    done = yendo("renew", whole, share / "lantern-6.3.0.msi", expect=1)
    for said in (
        "AUTOUPDATE is gone, nothing replaces it",
        "adds a service: LanternSync",
        "new launch condition",
        "over 6.2.1: upgrade",
        "lantern-6.2.3.msp",
    ):
        assert said in done.stdout, done.stdout
    assert "open-conflict" in {one["rule"] for one in parsed(yendo("check", whole, "--json", expect=1))["findings"]}
    asked = yendo("decide", whole, "--list", expect=1).stdout
    assert "yendo try" not in asked and "take the marks out, then yendo check" in " ".join(asked.split())
    text = plan.read_text("utf-8")
    assert (
        'value = "{setting.office}"' in text
        and "lantern-6.2.3.msp" not in text.replace("earlier/", "")
        and "revision = 1" in text
    )
    plan.write_text(text[: text.index("# CONFLICT")], "utf-8")
    assert proved(whole) == []
    assert sorted(path.name for path in (whole / "media").iterdir()) == ["lantern-6.3.0.msi"]


def test_back_from_version_control_alone(whole: Path, share: Path, tmp_path: Path) -> None:
    """What is under version control is enough to be where one was, byte by byte."""
    saved = Path(shutil.copytree(whole, tmp_path / "saved"))
    renew(whole, share / "lantern-6.3.0.msi", old="drop")
    assert not (whole / "earlier").exists() and not (whole / "media" / "lantern-6.2.1.msi").exists()
    for path in sorted(whole.rglob("*"), reverse=True):  # as a checkout would
        if path.is_file() and not (saved / path.relative_to(whole)).exists():
            path.unlink()
    shutil.copytree(saved, whole, dirs_exist_ok=True)
    assert tree(whole) == tree(saved) and proved(whole) == []


def test_a_transform_from_elsewhere_goes_along(whole: Path, share: Path, yendo: Yendo) -> None:
    """A file below extras/ is carried over to the new database, and what has no target there is named."""
    yendo("transform", "make", whole, "-o", whole / "extras" / "site.mst")
    plan = whole / "plan.toml"
    text = plan.read_text("utf-8")
    head, _, rest = text.partition("[install.properties]")
    plan.write_text(
        head.rstrip() + '\ntransforms = ["extras/site.mst"]\n\n[[install]]' + rest.partition("[[install]]")[2], "utf-8"
    )
    before = (whole / "extras" / "site.mst").read_bytes()
    found = renew(whole, share / "lantern-6.3.0.msi")
    assert any("AUTOUPDATE" in one.theirs + one.yours for one in found.conflicts) and all(
        one.place == "extras/site.mst" for one in found.conflicts
    )
    assert (whole / "extras" / "site.mst").read_bytes() != before
    assert proved(whole) == []


def test_a_version_that_leads_elsewhere(tmp_path: Path) -> None:
    """What an installer calls its version names a folder here: it stays below the workspace, whatever it is."""
    from specimens import Specimen

    from yendo.draft import draft

    share = tmp_path / "a" / "share"
    (share / "new").mkdir(parents=True)
    for folder, version in ((share, "../../../gone"), (share / "new", "2.0")):
        one = Specimen("walker", version=version).with_file()
        one.ours(folder)
    draft.from_installer(tmp_path / "a" / "work", share / "walker.msi")
    before = sorted(path for path in tmp_path.iterdir())
    renew(tmp_path / "a" / "work", share / "new" / "walker.msi", although=["other-product", "older"])
    assert sorted(path for path in tmp_path.iterdir()) == before
    assert [path.name for path in (tmp_path / "a" / "work" / "earlier").iterdir()] == ["gone"]


@pytest.mark.parametrize(
    ("name", "although", "said"),
    [
        ("lantern-6.1.0.msi", "older", "6.1.0, older than 6.2.1"),
        ("lantern-6.2.1.msi", "same-version", "as the package is already"),
        ("other.msi", "other-vendor", "of Brackwater, the package's installer of Tidewell"),
        ("plumb.msi", "other-product", "another product than Lantern"),
    ],
)
def test_what_is_done_on_purpose_only(
    workspace: Path, share: Path, yendo: Yendo, name: str, although: str, said: str
) -> None:
    from specimens import Specimen

    for own, publisher, product in (("other.msi", "Brackwater", "Lantern"), ("plumb.msi", "Tidewell", "Plumb")):
        made = Specimen(own[:-4], version="7.0.0").with_file()
        made.tables["Property"] = [
            (key, {"Manufacturer": publisher, "ProductName": product}.get(key, value))
            for key, value in made.tables["Property"]
        ]
        made.ours(share)
    before = tree(workspace)
    refused = yendo("renew", workspace, share / name, expect=2)
    assert said in refused.stderr and f"--although {although}" in refused.stderr and tree(workspace) == before
    yendo("renew", workspace, share / name, "--although", although, "--dry-run", expect=None)
    assert tree(workspace) == before
    assert "is not there" in yendo("renew", workspace, share / "nowhere.msi", expect=2).stderr


def decided_once(workspace: Path) -> None:
    """The site's value as a setting, and nothing that the new release decides otherwise."""
    plan = workspace / "plan.toml"
    text = plan.read_text("utf-8").replace(
        '[[install.change]]\nkind = "property"\nname = "AUTOUPDATE"\nvalue = "0"\nnote = "updates come as packages"\n',
        "",
    )
    text = text.replace('value = "Marrowby"', 'value = "{setting.office}"')
    plan.write_text(text + '\n[settings.office]\nmeaning = "the office"\ndefault = "Marrowby"\n', "utf-8")


def test_one_command_to_a_proof(whole: Path, share: Path, yendo: Yendo) -> None:
    decided_once(whole)
    done = yendo("renew", whole, share / "lantern-6.3.0.msi", "--prove", "--windows", "server-2022")
    assert "Proved" in done.stdout and "simulated Windows Server 2022" in done.stdout


@pytest.mark.thorough
@pytest.mark.wine
def test_one_command_to_a_proof_on_the_real_machine(whole: Path, share: Path, shell_wine: Any, yendo: Yendo) -> None:
    decided_once(whole)
    environment = {"YENDO_POWERSHELL": str(shell_wine.shell)} if getattr(shell_wine, "shell", None) else {}
    done = yendo("renew", whole, share / "lantern-6.3.0.msi", "--prove", "--machine", "wine", environment=environment)
    assert "Proved" in done.stdout and "effects predicted, 0 false" in done.stdout


# --- the merge itself ------------------------------------------------------------------------------------

leaf = st.one_of(st.integers(0, 3), st.sampled_from(["a", "b", "c"]))
table = st.dictionaries(
    st.sampled_from(["x", "y", "z"]),
    st.one_of(leaf, st.dictionaries(st.sampled_from(["p", "q"]), leaf, min_size=1, max_size=2)),
    max_size=3,
)


@given(base=table, mine=table, new=table)
def test_nothing_is_lost_in_a_merge(base: dict[str, Any], mine: dict[str, Any], new: dict[str, Any]) -> None:
    """What nobody touched follows, what one side touched is that side's, and only where both did there is a conflict."""
    import tomlkit

    document = tomlkit.document()
    document["t"] = mine
    work = merge.Merge(merge.Ids("old"), merge.Ids("new"), ("1", "2"))
    work.document(document, {"t": base}, {"t": new}, ())
    result = merge.plain(document).get("t", {})
    listed = {one.place.removeprefix("t.") for one in work.conflicts}

    def walk(base: Any, mine: Any, new: Any, result: Any, path: str) -> None:
        if all(side is None or isinstance(side, dict) for side in (base, mine, new)) and mine is not None:
            for key in {*(base or {}), *mine, *(new or {})}:
                walk(
                    (base or {}).get(key),
                    mine.get(key),
                    (new or {}).get(key),
                    (result or {}).get(key),
                    f"{path}.{key}" if path else key,
                )
        elif mine == base:
            assert result == new or (result in (None, {}) and new in (None, {})), path
        elif base == new or mine == new:
            assert result == mine, path
        elif mine is None and isinstance(base, dict) and isinstance(new, dict):
            assert result is None, path
        else:
            assert result == mine and path in listed, (path, listed)

    walk(base, mine, new, result, "")
    assert merge.plain(tomlkit.parse(tomlkit.dumps(document))).get("t", {}) == result


def test_rules_that_an_earlier_release_drafted_are_nobodys_own(tmp_path: Path, vendor: Path) -> None:
    """They told the product at first sight; they are drafted anew, and no conflict is made of them."""
    workspace = tmp_path / "lantern"
    draft.from_installer(workspace, vendor / "lantern-6.2.1.msi")
    first = proposing.propose(workspace / "media" / "lantern-6.2.1.msi", [], Office(workspace)).at_first_sight
    path = workspace / "plan.toml"
    text = path.read_text("utf-8")
    rules = tomlkit.dumps({"detect": [msgspec.to_builtins(rule) for rule in first]})
    path.write_text(text[: text.index("[[detect]]")] + rules, "utf-8")
    found = renew(workspace, tidewell.lantern(tmp_path, "6.3.0"))
    assert [conflict.place for conflict in found.conflicts if "detect" in conflict.place] == []
    assert found.detection.startswith("drafted anew")
